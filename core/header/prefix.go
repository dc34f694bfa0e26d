package header

import (
	"net/netip"
	"sort"
)

// A PrefixPair is an inside and an outside IPv6 prefix that are translated into
// each other without state (RFC 6296). Both are of one length, at most 112 bits.
type PrefixPair struct{ inside, outside netip.Prefix }

// NewPrefixPair returns the pair, or false where the prefixes are not IPv6, not of
// one length, or longer than 112 bits, so that no word is left to keep the
// checksum in.
func NewPrefixPair(inside, outside netip.Prefix) (PrefixPair, bool) {
	ok := inside.Addr().Is6() && outside.Addr().Is6() && inside.Bits() == outside.Bits() && inside.Bits() <= 112
	return PrefixPair{inside.Masked(), outside.Masked()}, ok
}

// Inward returns what an outside address becomes inside.
func (p PrefixPair) Inward(a netip.Addr) netip.Addr { return rewritePrefix(a, p.outside, p.inside) }

// Outward returns what an inside address becomes outside.
func (p PrefixPair) Outward(a netip.Addr) netip.Addr { return rewritePrefix(a, p.inside, p.outside) }

// rewritePrefix replaces the prefix and adjusts one 16-bit word so that the
// checksum over the address stays as it was (RFC 6296, 3.1): bits 48 to 63 for a
// prefix of up to 48 bits (3.4), else the first word behind the prefix that is
// not 0xFFFF (3.5). Where all are, the address is left without adjustment.
func rewritePrefix(a netip.Addr, from, to netip.Prefix) netip.Addr {
	bytes, old, new := a.As16(), from.Addr().As16(), to.Addr().As16()
	bits := from.Bits()
	for bit := range bits {
		mask := byte(0x80 >> (bit % 8))
		bytes[bit/8] = bytes[bit/8]&^mask | new[bit/8]&mask
	}
	word := 3
	if bits > 48 {
		for word = (bits + 15) / 16; word < 8 && bytes[2*word] == 0xff && bytes[2*word+1] == 0xff; word++ {
		}
		if word == 8 {
			return netip.AddrFrom16(bytes)
		}
	}
	adjustment := onesAdd(onesSum(old), ^onesSum(new))
	value := onesAdd(uint16(bytes[2*word])<<8|uint16(bytes[2*word+1]), adjustment)
	if value == 0xffff {
		value = 0
	}
	bytes[2*word], bytes[2*word+1] = byte(value>>8), byte(value)
	return netip.AddrFrom16(bytes)
}

// A Piece is addresses that are all moved by one distance: those of From become
// those that begin at To.
type Piece struct {
	From Range
	To   netip.Addr
}

// InwardPiece returns the outside addresses around a that Inward moves by the same distance.
func (p PrefixPair) InwardPiece(a netip.Addr) Piece { return pieceAround(a, p.outside, p.inside) }

// OutwardPiece returns the inside addresses around a that Outward moves by the same distance.
func (p PrefixPair) OutwardPiece(a netip.Addr) Piece { return pieceAround(a, p.inside, p.outside) }

// pieceAround finds how far the word that is adjusted may change so that it is
// moved by the same distance: up to where it goes round, or becomes the one value
// (0xFFFF) that is written as 0 or passed over for the next word.
func pieceAround(a netip.Addr, from, to netip.Prefix) Piece {
	bytes := a.As16()
	word := 3
	if from.Bits() > 48 {
		for word = (from.Bits() + 15) / 16; word < 8 && bytes[2*word] == 0xff && bytes[2*word+1] == 0xff; word++ {
		}
	}
	if word == 8 {
		return Piece{Range{a, a}, rewritePrefix(a, from, to)}
	}
	at := func(value int, rest byte) netip.Addr {
		b := bytes
		b[2*word], b[2*word+1] = byte(value>>8), byte(value)
		for i := 2*word + 2; i < 16; i++ {
			b[i] = rest
		}
		return netip.AddrFrom16(b)
	}
	// moved is value + adjustment, less 0xffff where that goes round, and 0 for 0xffff.
	moved := func(value int) int {
		b := rewritePrefix(at(value, 0), from, to).As16()
		return int(b[2*word])<<8 | int(b[2*word+1])
	}
	value := int(bytes[2*word])<<8 | int(bytes[2*word+1])
	distance := moved(value) - value
	most := 0xffff
	if from.Bits() > 48 {
		most = 0xfffe
	}
	same := func(v int) bool { return moved(v)-v == distance }
	// Before it goes round the distance is the adjustment, behind it 0xffff less: each
	// value is on one stretch, but for single values at its ends.
	first := sort.Search(value, func(v int) bool { return same(v) })
	last := value + sort.Search(most-value, func(v int) bool { return !same(value + v + 1) })
	low := at(first, 0)
	return Piece{Range{low, at(last, 0xff)}, rewritePrefix(low, from, to)}
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
