package walk

import (
	"cmp"
	"net/netip"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// overInternet takes the packet over the internet: to a host that lives there, to
// an uplink of the network, or to a machine the file does not name.
func (w *Walk) overInternet() nextPlace {
	if at, ok := w.throughCarrier(); ok {
		return at
	}
	if w.returns() {
		return w.toMachine(w.legs[0].from)
	}
	e := w.engine
	carried := !w.flow.In(flowset.Destination, &e.uncarried)
	if i, beside := w.entry(); i != nil {
		switch {
		case !w.passesUpstream(i):
			return nextPlace{}
		case !carried:
			w.notSent(engine.NotCarried).In = i
			return nextPlace{}
		case beside: // the upstream router is on that segment too
			return w.handOver(i.Segment)
		}
		return arriveAt(i)
	}
	if w.flow.In(flowset.Destination, &e.internet) && carried {
		if !w.back && len(w.passages) == 0 && w.flow.In(flowset.Destination, &e.unsent) {
			w.notSent(engine.NotSentHere)
			return nextPlace{}
		}
		return w.toMachine(network.Place{Internet: true})
	}
	if carried && len(e.uplinks[w.flow.Family()]) > 0 {
		w.notSent(engine.NotSentHere)
		return nextPlace{}
	}
	what := engine.PrivateTarget
	if carried {
		what = engine.NoUplink
	} else if w.back {
		what = engine.PrivateAnswer
	}
	w.end(engine.Unrouted, onInternet, engine.StepRoute, nil)
	w.note(engine.StepRoute, what, onInternet)
	return nextPlace{}
}

// notSent ends the packet for an address of the network that the internet does not send
// here: one that it carries to nobody, on an uplink, or one that it carries elsewhere.
func (w *Walk) notSent(what engine.What) *engine.Event {
	w.end(engine.UpstreamBlocks, onInternet, engine.StepUpstream, nil)
	return w.note(engine.StepUpstream, what, onInternet)
}

// throughCarrier gives an answer back to whom a carrier translated the connection's source
// for, on the segment of the uplink.
func (w *Walk) throughCarrier() (nextPlace, bool) {
	if !w.back {
		return nextPlace{}, false
	}
	for i := range w.carriers {
		if c := &w.carriers[i]; w.flow.Is(&c.packet, true) {
			return w.handOver(c.uplink.Segment), true
		}
	}
	return nextPlace{}, false
}

// passesUpstream reports whether what is upstream of an uplink lets the packet in.
func (w *Walk) passesUpstream(i *network.Interface) bool {
	switch {
	case w.back:
		return true
	case i.Upstream.CarrierNAT && w.flow.Family() == header.IPv4:
		w.notSent(engine.CarrierNAT).In = i
		return false
	case w.flow.IsFor(i.Upstream.Blocks):
		w.notSent(engine.Blocked).In = i
		return false
	}
	return true
}

// toUpstream hands the packet to the network on the other side of an uplink.
func (w *Walk) toUpstream(out *network.Interface) nextPlace {
	if !w.back && w.flow.IsFor(out.Upstream.Blocks) {
		w.notSent(engine.Blocked).In = out
		return nextPlace{}
	}
	if w.flow.In(flowset.Source, w.engine.prefixesOf(out)) && w.translatedInFront(out) {
		w.carriers = append(w.carriers, carrier{out, w.flow.Image()})
	}
	return w.overInternet()
}

// translatedInFront reports whether somebody on the other side of an uplink gives the
// packet that leaves by it a source of its own: a carrier's NAT, or whoever stands in
// front of a private or shared address.
func (w *Walk) translatedInFront(out *network.Interface) bool {
	if out.Upstream.CarrierNAT && w.flow.Family() == header.IPv4 {
		return true
	}
	return w.flow.In(flowset.Source, &w.engine.uncarried)
}

// entry returns the uplink by which the packet arrives from the internet, nil where none
// does: the one whose own prefix, the longest of several, holds its destination, and then the address is
// beside it, else the one to which the provider sends the longest prefix that holds it.
func (w *Walk) entry() (i *network.Interface, beside bool) {
	r := w.flow.By(w.engine.entries)
	if r == nil {
		return nil, false
	}
	return r.Out, !r.Upstream
}

// entersBy reports whether the internet sends the packet to an uplink: else somebody there hands it to the gateway.
func (w *Walk) entersBy(i *network.Interface) bool {
	r := w.flow.By(w.engine.entries)
	return r != nil && r.Out == i
}

// findEntries returns the uplinks by which packets arrive from the internet, as entry says; upstream are those
// for what is not beside the uplink.
func (e *Engine) findEntries() *table.Routes {
	var routes []table.Route
	var list []table.Stretch
	var taken header.Addresses
	send := func(set header.Addresses, number int) {
		for _, free := range set.Minus(taken).Ranges() {
			list = append(list, table.Stretch{Range: free, Route: int32(number)})
		}
		taken = taken.Union(set)
	}
	type own struct {
		prefix netip.Prefix
		route  int
	}
	var prefixes []own // of uplinks, the longest first
	for _, family := range header.Families {
		for _, i := range e.uplinks[family] {
			for _, p := range i.Addresses {
				if header.FamilyOf(p.Addr()) == family {
					prefixes = append(prefixes, own{p, len(routes)})
				}
			}
			routes = append(routes, table.Route{Out: i})
		}
	}
	slices.SortStableFunc(prefixes, func(a, b own) int { return b.prefix.Bits() - a.prefix.Bits() })
	for _, p := range prefixes {
		send(header.AddressesOfPrefixes(p.prefix.Masked()), p.route)
	}
	for _, r := range sentBy(e.net) {
		send(header.AddressesOfPrefixes(r.Prefix), len(routes))
		routes = append(routes, r)
	}
	return table.RoutesOf(routes, list)
}

// sentBy returns the ways to uplinks of what the providers of a network send them besides their own
// prefixes: the longest prefix first and, of one prefix, to uplinks that are up.
func sentBy(n *network.Network) (list []table.Route) {
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			for _, p := range i.Upstream.Routes {
				if i.FacesInternet(header.FamilyOf(p.Addr())) {
					list = append(list, table.Route{Prefix: p, Out: i, Upstream: true})
				}
			}
		}
	}
	down := func(i *network.Interface) int {
		if i.IsUp() {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(list, func(a, b table.Route) int {
		return cmp.Or(b.Prefix.Bits()-a.Prefix.Bits(), down(a.Out)-down(b.Out))
	})
	return list
}

// prefixesOf returns the addresses of an interface's prefixes.
func (e *Engine) prefixesOf(i *network.Interface) *table.AddressSet {
	return e.gateways[i.Gateway.Index].PrefixesOf(i)
}
