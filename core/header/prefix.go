package header

import (
	"net/netip"
	"sort"
)

// A PrefixPair is an inside and an outside IPv6 prefix that are translated into
// each other without state (RFC 6296). Both are of one length.
type PrefixPair struct{ inside, outside netip.Prefix }

// The lengths that prefixes of a pair may have. Behind the longest a word is left to keep
// the checksum in; shorter ones than the shortest are in nobody's hand, and their
// translation would be too many pieces to follow whole sets through.
const (
	ShortestPrefix = 32
	LongestPrefix  = 112
)

// NewPrefixPair returns the pair, or false where the prefixes are not IPv6, not of
// one length, or of a length outside of ShortestPrefix to LongestPrefix.
func NewPrefixPair(inside, outside netip.Prefix) (PrefixPair, bool) {
	ok := inside.Addr().Is6() && outside.Addr().Is6() && inside.Bits() == outside.Bits() && ShortestPrefix <= inside.Bits() && inside.Bits() <= LongestPrefix
	return PrefixPair{inside.Masked(), outside.Masked()}, ok
}

// Inward returns what an outside address becomes inside.
func (p PrefixPair) Inward(a netip.Addr) PrefixMove { return move(a, p.outside, p.inside) }

// Outward returns what an inside address becomes outside.
func (p PrefixPair) Outward(a netip.Addr) PrefixMove { return move(a, p.inside, p.outside) }

// A PrefixMove is what a prefix translation makes of an address.
//
// One 16-bit word is adjusted so that the checksum over the address stays as it was
// (RFC 6296, 3.1): bits 48 to 63 for a prefix of up to 48 bits (3.4), else the first
// word behind the prefix, and behind bit 63, that is not 0xFFFF (3.5). Two addresses
// must not become one, so a subnet that is all ones, and identifiers that are all ones
// or all zeros, before or behind the translation, have no place on the other side.
type PrefixMove struct {
	To netip.Addr // the zero Addr where there is none

	a        netip.Addr
	from, to netip.Prefix
	word     int // that is adjusted, 8 where all are ones
}

func move(a netip.Addr, from, to netip.Prefix) PrefixMove {
	m := PrefixMove{a: a, from: from, to: to, word: firstWord(from)}
	bytes := a.As16()
	ones := func(word int) bool { return bytes[2*word] == 0xff && bytes[2*word+1] == 0xff }
	if from.Bits() > 48 {
		for m.word < 8 && ones(m.word) {
			m.word++
		}
		if m.word == 8 || m.isZero(bytes) {
			return m
		}
	} else if ones(m.word) {
		return m
	}
	value := m.adjusted(uint16(bytes[2*m.word])<<8 | uint16(bytes[2*m.word+1]))
	new := to.Addr().As16()
	for bit := range from.Bits() {
		mask := byte(0x80 >> (bit % 8))
		bytes[bit/8] = bytes[bit/8]&^mask | new[bit/8]&mask
	}
	bytes[2*m.word], bytes[2*m.word+1] = byte(value>>8), byte(value)
	if from.Bits() <= 48 || !m.isZero(bytes) {
		m.To = netip.AddrFrom16(bytes)
	}
	return m
}

// firstWord returns the first word that can be adjusted.
func firstWord(prefix netip.Prefix) int {
	if prefix.Bits() <= 48 {
		return 3
	}
	return max(4, (prefix.Bits()+15)/16)
}

// isZero reports whether the identifier of an address is all zeros.
func (m *PrefixMove) isZero(bytes [16]byte) bool {
	for _, b := range bytes[2*firstWord(m.from):] {
		if b != 0 {
			return false
		}
	}
	return true
}

// adjusted returns what the word becomes; 0xFFFF, which is 0 as well, is written as 0.
func (m *PrefixMove) adjusted(value uint16) uint16 {
	value = onesAdd(value, onesAdd(onesSum(m.from.Addr().As16()), ^onesSum(m.to.Addr().As16())))
	if value == 0xffff {
		value = 0
	}
	return value
}

// A PrefixClass is addresses that a prefix translation moves by one distance, or those that
// have no place on the other side.
type PrefixClass struct {
	Alike Addresses
	Move  PrefixMove // of one of them
}

