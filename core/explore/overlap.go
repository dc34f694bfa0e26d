package explore

import (
	"slices"

	"hollowbridge/core/flow"
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/table"
)

// Overlaps are, for each condition of a table, those in front of it that may take packets from it.
// Where they are few, what decides about the packets of a condition is found without the table as a
// set, which is another one between each two zones.
type overlaps struct {
	front [][]int32     // by the number of a condition
	zones []table.Asked // what these and the condition itself ask of a scope, by the same
}

// An inScope is a condition of a table as it is in a scope.
type inScope struct {
	table     *table.Table
	condition int32
	table.Scope
}

// An inTable is a condition of a table.
type inTable struct {
	table     *table.Table
	condition int32
}

// mostOverlaps is how many others there may be in front of a condition, on average. Between two zones
// there are fewer.
const mostOverlaps = 1000

// overlapsOf returns the overlaps of a table, nil where it is better looked at as a set. They are found
// by comparing each two conditions' outermost values.
func (x *Explorer) overlapsOf(t *table.Table) *overlaps {
	if !x.Splits(t) {
		return nil
	}
	if known, ok := x.overlaps[t]; ok {
		return known
	}
	o := newOverlaps(t)
	x.overlaps[t] = o
	return o
}

func newOverlaps(t *table.Table) *overlaps {
	o := &overlaps{}
	var order []int32 // the conditions, as they are tried
	var outermost []table.Intervals
	for n, c := range t.Ordered() {
		order, outermost = append(order, n), append(outermost, table.SpansOf(c))
	}
	numbers := int32(0) // of which some may be no more
	if len(order) > 0 {
		numbers = slices.Max(order) + 1
	}
	o.front, o.zones = make([][]int32, numbers), make([]table.Asked, numbers)
	found, apart := 0, apart{map[*header.Range]int{}, map[[2]int]bool{}}
	for i, n := range order {
		all := t.Condition(n).Asked()
		for k := range outermost[:i] {
			m := order[k]
			if !outermost[i].Overlap(&outermost[k]) || apart.are(t.Condition(m), t.Condition(n)) {
				continue
			}
			all = all.And(t.Condition(m).Asked())
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
func (a *apart) are(c, d *table.Condition) bool {
	return a.addresses(&c.To, &d.To) || a.addresses(&c.From, &d.From)
}

func (a *apart) addresses(m, o *table.Matcher) bool {
	if m.Any || o.Any || len(m.Zones) > 0 || len(o.Zones) > 0 {
		return false
	}
	r, s := m.All.Ranges(), o.All.Ranges()
	if len(r)+len(s) <= fewRanges || len(a.known) == mostKnown {
		return !m.All.Overlaps(o.All)
	}
	pair := [2]int{a.number(r), a.number(s)}
	known, ok := a.known[pair]
	if !ok {
		known = !m.All.Overlaps(o.All)
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
func (x *Explorer) decided(v flow.View, n int32, set flowset.Set, to header.Addresses) []flowset.Valued {
	switch {
	case set == flowset.Nothing:
		return nil
	case x.overlapsOf(v.Table) == nil:
		return x.Space.Parts(x.within(set, x.View(v)))
	}
	return x.among(v, x.inFront(v.Table, n), n, set, func(c *table.Condition) bool { return c.IsOf(v.In) && c.GoesTo(v.In, to) })
}

// everywhere returns by which conditions all packets of one are decided before it, where neither these nor
// it ask of a scope anything: then it is hidden in all of them. Else it returns nothing.
func (x *Explorer) everywhere(v flow.View, n int32, set flowset.Set) []flowset.Valued {
	alike := func(c *table.Condition) bool { return c.Asked() == table.Asked{} }
	if v.Table.Asked() == (table.Asked{}) || !alike(v.Table.Condition(n)) {
		return nil // or there is one scope
	}
	parts := x.among(v, x.inFront(v.Table, n), n, set, alike)
	if slices.ContainsFunc(parts, func(p flowset.Valued) bool { return p.Value == flowset.Numbered(n) }) {
		return nil
	}
	return parts
}

// inFront returns the conditions in front of one that may take packets from it.
func (x *Explorer) inFront(t *table.Table, n int32) (front []int32) {
	if o := x.overlapsOf(t); o != nil {
		return o.front[n]
	}
	outermost := table.SpansOf(t.Condition(n))
	for m, c := range t.Ordered() {
		if m == n {
			break
		}
		if theirs := table.SpansOf(c); outermost.Overlap(&theirs) {
			front = append(front, m)
		}
	}
	return front
}

// among is decided by some conditions in front of condition n, and by that, if they are asked for.
func (x *Explorer) among(v flow.View, front []int32, n int32, set flowset.Set, asked func(*table.Condition) bool) []flowset.Valued {
	var parts []flowset.Valued
	for _, m := range slices.Concat(front, []int32{n}) {
		if set == flowset.Nothing {
			break
		}
		c := v.Table.Condition(m)
		if !asked(c) {
			continue
		}
		meets := x.meets(v, m)
		if part := x.Space.Restrict(set, meets); part != flowset.Nothing {
			parts = append(parts, flowset.Valued{Value: flowset.Numbered(m), Set: part})
			set = x.Space.Minus(set, meets)
		}
	}
	slices.SortFunc(parts, func(a, b flowset.Valued) int { return int(a.Value - b.Value) })
	return parts
}

// meets returns what one condition of a table matches in a view, and remembers it.
func (x *Explorer) meets(v flow.View, n int32) flowset.Set {
	c := v.Table.Condition(n)
	this := inScope{v.Table, n, c.Asked().In(v.In)}
	known, ok := x.met[this]
	if !ok {
		known = x.SetOf(c, 1, v)
		x.met[this] = known
	}
	return known
}
