package sessions

import (
	"net/netip"
	"sync"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// Mappings are the mappings of a store. While a mapping is there, its outside port is that of its
// machine's port, whether that has sessions or not.
type mappings struct {
	engine.MappingTable
	mutex sync.Mutex
	open  map[end]*opened
}

// An end is an address and a port of a protocol.
type end struct {
	at       netip.AddrPort
	protocol header.Protocol
}

type opened struct {
	mapping *network.Mapping
	ticket  engine.Ticket // of its port, where it keeps one
}

// Mapped is engine.State's.
func (s *Store) Mapped(in *network.Interface, p *header.Packet) *engine.Mapping {
	return s.mappings.Find(in, p)
}

// Open puts a mapping there, in place of one with the same outside address and port.
func (s *Store) Open(m *network.Mapping) {
	t, at := &s.mappings, end{m.Outside, m.Protocol}
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if t.open == nil {
		t.open = map[end]*opened{}
	}
	if before := t.open[at]; before != nil {
		s.of(before.mapping.Inside.Addr()).letGo(before.ticket)
	}
	o := &opened{mapping: m}
	o.ticket = s.of(m.Inside.Addr()).hold(s.gateway.Load(), m)
	t.open[at] = o
	t.Put(m)
}

// Shut takes a mapping away. Its sessions go on.
func (s *Store) Shut(protocol header.Protocol, outside netip.AddrPort) {
	t, at := &s.mappings, end{outside, protocol}
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if o := t.open[at]; o != nil {
		s.of(o.mapping.Inside.Addr()).letGo(o.ticket)
		delete(t.open, at)
	}
	t.Remove(protocol, outside)
}

// hold keeps the outside port of a mapping for its machine, and returns its ticket.
func (h *half[A]) hold(names *names, m *network.Mapping) engine.Ticket {
	if names.mapping != network.EndpointIndependent || m.Outside == m.Inside {
		return engine.Ticket{}
	}
	k := useKey[A]{groupOf[A](m.Protocol, m.Outside.Addr()), addressOf[A](m.Inside.Addr()), m.Inside.Port()}
	l, hash := h.leasesOf(&k)
	l.Lock()
	defer l.Unlock()
	use := h.useOrOpen(l, &k, hash, m.Outside.Port())
	u := l.uses.at(use)
	u.sessions, u.held = u.sessions+1, u.held+1
	return l.ticket(use)
}

// letGo is the opposite of hold.
func (h *half[A]) letGo(ticket engine.Ticket) {
	if ticket == (engine.Ticket{}) {
		return
	}
	l, n := h.use(ticket)
	l.Lock()
	defer l.Unlock()
	if u := l.uses.at(n); u.generation == ticket.B {
		u.sessions, u.held = u.sessions-1, u.held-1
		h.end(l, n)
	}
}

// holdAll is hold of all mappings, when the ports are counted anew. Those that came meanwhile are held already.
func (s *Store) holdAll(n *names) {
	s.mappings.mutex.Lock()
	defer s.mappings.mutex.Unlock()
	for _, o := range s.mappings.open {
		h, had := s.of(o.mapping.Inside.Addr()), o.ticket
		o.ticket = h.hold(n, o.mapping)
		h.letGo(had)
	}
}

// Bound returns the port of an outside address that the sessions and mappings of a machine's port
// have. ok is false where there are none, or where it depends on their destination.
func (s *Store) Bound(protocol header.Protocol, inside netip.AddrPort, outside netip.Addr) (port uint16, ok bool) {
	return s.of(inside.Addr()).bound(protocol, inside, outside)
}

func (h *half[A]) bound(protocol header.Protocol, inside netip.AddrPort, outside netip.Addr) (port uint16, ok bool) {
	k := useKey[A]{groupOf[A](protocol, outside), addressOf[A](inside.Addr()), inside.Port()}
	l, hash := h.leasesOf(&k)
	l.Lock()
	defer l.Unlock()
	use := l.lowest(&k, hash)
	if use == none {
		return 0, false
	}
	return l.uses.at(use).port, true
}

// IsTaken reports whether a port of an outside address is that of sessions or mappings, where it
// does not depend on their destination.
func (s *Store) IsTaken(protocol header.Protocol, outside netip.AddrPort) bool {
	return s.of(outside.Addr()).isTaken(protocol, outside)
}

func (h *half[A]) isTaken(protocol header.Protocol, outside netip.AddrPort) bool {
	key := groupOf[A](protocol, outside.Addr())
	return h.isTakenIn(&key, outside.Port())
}
