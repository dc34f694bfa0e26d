package engine

import (
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
)

// Overlaps are, for each condition of a table, those in front of it that may take packets from it.
// Where they are few, what decides about the packets of a condition is found without the table as a
// set, which is another one between each two zones.
type overlaps struct {
	front [][]int32    // by the number of a condition
	zones []scopeAsked // what these and the condition itself ask of a scope, by the same
}

// An inScope is a condition of a table as it is in a scope.
type inScope struct {
	table     *table
	condition int32
	scope
}

// ScopeAsked is what of a scope something asks about: which zones, and whether a rule redirected packets.
type scopeAsked struct{ from, to, led bool }

// and returns what either asks about.
func (a scopeAsked) and(b scopeAsked) scopeAsked {
	return scopeAsked{a.from || b.from, a.to || b.to, a.led || b.led}
}

// in returns a scope without what is not asked about.
func (a scopeAsked) in(s scope) scope {
	s.redirected = s.redirected && a.led
	if !a.from {
		s.fromZone = 0
	}
	if !a.to {
		s.toZone = 0
	}
	return s
}

func (c *condition) asked() scopeAsked {
	return scopeAsked{len(c.from.zones) > 0, len(c.to.zones) > 0, c.redirected}
}

func (t *table) asked() scopeAsked { return scopeAsked{t.asksFrom, t.asksTo, t.asksLed} }

// mostOverlaps is how many others there may be in front of a condition, on average. Between two zones
// there are fewer.
const mostOverlaps = 1000

// overlapsOf returns the overlaps of a table, nil where it is better looked at as a set. They are found
// by comparing each two conditions' outermost values.
func (x *Explorer) overlapsOf(t *table) *overlaps {
	if !x.splits(t) {
		return nil
	}
	if known, ok := x.overlaps[t]; ok {
		return known
	}
	o := newOverlaps(t)
	x.overlaps[t] = o
	return o
}

func newOverlaps(t *table) *overlaps {
	o := &overlaps{}
	var order []int32 // the conditions, as they are tried
	var outermost []intervals
	for n, c := range t.ordered() {
		order, outermost = append(order, n), append(outermost, spansOf(c))
	}
	numbers := int32(0) // of which some may be no more
	if len(order) > 0 {
		numbers = slices.Max(order) + 1
	}
	o.front, o.zones = make([][]int32, numbers), make([]scopeAsked, numbers)
	found := 0
	for i, n := range order {
		all := t.condition(n).asked()
		for k := range outermost[:i] {
			if !outermost[i].overlap(&outermost[k]) {
				continue
			}
			m := order[k]
			all = all.and(t.condition(m).asked())
			o.front[n] = append(o.front[n], m)
		}
		o.zones[n] = all
		if found += len(o.front[n]); found > mostOverlaps*(i+mostOverlaps) {
			return nil
		}
	}
	return o
}

// overlap reports whether both have values in common in each field.
func (s *intervals) overlap(t *intervals) bool {
	for f := fields - 1; f >= 0; f-- { // services differ most
		if s[f].last < t[f].first || t[f].last < s[f].first {
			return false
		}
	}
	return true
}

// decided returns by which conditions the packets of a set are decided that meet condition n and go to
// some addresses, each with what it decides, by their numbers counted from 1.
func (x *Explorer) decided(v tableView, n int32, set flowset.Set, to header.Addresses) []flowset.Valued {
	o := x.overlapsOf(v.table)
	switch {
	case set == flowset.Nothing:
		return nil
	case o == nil:
		return x.Space.Parts(x.within(set, x.view(v)))
	}
	var sets []flowset.Set
	for _, m := range slices.Concat(o.front[n], []int32{n}) {
		if c := v.table.condition(m); c.isOf(v.in) && c.goesTo(v.in, to) {
			sets = append(sets, c.set(x, int(m)+1, v))
		}
	}
	return x.Space.Parts(x.within(set, x.Space.OverlayAll(sets)))
}

// isOf reports whether a condition can be met in a scope.
func (c *condition) isOf(in scope) bool {
	return (!c.redirected || in.redirected) && (c.from.any || !c.from.in(in.fromZone).Empty()) && (c.to.any || !c.to.in(in.toZone).Empty())
}
