package sessions

import (
	"math"
	"sync"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
)

// Leases are the ports that machines behind the gateway have which have some hashes.
type leases[A address] struct {
	sync.Mutex
	number  int // of the shard
	uses    slab[use[A]]
	table   table     // by their keys
	waiting []waiting // those that wait for their session, the longest first,
	waited  int       // from this one on
}

// A useKey is who has a port: an inside address and port, in a group.
type useKey[A address] struct {
	group      groupKey[A]
	inside     A
	insidePort uint16
}

// hash returns a hash that is the same for all outside addresses, so that all those at which somebody has
// a port are found together.
func (k *useKey[A]) hash() uint64 {
	rest := uint64(k.insidePort)<<32 | uint64(k.group.port)<<16 | uint64(k.group.protocol)
	return hashOf(k.inside, k.group.destination, rest)
}

// isAnywhere reports whether keys differ in their outside addresses at most.
func (k useKey[A]) isAnywhere(other *useKey[A]) bool {
	return k.inside == other.inside && k.insidePort == other.insidePort && k.group.protocol == other.group.protocol &&
		k.group.port == other.group.port && k.group.destination == other.group.destination
}

// A use is the port that somebody has. Its key lies in it in parts, which take less room: two uses of IPv4 are a line.
type use[A address] struct {
	outside, destination, inside A
	groupPort, insidePort        uint16
	port                         uint16
	protocol                     header.Protocol
	held                         uint8 // of its sessions, the mappings that count as one: one, or two while one takes the other's place
	sessions                     int32
	leased                       int32 // those that are to come
	generation                   uint32
}

func (u *use[A]) key() useKey[A] {
	return useKey[A]{groupKey[A]{u.outside, u.destination, u.groupPort, u.protocol}, u.inside, u.insidePort}
}

type waiting struct {
	until      time.Duration
	use        int32
	generation uint32
}

func (h *half[A]) leasesOf(k *useKey[A]) (*leases[A], uint64) {
	hash := k.hash()
	return &h.leases[shardOf(hash)], hash
}

// use returns the use of a port by a key, or none.
func (l *leases[A]) use(k *useKey[A], hash uint64, port uint16) int32 {
	for n, c := l.table.first(hash); n != none; n = l.table.next(&c) {
		if u := l.uses.at(n); u.port == port && u.key() == *k {
			return n
		}
	}
	return none
}

// lowest returns the use by a key of the lowest port of several, those that mappings have before all others,
// or none.
func (l *leases[A]) lowest(k *useKey[A], hash uint64) int32 {
	best := none
	for n, c := l.table.first(hash); n != none; n = l.table.next(&c) {
		if u := l.uses.at(n); u.key() == *k && (best == none || u.isBefore(l.uses.at(best))) {
			best = n
		}
	}
	return best
}

// isBefore reports whether a use of a group is chosen before another of the same.
func (u *use[A]) isBefore(other *use[A]) bool {
	if held, was := u.held > 0, other.held > 0; held != was {
		return held
	}
	return u.port < other.port
}

// open makes a use of a port, which its group has taken.
func (l *leases[A]) open(k *useKey[A], hash uint64, port uint16) int32 {
	n := l.uses.next()
	u := l.uses.at(n)
	*u = use[A]{
		outside: k.group.outside, destination: k.group.destination, inside: k.inside,
		groupPort: k.group.port, insidePort: k.insidePort, port: port, protocol: k.group.protocol, generation: u.generation + 1,
	}
	l.table.add(n, hash)
	return n
}

// end closes a use that no session has or waits for.
func (h *half[A]) end(l *leases[A], n int32) {
	u := l.uses.at(n)
	if u.sessions > 0 || u.leased > 0 {
		return
	}
	k := u.key()
	h.givePort(&k.group, u.port)
	l.table.remove(n, k.hash())
	l.uses.give(n)
	u.generation++
}

// expireLeases gives back the ports whose sessions did not come, and returns how many.
func (h *half[A]) expireLeases(l *leases[A], now time.Duration) int {
	if l.waited == len(l.waiting) {
		return 0
	}
	return h.expireWaiting(l, now)
}

