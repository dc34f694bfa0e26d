package engine

import (
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// arrive is the first step: the interface is up, and the source can be there. The packet is remembered as it came.
func (v *Visit) arrive() bool {
	if !v.in.IsUp() {
		v.note(StepArrive, InterfaceDown, nil)
		v.stop(Unrouted, StepArrive, nil)
		return false
	}
	v.note(StepArrive, Arrives, nil)
	f, forged := &v.flow, &v.forged[v.in.Index]
	if v.sender.IsValid() {
		report := f.AsReport(v.sender)
		f = &report
	}
	if f.In(flowset.Source, forged) {
		v.note(StepArrive, Forged, nil).Via = f.Now().Source
		v.stop(Dropped, StepArrive, nil)
		return false
	}
	v.before = v.flow.Image()
	return true
}

// forgedSources returns the sources that cannot arrive by an interface: the gateway's own
// addresses and, on an uplink, those that are routed to the inside and are not of its VPN clients.
func (g *Gateway) forgedSources(in *network.Interface) header.Addresses {
	forged := g.ownSet.Ranges()
	for addresses, r := range g.routes.Stretches() {
		family := header.FamilyOf(addresses.First)
		if in.FacesInternet(family) && !r.Blackhole && r.Prefix.Bits() > 0 && r.Out != in && !r.Out.FacesInternet(family) {
			forged = append(forged[:len(forged):len(forged)], addresses)
		}
	}
	return header.AddressesOf(forged...).Minus(g.clients[in.Index].Addresses).Union(g.ownSet.Addresses)
}
