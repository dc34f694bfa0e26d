package engine

import (
	"net/netip"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// hidden is what the eighth step finds.
type hidden struct {
	source *network.Rule // the rule that translates its source, or nil
	grant  Grant         // of its translated source, or one that is not alone and has no ticket
}

// translateSource is the eighth step: the first rule for what leaves by the interface. Where that rewrites the destination too, the
// packet is routed again.
func (v *Visit) translateSource() (goes bool) {
	if v.stray {
		return true
	}
	f, t := &v.flow, &v.sources[v.out.Index]
	found := f.First(t.Table, v.Between(v.in, v.out, v.moment))
	var r *network.NATRule
	named := v.forward // that is told where no port is left
	if found != table.NoMatch {
		r = v.NAT[t.Index(found)]
		named, v.source = &r.Rule, &r.Rule
		v.flow.TookPart(named)
	}
	final, ports := &v.lease.Packet, header.Ports{}
	*final = f.Now()
	switch {
	case r == nil && v.redirect != nil && v.redirect.hairpin && v.in.Segment == v.out.Segment:
		// The answer would go round the gateway on the segment: so it takes the client's place.
		if !v.hide(named, &v.addresses[v.out.Index], ports) {
			return false
		}
	case r == nil:
		v.note(StepSource, KeepsSource, nil)
	case r.Does == network.NoNAT:
		v.note(StepSource, KeepsByRule, named)
	case r.Does == network.OneToOne:
		f.Shift(flowset.Source, r.Inside.First, r.Outside.First)
		v.note(StepSource, ChangesSource, named).Before = *final
	case r.Does == network.PrefixNAT:
		if !f.Move(flowset.Source, r) {
			v.noPlace(StepSource, r, final.Source)
			return false
		}
		v.note(StepSource, ChangesSource, named).Before = *final
	case r.Does == network.SourceNAT:
		ports = r.SourcePorts
		final.Destination, final.DestinationPort = r.Rewritten(*final)
		if !v.hide(named, t.what(found), ports) {
			return false
		}
	}
	if !v.grant.Alone && !v.distinct(named, ports) {
		return false
	}
	if r != nil && r.Does == network.SourceNAT && r.Destination.IsValid() {
		v.rewriteDestination(r)
	}
	return v.way != nil
}

// rewriteDestination is the second half of a source-nat rule that rewrites both
// ends: the packet is routed again, by its new destination.
func (v *Visit) rewriteDestination(r *network.NATRule) {
	before := v.flow.Now()
	v.flow.SetAddress(flowset.Destination, r.Destination)
	if r.DestPort != 0 && v.flow.Protocol().HasPorts() {
		v.flow.SetPort(flowset.Port, r.DestPort)
	}
	v.note(StepDestination, Redirects, &r.Rule).Before = before
	v.way = v.routeOf()
}

// hide gives the source an address and port of a pool, for the packet of the lease, whose destination may be
// another than it has yet.
func (v *Visit) hide(rule *network.Rule, from *pools, ports header.Ports) bool {
	keeps := v.Handling.PortAssignment == network.PortPreserving && v.flow.Protocol().Numbered() && v.flow.KeepsPort(ports)
	l := &v.lease
	l.Pool, l.Ports, l.KeepPort, l.Mapping = from[header.FamilyOf(l.Packet.Source)], ports, keeps, v.Handling.Mapping
	if !v.state.Take(l, &v.grant) {
		v.note(StepSource, NoneFree, rule)
		v.stop(Exhausted, StepSource, rule)
		return false
	}
	other := v.flow.Protocol().Numbered() && v.grant.Port != l.Packet.SourcePort
	v.flow.SetAddress(flowset.Source, v.grant.Address)
	if other || v.flow.Protocol().Numbered() && !keeps {
		v.flow.SetPort(flowset.SourcePort, v.grant.Port)
	}
	if v.log.Keeps {
		e := v.note(StepSource, HidesSource, rule)
		e.Before, e.Chosen = v.flow.Now(), Chosen{Address: l.Pool.Size().UpTo(2) > 1, Port: other}
		e.Before.Source, e.Before.SourcePort = l.Packet.Source, l.Packet.SourcePort
	}
	return true
}

// distinct gives a packet, which will leave like the lease's one from its source, another source port where an
// earlier session leaves just so: else their answers could not be told apart.
func (v *Visit) distinct(rule *network.Rule, ports header.Ports) bool {
	now, final := v.flow.Now(), v.lease.Packet
	final.Source, final.SourcePort = now.Source, now.SourcePort
	port, ok := v.state.Distinct(final, ports, v.Handling.Mapping)
	if !ok {
		v.note(StepSource, NotTold, rule).Before = final
		v.stop(Exhausted, StepSource, rule)
		return false
	}
	if port != final.SourcePort {
		before := v.flow.Now()
		v.flow.SetPort(flowset.SourcePort, port)
		v.note(StepSource, OtherPort, nil).Before = before
	}
	return true
}

// noPlace ends a packet with an address for which a prefix translation has no place on the
// other side: it is thrown away, and the sender is told (RFC 6296, 3.4 and 3.5).
func (v *Visit) noPlace(step StepKind, r *network.NATRule, a netip.Addr) {
	v.note(step, NoPlace, &r.Rule).Via = a
	v.stop(Dropped, step, &r.Rule)
	v.tell()
}
