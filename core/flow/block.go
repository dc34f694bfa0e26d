package flow

import (
	"iter"
	"slices"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// Splits reports whether sets are made of a table block by block.
func (x *Views) Splits(t *table.Table) bool { return t.IsSplitFrom(x.SplitFrom) }

// usualSplit is from which size on a table is split.
const usualSplit = 2_000_000

// blocksOf returns the blocks of a packet's ends.
func (x *Views) blocksOf(p *header.Packet) table.Blocks {
	if x.blocks == nil {
		x.blocks = findBlocks(x.net)
	}
	return table.Blocks{From: table.BlockOf(x.blocks, p.Source), To: table.BlockOf(x.blocks, p.Destination)}
}

// findBlocks returns the ranges of all blocks, which are every address, in their order.
func findBlocks(n *network.Network) (list []table.BlockRange) {
	rest := header.AllAddresses()
	add := func(set header.Addresses) {
		b := table.NewBlock(set)
		for _, r := range set.Ranges() {
			list = append(list, table.BlockRange{Range: r, Block: b})
		}
		rest = rest.Minus(set)
	}
	for _, s := range n.Segments {
		add(s.Addresses().Intersect(rest))
	}
	add(rest)
	slices.SortFunc(list, func(a, b table.BlockRange) int { return a.First.Compare(b.First) })
	return list
}

// A side is one end of packets that a table is asked about: a block, in a zone.
type side struct {
	table *table.Table
	block *table.Block
	zone  int
	to    bool
}

// about returns the conditions of a view that packets between its blocks may meet, with their numbers, in
// order. What a condition says of either end is asked once for all that the other may be.
func (x *Views) about(v View) iter.Seq2[int32, *table.Condition] {
	if v.between.AreAll() {
		return v.Table.Ordered()
	}
	from := x.of(side{v.Table, v.between.From, v.In.FromZone, false})
	to := x.of(side{v.Table, v.between.To, v.In.ToZone, true})
	return func(yield func(int32, *table.Condition) bool) {
		for i, k := 0, 0; i < len(from) && k < len(to); {
			switch {
			case from[i].place < to[k].place:
				i++
			case from[i].place > to[k].place:
				k++
			default:
				if n := from[i].number; !yield(n, v.Table.Condition(n)) {
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
	for n, c := range s.table.Ordered() {
		m := &c.From
		if s.to {
			m = &c.To
		}
		if m.Overlaps(s.block, s.zone) {
			list = append(list, listed{place, n})
		}
		place++
	}
	x.sides[s] = list
	return list
}
