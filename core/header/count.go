package header

import (
	"cmp"
	"math"
	"math/bits"
	"net/netip"
)

// A Count is how many addresses there are: exactly, up to all of both families.
type Count struct{ top, high, low uint64 } // top is 2 to the power of 128

// CountOf returns a count of n, which is not negative.
func CountOf(n int) Count { return Count{low: uint64(n)} }

func (c Count) plus(d Count) Count {
	low, carry := bits.Add64(c.low, d.low, 0)
	high, carry := bits.Add64(c.high, d.high, carry)
	return Count{c.top + d.top + carry, high, low}
}

// Compare returns a number below, equal to or above 0 where the count is less than, equal to or more than another.
func (c Count) Compare(d Count) int {
	return cmp.Or(cmp.Compare(c.top, d.top), cmp.Compare(c.high, d.high), cmp.Compare(c.low, d.low))
}

// Exceeds reports whether it is more than n.
func (c Count) Exceeds(n int) bool { return c.Compare(CountOf(n)) > 0 }

// UpTo returns the count where it is at most n, and else n.
func (c Count) UpTo(n int) int {
	if c.Exceeds(n) {
		return n
	}
	return int(c.low)
}

// Half returns half of the count, rounded down.
func (c Count) Half() Count {
	return Count{c.top >> 1, c.top<<63 | c.high>>1, c.high<<63 | c.low>>1}
}

// Float64 returns the count, rounded above 2^53.
func (c Count) Float64() float64 {
	return math.Ldexp(float64(c.top), 128) + math.Ldexp(float64(c.high), 64) + float64(c.low)
}

// countBetween counts the addresses from a to b, of one family.
func countBetween(a, b netip.Addr) Count {
	aHigh, aLow := Number(a)
	bHigh, bLow := Number(b)
	low, borrow := bits.Sub64(bLow, aLow, 0)
	high, _ := bits.Sub64(bHigh, aHigh, borrow)
	return Count{high: high, low: low}.plus(CountOf(1))
}
