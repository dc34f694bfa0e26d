package engine

import (
	"hollowbridge/core/flow"
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
	"net/netip"
	"slices"
)

// Memory is the sessions of a trace: few, at all gateways, and of a set of connections as
// well as of one. As the State of a gateway it stands at that.
type Memory struct {
	flow     *flow.Flow // whose packets are asked about
	at       *Gateway
	sessions []remembered
	earlier  int   // how many are of earlier connections, then come those of this one
	used     []int // those that the first packet of this leg goes by
	back     bool  // an answer is on its way
}

type remembered struct {
	Session
	gateway *Gateway
}

// NewMemory returns an empty memory of a flow.
func NewMemory(f *flow.Flow) Memory { return Memory{flow: f} }

// StandAt makes it the state of a gateway.
func (m *Memory) StandAt(g *Gateway) { m.at = g }

// Begin says that another leg of a connection begins.
func (m *Memory) Begin() { m.used = m.used[:0] }

// Turn says whether an answer is on its way.
func (m *Memory) Turn(back bool) { m.back = back }

// Settle makes the sessions of this connection earlier ones, and Forget takes them away.
func (m *Memory) Settle() { m.earlier = len(m.sessions) }

func (m *Memory) Forget() { m.sessions = m.sessions[:m.earlier] }

// Half returns a gateway by whose session the first packet of this leg went, and which drops what follows that, or nil.
func (m *Memory) Half() *Gateway {
	for _, i := range m.used {
		if s := &m.sessions[i]; !s.gateway.isWhole(&s.Session) {
			return s.gateway
		}
	}
	return nil
}

// Find is State.Find: the latest session that the packet belongs to.
func (m *Memory) Find(p *header.Packet, part header.Part, _ int, found *Session) (Direction, bool) {
	mayAnswer := part != header.Begins || !p.Protocol.HasBeginning()
	for i := len(m.sessions) - 1; i >= 0; i-- {
		s := &m.sessions[i]
		if s.gateway != m.at {
			continue
		}
		if mayAnswer && m.flow.Is(s.left(), true) {
			s.Answered = true
			*found = s.Session
			return Back, true
		}
		if m.flow.Is(s.came(), false) {
			m.use(i)
			*found = s.Session
			return Forth, true
		}
	}
	return Forth, false
}

func (m *Memory) use(number int) {
	if !m.back {
		m.used = append(m.used, number)
	}
}

// Keep is State.Keep.
func (m *Memory) Keep(s *Session) bool {
	if most := m.at.Limits.Sessions; most > 0 {
		taken := 0
		for i := range m.sessions {
			if m.sessions[i].gateway == m.at {
				taken++
			}
		}
		if taken >= most {
			return false
		}
	}
	n := len(m.sessions)
	m.sessions = slices.Grow(m.sessions, 1)[:n+1]
	kept := &m.sessions[n]
	kept.Session, kept.gateway = *s, m.at
	m.use(len(m.sessions) - 1)
	return true
}

// Take is State.Take.
func (m *Memory) Take(l *Lease, grant *Grant) bool {
	final := l.Packet
	for _, addresses := range l.Pool.Ranges() {
		for a := addresses.First; ; a = a.Next() {
			final.Source = a
			if port, ok := m.port(l, &final); ok {
				*grant = Grant{Address: a, Port: port, Alone: m.earlier == 0}
				return true
			}
			if a == addresses.Last {
				break
			}
		}
	}
	return false
}

