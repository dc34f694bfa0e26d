package engine

import (
	"fmt"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// arrive is the first step: the interface is up, and the source can be there.
func (w *Walk) arrive(g *gateway, in *network.Interface, p *header.Packet) bool {
	if !in.IsUp() {
		w.end(Unrouted, g.Name, StepArrive, nil)
		if w.trace != nil {
			w.why("%s is down: nothing passes it.", in)
		}
		return false
	}
	if w.trace != nil && !w.back {
		w.note(g.Name, StepArrive, "arrives", "", fmt.Sprintf("on %s (%s)", in.Name, in.Zone))
	}
	possible := g.possibleSource(in, p)
	w.region.address(header.FieldSource, p.Source, g.forged[in.Index], !possible)
	if !possible {
		w.end(Dropped, g.Name, StepArrive, nil)
		if w.trace != nil {
			w.why("%s cannot come in by %s: it is an address of this network's own, so its sender is forged.", p.Source, in.Name)
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
		if winner == none || !in.FacesInternet(first.Is6()) {
			continue
		}
		if r := &g.routes.routes[winner]; !r.blackhole && r.prefix.Bits() > 0 && r.out != in && !r.out.FacesInternet(first.Is6()) {
			forged = append(forged[:len(forged):len(forged)], header.Range{First: first, Last: g.routes.lastOf(i)})
		}
	}
	return header.AddressesOf(forged...)
}

// possibleSource reports whether a packet with this source can arrive by the
// interface: not one of the gateway's own addresses, and on an uplink not one
// that is routed to the inside.
func (g *gateway) possibleSource(in *network.Interface, p *header.Packet) bool {
	if g.own.of(p.Source) != nil {
		return false
	}
	v6 := p.Source.Is6()
	if !in.FacesInternet(v6) {
		return true
	}
	r := g.routes.lookup(p.Source)
	return r == nil || r.blackhole || r.prefix.Bits() == 0 || r.out == in || r.out.FacesInternet(v6)
}
