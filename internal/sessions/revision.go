package sessions

import (
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
)

// Use makes the store that of another revision of its gateway. Sessions go on with their old
// translation, known by the interfaces' names and the rules' identities; those by an
// interface that is no more end.
func (s *Store) Use(g *network.Gateway) {
	old := s.gateway.Load()
	n := &names{network: g, mapping: g.Handling.Mapping, preserving: g.Handling.PortAssignment == network.PortPreserving, most: int64(g.Limits.Sessions)}
	if old != nil {
		n.interfaces = make([]*network.Interface, len(old.interfaces))
		for number, i := range old.interfaces {
			if i != nil {
				n.interfaces[number] = g.Same(i)
			}
		}
	}
	for _, i := range g.Interfaces {
		number := slices.Index(n.interfaces, i)
		if number < 0 {
			number = len(n.interfaces)
			n.interfaces = append(n.interfaces, i)
		}
		n.numbers = append(n.numbers, int16(number))
	}
	n.rules, n.all = s.rules.use(g), &s.rules
	s.pools.Store(&map[poolKey]*pool{})
	s.pool.Store(nil)
	if old == nil {
		s.gateway.Store(n)
		return
	}
	if g.Handling.RestartsOnApply {
		s.remove(func(*record, func() engine.Session) bool { return true })
	}
	vanished := func(number int16) bool { return number >= 0 && n.interfaces[number] == nil }
	s.remove(func(r *record, _ func() engine.Session) bool { return vanished(r.in) || vanished(r.out) })
	s.gateway.Store(n)
	if n.mapping != old.mapping {
		for _, h := range s.halves() {
			h.clear()
		}
		s.cleared.Add(1)
		for _, h := range s.halves() {
			h.rebind()
		}
		s.holdAll(n)
	}
}

// Rename says what rules are called in the next revision that is used, by what they are known by now.
func (s *Store) Rename(renamed map[network.RuleID]network.RuleID) {
	r := &s.rules
	r.Lock()
	defer r.Unlock()
	for old, now := range renamed {
		if known, ok := r.known[old]; ok {
			delete(r.known, old)
			known.counted.id = now
			r.known[now] = known
		}
	}
}

// clear ends all uses: sessions have no port any longer.
func (h *half[A]) clear() {
	for i := range h.leases {
		l := &h.leases[i]
		l.Lock()
		for n := range l.uses.size {
			if u := l.uses.at(n); u.sessions+u.leased > 0 {
				u.sessions, u.leased, u.held = 0, 0, 0
				h.end(l, n)
			}
		}
		l.Unlock()
	}
}

