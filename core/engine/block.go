package engine

import (
	"iter"
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// splits reports whether sets are made of a table block by block.
func (x *Views) splits(t *table) bool { return t.isSplitFrom(x.splitFrom) }

// usualSplit is from which size on a table is split.
const usualSplit = 2_000_000

// blocksOf returns the blocks of a packet's ends.
func (x *Views) blocksOf(p *header.Packet) blocks {
	if x.blocks == nil {
		x.blocks = findBlocks(x.net)
	}
	return blocks{blockOf(x.blocks, p.Source), blockOf(x.blocks, p.Destination)}
}

// findBlocks returns the ranges of all blocks, which are every address, in their order.
func findBlocks(n *network.Network) (list []blockRange) {
	rest := header.AllAddresses()
	add := func(set header.Addresses) {
		b := &block{set, flowset.AddressSpans(set)}
		for _, r := range set.Ranges() {
			list = append(list, blockRange{r, b})
		}
		rest = rest.Minus(set)
	}
	for _, s := range n.Segments {
		add(s.Addresses().Intersect(rest))
	}
	add(rest)
	slices.SortFunc(list, func(a, b blockRange) int { return a.First.Compare(b.First) })
	return list
}

// A side is one end of packets that a table is asked about: a block, in a zone.
type side struct {
	table *table
	block *block
	zone  int
	to    bool
}

// about returns the conditions of a view that packets between its blocks may meet, with their numbers, in
// order. What a condition says of either end is asked once for all that the other may be.
func (x *Views) about(v tableView) iter.Seq2[int32, *condition] {
	if v.between.areAll() {
		return v.table.ordered()
	}
	from := x.of(side{v.table, v.between.from, v.in.fromZone, false})
	to := x.of(side{v.table, v.between.to, v.in.toZone, true})
	return func(yield func(int32, *condition) bool) {
		for i, k := 0, 0; i < len(from) && k < len(to); {
			switch {
			case from[i].place < to[k].place:
				i++
			case from[i].place > to[k].place:
				k++
			default:
				if n := from[i].number; !yield(n, v.table.condition(n)) {
					return
				}
				i, k = i+1, k+1
			}
		}
	}
}

// A listed condition is its place in the order in which a table's are tried, and its number.
type listed struct{ place, number int32 }

// of returns the conditions that say of one end what packets of a side may be.
func (x *Views) of(s side) []listed {
	if known, ok := x.sides[s]; ok {
		return known
	}
	var list []listed
	place := int32(0)
	for n, c := range s.table.ordered() {
		m := &c.from
		if s.to {
			m = &c.to
		}
		if m.overlaps(s.block, s.zone) {
			list = append(list, listed{place, n})
		}
		place++
	}
	x.sides[s] = list
	return list
}

// set returns the packets between the blocks or, turned, what answers them.
func (b blocks) set(space *flowset.Space, turned bool) flowset.Set {
	source, destination := b.from.spans, b.to.spans
	if turned {
		source, destination = destination, source
	}
	return space.Where(flowset.Destination, destination, space.Where(flowset.Source, source, flowset.Everything))
}
