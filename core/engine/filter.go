package engine

import (
	"net/netip"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// permit is the sixth step: the first filter rule that matches decides. before is
// the packet as it came in.
func (w *Walk) permit(g *gateway, in, out *network.Interface, forward *redirect, before, p *header.Packet) bool {
	if forward != nil && g.Handling.ForwardsPermit && forward.does.Permits() {
		if w.trace != nil {
			w.note(g.Name, StepFilter, "allow", forward.rule.Name, "the forward brings its own permission")
		}
		return true
	}
	q := w.filterQuery(g, in, out, before, p)
	found := g.filter.find(&q)
	w.region.filter(g, in, out, w.back, found)
	if found == noMatch {
		return w.unmatched(g, in, out, forward, q.packet)
	}
	ruled := &g.filter.conditions[found]
	w.region.rule(ruled.rule)
	if w.trace != nil {
		w.note(g.Name, StepFilter, string(ruled.verb), ruled.rule.Name, ruled.rule.Note)
	}
	switch ruled.verb {
	case network.Allow:
		return true
	case network.Drop:
		w.end(Dropped, g.Name, StepFilter, ruled.rule)
	case network.Reject:
		w.end(Rejected, g.Name, StepFilter, ruled.rule)
		if !w.back {
			w.refusal = refusal{*before, in, refusedBy(before.Protocol)}
		}
	}
	if w.trace != nil {
		w.why("The filter rule %s of %s says %s.", ruled.rule.Name, g.Name, ruled.verb)
	}
	return false
}

// filterQuery is what the filter sees: the destination as it is after the third
// step, or as it came in, and the source as it came in, which is translated only behind
// the filter.
func (w *Walk) filterQuery(g *gateway, in, out *network.Interface, before, p *header.Packet) query {
	w.seen = *p
	w.seen.Source, w.seen.SourcePort = before.Source, before.SourcePort
	if g.Handling.FilterSeesOriginal {
		w.seen.Destination, w.seen.DestinationPort = before.Destination, before.DestinationPort
	}
	if w.telling == icmpError {
		w.seen.Protocol, w.seen.SourcePort, w.seen.DestinationPort = header.ICMP, 0, 0
		if w.teller.IsValid() {
			w.seen.Source = w.teller
		}
	}
	return newQuery(&w.seen, g.zones[in.Index], g.zones[out.Index], w.moment)
}

func (w *Walk) unmatched(g *gateway, in, out *network.Interface, forward *redirect, p *header.Packet) bool {
	if g.Handling.UnmatchedByTrust && g.trust[in.Index] < g.trust[out.Index] {
		if w.trace != nil {
			w.note(g.Name, StepFilter, "allow", "", in.Zone+" is trusted more than "+out.Zone)
		}
		return true
	}
	w.end(Dropped, g.Name, StepFilter, nil)
	if w.trace != nil {
		w.note(g.Name, StepFilter, "drop", "", "no filter rule matches")
		w.why("No filter rule of %s allows %s to %s from %s.", g.Name, p.Service(), p.Destination, p.Source)
		if forward != nil {
			w.why("%s redirects it, but on this gateway a forward opens nothing by itself: it needs a filter rule as well.", forward.rule.Name)
		}
		if g.Handling.UnmatchedByTrust {
			w.why("%s is not trusted more than %s, so a rule must say it.", in.Zone, out.Zone)
		}
	}
	return false
}

// prefixText writes a route's prefix.
func prefixText(p netip.Prefix) string {
	if p.Bits() == 0 {
		return "default"
	}
	return p.String()
}

// route is the fifth step: the longest prefix.
func (w *Walk) route(g *gateway, p *header.Packet) *route {
	r := g.routes.lookup(p.Destination)
	w.region.route(g.routes, p.Destination)
	switch {
	case r == nil:
		w.end(Unrouted, g.Name, StepRoute, nil)
		w.unreachable(len(w.passages) - 1)
		if w.trace != nil {
			w.why("%s has no route to %s.", g.Name, p.Destination)
		}
		return nil
	case r.blackhole:
		w.end(Unrouted, g.Name, StepRoute, nil)
		if w.trace != nil {
			w.why("The route of %s to %s is a blackhole: it throws everything away.", g.Name, r.prefix)
		}
		return nil
	}
	if w.trace != nil && !w.back {
		text := "connected"
		switch {
		case r.clients:
			text = "VPN clients"
		case r.via.IsValid():
			text = "by " + r.via.String()
		}
		w.trace.Steps = append(w.trace.Steps, Step{At: g.Name, Kind: StepRoute, Label: "route", Route: prefixText(r.prefix), Text: text + ", leaves by " + r.out.Name})
	}
	return r
}
