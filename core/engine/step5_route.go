package engine

import (
	"net/netip"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
)

// linkLocal are the addresses that IPv6 machines have for their own segment.
var linkLocal = setOfPrefixes(netip.MustParsePrefix("fe80::/10"))

// route is the fifth step: the longest prefix. A link-local source is never forwarded.
func (v *visit) route() *route {
	if v.flow.family() == header.IPv6 && v.flow.in(flowset.Source, &linkLocal) {
		v.note(StepRoute, NeverForwards, nil)
		v.stop(Unrouted, StepRoute, nil)
		v.tell()
		return nil
	}
	r := v.flow.by(v.routes)
	switch {
	case r == nil:
		v.note(StepRoute, NoRoute, nil)
		v.stop(Unrouted, StepRoute, nil)
		v.tell()
		return nil
	case r.blackhole:
		v.note(StepRoute, Blackhole, nil).Route = r.prefix
		v.stop(Unrouted, StepRoute, nil)
		return nil
	}
	e := v.note(StepRoute, TakesRoute, nil)
	e.Route, e.Via, e.Out, e.Flag, e.Count = r.prefix, r.via, r.out, r.clients, r.others
	return r
}
