package engine

import (
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// translateDestination is the third step: the first rule that redirects what arrives by the
// interface. The administrator's rules come before mappings.
func (v *visit) translateDestination() bool {
	t := v.destinations[v.in.Index]
	found := v.flow.first(t, v.between(v.in, v.in, v.moment))
	if found == noMatch {
		v.translateByMapping()
		return true
	}
	r := t.redirect(found)
	v.redirect, v.forward = r, v.NAT[t.moved(found, r.index)]
	v.flow.tookPart(&v.forward.Rule)
	switch r.does {
	case network.PortForward, network.DestinationNAT:
		v.redirectTo(r)
	case network.OneToOne:
		v.flow.shift(flowset.Destination, v.forward.Outside.First, v.forward.Inside.First)
	case network.PrefixNAT:
		if !v.flow.move(flowset.Destination, v.forward) {
			v.noPlace(StepDestination, v.forward, v.before.Destination)
			return false
		}
	}
	v.note(StepDestination, Redirects, &v.forward.Rule).Before = v.before.Packet
	return true
}

// redirectTo gives the packet the target and port of a forward.
func (v *visit) redirectTo(r *redirect) {
	if v.flow.family() == header.IPv4 {
		v.flow.setAddress(flowset.Destination, r.target4)
	} else {
		v.flow.setAddress(flowset.Destination, v.forward.Target.V6)
	}
	for i := range r.ports {
		m := &r.port
		if i > 0 {
			m = &v.forward.Ports[i]
		}
		if v.flow.mapPort(m) {
			return
		}
	}
}
