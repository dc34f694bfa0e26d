package engine

import (
	"fmt"
	"net/netip"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// translateDestination is the third step: the first rule that redirects what
// arrives by the interface. It returns what the rule does, or nil, and ok is false
// where it throws the packet away.
func (w *Walk) translateDestination(g *gateway, in *network.Interface, p *header.Packet) (done *redirect, ok bool) {
	zone := g.zones[in.Index]
	q := newQuery(p, zone, zone, w.moment)
	t := g.destination[in.Index]
	found := t.find(&q)
	w.region.table(t, zone, zone, w.back, found)
	if found == noMatch {
		return nil, true
	}
	r := &t.redirects[found]
	w.region.rule(r.base)
	before := *p
	switch r.does {
	case network.PortForward, network.DestinationNAT:
		w.forward(r, p)
	case network.OneToOne:
		p.Destination = header.Shift(p.Destination, r.rule.Outside.First, r.rule.Inside.First)
		w.region.shift(flowset.Destination, r.rule.Outside.First, r.rule.Inside.First)
	case network.PrefixNAT:
		if !w.prefix(g, r.rule, flowset.Destination, &p.Destination, r.rule.Prefixes.Inward(p.Destination)) {
			return r, false
		}
	}
	if w.trace != nil {
		w.note(g.Name, StepDestination, "redirect", r.rule.Name, before.To()+" -> "+p.To())
	}
	return r, true
}

// prefix gives an address of the packet the prefix of the other side. It returns false
// where the translation has no address for it: then the packet is thrown away, and the
// sender is told (RFC 6296, 3.4 and 3.5).
func (w *Walk) prefix(g *gateway, r *network.NATRule, f flowset.Field, a *netip.Addr, m header.PrefixMove) bool {
	w.region.prefix(f, *a, r, m)
	if !m.To.IsValid() {
		step := StepDestination
		if f == flowset.Source {
			step = StepSource
		}
		w.end(Dropped, g.Name, step, &r.Rule)
		w.unreachable(len(w.passages) - 1)
		if w.trace != nil {
			w.why("%s can't be translated by %s and back: RFC 6296 leaves out subnets and identifiers that are all ones, and identifiers that are all zeros.", *a, r.Name)
		}
		return false
	}
	*a = m.To
	return true
}

// forward gives a packet the target and port of a forward.
func (w *Walk) forward(r *redirect, p *header.Packet) {
	if p.Destination.Is4() {
		p.Destination = r.target4
	} else {
		p.Destination = r.rule.Target.V6
	}
	w.region.becomes(flowset.Destination, p.Destination)
	for i := range r.ports {
		m := &r.port
		if i > 0 {
			m = &r.rule.Ports[i]
		}
		matches := m.Matches(p.Protocol, p.DestinationPort)
		if w.region.portMap(m, p.Protocol, matches); matches {
			p.DestinationPort = m.Apply(p.DestinationPort)
			w.region.shiftPort(m)
			return
		}
	}
}

// translateSource is the eighth step: the first rule for what leaves by the
// interface. It returns the route the packet takes then, which differs only
// where a rule has rewritten the destination too, or nil where the packet ends.
func (w *Walk) translateSource(g *gateway, in *network.Interface, way *route, forward *redirect, p *header.Packet) *route {
	out := way.out
	q := newQuery(p, g.zones[in.Index], g.zones[out.Index], w.moment)
	t := g.source[out.Index]
	found := t.find(&q)
	w.region.table(t, g.zones[in.Index], g.zones[out.Index], w.back, found)
	if found == noMatch {
		if forward != nil && forward.hairpin && in.Segment == out.Segment {
			own := network.Pool{Interface: true}
			if way = w.hide(g, way, forward.base, &own, header.Ports{}, p, *p); way == nil || !w.distinct(g, forward.base, header.Ports{}, p, *p) {
				return nil
			}
			return way
		}
		var rule *network.Rule
		if forward != nil {
			rule = forward.base
		}
		if w.trace != nil {
			w.note(g.Name, StepSource, "source", "", "kept")
		}
		if !w.distinct(g, rule, header.Ports{}, p, *p) {
			return nil
		}
		return way
	}
	r := g.NAT[t.conditions[found].index]
	w.region.rule(&r.Rule)
	before := *p
	switch r.Does {
	case network.NoNAT:
		if w.trace != nil {
			w.note(g.Name, StepSource, "source", r.Name, "kept: no-nat")
		}
		if !w.distinct(g, &r.Rule, header.Ports{}, p, *p) {
			return nil
		}
		return way
	case network.OneToOne:
		p.Source = header.Shift(p.Source, r.Inside.First, r.Outside.First)
		w.region.shift(flowset.Source, r.Inside.First, r.Outside.First)
	case network.PrefixNAT:
		if !w.prefix(g, r, flowset.Source, &p.Source, r.Prefixes.Outward(p.Source)) {
			return nil
		}
	case network.SourceNAT:
		final := *p
		if r.Destination.IsValid() {
			final.Destination = r.Destination
			if r.DestPort != 0 && p.Protocol.HasPorts() {
				final.DestinationPort = r.DestPort
			}
		}
		if way = w.hide(g, way, &r.Rule, &r.As, r.SourcePorts, p, final); way == nil {
			return nil
		}
		final.Source, final.SourcePort = p.Source, p.SourcePort
		if !w.distinct(g, &r.Rule, r.SourcePorts, p, final) {
			return nil
		}
		if !r.Destination.IsValid() {
			return way
		}
		return w.rewriteDestination(g, r, p)
	}
	if w.trace != nil {
		w.note(g.Name, StepSource, "source", r.Name, before.From()+" -> "+p.From())
	}
	if !w.distinct(g, &r.Rule, header.Ports{}, p, *p) {
		return nil
	}
	return way
}

// rewriteDestination is the second half of a source-nat rule that rewrites both
// ends: the packet is routed again, by its new destination.
func (w *Walk) rewriteDestination(g *gateway, r *network.NATRule, p *header.Packet) *route {
	before := *p
	p.Destination = r.Destination
	w.region.becomes(flowset.Destination, p.Destination)
	if r.DestPort != 0 && p.Protocol.HasPorts() {
		p.DestinationPort = r.DestPort
		w.region.becomesPort(flowset.Port, p.DestinationPort)
	}
	if w.trace != nil {
		w.note(g.Name, StepDestination, "redirect", r.Name, before.To()+" -> "+p.To())
	}
	return w.route(g, p)
}

// hide rewrites the source to an address and port of the pool, for a packet that will
// be like final but for its source. It returns way, or nil where none is free.
func (w *Walk) hide(g *gateway, way *route, rule *network.Rule, pool *network.Pool, ports header.Ports, p *header.Packet, final header.Packet) *route {
	before := *p
	family := header.FamilyOf(p.Source)
	found := false
	if pool.Interface {
		a, has := way.out.Address(family)
		found = has && w.takePort(g, header.Range{First: a, Last: a}, ports, p, final)
	} else {
		for _, addresses := range pool.Set.Ranges() {
			if header.FamilyOf(addresses.First) == family && w.takePort(g, addresses, ports, p, final) {
				found = true
				break
			}
		}
	}
	if !found {
		w.exhausted(g, rule, fmt.Sprintf("Every address and port of %s is taken by other sessions.", rule.Name))
		return nil
	}
	if w.trace != nil {
		text := before.From() + " -> " + p.From()
		if before.SourcePort != p.SourcePort {
			text += otherChoice(p.Protocol)
		}
		w.note(g.Name, StepSource, "source", rule.Name, text)
	}
	return way
}

// otherChoice says that a port that was chosen need not be the one another gateway takes.
func otherChoice(p header.Protocol) string {
	what := "port"
	if p == header.ICMP {
		what = "identifier"
	}
	return "; another gateway may choose another " + what
}

func (w *Walk) exhausted(g *gateway, rule *network.Rule, why string) {
	w.end(Exhausted, g.Name, StepSource, rule)
	if w.trace == nil {
		return
	}
	name := ""
	if rule != nil {
		name = rule.Name
	}
	w.note(g.Name, StepSource, "source", name, "none is free")
	w.why("%s", why)
}
