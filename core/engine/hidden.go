package engine

import (
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A HiddenRule is a rule that can never match, and a fewest of the rules that take what it
// would match; none where it matches nothing by itself.
type HiddenRule struct {
	Rule *network.Rule
	By   []*network.Rule
}

// Hidden returns the rules that are hidden wherever they are looked at.
func (x *Explorer) Hidden() []HiddenRule {
	var hidden []HiddenRule
	for _, g := range x.engine.gateways {
		var views []tableView
		for _, in := range g.Interfaces {
			views = append(views, g.destinations[in.Index].viewed(g.between(in, in, x.moment), false))
			for _, out := range g.Interfaces {
				through := g.between(in, out, x.moment)
				views = append(views, g.filter.viewed(through, false), g.sources[out.Index].viewed(through, false))
			}
		}
		hidden = append(hidden, x.hiddenIn(g, views)...)
	}
	return hidden
}

func (x *Explorer) hiddenIn(g *Gateway, views []tableView) []HiddenRule {
	seen := map[*network.Rule]bool{}
	by := map[*network.Rule][]*network.Rule{}
	done := map[tableView]bool{}
	for _, v := range views {
		if done[v] {
			continue
		}
		done[v] = true
		whole := x.view(v)
		first := map[int]bool{}
		for _, p := range x.Space.Parts(whole) {
			first[p.Value] = true
			seen[v.table.rule(int32(p.Value-1))] = true
		}
		for n, c := range v.table.ordered() {
			if first[int(n)+1] {
				continue
			}
			rule, set := v.table.rule(n), c.set(x.Space, 1, v)
			for _, front := range x.fewest(v, set, x.Space.Parts(x.within(set, whole))) {
				if other := v.table.rule(front); !slices.Contains(by[rule], other) {
					by[rule] = append(by[rule], other)
				}
			}
		}
	}
	var hidden []HiddenRule
	add := func(r *network.Rule) {
		if !seen[r] {
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

// mostReduced is of how many conditions it is tried whether fewer would do.
const mostReduced = 64

// fewest returns those of the conditions that decide about parts of a set without one of which
// the others would leave something of it: one where one covers all.
func (x *Explorer) fewest(v tableView, set flowset.Set, parts []flowset.Valued) []int32 {
	fronts := make([]int32, len(parts))
	for i, p := range parts {
		fronts[i] = int32(p.Value - 1)
	}
	if len(fronts) > mostReduced {
		return fronts
	}
	left := func(without int) flowset.Set {
		rest := set
		for i, n := range fronts {
			if i != without {
				rest = x.Space.Minus(rest, v.table.condition(n).set(x.Space, 1, v))
			}
		}
		return rest
	}
	for i := 0; i < len(fronts); {
		if left(i) == flowset.Nothing {
			fronts = slices.Delete(fronts, i, i+1)
		} else {
			i++
		}
	}
	return fronts
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
}

// passings are what is looked for while sets are explored.
type passings struct {
	rule  *network.Rule
	table *table
	sets  map[tableView][]flowset.Set // what the rule matches
	found []Passing
}

// Passings returns by which rules in front of a filter rule connections of a set, which begin at a
// place, never come to it. The set is as Explore wants it, and so is the error.
func (x *Explorer) Passings(r *network.FilterRule, from Place, set flowset.Set) ([]Passing, error) {
	p := &passings{rule: &r.Rule, table: x.engine.Gateway(r.Gateway).filter, sets: map[tableView][]flowset.Set{}}
	x.passings = p
	defer func() { x.passings = nil }()
	err := x.explore(from, set, func(*Region) bool { return true })
	return p.found, err
}

// note looks whether connections that one condition of the table decides about meet the rule too.
func (p *passings) note(x *Explorer, set flowset.Set, terms *flowset.Terms, v tableView, decider int32) {
	front := p.table.rule(decider)
	if front == p.rule || slices.ContainsFunc(p.found, func(f Passing) bool { return f.Front == front }) {
		return
	}
	sets, known := p.sets[v]
	if !known {
		for n, c := range p.table.ordered() {
			if p.table.rule(n) == p.rule {
				sets = append(sets, c.set(x.Space, 1, v))
			}
		}
		p.sets[v] = sets
	}
	for _, meets := range sets {
		if example, ok := x.Space.Usual(x.Space.Preimage(set, meets, terms, v.turned)); ok {
			p.found = append(p.found, Passing{front, example})
			return
		}
	}
}

// A Crossing is two rules of a filter of which each matches connections that the
// other does not, and the first decides about some that both match.
type Crossing struct {
	First, Second *network.Rule
	Example       header.Packet
}

// Crossings returns the crossings of all filters.
func (x *Explorer) Crossings() []Crossing {
	var found []Crossing
	for _, g := range x.engine.gateways {
		var views []tableView
		leave := map[tableView]header.Addresses{} // where what is seen can go
		for _, in := range g.Interfaces {
			for _, out := range g.Interfaces {
				v := g.filter.viewed(g.between(in, out, x.moment), false)
				if _, known := leave[v]; !known {
					views = append(views, v)
				}
				to := header.AllAddresses()
				if !g.Handling.FilterSeesOriginal {
					to = g.RoutedBy(out)
				}
				leave[v] = leave[v].Union(to)
			}
		}
		for _, v := range views {
			found = append(found, x.crossingsIn(v, leave[v])...)
		}
	}
	return found
}

func (x *Explorer) crossingsIn(v tableView, to header.Addresses) []Crossing {
	var found []Crossing
	whole := x.view(v)
	var families [2]flowset.Set // no packet is of both, so rules may cross in one alone
	for _, f := range header.Families {
		families[f] = x.Space.Where(flowset.Destination, flowset.AddressSpans(to.Intersect(f.All())), x.Space.Where(flowset.Source, flowset.AddressSpans(f.All()), flowset.Everything))
	}
	only := x.Space.Overlay(families[header.IPv4], families[header.IPv6])
	for n, c := range v.table.ordered() {
		second := c.set(x.Space, 1, v)
		for _, p := range x.Space.Parts(x.within(x.Space.Restrict(only, second), whole)) {
			if p.Value == int(n)+1 {
				continue
			}
			first := v.table.condition(int32(p.Value-1)).set(x.Space, 1, v)
			crosses := slices.ContainsFunc(families[:], func(f flowset.Set) bool {
				a, b := x.Space.Restrict(f, first), x.Space.Restrict(f, second)
				return x.Space.Restrict(a, b) != flowset.Nothing && x.Space.Minus(a, b) != flowset.Nothing && x.Space.Minus(b, a) != flowset.Nothing
			})
			if crosses {
				example, _ := x.Space.Usual(p.Set)
				found = append(found, Crossing{v.table.rule(int32(p.Value - 1)), v.table.rule(n), example})
			}
		}
	}
	return found
}
