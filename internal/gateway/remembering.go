package gateway

import (
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/sessions"
)

// Remembering returns the memory of a gateway that has some sessions, as another one told them, and the mappings that are open at it.
func Remembering(g *network.Gateway, list []Session) *sessions.Store {
	store := sessions.New(g, func() time.Duration { return 0 })
	for _, m := range g.Opened {
		store.Open(m)
	}
	for i := range list {
		keep(store, g, &list[i])
	}
	return store
}

// keep puts a session into a store, as it is at the gateway.
func keep(store *sessions.Store, g *network.Gateway, s *Session) {
	before, err1 := s.Before.Header()
	after, err2 := s.After.Header()
	in, out := g.Interface(s.In), g.Interface(s.Out)
	if err1 != nil || err2 != nil || in == nil || header.FamilyOf(before.Source) != header.FamilyOf(after.Source) {
		return
	}
	made := engine.Session{In: in, Out: out, Before: before, After: after, Local: out == nil}
	for r := range g.Rules() {
		switch {
		case r.List() == "filter" && r.Name == s.Permit:
			made.Permit = r
		case r.List() == "nat" && r.Name == s.Redirect:
			made.Redirect = r
		case r.List() == "nat" && r.Name == s.Source:
			made.Source = r
		}
	}
	store.Keep(&made)
	if s.State == "established" || s.State == "answered" {
		answer := after.Answer()
		store.Find(&answer, header.Answers, 0, &made)
	}
}
