package walk

import (
	"net/netip"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// Machines beside uplinks send what is not for their own prefix to the provider's router, and answers come
// to them from there. What becomes of these connections does not depend on which uplink it is that they are beside,
// so those of all of them are explored together: else each one's would be as many as the internet's.

// A BesideUplink is machines of a segment that have one prefix, and addresses that are nowhere else.
type BesideUplink struct {
	Segment  *network.Segment
	Machines header.Addresses // of one family
	Prefix   header.Addresses
}

// BesideUplinks returns the machines that are explored together, see findBeside.
func (e *Engine) BesideUplinks() []BesideUplink { return e.beside() }

// findBeside returns the machines that are explored together; none where that would be those of one uplink.
func (e *Engine) findBeside() (all []BesideUplink) {
	if len(e.uplinks[header.IPv4]) < 2 && len(e.uplinks[header.IPv6]) < 2 {
		return nil
	}
	places := e.places()
	elsewhere := e.inSeveral().Union(e.uncarried.Addresses)
	entered := map[*network.Segment][]header.Range{} // the addresses to which the internet sends to machines beside an uplink
	for addresses, r := range e.entries.Stretches() {
		if !r.Upstream {
			entered[r.Out.Segment] = append(entered[r.Out.Segment], addresses)
		}
	}
	for _, family := range header.Families {
		var list []BesideUplink
		for _, p := range places {
			s := p.Place.Segment
			if s == nil || p.Place.Host != nil || !s.IsUplink(family) {
				continue
			}
			c := e.segments[s]
			machines := p.Sources.Intersect(family.All()).Intersect(header.AddressesOf(entered[s]...)).Minus(elsewhere)
			for _, i := range s.Interfaces {
				machines = machines.Minus(e.gateways[i.Gateway.Index].ClaimedEver().Minus(c.hosts.All))
			}
			for i := range c.prefixes {
				prefix := c.prefixes[i].prefix.Addresses
				if has := machines.Intersect(prefix); !has.Empty() {
					list = append(list, BesideUplink{s, has, prefix})
				}
				machines = machines.Minus(prefix)
			}
		}
		if len(list) > 1 {
			all = append(all, list...)
		}
	}
	return all
}

// inSeveral returns the addresses that are in prefixes of several segments, or of VPN clients too.
func (e *Engine) inSeveral() header.Addresses {
	var all []Where
	for _, s := range e.net.Segments {
		all = append(all, Where{Sources: s.Addresses()})
	}
	for _, g := range e.gateways {
		for _, i := range g.Interfaces {
			all = append(all, Where{Sources: header.AddressesOfPrefixes(i.Clients...)})
		}
	}
	return SharedSources(all)
}

// Family returns that of its machines.
func (b *BesideUplink) Family() header.Family {
	first, _ := b.Machines.First()
	return header.FamilyOf(first)
}

// PlaceOf returns where the machine with an address is that is among the sources of a Beginning from a place.
func (e *Engine) PlaceOf(from network.Place, a netip.Addr) network.Place {
	if from.Beside {
		return network.Place{Segment: e.entries.Lookup(a).Out.Segment}
	}
	return from
}

// returns reports whether an answer, on the internet, comes back to the client beside an uplink that it is for: all those
// of a set do, wherever they are.
func (w *Walk) returns() bool {
	return w.back && w.beside && len(w.legs) == 1 && w.flow.IsForSender(&w.legs[0].sent)
}