func (h *half[A]) expireWaiting(l *leases[A], now time.Duration) (expired int) {
	for ; l.waited < len(l.waiting) && l.waiting[l.waited].until <= now; l.waited++ {
		w := l.waiting[l.waited]
		if u := l.uses.at(w.use); u.generation == w.generation && u.leased > 0 {
			u.leased--
			h.end(l, w.use)
			expired++
		}
	}
	if l.waited > 64 && 2*l.waited > len(l.waiting) {
		l.waiting = l.waiting[:copy(l.waiting, l.waiting[l.waited:])]
		l.waited = 0
	}
	return expired
}

// take leases a port of the first address of a pool at which somebody has one already, or one is free.
func (h *half[A]) take(lease *engine.Lease, grant *engine.Grant) bool {
	names, now := h.gateway.Load(), h.clock()
	leaving := tupleOf[A](&lease.Packet)
	k := useKey[A]{keyOf(names, &leaving), leaving.source, leaving.sourcePort()}
	l, hash := h.leasesOf(&k)
	l.Lock()
	if h.gateway.Load() != names { // a use must not be opened as the revision before maps once clear has been here
		l.Unlock()
		return h.take(lease, grant)
	}
	h.expireLeases(l, now)
	n, alone := h.useFor(l, names, lease, &leaving, &k, hash)
	if n != none {
		h.grant(l, n, now, grant)
		grant.Alone = alone
	}
	l.Unlock()
	return n != none
}

// useFor returns the use that a packet gets, which is alone where it was not there before; none where no port is free.
func (h *half[A]) useFor(l *leases[A], names *names, lease *engine.Lease, leaving *tuple[A], k *useKey[A], hash uint64) (use int32, alone bool) {
	l.uses.warm()
	had, at := none, math.MaxInt
	if lease.Packet.Protocol.Numbered() {
		if n, c := l.table.first(hash); n != none {
			had, at = l.first(n, c, k, lease)
		}
	}
	p := h.poolOf(names, lease)
	for n, ok := p.next(0); ok && n < at; n, ok = p.next(n + 1) {
		outside, ok := nth[A](lease.Pool, n)
		if !ok {
			break
		}
		k.group.outside = outside
		if port, ok := h.takeFree(names, lease, &k.group, watch{p, uint16(n)}); ok {
			leaving.source, leaving.ports = k.group.outside, leaving.from(port)
			h.warmAnswer(leaving)
			return l.open(k, hash, port), true
		}
	}
	return had, false
}

// first returns the use that somebody has at the first address of a pool at which there is one, and the
// number of the address; none where there is none at any. It is among those of a hash from n on.
func (l *leases[A]) first(n int32, c cursor, k *useKey[A], lease *engine.Lease) (best int32, at int) {
	best, at = none, math.MaxInt
	for ; n != none; n = l.table.next(&c) {
		u := l.uses.at(n)
		if !u.key().isAnywhere(k) || lease.Ports != (header.Ports{}) && !lease.Ports.Contains(u.port) {
			continue
		}
		number, ok := position(lease.Pool, addrOf(u.outside))
		if ok && (best == none || number < at || number == at && u.isBefore(l.uses.at(best))) {
			best, at = n, number
		}
	}
	return best, at
}

// warmLease asks the processor for where take will look, if a packet begins a session.
func (h *half[A]) warmLease(begins *tuple[A]) {
	k := useKey[A]{keyOf(h.gateway.Load(), begins), begins.source, begins.sourcePort()}
	l, hash := h.leasesOf(&k)
	l.table.warm(hash)
}

// grant notes that a session with a port is to come.
func (h *half[A]) grant(l *leases[A], n int32, now time.Duration, grant *engine.Grant) {
	u := l.uses.at(n)
	u.leased++
	l.waiting = append(l.waiting, waiting{now + leased, n, u.generation})
	*grant = engine.Grant{Address: addrOf(u.outside), Port: u.port, Ticket: l.ticket(n)}
}