// rebind gives the sessions their ports as the gateway maps now which do not have them so.
func (h *half[A]) rebind() {
	h.rebinding.Lock()
	defer h.rebinding.Unlock()
	names := h.gateway.Load()
	for i := range h.sessions {
		sh := &h.sessions[i]
		sh.Lock()
		list, places := sh.those(func(e *entry[A]) bool { return !e.local })
		sh.Unlock()
		for k := range list {
			e := &list[k]
			if h.isBound(names, &e.pair, e.ticket) {
				continue
			}
			loose := h.bind(names, &e.pair, engine.Ticket{})
			sh.Lock()
			if kept := sh.entry(places[k]); kept != nil {
				kept.ticket, loose = loose, e.ticket
			}
			sh.Unlock()
			h.unbind(loose) // what it had, or where it has ended meanwhile what it got
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
	id   network.RuleID               // by the revision that runs, where it has the rule
	rule atomic.Pointer[network.Rule] // of the revision that runs, or nil
	last atomic.Int64                 // when one began, by the clock of the store

	begun, ended   atomic.Int64                             // sessions
	tried, stopped atomic.Int64                             // packets that came to nothing, and of them those that a later step stopped
	passed         [2]struct{ packets, bytes atomic.Int64 } // of sessions that have ended, and of what it stopped itself
}

// at notes when a connection came.
func (c *counted) at(now time.Duration) {
	if c.last.Load() < int64(now-latest) {
		c.last.Store(int64(now))
	}
}

// latest is how much later the latest connection may have begun than is remembered: it would cost more to
// be exact than to count.
const latest = time.Millisecond

func (c *counted) add(direction engine.Direction, n Count) {
	c.passed[direction].packets.Add(n.Packets)
	c.passed[direction].bytes.Add(n.Bytes)
}

func (r *rules) at(n int32) *counted {
	r.RLock()
	defer r.RUnlock()
	return r.list[n]
}

// close counts what a session was that ends.
func (r *rules) close(session *record) {
	for _, n := range session.rules {
		if n != none {
			c := r.at(n)
			c.ended.Add(1)
			c.add(engine.Forth, session.passed[engine.Forth])
			c.add(engine.Back, session.passed[engine.Back])
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
func (r *rules) use(g *network.Gateway) (numbers [2][]ofRule) {
	r.Lock()
	defer r.Unlock()
	for _, c := range r.list {
		if c.id.List != network.MappingKind {
			c.rule.Store(nil)
		}
	}
	add := func(list int, rule *network.Rule) {
		known, ok := r.known[rule.ID()]
		if !ok {
			known = numbered{int32(len(r.list)), &counted{id: rule.ID()}}
			r.known[rule.ID()] = known
			r.list = append(r.list, known.counted)
		}
		known.counted.rule.Store(rule)
		numbers[list] = append(numbers[list], ofRule{rule, known})
	}
	for _, rule := range g.NAT {
		add(0, &rule.Rule)
	}
	for _, rule := range g.Filter {
		add(1, &rule.Rule)
	}
	return numbers
}

// mapping returns the number of a mapping.
func (r *rules) mapping(rule *network.Rule) numbered {
	id := rule.ID()
	r.RLock()
	known, ok := r.known[id]
	r.RUnlock()
	if !ok {
		r.Lock()
		defer r.Unlock()
		if known, ok = r.known[id]; !ok {
			known = numbered{int32(len(r.list)), &counted{id: id}}
			r.known[id] = known
			r.list = append(r.list, known.counted)
		}
	}
	known.counted.rule.Store(rule)
	return known
}

// Hits are what a rule did since the store was made.
type Hits struct {
	Rule        network.RuleID
	Connections int64         // that it had a part in, those that it stopped included
	Open        int64         // of them, sessions that are there
	Stopped     int64         // of them, those that a later step stopped
	Ended       int64         // likewise, those that ended at the rule itself
	Passed      [2]Count      // by direction
	Last        time.Duration // when the latest began, by the clock of the store, to a millisecond
}

// Hits returns what each rule did that did something, also rules that are no more. It looks at
// every session.
func (s *Store) Hits() []Hits {
	running := map[int32]*[2]Count{}
	for _, h := range s.halves() {
		h.addPassed(running)
	}
	s.rules.RLock()
	defer s.rules.RUnlock()
	var list []Hits
	for n, c := range s.rules.list {
		ended := c.ended.Load() // before begun, of which it is never more
		begun, tried := c.begun.Load(), c.tried.Load()
		if begun+tried == 0 {
			continue
		}
		h := Hits{Rule: c.id, Connections: begun + tried, Open: begun - ended, Stopped: c.stopped.Load(), Ended: tried - c.stopped.Load(), Last: time.Duration(c.last.Load())}
		for d := range h.Passed {
			h.Passed[d] = Count{c.passed[d].packets.Load(), c.passed[d].bytes.Load()}
			if sum := running[int32(n)]; sum != nil {
				h.Passed[d] = h.Passed[d].Plus(sum[d])
			}
		}
		list = append(list, h)
	}
	return list
}

// Stopped counts a packet that a gateway stopped: by the rule that did, and by those that had
// let it come so far.
func (s *Store) Stopped(d *engine.Decision, size int) {
	n, now := s.gateway.Load(), s.clock()
	count := func(r *network.Rule, later bool) {
		known, ok := n.known(r)
		if !ok {
			return
		}
		known.counted.tried.Add(1)
		known.counted.at(now)
		known.counted.add(engine.Forth, Count{1, int64(size)})
		if later {
			known.counted.stopped.Add(1)
		}
	}
	for _, r := range []*network.Rule{d.Redirect, d.Permit, d.Source} {
		if r != nil && r != d.Rule {
			count(r, true)
		}
	}
	if d.Rule != nil {
		count(d.Rule, false)
	}
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

// Decide takes a packet through the gateway as it is now, and counts it.
func (r *Running) Decide(a *engine.Arrival, log *engine.Log) engine.Decision {
	d := *r.compiled.Load().Decide(a, r.Store, log)
	if d.Action == engine.Stops && !d.Follows {
		r.Store.Stopped(&d, a.Size)
	}
	return d
}

// Gateway returns the gateway as it is now.
func (r *Running) Gateway() *engine.Gateway { return r.compiled.Load() }

// Swap makes another revision decide from the next packet on.
func (r *Running) Swap(g *engine.Gateway) {
	r.Store.Use(g.Gateway)
	r.compiled.Store(g)
}
