package engine

import (
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A HiddenRule is a rule that can never match, and the rules that take what it
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
			views = append(views, tableView{table: g.destinations[in.Index], in: g.between(in, in, x.moment)})
			for _, out := range g.Interfaces {
				through := g.between(in, out, x.moment)
				views = append(views, tableView{table: g.filter, in: through}, tableView{table: g.sources[out.Index], in: through})
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
			rule := v.table.rule(n)
			for _, p := range x.Space.Parts(x.within(c.set(x.Space, 1, v.in, v.turned), whole)) {
				if other := v.table.rule(int32(p.Value - 1)); !slices.Contains(by[rule], other) {
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

// within returns the values that whole gives to the members of a set. Of a large whole
// it looks only at what the set comes to.
func (x *Explorer) within(set, whole flowset.Set) flowset.Set {
	terms := flowset.OriginalTerms()
	return x.Space.Preimage(set, whole, &terms, false)
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
		done := map[tableView]bool{}
		for _, in := range g.Interfaces {
			for _, out := range g.Interfaces {
				v := tableView{table: g.filter, in: g.between(in, out, x.moment)}
				if !done[v] {
					done[v] = true
					found = append(found, x.crossingsIn(v)...)
				}
			}
		}
	}
	return found
}

func (x *Explorer) crossingsIn(v tableView) []Crossing {
	var found []Crossing
	whole := x.view(v)
	for n, c := range v.table.ordered() {
		second := c.set(x.Space, 1, v.in, v.turned)
		for _, p := range x.Space.Parts(x.within(second, whole)) {
			if p.Value == int(n)+1 {
				continue
			}
			first := v.table.condition(int32(p.Value-1)).set(x.Space, 1, v.in, v.turned)
			if x.Space.Minus(first, second) != flowset.Nothing && x.Space.Minus(second, first) != flowset.Nothing {
				example, _ := x.Space.Usual(p.Set)
				found = append(found, Crossing{v.table.rule(int32(p.Value - 1)), v.table.rule(n), example})
			}
		}
	}
	return found
}
