package engine

import (
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// A Mapping is a network.Mapping, compiled.
type Mapping struct {
	*network.Mapping
	redirect redirect
}

// NewMapping compiles a mapping.
func NewMapping(m *network.Mapping) *Mapping { return &Mapping{m, newRedirect(0, &m.NATRule)} }

// mappingShards is how many locks the mappings of a gateway are split into, a power of two.
const mappingShards = 64

// A MappingTable has the mappings of a running gateway: found by what comes for them, whatever their number,
// by many goroutines at once.
type MappingTable struct {
	count  atomic.Int64
	shards [mappingShards]mappingShard
}

type mappingShard struct {
	sync.RWMutex
	mappings map[mappingKey]known
}

// known is what is asked of a mapping each time, beside it: so nothing else has to be looked at.
type known struct {
	*Mapping
	external *network.Interface
	forAll   bool
}

type mappingKey struct {
	outside  [16]byte
	port     uint16
	protocol header.Protocol
}

func (k mappingKey) shard() int {
	return (int(k.outside[15]) ^ int(k.port) ^ int(k.protocol)) & (mappingShards - 1)
}

func (t *MappingTable) of(protocol header.Protocol, outside netip.AddrPort) (*mappingShard, mappingKey) {
	k := mappingKey{outside.Addr().As16(), outside.Port(), protocol}
	return &t.shards[k.shard()], k
}

// Put puts a mapping there, in place of one with the same outside address and port.
func (t *MappingTable) Put(m *network.Mapping) {
	s, k := t.of(m.Protocol, m.Outside)
	s.Lock()
	defer s.Unlock()
	if s.mappings == nil {
		s.mappings = map[mappingKey]known{}
	}
	if s.mappings[k].Mapping == nil {
		t.count.Add(1)
	}
	s.mappings[k] = known{NewMapping(m), m.On[0], len(m.Senders) == 0}
}

// Remove takes the mapping of an outside address and port away.
func (t *MappingTable) Remove(protocol header.Protocol, outside netip.AddrPort) {
	s, k := t.of(protocol, outside)
	s.Lock()
	defer s.Unlock()
	if s.mappings[k].Mapping != nil {
		t.count.Add(-1)
		delete(s.mappings, k)
	}
}

// Find returns the mapping that a packet is for that arrives by an interface, or nil.
func (t *MappingTable) Find(in *network.Interface, p *header.Packet) *Mapping {
	if t == nil || t.count.Load() == 0 || !p.Protocol.HasPorts() {
		return nil
	}
	s, k := t.of(p.Protocol, netip.AddrPortFrom(p.Destination, p.DestinationPort))
	s.RLock()
	m := s.mappings[k]
	s.RUnlock()
	if m.Mapping == nil || m.external != in && m.external.Name != in.Name || !m.forAll && !m.Admits(p.Source, p.SourcePort) {
		return nil
	}
	return m.Mapping
}

// translateByMapping is the end of the third step: what no rule of the administrator's is for may
// be for a mapping.
func (v *Visit) translateByMapping() {
	m := v.state.Mapped(v.in, &v.before.Packet)
	if m == nil {
		return
	}
	v.redirect, v.whole, v.forward = &m.redirect, &m.NATRule, &m.Rule
	v.flow.TookPart(v.forward)
	v.redirectTo(v.redirect)
	e := v.note(StepDestination, UsesMapping, v.forward)
	e.Before, e.Mapping = v.before.Packet, m.Mapping
}

// compileOpened makes the tables of the mappings that a network has, for traces and for what is
// asked of sets: one for each interface that a packet arrives on.
func (c *Gateway) compileOpened(zones []string) {
	if len(c.Opened) == 0 {
		return
	}
	rules := make([]*network.Rule, len(c.Opened))
	for i, m := range c.Opened {
		rules[i] = &m.Rule
		c.mapped = append(c.mapped, NewMapping(m))
	}
	for _, in := range c.Interfaces {
		var conditions []table.Condition
		for index, m := range c.Opened {
			asked, ok := destinationCondition(&m.NATRule, in, zones)
			if !ok {
				continue
			}
			asked.Index = index
			if len(m.Senders) == 0 {
				conditions = append(conditions, asked)
			}
			for _, s := range m.Senders {
				by := asked
				by.From = table.MatcherOf(header.AddressesOfPrefixes(s.From))
				if s.Port != 0 {
					by.SourcePorts = []header.Ports{{First: s.Port, Last: s.Port}}
				}
				conditions = append(conditions, by)
			}
		}
		c.openings = append(c.openings, table.New(conditions, rules))
	}
	c.compileHoldings()
}

// A holding is a port of an outside address that a mapping keeps for a machine's port.
type holding struct {
	*network.Mapping
	machine table.AddressSet
	inside  header.Ports
	outside header.Ports
}

// compileHoldings returns what the mappings of a gateway keep, the lowest port first; nothing where
// a port depends on where it goes to.
func (c *Gateway) compileHoldings() {
	if c.Handling.Mapping != network.EndpointIndependent {
		return
	}
	single := func(port uint16) header.Ports { return header.Ports{First: port, Last: port} }
	for _, m := range c.Opened {
		if m.Inside != m.Outside {
			c.holdings = append(c.holdings, holding{m, table.NewAddressSet(header.Single(m.Inside.Addr())), single(m.Inside.Port()), single(m.Outside.Port())})
		}
	}
	slices.SortStableFunc(c.holdings, func(a, b holding) int { return int(a.Outside.Port()) - int(b.Outside.Port()) })
}

func (h *holding) isOf(protocol header.Protocol, outside netip.Addr) bool {
	return h.Protocol == protocol && h.Outside.Addr() == outside
}

// ForMapping says why no mapping may have a port of the external interface: the gateway answers
// there itself, or a rule of the administrator's is for it, whoever may use that. It is empty where
// one may.
func (g *Gateway) ForMapping(external *network.Interface, protocol header.Protocol, outside netip.AddrPort) string {
	for i := range g.Serves {
		s := &g.Serves[i]
		for _, on := range s.On {
			if on == external && s.Services.Matches(protocol, outside.Port()) {
				return g.Name + " itself serves " + s.Name + " there"
			}
		}
	}
	for _, r := range g.NAT {
		if r.Off() || !r.Listens(external).Contains(outside.Addr()) {
			continue
		}
		for _, m := range r.Ports {
			if m.Matches(protocol, outside.Port()) {
				return "it is that of " + r.Name
			}
		}
		if len(r.Ports) == 0 {
			return "all of that address is for " + r.Name
		}
	}
	return ""
}

// PortsForMapping returns the ports of an address of the external interface that mappings of a
// protocol may have, as ForMapping says of one, as bits.
func (g *Gateway) PortsForMapping(external *network.Interface, protocol header.Protocol, outside netip.Addr) *[65536 / 64]uint64 {
	free := &[65536 / 64]uint64{}
	for i := range free {
		free[i] = ^uint64(0)
	}
	take := func(p header.Ports) {
		for port := int(p.First); port <= int(p.Last); port++ {
			free[port/64] &^= 1 << (port % 64)
		}
	}
	serve := func(list header.Services) {
		ports, any := list.Of(protocol)
		if any {
			take(header.AllPorts)
		}
		for _, p := range ports {
			take(p)
		}
	}
	for i := range g.Serves {
		for _, on := range g.Serves[i].On {
			if on == external {
				serve(g.Serves[i].Services)
			}
		}
	}
	for _, r := range g.NAT {
		if r.Off() || !r.Listens(external).Contains(outside) {
			continue
		}
		if len(r.Ports) == 0 {
			take(header.AllPorts)
		}
		for _, m := range r.Ports {
			if m.Protocol == protocol || m.Protocol == header.AnyProtocol {
				take(m.Ports)
			}
		}
	}
	return free
}
