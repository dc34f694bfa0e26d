package engine

import (
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
)

// A Beginning is the connections that machines of one place can begin, of one
// protocol and one family.
type Beginning struct {
	From     Place
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
func (x *Explorer) Beginnings(among func(Place) header.Addresses) []Beginning {
	var found []Beginning
	places := x.engine.places()
	shared, beside := sharedSources(places), x.engine.beside()
	for _, p := range places {
		machines := p.sources
		if among != nil {
			machines = machines.Intersect(among(p.place))
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
						if p.place == (Place{Segment: b.segment}) && b.family() == family {
							set = x.Space.Minus(set, b.sent(x, part, protocol))
						}
					}
					found = append(found, Beginning{p.place, part, shared.Contains(part.Ranges()[0].First), protocol, set})
				}
			}
		}
	}
	found = append(found, x.besideUplinks(beside, among)...)
	return append(found, x.straightWays(among)...)
}

// besideUplinks returns the connections of machines beside uplinks that are explored together.
func (x *Explorer) besideUplinks(list []besideUplink, among func(Place) header.Addresses) (found []Beginning) {
	for _, family := range header.Families {
		for _, protocol := range header.Protocols() {
			together := Beginning{From: Place{Beside: true}, Protocol: protocol}
			var sets []flowset.Set
			for _, b := range list {
				machines := b.machines
				if among != nil {
					machines = machines.Intersect(among(Place{Segment: b.segment}))
				}
				if b.family() == family && !machines.Empty() {
					together.Sources = together.Sources.Union(machines)
					sets = append(sets, b.sent(x, machines, protocol))
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
	return x.Space.Where(flowset.Protocol, protocolSpan(protocol), set)
}
