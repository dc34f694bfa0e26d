package explore

import (
	"iter"
	"math/rand/v2"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/flow"
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// A HiddenRule is a rule that can never match, and a fewest of the rules that take what it
// would match; none where it matches nothing by itself.
type HiddenRule struct {
	Rule *network.Rule
	By   []*network.Rule
}

// Hidden returns the rules that are hidden wherever they are looked at. A rule by which sources stay is looked at only where others
// translate some, or a hairpin does: elsewhere it changes nothing, wherever it stands.
func (x *Explorer) Hidden() []HiddenRule {
	var hidden []HiddenRule
	for _, g := range x.engine.Gateways() {
		var views []flow.View
		for _, in := range g.Interfaces {
			views = append(views, x.Viewed(g.DestinationTable(in), g.Between(in, in, 0), false))
			for _, out := range g.Interfaces {
				through := g.Between(in, out, 0)
				views = append(views, x.Viewed(g.FilterTable(), through, false), x.Viewed(g.SourceTable(out), through, false))
				through.Redirected = true
				views = append(views, x.Viewed(g.FilterTable(), through, false))
			}
		}
		hidden = append(hidden, x.hiddenIn(g, views)...)
	}
	return hidden
}

func (x *Explorer) hiddenIn(g *engine.Gateway, views []flow.View) []HiddenRule {
	seen := map[*network.Rule]bool{}
	by := map[*network.Rule][]*network.Rule{}
	done, looked, everywhere := map[flow.View]bool{}, map[inScope]bool{}, map[inTable]bool{}
	stays, hairpins := map[*network.Rule]bool{}, false
	for _, r := range g.NAT {
		stays[&r.Rule] = r.Does == network.NoNAT
		hairpins = hairpins || r.Hairpin
	}
	for _, v := range views {
		if done[v] {
			continue
		}
		done[v] = true
		if !hairpins && v.Table.KeepsAll(stays) {
			continue
		}
		for n, set := range x.unseen(v, seen, looked, everywhere) {
			rule, this := v.Table.Rule(n), inTable{v.Table, n}
			var parts []flowset.Valued
			if _, asked := everywhere[this]; !asked {
				parts = x.everywhere(v, n, set)
				everywhere[this] = parts != nil
			}
			if parts == nil {
				parts = x.decided(v, n, set, header.AllAddresses())
			}
			if slices.ContainsFunc(parts, func(p flowset.Valued) bool { return p.Value == flowset.Numbered(n) }) {
				seen[rule] = true
				continue
			}
			for _, front := range x.fewest(v, set, parts) {
				if other := v.Table.Rule(front); !slices.Contains(by[rule], other) {
					by[rule] = append(by[rule], other)
				}
			}
		}
	}
	var hidden []HiddenRule
	add := func(r *network.Rule) {
		if !seen[r] && (!stays[r] || len(by[r]) > 0) {
			hidden = append(hidden, HiddenRule{r, by[r]})
		}
	}
	for _, r := range g.NAT {
		add(&r.Rule)
	}
	for _, r := range g.Filter {
		add(&r.Rule)
	}
	return hidden
}

// unseen returns the conditions of a table that are not seen to decide about anything in a view, each with
// what it matches. What is seen is noted, and what of a split table was looked at; what was found
// to be hidden everywhere is left out.
func (x *Explorer) unseen(v flow.View, seen map[*network.Rule]bool, looked map[inScope]bool, everywhere map[inTable]bool) iter.Seq2[int32, flowset.Set] {
	o := x.overlapsOf(v.Table)
	first := map[int32]bool{}
	if o == nil {
		for _, p := range x.Space.Parts(x.View(v)) {
			if x.ofPackets(p.Set) == flowset.Nothing {
				continue
			}
			first[p.Value.Number()] = true
			seen[v.Table.Rule(p.Value.Number())] = true
		}
	}
	return func(yield func(int32, flowset.Set) bool) {
		for n, c := range v.Table.Ordered() {
			if first[n] || everywhere[inTable{v.Table, n}] || o != nil && (seen[v.Table.Rule(n)] || !c.IsOf(v.In)) {
				continue
			}
			if o != nil {
				this := inScope{v.Table, n, o.zones[n].In(v.In)}
				if looked[this] {
					continue
				}
				looked[this] = true
			}
			set := x.ofPackets(x.meets(v, n))
			if o != nil && x.meetsFirst(v, n, set) {
				seen[v.Table.Rule(n)] = true
				continue
			}
			if !yield(n, set) {
				return
			}
		}
	}
}

// ofPackets returns what there can be packets of in a set: a packet's addresses are of one family.
func (x *Explorer) ofPackets(set flowset.Set) flowset.Set {
	only := flowset.Nothing
	for _, f := range header.Families {
		only = x.Space.Overlay(only, x.Space.Restrict(x.Where(flowset.Destination, f.All(), f), x.Where(flowset.Source, f.All(), f)))
	}
	return x.Space.Restrict(only, set)
}

// mostMet is how many packets of a condition are tried, to find one that meets no other before.
const mostMet = 4

// meetsFirst reports whether one of some packets, that meet a condition, meets none in front of it.
func (x *Explorer) meetsFirst(v flow.View, n int32, set flowset.Set) bool {
	random := rand.New(rand.NewPCG(1, uint64(n)))
	for range mostMet {
		p, ok := x.Space.Sample(set, random.Uint64)
		if !ok {
			return false
		}
		in := v.In
		in.Moment = x.Times.Moment(p.Moment)
		if q := table.NewQuery(&p.Packet, in); v.Table.Find(&q) == n {
			return true
		}
	}
	return false
}

// mostReduced is of how many conditions it is tried whether fewer would do.
const mostReduced = 64

// fewest returns those of the conditions that decide about parts of a set without one of which
// the others would leave something of it: one where one covers all.
func (x *Explorer) fewest(v flow.View, set flowset.Set, parts []flowset.Valued) []int32 {
	fronts := make([]int32, len(parts))
	for i, p := range parts {
		fronts[i] = p.Value.Number()
	}
	if len(fronts) > mostReduced {
		return fronts
	}
	meets, behind := make([]flowset.Set, len(fronts)), make([]flowset.Set, len(fronts)+1)
	behind[len(fronts)] = flowset.Nothing
	for i, n := range slices.Backward(fronts) {
		meets[i] = x.meets(v, n)
		behind[i] = x.Space.Overlay(x.Space.Restrict(set, meets[i]), behind[i+1])
	}
	kept := fronts[:0]
	for i, n := range fronts {
		if x.Space.Minus(set, behind[i+1]) != flowset.Nothing {
			kept, set = append(kept, n), x.Space.Minus(set, meets[i])
		}
	}
	return kept
}

// within returns the values that whole gives to the members of a set. Of a large whole
// it looks only at what the set comes to.
func (x *Explorer) within(set, whole flowset.Set) flowset.Set {
	terms := flowset.OriginalTerms()
	return x.Space.Preimage(set, whole, &terms, false)
}

// A Passing is connections that would meet a filter rule, if not for one in front of it.
type Passing struct {
	Front   *network.Rule
	Example header.Packet // as it begins
	Moment  network.Moment
}

// Passings returns by which rules in front of a filter rule connections of a set, which begin at a
// place, never come to it. The set is as Explore wants it, and so is the error.
func (x *Explorer) Passings(r *network.FilterRule, from network.Place, set flowset.Set) (found []Passing, err error) {
	t := x.engine.Gateway(r.Gateway).FilterTable()
	matched := map[flow.View][]flowset.Set{} // what the rule matches
	x.Watched, x.Watch = t, func(set flowset.Set, terms *flowset.Terms, v flow.View, decider int32) {
		front := t.Rule(decider)
		if front == &r.Rule || slices.ContainsFunc(found, func(f Passing) bool { return f.Front == front }) {
			return
		}
		for _, meets := range x.matchedBy(&r.Rule, v, matched) {
			if example, ok := x.Space.Usual(x.Space.Preimage(set, meets, terms, v.Turned)); ok {
				found = append(found, Passing{front, example.Packet, x.Times.Moment(example.Moment)})
				return
			}
		}
	}
	defer func() { x.Watched, x.Watch = nil, nil }()
	err = x.explore(from, set, func(*Region) bool { return true })
	return found, err
}

// matchedBy returns what a rule matches in a view, and remembers it.
func (x *Explorer) matchedBy(r *network.Rule, v flow.View, matched map[flow.View][]flowset.Set) []flowset.Set {
	sets, known := matched[v]
	if !known {
		for n, c := range v.Table.Ordered() {
			if v.Table.Rule(n) == r {
				sets = append(sets, x.SetOf(c, 1, v))
			}
		}
		matched[v] = sets
	}
	return sets
}

// A Crossing is two rules of a filter with different verdicts, of which each matches connections that the
// other does not, and the first decides about some that both match.
type Crossing struct {
	First, Second *network.Rule
	Example       header.Packet
	Moment        network.Moment // of the example
}

// Crossings returns a crossing of each rule of all filters that has one.
func (x *Explorer) Crossings() (found []Crossing) {
	for _, g := range x.engine.Gateways() {
		var views []leaving
		known := map[flow.View]int{}
		for _, in := range g.Interfaces {
			for _, out := range g.Interfaces {
				to := header.AllAddresses()
				if !g.Handling.FilterSeesOriginal {
					to = g.RoutedBy(out)
				}
				for _, redirected := range []bool{false, true} {
					through := g.Between(in, out, 0)
					through.Redirected = redirected
					v := x.Viewed(g.FilterTable(), through, false)
					at, ok := known[v]
					if !ok {
						at = len(views)
						known[v] = at
						views = append(views, leaving{View: v})
					}
					views[at].to = views[at].to.Union(to)
				}
			}
		}
		o := x.overlapsOf(g.FilterTable())
		for n, c := range g.FilterTable().Ordered() {
			if o != nil && !slices.ContainsFunc(o.front[n], func(m int32) bool { return g.FilterTable().Condition(m).Opposes(c) }) {
				continue
			}
			for _, v := range views {
				if crossing, ok := x.crossing(v, n, c); ok {
					found = append(found, crossing)
					break
				}
			}
		}
	}
	return found
}

// Leaving is a view, and where what it is about can go.
type leaving struct {
	flow.View
	to header.Addresses
}

// crossing returns a crossing of a condition with one in front of it.
func (x *Explorer) crossing(l leaving, n int32, c *table.Condition) (_ Crossing, ok bool) {
	v, to := l.View, l.to
	if !c.IsOf(v.In) || !c.GoesTo(v.In, to) {
		return Crossing{}, false
	}
	second := x.meets(v, n)
	var families [2]flowset.Set // no packet is of both, so rules may cross in one alone
	for _, f := range header.Families {
		families[f] = x.Space.Restrict(x.Where(flowset.Destination, to, f), x.Where(flowset.Source, f.All(), f))
	}
	only := x.Space.Overlay(families[header.IPv4], families[header.IPv6])
	for _, p := range x.decided(v, n, x.Space.Restrict(only, second), to) {
		front := v.Table.Condition(p.Value.Number())
		if !front.Opposes(c) {
			continue
		}
		first := x.meets(v, p.Value.Number())
		crosses := slices.ContainsFunc(families[:], func(f flowset.Set) bool {
			a, b := x.Space.Restrict(f, first), x.Space.Restrict(f, second)
			return x.Space.Restrict(a, b) != flowset.Nothing && x.Space.Minus(a, b) != flowset.Nothing && x.Space.Minus(b, a) != flowset.Nothing
		})
		if crosses {
			example, _ := x.Space.Usual(p.Set)
			return Crossing{v.Table.Rule(p.Value.Number()), v.Table.Rule(n), example.Packet, x.Times.Moment(example.Moment)}, true
		}
	}
	return Crossing{}, false
}
