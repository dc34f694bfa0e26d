package sessions

import (
	"math"
	"sync"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// Leases are the ports that machines behind the gateway have which have some hashes.
type leases struct {
	sync.Mutex
	number  int // of the shard
	uses    slab[use]
	table   table     // by their keys
	waiting []waiting // those that wait for their session, the longest first,
	waited  int       // from this one on
}

// A useKey is who has a port: an inside address and port, in a group.
type useKey struct {
	group      groupKey
	inside     address
	insidePort uint16
}

// hash returns a hash that is the same for all outside addresses, so that all those at which somebody has
// a port are found together.
func (k *useKey) hash() uint64 {
	rest := uint64(k.insidePort)<<32 | uint64(k.group.port)<<16 | uint64(k.group.protocol)
	return mix(k.inside.hash(k.group.destination.hash(rest)), seeds[2])
}

// isAnywhere reports whether keys differ in their outside addresses at most.
func (k *useKey) isAnywhere(other *useKey) bool {
	return k.inside == other.inside && k.insidePort == other.insidePort && k.group.protocol == other.group.protocol &&
		k.group.port == other.group.port && k.group.destination == other.group.destination
}

// A use is the port that somebody has.
type use struct {
	key        useKey
	port       uint16
	sessions   int32
	leased     int32 // those that are to come
	held       int32 // of its sessions, the mappings that count as one
	generation uint32
}

type waiting struct {
	until      time.Duration
	use        int32
	generation uint32
}

func (s *Store) leasesOf(k *useKey) (*leases, uint64) {
	hash := k.hash()
	return &s.leases[hash>>58], hash
}

// use returns the use of a port by a key, or none.
func (l *leases) use(k *useKey, hash uint64, port uint16) int32 {
	for n, c := l.table.first(hash); n != none; n = l.table.next(&c) {
		if u := l.uses.at(n); u.port == port && u.key == *k {
			return n
		}
	}
	return none
}

// lowest returns the use by a key of the lowest port of several, those that mappings have before all others,
// or none.
func (l *leases) lowest(k *useKey, hash uint64) int32 {
	best := none
	for n, c := l.table.first(hash); n != none; n = l.table.next(&c) {
		if u := l.uses.at(n); u.key == *k && (best == none || u.isBefore(l.uses.at(best))) {
			best = n
		}
	}
	return best
}

// isBefore reports whether a use of a group is chosen before another of the same.
func (u *use) isBefore(other *use) bool {
	if held, was := u.held > 0, other.held > 0; held != was {
		return held
	}
	return u.port < other.port
}

// open makes a use of a port, which its group has taken.
func (l *leases) open(k *useKey, hash uint64, port uint16) int32 {
	n := l.uses.next()
	u := l.uses.at(n)
	*u = use{key: *k, port: port, generation: u.generation + 1}
	l.table.add(n, hash)
	return n
}

// end closes a use that no session has or waits for.
func (s *Store) end(l *leases, n int32) {
	u := l.uses.at(n)
	if u.sessions > 0 || u.leased > 0 {
		return
	}
	s.givePort(&u.key.group, u.port)
	l.table.remove(n, u.key.hash())
	l.uses.give(n)
	u.generation++
}

// expireLeases gives back the ports whose sessions did not come, and returns how many.
func (s *Store) expireLeases(l *leases, now time.Duration) (expired int) {
	for ; l.waited < len(l.waiting) && l.waiting[l.waited].until <= now; l.waited++ {
		w := l.waiting[l.waited]
		if u := l.uses.at(w.use); u.generation == w.generation && u.leased > 0 {
			u.leased--
			s.end(l, w.use)
			expired++
		}
	}
	if l.waited > 64 && 2*l.waited > len(l.waiting) {
		l.waiting = l.waiting[:copy(l.waiting, l.waiting[l.waited:])]
		l.waited = 0
	}
	return expired
}

// Take is engine.State's.
func (s *Store) Take(lease *engine.Lease) (engine.Grant, bool) {
	g, ok := s.take(lease)
	if !ok {
		if sessions, ports := s.expireAll(); sessions+ports > 0 {
			return s.take(lease)
		}
	}
	return g, ok
}

// take leases a port of the first address of a pool at which somebody has one already, or one is free.
func (s *Store) take(lease *engine.Lease) (engine.Grant, bool) {
	names, now := s.gateway.Load(), s.clock()
	leaving := tupleOf(lease.Final)
	k := useKey{names.keyOf(&leaving), addressOf(lease.Packet.Source), lease.Packet.SourcePort}
	l, hash := s.leasesOf(&k)
	l.Lock()
	defer l.Unlock()
	s.expireLeases(l, now)
	l.uses.warm()
	had, at := none, math.MaxInt
	if lease.Final.Protocol.Numbered() {
		had, at = l.first(&k, hash, lease)
	}
	p := s.poolOf(names, lease)
	for n, ok := p.next(0); ok && n < at; n, ok = p.next(n + 1) {
		a := nth(lease.Pool, n)
		if !a.IsValid() {
			break
		}
		k.group.outside = addressOf(a)
		if port, ok := s.takeFree(names, lease, &k.group, watch{p, uint16(n)}); ok {
			leaving.source, leaving.sourcePort = k.group.outside, port
			s.warmAnswer(&leaving)
			g := s.grant(l, l.open(&k, hash, port), now)
			g.Alone = true
			return g, true
		}
	}
	if had == none {
		return engine.Grant{}, false
	}
	return s.grant(l, had, now), true
}

// first returns the use that somebody has at the first address of a pool at which there is one, and the
// number of the address; none where there is none at any.
func (l *leases) first(k *useKey, hash uint64, lease *engine.Lease) (best int32, at int) {
	best, at = none, math.MaxInt
	for n, c := l.table.first(hash); n != none; n = l.table.next(&c) {
		u := l.uses.at(n)
		if !u.key.isAnywhere(k) || lease.Ports != (header.Ports{}) && !lease.Ports.Contains(u.port) {
			continue
		}
		number, ok := position(lease.Pool, u.key.group.outside.addr())
		if ok && (best == none || number < at || number == at && u.isBefore(l.uses.at(best))) {
			best, at = n, number
		}
	}
	return best, at
}

// warmLease asks the processor for where take will look, if a packet begins a session.
func (s *Store) warmLease(begins *tuple) {
	k := useKey{s.gateway.Load().keyOf(begins), begins.source, begins.sourcePort}
	l, hash := s.leasesOf(&k)
	l.table.warm(hash)
}

// grant notes that a session with a port is to come.
func (s *Store) grant(l *leases, n int32, now time.Duration) engine.Grant {
	u := l.uses.at(n)
	u.leased++
	l.waiting = append(l.waiting, waiting{now + leased, n, u.generation})
	return engine.Grant{Address: u.key.group.outside.addr(), Port: u.port, Ticket: l.ticket(n)}
}

// Distinct is engine.State's.
func (s *Store) Distinct(final header.Packet, ports header.Ports, _ network.MappingBehavior) (uint16, bool) {
	names, now := s.gateway.Load(), s.clock()
	clashes := func(port uint16) bool {
		final.SourcePort = port
		answer := tupleOf(final).answer()
		return s.isAnswered(&answer, now)
	}
	own := final.SourcePort
	switch {
	case !clashes(own):
		return own, true
	case !final.Protocol.Numbered():
		return 0, false
	}
	leaving := tupleOf(final)
	key := names.keyOf(&leaving)
	return engine.NextPort(ports, own, func(port uint16) bool { return !clashes(port) && !s.isTaken(&key, port) })
}

// bind notes that a session has come that has a port: that of its ticket, or one of its own.
func (s *Store) bind(names *names, e *entry, ticket engine.Ticket) {
	if ticket != (engine.Ticket{}) && s.redeem(e, ticket) {
		return
	}
	k := names.useOf(e)
	l, hash := s.leasesOf(&k)
	l.Lock()
	defer l.Unlock()
	n := s.useOrOpen(l, &k, hash, e.boundPort())
	l.uses.at(n).sessions++
	e.ticket = l.ticket(n)
}

// isBound reports whether a session has its port as the gateway maps now.
func (s *Store) isBound(names *names, e *entry) bool {
	if e.ticket == (engine.Ticket{}) {
		return false
	}
	l, n := s.use(e.ticket)
	l.Lock()
	defer l.Unlock()
	u := l.uses.at(n)
	return u.generation == e.ticket.B && u.key == names.useOf(e)
}

// useOrOpen returns the use of a port by a key, which it opens where there is none.
func (s *Store) useOrOpen(l *leases, k *useKey, hash uint64, port uint16) int32 {
	n := l.use(k, hash, port)
	if n == none {
		s.takePort(&k.group, port)
		n = l.open(k, hash, port)
	}
	return n
}

// redeem is bind by a ticket. It returns false where the session has another port after all,
// or comes too late.
func (s *Store) redeem(e *entry, ticket engine.Ticket) bool {
	l, n := s.use(ticket)
	l.Lock()
	defer l.Unlock()
	u := l.uses.at(n)
	if u.generation != ticket.B || u.port != e.boundPort() {
		return false
	}
	if last := len(l.waiting) - 1; u.leased > 0 && last >= l.waited && l.waiting[last].use == n && l.waiting[last].generation == ticket.B {
		l.waiting = l.waiting[:last] // mostly nobody else came meanwhile
	}
	u.sessions, u.leased, e.ticket = u.sessions+1, max(u.leased-1, 0), ticket
	return true
}

// ticket returns what a use is known by, and use the use of a ticket.
func (l *leases) ticket(n int32) engine.Ticket {
	return engine.Ticket{A: uint32(l.number)<<26 | uint32(n) + 1, B: l.uses.at(n).generation}
}

func (s *Store) use(t engine.Ticket) (l *leases, n int32) {
	return &s.leases[t.A>>26], int32(t.A&(1<<26-1)) - 1
}

// unbind is the opposite of bind.
func (s *Store) unbind(e *entry) {
	if e.ticket == (engine.Ticket{}) {
		return
	}
	l, n := s.use(e.ticket)
	l.Lock()
	defer l.Unlock()
	if u := l.uses.at(n); u.generation == e.ticket.B && u.sessions > 0 {
		u.sessions--
		s.end(l, n)
	}
}

// useOf returns by what a session has its port.
func (n *names) useOf(e *entry) useKey {
	return useKey{n.keyOf(&e.after), e.before.source, e.before.sourcePort}
}

// boundPort is the port that a session has; 0 where its protocol has none.
func (e *entry) boundPort() uint16 {
	if e.after.protocol.Numbered() {
		return e.after.sourcePort
	}
	return 0
}
