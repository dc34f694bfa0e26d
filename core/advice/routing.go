package advice

import (
	"fmt"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// leakingSources finds inside sources that get out with their private address.
func (x *exam) leakingSources() {
	told := map[*network.Segment]bool{}
	for _, o := range x.regions {
		if o.from.Segment == nil || o.from.Segment.IsUplink(header.FamilyOf(o.Example.Source)) || told[o.from.Segment] || o.Verdict.Outcome != engine.Unanswered || !o.Verdict.At.Machine.Internet || o.Verdict.At.Machine.Host != nil || network.Carried(o.Example.Source) {
			continue
		}
		told[o.from.Segment] = true
		i := o.from.Segment.Interfaces[0]
		p := x.usual(o)
		x.report(network.LeakingSource, i.Place, "interface "+i.String(), fmt.Sprintf("%s gets out untranslated, to %s for one; add a source-nat", p.Source, p.Destination), nil, x.hiding(o)...)
	}
}

// hiding are edits that translate the sources of a region where they get out.
func (x *exam) hiding(o *origin) []network.Edits {
	t := x.engine.NewWalk().Trace(engine.Connection{Packet: o.Example, From: o.from, Moment: network.Always})
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
