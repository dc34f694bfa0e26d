package engine

import (
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// Machines beside an uplink need no provider to reach a gateway: they hand it any packet, also one for an inside
// address. So can the next hop there, and with the addresses of the internet too, for which it forwards. What the
// internet sends to the gateway by that uplink anyway, and what stays on the segment, is not among it.

// A straight way is what machines beside an uplink, or its next hop, can hand to the gateway there.
type straight struct {
	from    Place            // Through is the uplink's interface
	sources header.Addresses // of one family
	to      header.Addresses
	blocked header.Addresses // what the provider sends there too, but for some services; of these it is asked as well
}

// findStraight returns the straight ways to all gateways.
func (e *Engine) findStraight() (all []straight) {
	for _, g := range e.gateways {
		for _, i := range g.Interfaces {
			if i.Upstream.NoBeside || !i.IsUp() {
				continue
			}
			enters := e.enteringBy(i)
			for _, family := range header.Families {
				if !i.FacesInternet(family) {
					continue
				}
				entering, own := enters.Intersect(family.All()), e.prefixesOf(i).Intersect(family.All())
				elsewhere := family.All().Minus(own)
				beside := straight{from: Place{Segment: i.Segment, Through: i}, sources: e.net.Beside(i).Intersect(family.All()), to: elsewhere.Minus(entering), blocked: entering.Minus(own)}
				if i.Upstream.CarrierNAT && family == header.IPv4 {
					beside.to, beside.blocked = elsewhere, header.Addresses{}
				}
				hop := straight{from: Place{Internet: true, Through: i}, sources: e.abroadSources().Intersect(family.All()), to: elsewhere.Minus(e.internet.Addresses).Minus(entering)}
				for _, s := range []straight{beside, hop} {
					if !s.sources.Empty() && !s.to.Empty() {
						all = append(all, s)
					}
				}
			}
		}
	}
	return all
}

// enteringBy returns the addresses that the internet sends to the network by an uplink.
func (e *Engine) enteringBy(i *network.Interface) header.Addresses {
	var ranges []header.Range
	for k, first := range e.entries.starts {
		if winner := e.entries.winners[k]; winner != none && e.entries.routes[winner].out == i {
			ranges = append(ranges, header.Range{First: first, Last: e.entries.lastOf(k)})
		}
	}
	return header.AddressesOf(ranges...)
}

// abroadSources returns the addresses of machines on the internet that are beside no uplink.
func (e *Engine) abroadSources() (abroad header.Addresses) {
	for _, p := range e.places() {
		if p.place == (Place{Internet: true}) {
			abroad = abroad.Union(p.sources)
		}
	}
	return abroad
}

// beginning returns the connections of a protocol that begin so, of some of the sources.
func (s *straight) beginning(x *Explorer, machines header.Addresses, protocol header.Protocol) Beginning {
	set := x.connections(machines, s.to, protocol)
	if blocks := s.from.Through.Upstream.Blocks; len(blocks) > 0 && !s.blocked.Empty() {
		ports, any := blocks.Of(protocol)
		more := x.connections(machines, s.blocked, protocol)
		switch {
		case any:
			set = x.Space.Overlay(set, more)
		case len(ports) > 0:
			set = x.Space.Overlay(set, x.Space.Restrict(more, x.Space.Where(flowset.Port, portSpans(ports), flowset.Everything)))
		}
	}
	return Beginning{From: s.from, Sources: machines, Protocol: protocol, Set: set}
}

// straightWays returns the connections that machines beside uplinks can hand to gateways, see Beginnings.
func (x *Explorer) straightWays(among func(Place) header.Addresses) (found []Beginning) {
	ways := x.engine.straight()
	for i := range ways {
		machines := ways[i].sources
		if among != nil {
			machines = machines.Intersect(among(ways[i].from))
		}
		if machines.Empty() {
			continue
		}
		for _, protocol := range header.Protocols() {
			found = append(found, ways[i].beginning(x, machines, protocol))
		}
	}
	return found
}
