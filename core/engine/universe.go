package engine

import (
	"net/netip"
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
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
// that is nil.
func (a *Atlas) Beginnings(among func(Place) header.Addresses) []Beginning {
	var found []Beginning
	places := a.engine.places()
	shared := sharedSources(places)
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
					set := a.connections(part, family.All(), protocol)
					found = append(found, Beginning{p.place, part, shared.Contains(part.Ranges()[0].First), protocol, set})
				}
			}
		}
	}
	return found
}

// connections returns the connections of a protocol from some addresses to others.
func (a *Atlas) connections(from, to header.Addresses, protocol header.Protocol) flowset.Set {
	set := flowset.Everything
	some := []flowset.Span{flowset.PortSpan(1, 65535)}
	no := []flowset.Span{flowset.PortSpan(0, 0)}
	ports, sourcePorts := some, some
	if !protocol.HasPorts() {
		ports, sourcePorts = no, no
	}
	if protocol != header.ICMP {
		set = a.Space.Where(flowset.SourcePort, sourcePorts, set)
	}
	set = a.Space.Where(flowset.Source, flowset.AddressSpans(from), set)
	set = a.Space.Where(flowset.Port, ports, set)
	set = a.Space.Where(flowset.Destination, flowset.AddressSpans(to), set)
	return a.Space.Where(flowset.Protocol, protocolSpan(protocol), set)
}

// A placed is a place and the addresses of the machines there.
type placed struct {
	place   Place
	sources header.Addresses
}

// places returns where connections can begin, and from which addresses. Prefixes may
// overlap, so that an address can be in several places; of one place each address is
// listed once. Hosts that send like every other machine of their place are with those.
func (e *Engine) places() []placed {
	var found []placed
	alone := map[Place][]header.Range{} // hosts that are listed for themselves, by where they are
	add := func(p Place, addresses header.Addresses) {
		if addresses = addresses.Minus(cannotSend()).Minus(header.AddressesOf(alone[p]...)); !addresses.Empty() {
			found = append(found, placed{p, addresses})
		}
	}
	for _, h := range e.net.Hosts {
		for _, a := range h.Addresses {
			at := At(h, a)
			plain := at.Clients != nil || at.Internet && e.net.Internet().Contains(a) || at.Segment != nil && h.Gateway == nil && h.Upstream == nil && len(h.Addresses) == 1
			if plain {
				continue
			}
			add(at, header.Single(a))
			at.Host = nil
			alone[at] = append(alone[at], header.Range{First: a, Last: a})
		}
	}
	var pools header.Addresses
	for _, g := range e.gateways {
		for _, i := range g.Interfaces {
			pool := header.AddressesOfPrefixes(i.Clients...).Minus(pools)
			pools = pools.Union(pool)
			add(Place{Clients: i}, pool)
		}
	}
	beside := pools
	for _, s := range e.net.Segments {
		prefixes := header.AddressesOfPrefixes(s.Prefixes...)
		add(Place{Segment: s}, prefixes.Minus(s.Unused()).Minus(poolsAt(s).Minus(e.segments[s].taken[1])))
		beside = beside.Union(prefixes)
	}
	add(Place{Internet: true}, e.net.Internet().Minus(beside))
	return found
}

// sharedSources returns the addresses that are in several places.
func sharedSources(places []placed) header.Addresses {
	var all []header.Range
	for _, p := range places {
		all = append(all, p.sources.Ranges()...)
	}
	slices.SortFunc(all, func(a, b header.Range) int { return a.First.Compare(b.First) })
	var shared []header.Range
	for i := 1; i < len(all); i++ {
		before, this := all[i-1], all[i]
		if before.Last.BitLen() != this.First.BitLen() || before.Last.Less(this.First) {
			continue
		}
		last := before.Last
		if this.Last.Less(last) {
			all[i].Last, last = last, this.Last // what reaches further is compared with the next one
		}
		shared = append(shared, header.Range{First: this.First, Last: last})
	}
	return header.AddressesOf(shared...)
}

// poolsAt returns the addresses of VPN clients of a segment's gateways.
func poolsAt(s *network.Segment) header.Addresses {
	var pools []netip.Prefix
	for _, i := range s.Interfaces {
		for _, j := range i.Gateway.Interfaces {
			pools = append(pools, j.Clients...)
		}
	}
	return header.AddressesOfPrefixes(pools...)
}

// cannotSend returns the addresses that no machine sends from.
func cannotSend() header.Addresses {
	var prefixes []netip.Prefix
	for _, p := range []string{"0.0.0.0/32", "127.0.0.0/8", "224.0.0.0/4", "255.255.255.255/32", "::/127", "ff00::/8"} {
		prefixes = append(prefixes, netip.MustParsePrefix(p))
	}
	return header.AddressesOfPrefixes(prefixes...)
}