// port returns the source port that a packet gets, which will be like final but for that.
func (m *Memory) port(l *Lease, final *header.Packet) (uint16, bool) {
	if !final.Protocol.Numbered() {
		return 0, !m.isTaken(final, 0, l.Mapping)
	}
	if port, ok := m.heldFor(l, final.Source); ok {
		return port, true
	}
	kept, has := uint16(0), false
	for i := range m.sessions[:m.earlier] {
		s := &m.sessions[i]
		if s.gateway == m.at && s.Binds(final, l.Mapping) && s.Before.Source == l.Packet.Source && s.Before.SourcePort == l.Packet.SourcePort &&
			(l.Ports == (header.Ports{}) || l.Ports.Contains(s.After.SourcePort)) && (!has || s.After.SourcePort < kept) {
			kept, has = s.After.SourcePort, true
		}
	}
	if has {
		return kept, true
	}
	own := l.Packet.SourcePort
	if !l.KeepPort {
		if m.at.Handling.PortAssignment != network.PortPreserving {
			own = 0 // from the first on
		}
	} else if !m.isOwnHeld(final.Protocol, final.Source) && !m.isBound(final, own, l.Mapping) {
		return own, true
	}
	return NextPort(l.Ports, own, func(port uint16) bool { return !m.isTaken(final, port, l.Mapping) })
}

// isTaken reports whether an earlier session or a mapping holds the port against a packet that
// is to leave like final, and isBound whether an earlier session does.
func (m *Memory) isTaken(final *header.Packet, port uint16, mapping network.MappingBehavior) bool {
	return m.isBound(final, port, mapping) || m.isHeld(final.Protocol, final.Source, port)
}

func (m *Memory) isBound(final *header.Packet, port uint16, mapping network.MappingBehavior) bool {
	for i := range m.sessions[:m.earlier] {
		if s := &m.sessions[i]; s.gateway == m.at && s.After.SourcePort == port && s.Binds(final, mapping) {
			return true
		}
	}
	return false
}

// Distinct is State.Distinct.
func (m *Memory) Distinct(final header.Packet, ports header.Ports, mapping network.MappingBehavior) (uint16, bool) {
	clashes := func(port uint16) bool {
		final.SourcePort = port
		for i := range m.sessions[:m.earlier] {
			if s := &m.sessions[i]; s.gateway == m.at && !s.Local && s.After == final {
				return true
			}
		}
		return false
	}
	own := final.SourcePort
	switch {
	case m.earlier == 0 || !clashes(own):
		return own, true
	case !final.Protocol.Numbered():
		return 0, false
	}
	return NextPort(ports, own, func(port uint16) bool { return !clashes(port) && !m.isTaken(&final, port, mapping) })
}

// Mapped is State.Mapped.
func (m *Memory) Mapped(in *network.Interface, _ *header.Packet) *Mapping {
	if len(m.at.openings) == 0 {
		return nil
	}
	t := m.at.openings[in.Index]
	found := m.flow.First(t, m.at.Between(in, in, 0))
	if found == table.NoMatch {
		return nil
	}
	return m.at.mapped[t.Index(found)]
}

// heldFor returns the port of an outside address that a mapping gives to a source, the lowest where
// several do. ok is false where there is none.
func (m *Memory) heldFor(l *Lease, outside netip.Addr) (port uint16, ok bool) {
	for i := range m.at.holdings {
		h := &m.at.holdings[i]
		if h.isOf(l.Packet.Protocol, outside) && (l.Ports == (header.Ports{}) || l.Ports.Contains(h.Outside.Port())) &&
			m.flow.In(flowset.Source, &h.machine) && m.flow.KeepsPort(h.inside) {
			return h.Outside.Port(), true
		}
	}
	return 0, false
}

// isOwnHeld asks whether a mapping keeps the port of an outside address that is the source's own.
func (m *Memory) isOwnHeld(protocol header.Protocol, outside netip.Addr) bool {
	for i := range m.at.holdings {
		if h := &m.at.holdings[i]; h.isOf(protocol, outside) && m.flow.KeepsPort(h.outside) {
			return true
		}
	}
	return false
}

// isHeld reports whether a mapping keeps a port of an outside address.
func (m *Memory) isHeld(protocol header.Protocol, outside netip.Addr, port uint16) bool {
	for i := range m.at.holdings {
		if h := &m.at.holdings[i]; h.isOf(protocol, outside) && h.Outside.Port() == port {
			return true
		}
	}
	return false
}
