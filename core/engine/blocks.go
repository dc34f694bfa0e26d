package engine

import (
	"net/netip"
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
)

// A block is the addresses of a segment, or those of none.
type block struct {
	addresses header.Addresses
	spans     []flowset.Span
}

// Blocks are where packets come from and go to; the zero blocks are all addresses.
//
// A filter with rules between many zones is another list for each two of them, and most of its rules
// are about a few addresses. So of a long one only what is about packets between two blocks is made a
// set, when such a packet is met.
type blocks struct{ from, to *block }

// A blockRange is addresses of a block.
type blockRange struct {
	header.Range
	*block
}

func blockOf(list []blockRange, a netip.Addr) *block {
	at, found := slices.BinarySearchFunc(list, a, func(r blockRange, a netip.Addr) int { return r.First.Compare(a) })
	if !found {
		at--
	}
	return list[at].block
}

// areAll reports whether packets are not told apart.
func (b blocks) areAll() bool { return b.from == nil }
