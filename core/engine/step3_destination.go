package engine

import (
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// redirected is what the third step finds.
type redirected struct {
	redirect *redirect        // what redirects it, or nil
	forward  *network.Rule    // the rule that does, or nil
	whole    *network.NATRule // the same; to look at it is to wait for memory
	after    header.Packet    // as it is after this step,
	stood    bool             // where it came through that
}

// translateDestination is the third step: the first rule that redirects what arrives by the
// interface. The administrator's rules come before mappings.
func (v *Visit) translateDestination() (goes bool) {
	if !v.stray && !v.redirects() {
		return false
	}
	v.after, v.stood = v.flow.Now(), true
	return true
}

// redirects looks for who redirects the packet, and returns false where it ends by that.
func (v *Visit) redirects() (goes bool) {
	t := &v.destinations[v.in.Index]
	found := v.flow.First(t.Table, v.Between(v.in, v.in, v.moment))
	if found == table.NoMatch {
		v.translateByMapping()
		return true
	}
	r := t.what(found)
	index := t.Moved(found, r.index)
	v.redirect, v.whole, v.forward = r, v.NAT[index], t.Listed(index)
	v.flow.TookPart(v.forward)
	switch r.does {
	case network.PortForward, network.DestinationNAT:
		v.redirectTo(r)
	case network.OneToOne:
		v.flow.Shift(flowset.Destination, v.whole.Outside.First, v.whole.Inside.First)
	case network.PrefixNAT:
		if !v.flow.Move(flowset.Destination, v.whole) {
			v.noPlace(StepDestination, v.whole, v.before.Destination)
			return false
		}
	}
	v.note(StepDestination, Redirects, v.forward).Before = v.before.Packet
	return true
}

// redirectTo gives the packet the target and port of a forward.
func (v *Visit) redirectTo(r *redirect) {
	if v.flow.Family() == header.IPv4 {
		v.flow.SetAddress(flowset.Destination, r.target4)
	} else {
		v.flow.SetAddress(flowset.Destination, v.whole.Target.V6)
	}
	for i := range r.ports {
		m := &r.port
		if i > 0 {
			m = &v.whole.Ports[i]
		}
		if v.flow.MapPort(m) {
			return
		}
	}
}