// distinct is engine.State's Distinct.
func (h *half[A]) distinct(final *header.Packet, ports header.Ports) (uint16, bool) {
	names, now := h.gateway.Load(), h.clock()
	leaving := tupleOf[A](final)
	clashes := func(port uint16) bool {
		other := leaving
		other.ports = other.from(port)
		answer := other.answer()
		return h.isAnswered(&answer, now)
	}
	own := final.SourcePort
	switch {
	case !clashes(own):
		return own, true
	case !final.Protocol.Numbered():
		return 0, false
	}
	key := keyOf(names, &leaving)
	return engine.NextPort(ports, own, func(port uint16) bool { return !clashes(port) && !h.isTakenIn(&key, port) })
}

// bind notes that a session has come that has a port: that of its ticket, or one of its own, whose ticket
// it returns.
func (h *half[A]) bind(names *names, p *pair[A], ticket engine.Ticket) engine.Ticket {
	if ticket != (engine.Ticket{}) && h.redeem(p, ticket) {
		return ticket
	}
	k := useOf(names, p)
	l, hash := h.leasesOf(&k)
	l.Lock()
	defer l.Unlock()
	n := h.useOrOpen(l, &k, hash, p.boundPort())
	l.uses.at(n).sessions++
	return l.ticket(n)
}

// isBound reports whether a session has its port as the gateway maps now.
func (h *half[A]) isBound(names *names, p *pair[A], ticket engine.Ticket) bool {
	if ticket == (engine.Ticket{}) {
		return false
	}
	l, n := h.use(ticket)
	l.Lock()
	defer l.Unlock()
	u := l.uses.at(n)
	return u.generation == ticket.B && u.key() == useOf(names, p)
}

// useOrOpen returns the use of a port by a key, which it opens where there is none.
func (h *half[A]) useOrOpen(l *leases[A], k *useKey[A], hash uint64, port uint16) int32 {
	n := l.use(k, hash, port)
	if n == none {
		h.takePort(&k.group, port)
		n = l.open(k, hash, port)
	}
	return n
}

// redeem is bind by a ticket. It returns false where the session has another port after all,
// or comes too late.
func (h *half[A]) redeem(p *pair[A], ticket engine.Ticket) bool {
	l, n := h.use(ticket)
	l.Lock()
	u := l.uses.at(n)
	if u.generation != ticket.B || u.port != p.boundPort() {
		l.Unlock()
		return false
	}
	if last := len(l.waiting) - 1; u.leased > 0 && last >= l.waited && l.waiting[last].use == n && l.waiting[last].generation == ticket.B {
		l.waiting = l.waiting[:last] // mostly nobody else came meanwhile
	}
	u.sessions, u.leased = u.sessions+1, max(u.leased-1, 0)
	l.Unlock()
	return true
}

// inTicket is how many bits of the first half of a ticket are a use's place in its shard.
const inTicket = 32 - shardBits

// ticket returns what a use is known by, and use the use of a ticket.
func (l *leases[A]) ticket(n int32) engine.Ticket {
	return engine.Ticket{A: uint32(l.number)<<inTicket | uint32(n) + 1, B: l.uses.at(n).generation}
}

func (h *half[A]) use(t engine.Ticket) (l *leases[A], n int32) {
	return &h.leases[t.A>>inTicket], int32(t.A&(1<<inTicket-1)) - 1
}

// unbind is the opposite of bind.
func (h *half[A]) unbind(ticket engine.Ticket) {
	if ticket == (engine.Ticket{}) {
		return
	}
	l, n := h.use(ticket)
	l.Lock()
	defer l.Unlock()
	if u := l.uses.at(n); u.generation == ticket.B && u.sessions > 0 {
		u.sessions--
		h.end(l, n)
	}
}

// useOf returns by what a session has its port.
func useOf[A address](n *names, p *pair[A]) useKey[A] {
	return useKey[A]{keyOf(n, &p.after), p.before.source, p.before.sourcePort()}
}

// boundPort is the port that a session has; 0 where its protocol has none.
func (p *pair[A]) boundPort() uint16 {
	if p.after.protocol().Numbered() {
		return p.after.sourcePort()
	}
	return 0
}
