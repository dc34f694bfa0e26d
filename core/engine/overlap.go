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

// An inTable is a condition of a table.
type inTable struct {
	table     *table
	condition int32
}

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
	found, apart := 0, apart{map[*header.Range]int{}, map[[2]int]bool{}}
	for i, n := range order {
		all := t.condition(n).asked()
		for k := range outermost[:i] {
			m := order[k]
			if !outermost[i].overlap(&outermost[k]) || apart.are(t.condition(m), t.condition(n)) {
				continue
			}
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

// Apart knows which addresses that conditions ask for have none in common, where these are the same in all zones.
// Groups whose members are scattered overlap by their outermost addresses, and yet no address may be of both. As
// many rules name the same groups, each two of them are compared once.
type apart struct {
	numbers map[*header.Range]int // of the sets, by where their ranges are
	known   map[[2]int]bool
}

// are reports whether no packet meets both of two conditions, which overlap by their outermost addresses.
func (a *apart) are(c, d *condition) bool {
	return a.addresses(&c.to, &d.to) || a.addresses(&c.from, &d.from)
}

func (a *apart) addresses(m, o *matcher) bool {
	if m.any || o.any || len(m.zones) > 0 || len(o.zones) > 0 {
		return false
	}
	r, s := m.all.Ranges(), o.all.Ranges()
	if len(r)+len(s) <= fewRanges || len(a.known) == mostKnown {
		return !m.all.Overlaps(o.all)
	}
	pair := [2]int{a.number(r), a.number(s)}
	known, ok := a.known[pair]
	if !ok {
		known = !m.all.Overlaps(o.all)
		a.known[pair] = known
	}
	return known
}

// number returns the number of a set that is not empty, or that of all empty ones.
func (a *apart) number(set []header.Range) int {
	var at *header.Range
	if len(set) > 0 {
		at = &set[0]
	}
	n, ok := a.numbers[at]
	if !ok {
		n = len(a.numbers)
		a.numbers[at] = n
	}
	return n
}

const (
	fewRanges = 4       // of two sets together, that are compared each time
	mostKnown = 1 << 20 // pairs that are remembered
)

// decided returns by which conditions the packets of a set are decided that meet condition n and go to
// some addresses, each with what it decides, by their numbers counted from 1.
func (x *Explorer) decided(v tableView, n int32, set flowset.Set, to header.Addresses) []flowset.Valued {
	switch {
	case set == flowset.Nothing:
		return nil
	case x.overlapsOf(v.table) == nil:
		return x.Space.Parts(x.within(set, x.view(v)))
	}
	return x.among(v, x.inFront(v.table, n), n, set, func(c *condition) bool { return c.isOf(v.in) && c.goesTo(v.in, to) })
}

// everywhere returns by which conditions all packets of one are decided before it, where neither these nor
// it ask of a scope anything: then it is hidden in all of them. Else it returns nothing.
func (x *Explorer) everywhere(v tableView, n int32, set flowset.Set) []flowset.Valued {
	alike := func(c *condition) bool { return c.asked() == scopeAsked{} }
	if v.table.asked() == (scopeAsked{}) || !alike(v.table.condition(n)) {
		return nil // or there is one scope
	}
	parts := x.among(v, x.inFront(v.table, n), n, set, alike)
	if slices.ContainsFunc(parts, func(p flowset.Valued) bool { return p.Value == int(n)+1 }) {
		return nil
	}
	return parts
}

// inFront returns the conditions in front of one that may take packets from it.
func (x *Explorer) inFront(t *table, n int32) (front []int32) {
	if o := x.overlapsOf(t); o != nil {
		return o.front[n]
	}
	outermost := spansOf(t.condition(n))
	for m, c := range t.ordered() {
		if m == n {
			break
		}
		if theirs := spansOf(c); outermost.overlap(&theirs) {
			front = append(front, m)
		}
	}
	return front
}

// among is decided by some conditions in front of condition n, and by that, if they are asked for.
func (x *Explorer) among(v tableView, front []int32, n int32, set flowset.Set, asked func(*condition) bool) []flowset.Valued {
	var parts []flowset.Valued
	for _, m := range slices.Concat(front, []int32{n}) {
		if set == flowset.Nothing {
			break
		}
		c := v.table.condition(m)
		if !asked(c) {
			continue
		}
		meets := x.meets(v, m)
		if part := x.Space.Restrict(set, meets); part != flowset.Nothing {
			parts = append(parts, flowset.Valued{Value: int(m) + 1, Set: part})
			set = x.Space.Minus(set, meets)
		}
	}
	slices.SortFunc(parts, func(a, b flowset.Valued) int { return a.Value - b.Value })
	return parts
}

// meets returns what one condition of a table matches in a view, and remembers it.
func (x *Explorer) meets(v tableView, n int32) flowset.Set {
	c := v.table.condition(n)
	this := inScope{v.table, n, c.asked().in(v.in)}
	known, ok := x.met[this]
	if !ok {
		known = x.setOf(c, 1, v)
		x.met[this] = known
	}
	return known
}
