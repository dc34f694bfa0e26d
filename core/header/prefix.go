package header

import "net/netip"

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
