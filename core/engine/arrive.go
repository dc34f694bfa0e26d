package engine

import (
	"fmt"
	"net/netip"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// arrive is the first step: the interface is up, and the source can be there.
func (w *Walk) arrive(g *gateway, in *network.Interface, p *header.Packet) bool {
	if !in.IsUp() {
		w.end(Unrouted, g.Name, StepArrive, nil)
		w.unreachable(len(w.passages) - 2) // the gateway before it finds nobody there
		if w.trace != nil {
			w.why("%s is down: nothing passes it.", in)
		}
		return false
	}
	if w.trace != nil && !w.back {
		w.note(g.Name, StepArrive, "arrives", "", fmt.Sprintf("on %s (%s)", in.Name, in.Zone))
	}
	source := p.Source
	if w.teller.IsValid() {
		source = w.teller
	}
	possible := g.possibleSource(in, source)
	w.region.address(flowset.Source, source, g.forged[in.Index], !possible)
	if !possible {
		w.end(Dropped, g.Name, StepArrive, nil)
		if w.trace != nil {
			w.why("%s cannot come in by %s: it is an address of this network's own, so its sender is forged.", source, in.Name)
		}
		return false
	}
	return true
}

// forgedSources returns the sources that cannot arrive by the interface.
func (g *gateway) forgedSources(in *network.Interface) header.Addresses {
	forged := g.ownSet.Ranges()
	for i, first := range g.routes.starts {
		winner := g.routes.winners[i]
		if winner == none || !in.FacesInternet(header.FamilyOf(first)) {
			continue
		}
		if r := &g.routes.routes[winner]; !r.blackhole && r.prefix.Bits() > 0 && r.out != in && !r.out.FacesInternet(header.FamilyOf(first)) {
			forged = append(forged[:len(forged):len(forged)], header.Range{First: first, Last: g.routes.lastOf(i)})
		}
	}
	return header.AddressesOf(forged...)
}

// possibleSource reports whether a packet from this address can arrive by the
// interface: not one of the gateway's own addresses, and on an uplink not one
// that is routed to the inside.
func (g *gateway) possibleSource(in *network.Interface, source netip.Addr) bool {
	if g.own.of(source) != nil {
		return false
	}
	family := header.FamilyOf(source)
	if !in.FacesInternet(family) {
		return true
	}
	r := g.routes.lookup(source)
	return r == nil || r.blackhole || r.prefix.Bits() == 0 || r.out == in || r.out.FacesInternet(family)
}
