package table

import (
	"net/netip"
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
)

// A Block is the addresses of a segment, or those of none.
type Block struct {
	addresses header.Addresses
	spans     []flowset.Span
}

// NewBlock returns a block of some addresses.
func NewBlock(set header.Addresses) *Block { return &Block{set, flowset.AddressSpans(set)} }

// Blocks are where packets come from and go to; the zero blocks are all addresses.
//
// A filter with rules between many zones is another list for each two of them, and most of its rules
// are about a few addresses. So of a long one only what is about packets between two blocks is made a
// set, when such a packet is met.
type Blocks struct{ From, To *Block }

// A BlockRange is addresses of a block.
type BlockRange struct {
	header.Range
	*Block
}

func BlockOf(list []BlockRange, a netip.Addr) *Block {
	at, found := slices.BinarySearchFunc(list, a, func(r BlockRange, a netip.Addr) int { return r.First.Compare(a) })
	if !found {
		at--
	}
	return list[at].Block
}

// AreAll reports whether packets are not told apart.
func (b Blocks) AreAll() bool { return b.From == nil }
