package sessions

import (
	"slices"
	"sync"
	"sync/atomic"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
)

// Use makes the store that of another revision of its gateway. Sessions go on with their old
// translation, known by the interfaces' names and the rules' identities; those by an
// interface that is no more end.
func (s *Store) Use(g *network.Gateway) {
	old := s.gateway.Load()
	n := &names{network: g, mapping: g.Handling.Mapping, preserving: g.Handling.PortAssignment == network.PortPreserving, most: int64(g.Limits.Sessions), numbers: map[*network.Interface]int16{}}
	if old != nil {
		n.interfaces = make([]*network.Interface, len(old.interfaces))
		for number, i := range old.interfaces {
			if i != nil {
				n.interfaces[number] = g.Interface(i.Name)
			}
		}
	}
	for _, i := range g.Interfaces {
		number := slices.Index(n.interfaces, i)
		if number < 0 {
			number = len(n.interfaces)
			n.interfaces = append(n.interfaces, i)
		}
		n.numbers[i] = int16(number)
	}
	n.rules = s.rules.use(g)
	s.pools.Store(&map[poolKey]*pool{})
	if old == nil {
		s.gateway.Store(n)
		return
	}
	if g.Handling.RestartsOnApply {
		s.removeEntries(func(*entry) bool { return true })
	}
	vanished := func(number int16) bool { return number >= 0 && n.interfaces[number] == nil }
	s.removeEntries(func(e *entry) bool { return vanished(e.in) || vanished(e.out) })
	s.gateway.Store(n)
	if n.mapping != old.mapping {
		s.rebind(n)
	}
}

// rebind counts the ports anew where a revision maps otherwise.
func (s *Store) rebind(n *names) {
	for i := range s.leases {
		l := &s.leases[i]
		l.Lock()
		l.groups, l.groupOf, l.uses, l.useOf, l.waiting, l.waited = slab[group]{}, table{}, slab[use]{}, table{}, nil, 0
		l.Unlock()
	}
	for i := range s.sessions {
		sh := &s.sessions[i]
		sh.Lock()
		list, places := sh.those(func(e *entry) bool { return !e.local })
		sh.Unlock()
		for k := range list {
			s.bind(n, &list[k], engine.Ticket{})
			sh.Lock()
			if e := sh.entry(places[k]); e != nil {
				e.ticket = list[k].ticket
			}
			sh.Unlock()
		}
	}
}

// Rules are the rules that sessions have gone by, by number, and how many.
type rules struct {
	sync.RWMutex
	known map[network.RuleID]numbered
	list  []*counted
}

type counted struct {
	id   network.RuleID
	rule atomic.Pointer[network.Rule] // of the revision that runs, or nil
	open atomic.Int64
	all  atomic.Int64
}

func (r *rules) at(n int32) *counted {
	r.RLock()
	defer r.RUnlock()
	return r.list[n]
}

func (r *rules) close(numbers [3]int32) {
	for _, n := range numbers {
		if n != none {
			r.at(n).open.Add(-1)
		}
	}
}

func (r *rules) rule(n int32) *network.Rule {
	if n == none {
		return nil
	}
	return r.at(n).rule.Load()
}

// use makes the rules those of another revision, and returns their numbers.
func (r *rules) use(g *network.Gateway) map[*network.Rule]numbered {
	r.Lock()
	defer r.Unlock()
	for _, c := range r.list {
		c.rule.Store(nil)
	}
	numbers := map[*network.Rule]numbered{}
	for rule := range g.Rules() {
		known, ok := r.known[rule.ID()]
		if !ok {
			known = numbered{int32(len(r.list)), &counted{id: rule.ID()}}
			r.known[rule.ID()] = known
			r.list = append(r.list, known.counted)
		}
		known.counted.rule.Store(rule)
		numbers[rule] = known
	}
	return numbers
}

// A Hits is how many sessions have gone by a rule.
type Hits struct {
	Rule network.RuleID
	Open int64 // that are there
	All  int64 // since the store was made
}

// Hits returns how many sessions have gone by each rule that some have, also by rules that
// are no more.
func (s *Store) Hits() []Hits {
	s.rules.RLock()
	defer s.rules.RUnlock()
	var list []Hits
	for _, c := range s.rules.list {
		if all := c.all.Load(); all > 0 {
			list = append(list, Hits{c.id, c.open.Load(), all})
		}
	}
	return list
}

// A Running gateway is a compiled one with its store. Another revision takes its place while
// packets go on.
type Running struct {
	Store    *Store
	compiled atomic.Pointer[engine.Gateway]
}

// Start returns a running gateway.
func Start(g *engine.Gateway, store *Store) *Running {
	r := &Running{Store: store}
	r.compiled.Store(g)
	return r
}

// Decide takes a packet through the gateway as it is now.
func (r *Running) Decide(a engine.Arrival, log *engine.Log) engine.Decision {
	return r.compiled.Load().Decide(a, r.Store, log)
}

// Swap makes another revision decide from the next packet on.
func (r *Running) Swap(g *engine.Gateway) {
	r.Store.Use(g.Gateway)
	r.compiled.Store(g)
}
