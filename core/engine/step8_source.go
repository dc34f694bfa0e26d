package engine

import (
	"net/netip"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// translateSource is the eighth step: the first rule for what leaves by the interface. It
// returns the route the packet takes then, which differs only where a rule has rewritten
// the destination too, or nil where the packet ends.
func (v *visit) translateSource(way *route) *route {
	f, t := &v.flow, &v.sources[way.out.Index]
	found := f.first(t.table, v.between(v.in, way.out, v.moment))
	var r *network.NATRule
	named := v.forward // that is told where no port is left
	if found != noMatch {
		r = v.NAT[t.index(found)]
		named, v.source = &r.Rule, &r.Rule
		v.flow.tookPart(named)
	}
	final, ports := &v.lease.Packet, header.Ports{}
	*final = f.now()
	switch {
	case r == nil && v.redirect != nil && v.redirect.hairpin && v.in.Segment == way.out.Segment:
		// The answer would go round the gateway on the segment: so it takes the client's place.
		if !v.hide(named, &v.addresses[way.out.Index], ports) {
			return nil
		}
	case r == nil:
		v.note(StepSource, KeepsSource, nil)
	case r.Does == network.NoNAT:
		v.note(StepSource, KeepsByRule, named)
	case r.Does == network.OneToOne:
		f.shift(flowset.Source, r.Inside.First, r.Outside.First)
		v.note(StepSource, ChangesSource, named).Before = *final
	case r.Does == network.PrefixNAT:
		if !f.move(flowset.Source, r) {
			v.noPlace(StepSource, r, final.Source)
			return nil
		}
		v.note(StepSource, ChangesSource, named).Before = *final
	case r.Does == network.SourceNAT:
		ports = r.SourcePorts
		final.Destination, final.DestinationPort = r.Rewritten(*final)
		if !v.hide(named, t.what(found), ports) {
			return nil
		}
	}
	if !v.grant.Alone && !v.distinct(named, ports) {
		return nil
	}
	if r == nil || r.Does != network.SourceNAT || !r.Destination.IsValid() {
		return way
	}
	return v.rewriteDestination(r)
}

// rewriteDestination is the second half of a source-nat rule that rewrites both
// ends: the packet is routed again, by its new destination.
func (v *visit) rewriteDestination(r *network.NATRule) *route {
	before := v.flow.now()
	v.flow.setAddress(flowset.Destination, r.Destination)
	if r.DestPort != 0 && v.flow.protocol().HasPorts() {
		v.flow.setPort(flowset.Port, r.DestPort)
	}
	v.note(StepDestination, Redirects, &r.Rule).Before = before
	return v.route()
}

// hide gives the source an address and port of a pool, for the packet of the lease, whose destination may be
// another than it has yet.
func (v *visit) hide(rule *network.Rule, from *pools, ports header.Ports) bool {
	keeps := v.Handling.PortAssignment == network.PortPreserving && v.flow.protocol().Numbered() && v.flow.keepsPort(ports)
	l := &v.lease
	l.Pool, l.Ports, l.KeepPort, l.Mapping = from[header.FamilyOf(l.Packet.Source)], ports, keeps, v.Handling.Mapping
	if !v.state.Take(l, &v.grant) {
		v.note(StepSource, NoneFree, rule)
		v.stop(Exhausted, StepSource, rule)
		return false
	}
	other := v.flow.protocol().Numbered() && v.grant.Port != l.Packet.SourcePort
	v.flow.setAddress(flowset.Source, v.grant.Address)
	if other || v.flow.protocol().Numbered() && !keeps {
		v.flow.setPort(flowset.SourcePort, v.grant.Port)
	}
	if v.log.Keeps {
		e := v.note(StepSource, HidesSource, rule)
		e.Before, e.Flag, e.Count = v.flow.now(), other, l.Pool.Size().UpTo(2)
		e.Before.Source, e.Before.SourcePort = l.Packet.Source, l.Packet.SourcePort
	}
	return true
}

// distinct gives a packet, which will leave like the lease's one from its source, another source port where an
// earlier session leaves just so: else their answers could not be told apart.
func (v *visit) distinct(rule *network.Rule, ports header.Ports) bool {
	now, final := v.flow.now(), v.lease.Packet
	final.Source, final.SourcePort = now.Source, now.SourcePort
	port, ok := v.state.Distinct(final, ports, v.Handling.Mapping)
	if !ok {
		e := v.note(StepSource, NotTold, rule)
		e.Before, e.Text = final, ""
		v.stop(Exhausted, StepSource, rule)
		return false
	}
	if port != final.SourcePort {
		before := v.flow.now()
		v.flow.setPort(flowset.SourcePort, port)
		v.note(StepSource, OtherPort, nil).Before = before
	}
	return true
}

// noPlace ends a packet with an address for which a prefix translation has no place on the
// other side: it is thrown away, and the sender is told (RFC 6296, 3.4 and 3.5).
func (v *visit) noPlace(step StepKind, r *network.NATRule, a netip.Addr) {
	v.note(step, NoPlace, &r.Rule).Via = a
	v.stop(Dropped, step, &r.Rule)
	v.tell()
}
