package engine

import (
	"fmt"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A session is a connection that a gateway has accepted and remembers.
type session struct {
	gateway       *gateway
	in, out       *network.Interface
	before, after header.Packet // as it came and as it left
	local         bool          // the gateway itself answers it
}

// session is the second step: it finds the session a packet belongs to, and
// whether it goes the session's way or answers it.
func (w *Walk) session(g *gateway, p *header.Packet) (s *session, forward bool) {
	for i := len(w.sessions) - 1; i >= 0; i-- {
		s := &w.sessions[i]
		if s.gateway != g {
			continue
		}
		if w.region.sameSession(i, false, s.after.Answer() == *p) {
			return s, false
		}
		if w.region.sameSession(i, true, s.before == *p) {
			return s, true
		}
	}
	return nil, false
}

// follow gives a packet its session's translation and sends it on.
func (w *Walk) follow(g *gateway, s *session, forward bool, p *header.Packet) position {
	if !w.back {
		w.followed = true
	}
	before := *p
	w.region.arrived()
	out := s.out
	if forward {
		*p = s.after
	} else {
		*p, out = s.before.Answer(), s.in
	}
	w.region.follow(w.indexOf(s), forward)
	if w.trace != nil {
		w.noteSession(g, before, *p)
	}
	if forward && s.local {
		w.verdict.Outcome, w.verdict.At, w.verdict.Host = Reached, g.Name, g.Name
		return position{kind: answeredByGateway, gateway: g}
	}
	r := w.sessionRoute(g, out, p)
	if r == nil {
		return position{}
	}
	if p.Protocol == header.ICMP && g.Handling.ICMPUntracked && !s.local {
		in := s.out
		if forward {
			in = s.in
		}
		if !w.permit(g, in, r.out, nil, &before, p) {
			return position{}
		}
	}
	return w.leave(g, r, p)
}

// indexOf returns which of the walk's sessions s is.
func (w *Walk) indexOf(s *session) int {
	for i := range w.sessions {
		if &w.sessions[i] == s {
			return i
		}
	}
	return -1
}

func (w *Walk) noteSession(g *gateway, before, after header.Packet) {
	text := "as it is"
	switch {
	case before.From() != after.From() && before.To() != after.To():
		text = fmt.Sprintf("%s -> %s, for %s", before.From(), after.From(), after.To())
	case before.From() != after.From():
		text = fmt.Sprintf("%s -> %s", before.From(), after.From())
	case before.To() != after.To():
		text = fmt.Sprintf("to %s -> to %s", before.To(), after.To())
	}
	w.note(g.Name, StepSession, "session", "", text)
}

// sessionRoute returns the way a session's packet leaves by. A session that uses
// an uplink stays on it, whatever the routes prefer: the other side knows only
// that address.
func (w *Walk) sessionRoute(g *gateway, out *network.Interface, p *header.Packet) *route {
	if out == nil || !out.FacesInternet(p.Destination.Is6()) {
		return w.route(g, p)
	}
	if !out.IsUp() {
		w.end(Unrouted, g.Name, StepRoute, nil)
		if w.trace != nil {
			w.why("%s is down: nothing passes it.", out)
		}
		return nil
	}
	r := g.routes.lookup(p.Destination)
	w.region.route(g.routes, p.Destination)
	if r != nil && r.out == out {
		return r
	}
	if w.inPrefixes(header.FieldDestination, out.Addresses, p.Destination) {
		return &g.uplinks[out.Index].beside
	}
	return &g.uplinks[out.Index].upstream
}
