package explore

import (
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
	"hollowbridge/core/walk"
)

// A Beginning is the connections that machines of one place can begin, of one
// protocol and one family.
type Beginning struct {
	From     network.Place
	Sources  header.Addresses
	Shared   bool // all of the sources are in other places too; else none is
	Protocol header.Protocol
	Set      flowset.Set
}

// Beginnings returns all connections that machines can begin, by place, by protocol and
// by family; of those at a place, it takes the addresses that among returns, or all where
// that is nil. What machines beside several uplinks send to the provider's router comes behind that, as of one
// place, see Place.Beside and PlaceOf; last what machines beside an uplink, and its next hop, hand to the gateway themselves:
// the same packets may begin elsewhere too.
func (x *Explorer) Beginnings(among func(network.Place) header.Addresses) []Beginning {
	var found []Beginning
	places := x.engine.Places()
	shared, beside := walk.SharedSources(places), x.engine.BesideUplinks()
	for _, p := range places {
		machines := p.Sources
		if among != nil {
			machines = machines.Intersect(among(p.Place))
		}
		for _, family := range header.Families {
			sources := machines.Intersect(family.All())
			for _, part := range []header.Addresses{sources.Minus(shared), sources.Intersect(shared)} {
				if part.Empty() {
					continue
				}
				for _, protocol := range header.Protocols() {
					set := x.connections(part, family.All(), protocol)
					for _, b := range beside {
						if p.Place == (network.Place{Segment: b.Segment}) && b.Family() == family {
							set = x.Space.Minus(set, x.sent(&b, part, protocol))
						}
					}
					found = append(found, Beginning{p.Place, part, shared.Contains(part.Ranges()[0].First), protocol, set})
				}
			}
		}
	}
	found = append(found, x.besideUplinks(beside, among)...)
	return append(found, x.straightWays(among)...)
}

// besideUplinks returns the connections of machines beside uplinks that are explored together.
func (x *Explorer) besideUplinks(list []walk.BesideUplink, among func(network.Place) header.Addresses) (found []Beginning) {
	for _, family := range header.Families {
		for _, protocol := range header.Protocols() {
			together := Beginning{From: network.Place{Beside: true}, Protocol: protocol}
			var sets []flowset.Set
			for _, b := range list {
				machines := b.Machines
				if among != nil {
					machines = machines.Intersect(among(network.Place{Segment: b.Segment}))
				}
				if b.Family() == family && !machines.Empty() {
					together.Sources = together.Sources.Union(machines)
					sets = append(sets, x.sent(&b, machines, protocol))
				}
			}
			if len(sets) > 0 {
				together.Set = x.Space.OverlayAll(sets)
				found = append(found, together)
			}
		}
	}
	return found
}

// connections returns the connections of a protocol from some addresses to others.
func (x *Explorer) connections(from, to header.Addresses, protocol header.Protocol) flowset.Set {
	set := flowset.Everything
	some := []flowset.Span{flowset.PortSpan(1, 65535)}
	no := []flowset.Span{flowset.PortSpan(0, 0)}
	ports, sourcePorts := some, some
	if !protocol.HasPorts() {
		ports, sourcePorts = no, no
	}
	if protocol != header.ICMP {
		set = x.Space.Where(flowset.SourcePort, sourcePorts, set)
	}
	set = x.Space.Where(flowset.Source, flowset.AddressSpans(from), set)
	set = x.Space.Where(flowset.Port, ports, set)
	set = x.Space.Where(flowset.Destination, flowset.AddressSpans(to), set)
	return x.Space.Where(flowset.Protocol, table.ProtocolSpan(protocol), set)
}

// sent returns the connections that machines beside an uplink begin by the provider's router.
func (x *Explorer) sent(b *walk.BesideUplink, machines header.Addresses, protocol header.Protocol) flowset.Set {
	family := b.Family()
	return x.connections(b.Machines.Intersect(machines), family.All().Minus(b.Prefix), protocol)
}

// straightWay returns the connections of a protocol that begin so, of some of the sources.
func (x *Explorer) straightWay(s *walk.Straight, machines header.Addresses, protocol header.Protocol) Beginning {
	set := x.connections(machines, s.To, protocol)
	if blocks := s.From.Through.Upstream.Blocks; len(blocks) > 0 && !s.Blocked.Empty() {
		ports, any := blocks.Of(protocol)
		more := x.connections(machines, s.Blocked, protocol)
		switch {
		case any:
			set = x.Space.Overlay(set, more)
		case len(ports) > 0:
			set = x.Space.Overlay(set, x.Space.Restrict(more, x.Space.Where(flowset.Port, table.PortSpans(ports), flowset.Everything)))
		}
	}
	return Beginning{From: s.From, Sources: machines, Protocol: protocol, Set: set}
}

// straightWays returns the connections that machines beside uplinks can hand to gateways, see Beginnings.
func (x *Explorer) straightWays(among func(network.Place) header.Addresses) (found []Beginning) {
	ways := x.engine.StraightWays()
	for i := range ways {
		machines := ways[i].Sources
		if among != nil {
			machines = machines.Intersect(among(ways[i].From))
		}
		if machines.Empty() {
			continue
		}
		for _, protocol := range header.Protocols() {
			found = append(found, x.straightWay(&ways[i], machines, protocol))
		}
	}
	return found
}