// Classes returns all addresses of one side by what becomes of them: of the outside
// inward, else of the inside outward.
func (p PrefixPair) Classes(inward bool) []PrefixClass {
	from, to := p.inside, p.outside
	if inward {
		from, to = to, from
	}
	m := PrefixMove{from: from, to: to}
	lost := m.lost()
	classes := []PrefixClass{{lost, m}}
	for left := AddressesOfPrefixes(from).Minus(lost); !left.Empty(); {
		a, _ := left.First()
		move := move(a, from, to)
		alike := move.alike().Minus(lost)
		classes = append(classes, PrefixClass{alike, move})
		left = left.Minus(alike)
	}
	return classes
}

// alike returns the addresses that are moved by the same distance as this one, and some of
// those that have no place on the other side.
func (m PrefixMove) alike() Addresses {
	word := 2 * m.word
	bytes := m.a.As16()
	value := int(bytes[word])<<8 | int(bytes[word+1])
	distance := func(v int) int { return int(m.adjusted(uint16(v))) - v }
	same := func(v int) bool { return distance(v) == distance(value) }
	// Before it goes round the distance is the adjustment, behind it 0xffff less: each
	// value is on one stretch, but for single values at its ends.
	first := sort.Search(value, same)
	last := value + sort.Search(0xfffe-value, func(v int) bool { return !same(value + v + 1) })
	low, high := bytes, bytes
	low[word], low[word+1] = byte(first>>8), byte(first)
	high[word], high[word+1] = byte(last>>8), byte(last)
	for i := word + 2; i < 16; i++ {
		low[i], high[i] = 0, 0xff
	}
	return m.everywhere(Range{netip.AddrFrom16(low), netip.AddrFrom16(high)})
}

// lost returns the addresses that have no place on the other side.
func (m *PrefixMove) lost() Addresses {
	first := 2 * firstWord(m.from)
	ones, zeros, becomeZeros := m.from.Addr().As16(), m.from.Addr().As16(), m.from.Addr().As16()
	for i := first; i < 16; i++ {
		ones[i] = 0xff
	}
	if m.from.Bits() <= 48 {
		low := ones
		clear(low[first+2:])
		return m.everywhere(Range{netip.AddrFrom16(low), netip.AddrFrom16(ones)})
	}
	inverse := PrefixMove{from: m.to, to: m.from}
	back := inverse.adjusted(0)
	becomeZeros[first], becomeZeros[first+1] = byte(back>>8), byte(back)
	var all []Range
	for _, bytes := range [][16]byte{ones, zeros, becomeZeros} {
		a := netip.AddrFrom16(bytes)
		all = append(all, m.everywhere(Range{a, a}).Ranges()...)
	}
	return AddressesOf(all...)
}

// everywhere returns a range as it is in every subnet: with all values of the bits
// between the prefix and the first word that can be adjusted.
func (m *PrefixMove) everywhere(r Range) Addresses {
	free := 16*firstWord(m.from) - m.from.Bits()
	ranges := make([]Range, 0, 1<<free)
	at := func(a netip.Addr, subnet int) netip.Addr {
		bytes := a.As16()
		for i := range free {
			bit := 16*firstWord(m.from) - 1 - i
			mask := byte(0x80 >> (bit % 8))
			bytes[bit/8] &^= mask
			if subnet>>i&1 == 1 {
				bytes[bit/8] |= mask
			}
		}
		return netip.AddrFrom16(bytes)
	}
	for subnet := range 1 << free {
		ranges = append(ranges, Range{at(r.First, subnet), at(r.Last, subnet)})
	}
	return AddressesOf(ranges...)
}

func onesSum(bytes [16]byte) uint16 {
	sum := uint16(0)
	for i := 0; i < 16; i += 2 {
		sum = onesAdd(sum, uint16(bytes[i])<<8|uint16(bytes[i+1]))
	}
	return sum
}

// onesAdd adds in one's complement.
func onesAdd(a, b uint16) uint16 {
	sum := uint32(a) + uint32(b)
	return uint16(sum&0xffff + sum>>16)
}
