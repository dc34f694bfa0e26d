package sessions

import (
	"net/netip"
	"slices"
	"sync"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// Leases are the ports of outside addresses with some hashes.
type leases struct {
	sync.Mutex
	number  int // of the shard
	groups  slab[group]
	groupOf table
	uses    slab[use]
	useOf   table
	waiting []waiting // those that wait for their session, the longest first,
	waited  int       // from this one on
}

// A groupKey is what sessions share that need different ports: the outside address and the
// protocol and, as the gateway maps, where they go to (RFC 4787, 4.1).
type groupKey struct {
	source, destination address
	port                uint16
	protocol            header.Protocol
}

func (k *groupKey) hash() uint64 {
	return mix(k.source.hash(k.destination.hash(uint64(k.port)<<16|uint64(k.protocol))), seeds[2])
}

// A group is the ports behind an outside address.
type group struct {
	key    groupKey
	taken  portSet
	shared map[uint16]int32 // of ports with more than one use, how many more
	uses   int32
	pools  []watch // that it is an address of
}

// A use is the port that an inside address and port has.
type use struct {
	inside     address
	group      int32
	sessions   int32
	leased     int32 // those that are to come
	held       int32 // of its sessions, the mappings that count as one
	generation uint32
	insidePort uint16
	port       uint16
}

// An inside is an address and a port behind the gateway.
type inside struct {
	address address
	port    uint16
}

type useKey struct {
	inside     address
	insidePort uint16
	group      int32
}

func (i inside) hash() uint64 { return mix(i.address.hash(uint64(i.port)), seeds[2]) }

func (k *useKey) hash() uint64 { return inside{k.inside, k.insidePort}.hash() }

type waiting struct {
	until      time.Duration
	use        int32
	generation uint32
}

// keyOf returns the group of a packet that leaves.
func (n *names) keyOf(p *tuple) groupKey {
	k := groupKey{source: p.source, protocol: p.protocol}
	if !p.protocol.Numbered() || n.mapping != network.EndpointIndependent {
		k.destination = p.destination
	}
	if p.protocol.Numbered() && n.mapping == network.AddressAndPortDependent {
		k.port = p.destinationPort
	}
	return k
}

func (s *Store) leasesOf(k *groupKey) (*leases, uint64) {
	hash := k.hash()
	return &s.leases[hash>>58], hash
}

// find returns the group of a key, or none.
func (l *leases) find(k *groupKey, hash uint64) int32 {
	n, c := l.groupOf.first(hash)
	for n != none && l.groups.at(n).key != *k {
		n = l.groupOf.next(&c)
	}
	return n
}

// group returns the group of a key, which it makes where there is none.
func (l *leases) group(k *groupKey, hash uint64) int32 {
	n := l.find(k, hash)
	if n != none {
		return n
	}
	n = l.groups.next()
	*l.groups.at(n) = group{key: *k}
	l.groupOf.add(n, hash)
	return n
}

// use returns the use of an inside address and port in a group for which a function returns
// true, or none.
func (l *leases) use(k useKey, hash uint64, fits func(port uint16) bool) int32 {
	n, c := l.useOf.first(hash)
	for n != none {
		if u := l.uses.at(n); u.inside == k.inside && u.group == k.group && u.insidePort == k.insidePort && fits(u.port) {
			return n
		}
		n = l.useOf.next(&c)
	}
	return none
}

// lowest is use of the lowest port of several, those that mappings have before all others.
func (l *leases) lowest(k useKey, hash uint64, fits func(port uint16) bool) int32 {
	best := none
	for n, c := l.useOf.first(hash); n != none; n = l.useOf.next(&c) {
		u := l.uses.at(n)
		if u.inside != k.inside || u.group != k.group || u.insidePort != k.insidePort || !fits(u.port) {
			continue
		}
		if best == none {
			best = n
			continue
		}
		b := l.uses.at(best)
		if held, was := u.held > 0, b.held > 0; held && !was || held == was && u.port < b.port {
			best = n
		}
	}
	return best
}

// open makes a use of a port.
func (l *leases) open(k useKey, hash uint64, port uint16) int32 {
	n := l.uses.next()
	u := l.uses.at(n)
	*u = use{inside: k.inside, group: k.group, insidePort: k.insidePort, port: port, generation: u.generation + 1}
	l.useOf.add(n, hash)
	g := l.groups.at(k.group)
	g.uses++
	for _, w := range g.pools {
		w.pool.count(hash, true)
	}
	if !g.taken.has(port) {
		g.taken.add(port)
		return n
	}
	if g.shared == nil {
		g.shared = map[uint16]int32{}
	}
	g.shared[port]++
	return n
}

// end closes a use that no session has or waits for.
func (l *leases) end(n int32) {
	u := l.uses.at(n)
	if u.sessions > 0 || u.leased > 0 {
		return
	}
	g := l.groups.at(u.group)
	hash := inside{u.inside, u.insidePort}.hash()
	for _, w := range g.pools {
		w.pool.count(hash, false)
	}
	if g.shared[u.port] > 0 {
		if g.shared[u.port]--; g.shared[u.port] == 0 {
			delete(g.shared, u.port)
		}
	} else {
		g.taken.remove(u.port)
		for _, w := range g.pools {
			w.set(false)
		}
	}
	if g.uses--; g.uses == 0 {
		l.groupOf.remove(u.group, g.key.hash())
		l.groups.give(u.group)
		*g = group{}
	}
	l.useOf.remove(n, hash)
	l.uses.give(n)
	u.generation++
}

// expire gives back the ports whose sessions did not come.
func (l *leases) expire(now time.Duration) {
	for l.waited < len(l.waiting) && l.waiting[l.waited].until <= now {
		w := l.waiting[l.waited]
		l.waited++
		if u := l.uses.at(w.use); u.generation == w.generation && u.leased > 0 {
			u.leased--
			l.end(w.use)
		}
	}
	if l.waited > 64 && 2*l.waited > len(l.waiting) {
		l.waiting = l.waiting[:copy(l.waiting, l.waiting[l.waited:])]
		l.waited = 0
	}
}

// Take is engine.State's.
func (s *Store) Take(lease *engine.Lease) (engine.Grant, bool) {
	g, ok := s.takeOne(lease)
	if !ok && s.Expire() > 0 {
		return s.takeOne(lease)
	}
	return g, ok
}

func (s *Store) takeOne(lease *engine.Lease) (engine.Grant, bool) {
	names, now := s.gateway.Load(), s.clock()
	final := lease.Final
	p := s.poolOf(lease)
	if p == nil || names.mapping != network.EndpointIndependent {
		for _, addresses := range lease.Pool.Ranges() {
			for a := addresses.First; ; a = a.Next() {
				final.Source = a
				if g, ok := s.take(names, lease, &final, now, watch{}); ok {
					return g, true
				}
				if a == addresses.Last {
					break
				}
			}
		}
		return engine.Grant{}, false
	}
	k := useKey{inside: addressOf(lease.Packet.Source), insidePort: lease.Packet.SourcePort}
	number, ok := p.next(0)
	if number > 0 || !ok {
		before := number
		if !ok {
			before = p.size
		}
		for n := range before { // full ones, of which it may have a port already
			if !p.has(k.hash()) {
				break
			}
			final.Source = nth(lease.Pool, n)
			if g, ok := s.take(names, lease, &final, now, watch{p, uint16(n)}); ok {
				return g, true
			}
		}
	}
	for ; ok; number, ok = p.next(number + 1) {
		final.Source = nth(lease.Pool, number)
		if g, ok := s.take(names, lease, &final, now, watch{p, uint16(number)}); ok {
			return g, true
		}
	}
	return engine.Grant{}, false
}

// take leases a port for a packet that will leave like final but for that.
func (s *Store) take(names *names, lease *engine.Lease, final *header.Packet, now time.Duration, w watch) (engine.Grant, bool) {
	leaving := tupleOf(*final)
	key := names.keyOf(&leaving)
	l, hash := s.leasesOf(&key)
	l.Lock()
	defer l.Unlock()
	l.expire(now)
	g := l.find(&key, hash)
	k := useKey{inside: addressOf(lease.Packet.Source), group: g, insidePort: lease.Packet.SourcePort}
	useHash := k.hash()
	numbered, any := final.Protocol.Numbered(), lease.Ports == header.Ports{}
	if g != none && numbered {
		fits := func(port uint16) bool { return any || lease.Ports.Contains(port) }
		n := l.lowest(k, useHash, fits)
		if n != none {
			return s.grant(l, n, final.Source, now), true
		}
	}
	port, ok := uint16(0), g == none
	switch {
	case !numbered:
	case lease.KeepPort && (g == none || !l.groups.at(g).taken.has(lease.Packet.SourcePort)):
		port, ok = lease.Packet.SourcePort, true
	default:
		after := lease.Packet.SourcePort
		if !lease.KeepPort && !names.preserving {
			after = 0
		}
		var taken portSet
		if g != none {
			taken = l.groups.at(g).taken
		}
		port, ok = nextFree(&taken, lease.Ports, after)
	}
	if !ok {
		if w.pool != nil {
			l.watched(g, w)
			w.set(true)
		}
		return engine.Grant{}, false
	}
	if g == none {
		g = l.group(&key, hash)
		k.group = g
	}
	if w.pool != nil {
		l.watched(g, w)
	}
	return s.grant(l, l.open(k, useHash, port), final.Source, now), true
}

// watched notes that a group is an address of a pool.
func (l *leases) watched(number int32, w watch) {
	g := l.groups.at(number)
	if slices.Contains(g.pools, w) {
		return
	}
	g.pools = append(g.pools, w)
	if g.uses == 0 {
		return
	}
	for n := range l.uses.size { // those of rules that had the address before
		if u := l.uses.at(n); u.group == number && u.sessions+u.leased > 0 {
			w.pool.count(inside{u.inside, u.insidePort}.hash(), true)
		}
	}
}

// grant notes that a session with a port is to come.
func (s *Store) grant(l *leases, n int32, a netip.Addr, now time.Duration) engine.Grant {
	u := l.uses.at(n)
	alone := u.sessions+u.leased == 0 && l.groups.at(u.group).shared[u.port] == 0
	u.leased++
	l.waiting = append(l.waiting, waiting{now + leased, n, u.generation})
	return engine.Grant{Address: a, Port: u.port, Alone: alone, Ticket: l.ticket(n)}
}

// nextFree is engine.NextPort for a set of ports that are taken, without asking for each.
func nextFree(taken *portSet, ports header.Ports, after uint16) (uint16, bool) {
	if ports == (header.Ports{}) {
		ports = header.Ports{First: 1024, Last: 65535}
	}
	if ports.Contains(after) && after < ports.Last {
		if port, ok := taken.free(after+1, ports.Last); ok {
			return port, true
		}
	}
	return taken.free(ports.First, ports.Last)
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

// isTaken reports whether a port of a group has a use.
func (s *Store) isTaken(k *groupKey, port uint16) bool {
	l, hash := s.leasesOf(k)
	l.Lock()
	defer l.Unlock()
	g := l.find(k, hash)
	return g != none && l.groups.at(g).taken.has(port)
}

// bind notes that a session has come that has a port: that of its ticket, or one of its own.
func (s *Store) bind(names *names, e *entry, ticket engine.Ticket) {
	if ticket != (engine.Ticket{}) && s.redeem(e, ticket) {
		return
	}
	key := names.keyOf(&e.after)
	l, hash := s.leasesOf(&key)
	l.Lock()
	defer l.Unlock()
	k, port := e.useKey(l.group(&key, hash)), e.boundPort()
	n := l.use(k, k.hash(), func(p uint16) bool { return p == port })
	if n == none {
		n = l.open(k, k.hash(), port)
	}
	u := l.uses.at(n)
	u.sessions++
	e.ticket = l.ticket(n)
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
		l.end(n)
	}
}

func (e *entry) useKey(group int32) useKey {
	return useKey{inside: e.before.source, group: group, insidePort: e.before.sourcePort}
}

// boundPort is the port that a session has; 0 where its protocol has none.
func (e *entry) boundPort() uint16 {
	if e.after.protocol.Numbered() {
		return e.after.sourcePort
	}
	return 0
}
