package engine

import (
	"net/netip"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// translateDestination is the third step: the first rule that redirects what
// arrives by the interface. It returns what the rule does, or nil.
func (w *Walk) translateDestination(g *gateway, in *network.Interface, p *header.Packet) *redirect {
	zone := g.zones[in.Index]
	q := newQuery(p, zone, zone, w.moment)
	t := g.destination[in.Index]
	found := t.find(&q)
	w.region.table(t, zone, zone, w.back, found)
	if found == noMatch {
		return nil
	}
	r := &t.redirects[found]
	w.region.rule(r.base)
	before := *p
	switch r.does {
	case network.PortForward, network.DestinationNAT:
		w.forward(r, p)
	case network.OneToOne:
		p.Destination = header.Shift(p.Destination, r.rule.Outside.First, r.rule.Inside.First)
		w.region.shift(header.FieldDestination, r.rule.Outside.First, r.rule.Inside.First)
	case network.PrefixNAT:
		w.region.prefix(header.FieldDestination, p.Destination, r.rule.Prefixes, r.rule.Prefixes.InwardPiece)
		p.Destination = r.rule.Prefixes.Inward(p.Destination)
	}
	if w.trace != nil {
		w.note(g.Name, StepDestination, "redirect", r.rule.Name, before.To()+" -> "+p.To())
	}
	return r
}

// forward gives a packet the target and port of a forward.
func (w *Walk) forward(r *redirect, p *header.Packet) {
	if p.Destination.Is4() {
		p.Destination = r.target4
	} else {
		p.Destination = r.rule.Target.V6
	}
	w.region.becomes(header.FieldDestination, p.Destination)
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
			return w.hide(g, way, forward.base, &own, header.Ports{}, p)
		}
		if w.trace != nil {
			w.note(g.Name, StepSource, "source", "", "kept")
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
		return way
	case network.OneToOne:
		p.Source = header.Shift(p.Source, r.Inside.First, r.Outside.First)
		w.region.shift(header.FieldSource, r.Inside.First, r.Outside.First)
	case network.PrefixNAT:
		w.region.prefix(header.FieldSource, p.Source, r.Prefixes, r.Prefixes.OutwardPiece)
		p.Source = r.Prefixes.Outward(p.Source)
	case network.SourceNAT:
		if way = w.hide(g, way, &r.Rule, &r.As, r.SourcePorts, p); way == nil || !r.Destination.IsValid() {
			return way
		}
		return w.rewriteDestination(g, r, p)
	}
	if w.trace != nil {
		w.note(g.Name, StepSource, "source", r.Name, before.From()+" -> "+p.From())
	}
	return way
}

// rewriteDestination is the second half of a source-nat rule that rewrites both
// ends: the packet is routed again, by its new destination.
func (w *Walk) rewriteDestination(g *gateway, r *network.NATRule, p *header.Packet) *route {
	before := *p
	p.Destination = r.Destination
	w.region.becomes(header.FieldDestination, p.Destination)
	if r.DestPort != 0 && p.Protocol.HasPorts() {
		p.DestinationPort = r.DestPort
		w.region.becomesPort(header.FieldPort, p.DestinationPort)
	}
	if w.trace != nil {
		w.note(g.Name, StepDestination, "redirect", r.Name, before.To()+" -> "+p.To())
	}
	return w.route(g, p)
}

// hide rewrites the source to an address and port of the pool. It returns way, or
// nil where none is free.
func (w *Walk) hide(g *gateway, way *route, rule *network.Rule, pool *network.Pool, ports header.Ports, p *header.Packet) *route {
	before := *p
	v6 := p.Source.Is6()
	found := false
	if pool.Interface {
		a, has := way.out.Address(v6)
		found = has && w.takePort(g, header.Range{First: a, Last: a}, ports, p)
	} else {
		for _, addresses := range pool.Set.Ranges() {
			if addresses.First.Is6() == v6 && w.takePort(g, addresses, ports, p) {
				found = true
				break
			}
		}
	}
	if !found {
		w.end(Exhausted, g.Name, StepSource, rule)
		if w.trace != nil {
			w.why("Every address and port of %s is taken by other sessions.", rule.Name)
		}
		return nil
	}
	if w.trace != nil {
		w.note(g.Name, StepSource, "source", rule.Name, before.From()+" -> "+p.From())
	}
	return way
}

// The ports that a source gets where its own is taken and the rule names none.
var otherPorts = header.Ports{First: 1024, Last: 65535}

// takePort rewrites the source to the first address with a free port: the packet's
// own port where it is free and allowed, else the next free one. An inside
// address and port that has a port already keeps it (RFC 4787, 4.1).
func (w *Walk) takePort(g *gateway, addresses header.Range, ports header.Ports, p *header.Packet) bool {
	for a := addresses.First; ; a = a.Next() {
		if port, ok := w.freePort(g, a, ports, p); ok {
			w.region.hide(a, ports, p, port)
			p.Source, p.SourcePort = a, port
			return true
		}
		if a == addresses.Last {
			return false
		}
	}
}

func (w *Walk) freePort(g *gateway, a netip.Addr, ports header.Ports, p *header.Packet) (uint16, bool) {
	allowed := ports
	if ports == (header.Ports{}) {
		allowed = otherPorts
	}
	if p.Protocol != header.ICMP && !p.Protocol.HasPorts() {
		return 0, true
	}
	for i := range w.sessions[:w.earlier] {
		s := &w.sessions[i]
		if s.hides(g, a, p.Protocol) && s.before.Source == p.Source && s.before.SourcePort == p.SourcePort {
			if ports == (header.Ports{}) || ports.Contains(s.after.SourcePort) {
				return s.after.SourcePort, true
			}
		}
	}
	want := p.SourcePort
	if (ports == (header.Ports{}) || ports.Contains(want)) && !w.portTaken(g, a, p.Protocol, want) {
		return want, true
	}
	if !allowed.Contains(want) {
		want = allowed.Last
	}
	for range allowed.Count() {
		if want++; want < allowed.First || want > allowed.Last {
			want = allowed.First
		}
		if !w.portTaken(g, a, p.Protocol, want) {
			return want, true
		}
	}
	return 0, false
}

// portTaken reports whether an earlier session hides behind the address and port.
func (w *Walk) portTaken(g *gateway, a netip.Addr, protocol header.Protocol, port uint16) bool {
	for i := range w.sessions[:w.earlier] {
		if s := &w.sessions[i]; s.hides(g, a, protocol) && s.after.SourcePort == port {
			return true
		}
	}
	return false
}

// hides reports whether the session's source leaves as the address.
func (s *session) hides(g *gateway, a netip.Addr, protocol header.Protocol) bool {
	return s.gateway == g && !s.local && s.after.Source == a && s.before.Protocol == protocol
}
