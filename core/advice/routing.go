package advice

import (
	"fmt"
	"slices"
	"strings"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
)

// leakingSources finds inside sources that get out with their private address.
func (x *exam) leakingSources() {
	told := map[*network.Segment]bool{}
	for _, o := range x.regions {
		if o.From.Segment == nil || o.From.Segment.IsUplink(header.FamilyOf(o.Example.Source)) || told[o.From.Segment] || o.Verdict.Outcome != engine.Unanswered || !o.Verdict.At.Machine.Internet || o.Verdict.At.Machine.Host != nil || network.Carried(o.Example.Source) {
			continue
		}
		told[o.From.Segment] = true
		i := o.From.Segment.Lead()
		p := x.usual(o)
		x.report(network.LeakingSource, i.Place, "interface "+i.String(), fmt.Sprintf("%s gets out untranslated, to %s for one; add a source-nat", p.Source, p.Destination), nil, x.hiding(o)...)
	}
}

// hiding are edits that translate the sources of a region where they get out.
func (x *exam) hiding(o *origin) []network.Edits {
	t := words.TraceOf(x.engine.NewWalk(), walk.Connection{Packet: o.Example, From: o.From, Moment: o.Moment})
	if out := t.Stood.Out; out != nil {
		return []network.Edits{{hideEdit(t.Stood.In, out, segmentOf(x.net, t.Stood.After.Source))}}
	}
	return nil
}

func (x *exam) defaultRoutes() {
	for _, g := range x.net.Gateways {
		if !slices.ContainsFunc(g.Routes, func(r network.Route) bool { return r.To.Bits() == 0 }) {
			x.report(network.NoDefaultRoute, g.Place, "gateway "+g.Name, "it has no route to default", nil, routeProposals(x.net, g, anywhere)...)
		}
	}
}

// hides returns the private sources that a gateway's rules translate of what leaves by an interface,
// and the first of the rules.
func hides(g *network.Gateway, out *network.Interface) (hidden header.Addresses, by *network.NATRule) {
	for _, r := range g.NAT {
		if r.Off() || r.Timed() || !r.To.IsAny() || r.Does == network.NoNAT || !r.Does.RewritesSource() {
			continue
		}
		sources := r.Hides(out)
		if !r.From.IsAny() {
			sources = sources.Intersect(r.From.Addresses())
		}
		if sources = sources.Intersect(network.NotCarried()); !sources.Empty() && by == nil {
			by = r
		}
		hidden = hidden.Union(sources)
	}
	return hidden, by
}

// backupUplinks finds uplinks by which sources leave as they are that another uplink translates.
func (x *exam) backupUplinks() {
	for _, g := range x.net.Gateways {
		for _, first := range g.Interfaces {
			for _, backup := range g.Interfaces {
				if first == backup || !first.FacesInternet(header.IPv4) || !backup.FacesInternet(header.IPv4) {
					continue
				}
				hidden, by := hides(g, first)
				too, _ := hides(g, backup)
				inside := x.insideOf(g)
				if left := hidden.Intersect(inside).Minus(too); !left.Empty() {
					x.report(network.BackupLeaks, backup.Place, "interface "+backup.String(), fmt.Sprintf("%s is translated by %s on %s, but not here", x.names.Name(left), by.Name, first.Name), &by.Rule,
						x.change(&by.Rule, network.Setting{Key: network.KeyOn, Value: strings.Join(append(network.InterfaceNames(by.On), backup.Name), ",")}))
				}
			}
		}
	}
}

// insideOf returns the IPv4 addresses of segments that are no uplinks.
func (x *exam) insideOf(g *network.Gateway) (inside header.Addresses) {
	for _, s := range x.net.Segments {
		if !s.IsUplink(header.IPv4) {
			inside = inside.Union(s.Addresses().Intersect(header.IPv4.All()))
		}
	}
	for _, i := range g.Interfaces {
		inside = inside.Union(header.AddressesOfPrefixes(i.Clients...).Intersect(header.IPv4.All()))
	}
	return inside.Minus(x.net.Unused())
}

// droppedICMPv6 finds gateways that pass connections of IPv6 but nothing of ICMPv6.
func (x *exam) droppedICMPv6() {
	for _, g := range x.net.Gateways {
		passes, messages := false, false
		for _, o := range x.regions {
			if !o.Example.Source.Is6() || !slices.ContainsFunc(o.Rules, func(r *network.Rule) bool { return r.Gateway == g && r.Kind == string(network.Allow) }) {
				continue
			}
			if o.Example.Protocol == header.ICMP {
				messages = true
			} else {
				passes = true
			}
		}
		if passes && !messages {
			x.report(network.ICMPv6Dropped, g.Place, "gateway "+g.Name, "it lets connections of IPv6 through, but nothing of ICMPv6, not even an echo", nil)
		}
	}
}
