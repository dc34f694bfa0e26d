package engine

import (
	"net/netip"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// linkLocal are the addresses that IPv6 machines have for their own segment.
var linkLocal = table.SetOfPrefixes(netip.MustParsePrefix("fe80::/10"))

// routed is what the fifth step finds.
type routed struct {
	way *table.Route       // by which it leaves
	out *network.Interface // by which it was to leave when the filter was asked
}

// route is the fifth step: the longest prefix.
func (v *Visit) route() (goes bool) {
	if v.way = v.routeOf(); v.way == nil {
		return false
	}
	v.out = v.way.Out
	return true
}

// routeOf returns the route of the packet as it is, or nil where it ends. A link-local source is never forwarded.
func (v *Visit) routeOf() *table.Route {
	if v.flow.Family() == header.IPv6 && v.flow.In(flowset.Source, &linkLocal) {
		v.note(StepRoute, NeverForwards, nil)
		v.stop(Unrouted, StepRoute, nil)
		v.tell()
		return nil
	}
	r := v.flow.By(v.routes)
	switch {
	case r == nil:
		v.note(StepRoute, NoRoute, nil)
		v.stop(Unrouted, StepRoute, nil)
		v.tell()
		return nil
	case r.Blackhole:
		v.note(StepRoute, Blackhole, nil).Route = r.Prefix
		v.stop(Unrouted, StepRoute, nil)
		return nil
	}
	e := v.note(StepRoute, TakesRoute, nil)
	e.Route, e.Via, e.Out, e.ToClients, e.AsNear = r.Prefix, r.Via, r.Out, r.Clients, r.Others
	return r
}
