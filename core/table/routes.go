package table

import (
	"iter"
	"net/netip"
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// noRoute is the route of addresses that have none.
const noRoute = int32(-1)

// A Route is one way a gateway knows.
type Route struct {
	Prefix    netip.Prefix
	Out       *network.Interface // nil for a blackhole
	Via       netip.Addr         // next hop; the zero address where the interface alone is known
	Clients   bool               // the destination is a VPN client of out
	Upstream  bool               // via is the way to the internet
	Blackhole bool
	distance  int
	Others    int // further next hops of the same distance, which are not taken
}

// A Routes answers longest-prefix questions: it holds, for each stretch of
// addresses between two borders of prefixes, the route that wins there.
type Routes struct {
	starts  []netip.Addr // those of IPv4 first
	four    []uint32     // the same, as numbers
	winners []int32      // route of the stretch that begins at starts[i], or noRoute
	routes  []Route
}

// NewRoutes compiles a gateway's routes: connected ones, VPN clients, static
// ones, each where its interface is up. Of several to one prefix the lowest
// administrative distance wins, then the first in the file.
func NewRoutes(g *network.Gateway) *Routes {
	var routes []Route
	for _, i := range g.Interfaces {
		if !i.IsUp() {
			continue
		}
		for _, p := range i.Addresses {
			routes = append(routes, Route{Prefix: p.Masked(), Out: i})
		}
		for _, p := range i.Clients {
			routes = append(routes, Route{Prefix: p.Masked(), Out: i, Clients: true})
		}
	}
	upstreams := g.Upstreams()
	for _, r := range g.Routes {
		if r.Blackhole {
			routes = append(routes, Route{Prefix: r.To, Blackhole: true, distance: r.Distance})
		} else if r.Out.IsUp() {
			upstream := slices.ContainsFunc(upstreams, r.SameHop)
			routes = append(routes, Route{Prefix: r.To, Out: r.Out, Via: r.Via, Upstream: upstream, distance: r.Distance})
		}
	}
	slices.SortStableFunc(routes, func(a, b Route) int {
		if c := a.Prefix.Addr().Compare(b.Prefix.Addr()); c != 0 {
			return c
		}
		if c := a.Prefix.Bits() - b.Prefix.Bits(); c != 0 {
			return c
		}
		return a.distance - b.distance
	})
	for i := range routes { // the first of each prefix counts those that are as near
		first := i == 0 || routes[i-1].Prefix != routes[i].Prefix
		for k := i + 1; first && k < len(routes) && routes[k].Prefix == routes[i].Prefix && routes[k].distance == routes[i].distance; k++ {
			if routes[k].Via != routes[i].Via || routes[k].Out != routes[i].Out {
				routes[i].Others++
			}
		}
	}
	t := &Routes{routes: slices.CompactFunc(routes, func(a, b Route) bool { return a.Prefix == b.Prefix })}
	t.sweep()
	t.seal()
	return t
}

// A Stretch is addresses that have one route, by its number.
type Stretch struct {
	header.Range
	Route int32
}

// RoutesOf returns a table of stretches that share no address.
func RoutesOf(routes []Route, list []Stretch) *Routes {
	slices.SortFunc(list, func(a, b Stretch) int { return a.First.Compare(b.First) })
	t := &Routes{routes: routes}
	for _, one := range list {
		t.begin(one.First, one.Route)
		if after := one.Last.Next(); after.IsValid() {
			t.begin(after, noRoute)
		}
	}
	t.seal()
	return t
}

// begin begins a stretch behind the others, with the route that wins there.
func (t *Routes) begin(at netip.Addr, winner int32) {
	if n := len(t.starts); n > 0 && t.starts[n-1] == at {
		t.winners[n-1] = winner
		return
	}
	t.starts = append(t.starts, at)
	t.winners = append(t.winners, winner)
}

// seal makes a table ready whose stretches are there.
func (t *Routes) seal() {
	for _, a := range t.starts {
		if a.Is4() {
			t.four = append(t.four, header.Four(a))
		}
	}
}

// sweep walks the prefixes in order of address; they nest, so the ones that
// are open at an address are a stack and its top is the longest.
func (t *Routes) sweep() {
	var open []int32
	closeBefore := func(next netip.Addr) {
		for len(open) > 0 {
			last := header.RangeOf(t.routes[open[len(open)-1]].Prefix).Last
			if next.IsValid() && last.BitLen() == next.BitLen() && !last.Less(next) {
				return
			}
			open = open[:len(open)-1]
			if after := last.Next(); after.IsValid() {
				winner := noRoute
				if len(open) > 0 {
					winner = open[len(open)-1]
				}
				t.begin(after, winner)
			}
		}
	}
	for i := range t.routes {
		first := t.routes[i].Prefix.Addr()
		closeBefore(first)
		open = append(open, int32(i))
		t.begin(first, int32(i))
	}
	closeBefore(netip.Addr{})
}

// Stretches returns the addresses that have a route, stretch by stretch, in order.
func (t *Routes) Stretches() iter.Seq2[header.Range, *Route] {
	return func(yield func(header.Range, *Route) bool) {
		for i, first := range t.starts {
			if winner := t.winners[i]; winner != noRoute && !yield(header.Range{First: first, Last: t.lastOf(i)}, &t.routes[winner]) {
				return
			}
		}
	}
}

// All returns the routes, one for each prefix.
func (t *Routes) All() []Route { return t.routes }

// lastOf returns the last address of a stretch.
func (t *Routes) lastOf(i int) netip.Addr {
	if i+1 < len(t.starts) && t.starts[i+1].BitLen() == t.starts[i].BitLen() {
		return t.starts[i+1].Prev()
	}
	last, _ := t.starts[i].Prefix(0)
	return header.RangeOf(last).Last
}

// Spans returns the addresses of one family that have a route, each stretch with the
// number of its route, counted from 1.
func (t *Routes) Spans(family header.Family) []flowset.ValueSpan {
	var spans []flowset.ValueSpan
	for i, first := range t.starts {
		if header.FamilyOf(first) == family && t.winners[i] != noRoute {
			span := flowset.AddressSpan(header.Range{First: first, Last: t.lastOf(i)})
			spans = append(spans, flowset.ValueSpan{Span: span, Value: flowset.Numbered(t.winners[i])})
		}
	}
	return spans
}

// Lookup returns the route for an address, or nil.
func (t *Routes) Lookup(a netip.Addr) *Route {
	return t.At(t.Winner(a))
}

// At returns a route by its number, nil for noRoute.
func (t *Routes) At(winner int32) *Route {
	if winner == noRoute {
		return nil
	}
	return &t.routes[winner]
}

// Winner returns the number of the route for an address, or noRoute.
func (t *Routes) Winner(a netip.Addr) int32 {
	if a.Is4() {
		four := header.Four(a)
		low, high := 0, len(t.four)
		for low < high {
			if middle := int(uint(low+high) >> 1); four < t.four[middle] {
				high = middle
			} else {
				low = middle + 1
			}
		}
		if low == 0 {
			return noRoute
		}
		return t.winners[low-1]
	}
	low, high := len(t.four), len(t.starts)
	for low < high {
		if middle := int(uint(low+high) >> 1); a.Less(t.starts[middle]) {
			high = middle
		} else {
			low = middle + 1
		}
	}
	if low == len(t.four) {
		return noRoute
	}
	return t.winners[low-1]
}
