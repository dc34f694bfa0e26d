// Package header holds the values a connection is made of: addresses,
// protocols and ports, and exact sets of them.
package header

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"net/netip"
	"slices"
	"sort"
	"strings"
)

// A Range is the addresses from First to Last, both included. Both are of one
// family and First is not after Last.
type Range struct{ First, Last netip.Addr }

// RangeOf returns the addresses of a prefix.
func RangeOf(p netip.Prefix) Range {
	p = p.Masked()
	return Range{p.Addr(), lastOf(p)}
}

func lastOf(p netip.Prefix) netip.Addr {
	bytes := p.Addr().As16()
	first := p.Bits()
	if p.Addr().Is4() {
		first += 96
	}
	if first%8 > 0 {
		bytes[first/8] |= 0xff >> (first % 8)
	}
	for i := (first + 7) / 8; i < len(bytes); i++ {
		bytes[i] = 0xff
	}
	if p.Addr().Is4() {
		return netip.AddrFrom4([4]byte(bytes[12:]))
	}
	return netip.AddrFrom16(bytes)
}

// Contains reports whether a is in the range.
func (r Range) Contains(a netip.Addr) bool {
	return !a.Less(r.First) && !r.Last.Less(a)
}

// Count returns how many addresses there are, which must be fewer than 2^63.
func (r Range) Count() int {
	if r.First.Is4() {
		return int(Four(r.Last)) - int(Four(r.First)) + 1
	}
	_, first := Number(r.First)
	_, last := Number(r.Last)
	return int(last-first) + 1
}

// String writes the range as an address, a prefix where it is exactly one, or FIRST-LAST.
func (r Range) String() string {
	if r.First == r.Last {
		return r.First.String()
	}
	if p, ok := r.prefix(); ok {
		return p.String()
	}
	return r.First.String() + "-" + r.Last.String()
}

// prefix returns the prefix that the range is, if it is one: its ends have the same bits up to some
// place, and then all zeros and all ones.
func (r Range) prefix() (netip.Prefix, bool) {
	high, low := Number(r.First)
	lastHigh, lastLow := Number(r.Last)
	behind := bits.Len64(low ^ lastLow)
	if high != lastHigh {
		behind = 64 + bits.Len64(high^lastHigh)
	}
	p := netip.PrefixFrom(r.First, r.First.BitLen()-behind)
	return p, p.Masked().Addr() == r.First && lastOf(p) == r.Last
}

// Addresses is an exact set of IPv4 and IPv6 addresses. The zero value is empty.
// A set is never changed once made.
type Addresses struct {
	ranges []Range // sorted, disjoint, not adjacent; IPv4 before IPv6
}

var (
	all4 = RangeOf(netip.MustParsePrefix("0.0.0.0/0"))
	all6 = RangeOf(netip.MustParsePrefix("::/0"))
	all  = Addresses{[]Range{all4, all6}}
)

// AllAddresses returns the set of every IPv4 and every IPv6 address.
func AllAddresses() Addresses { return all }

// All returns the set of every address of the family.
func (f Family) All() Addresses {
	if f == IPv6 {
		return Addresses{all.ranges[1:]}
	}
	return Addresses{all.ranges[:1:1]}
}

// AddressesOf returns the set of the given ranges, which may overlap and be in any order.
func AddressesOf(ranges ...Range) Addresses { return AddressesIn(slices.Clone(ranges)) }

// AddressesIn is AddressesOf ranges that it takes over: nobody else may use them after it.
func AddressesIn(sorted []Range) Addresses {
	if len(sorted) == 0 {
		return Addresses{}
	}
	slices.SortFunc(sorted, func(a, b Range) int { return a.First.Compare(b.First) })
	merged := sorted[:1]
	for _, r := range sorted[1:] {
		last := &merged[len(merged)-1]
		if r.First.BitLen() == last.Last.BitLen() && (!last.Last.Less(r.First) || last.Last.Next() == r.First) {
			if last.Last.Less(r.Last) {
				last.Last = r.Last
			}
			continue
		}
		merged = append(merged, r)
	}
	return Addresses{slices.Clip(merged)}
}

// AddressesOfPrefixes returns the set of all addresses in the prefixes.
func AddressesOfPrefixes(prefixes ...netip.Prefix) Addresses {
	ranges := make([]Range, len(prefixes))
	for i, p := range prefixes {
		ranges[i] = RangeOf(p)
	}
	return AddressesOf(ranges...)
}

// Single returns the set that holds only a.
func Single(a netip.Addr) Addresses { return Addresses{[]Range{{a, a}}} }

// Ranges returns the set as sorted, disjoint ranges. The caller must not change them.
func (s Addresses) Ranges() []Range { return s.ranges }

// Empty reports whether the set holds nothing.
func (s Addresses) Empty() bool { return len(s.ranges) == 0 }

// IsAll reports whether the set holds every address of both families.
func (s Addresses) IsAll() bool { return s.Equal(all) }

// Equal reports whether both sets hold the same addresses.
func (s Addresses) Equal(t Addresses) bool {
	if len(s.ranges) > 0 && len(s.ranges) == len(t.ranges) && &s.ranges[0] == &t.ranges[0] {
		return true
	}
	return slices.Equal(s.ranges, t.ranges)
}

// Contains reports whether a is in the set.
func (s Addresses) Contains(a netip.Addr) bool {
	low, high := 0, len(s.ranges)
	for low < high {
		mid := int(uint(low+high) >> 1)
		if s.ranges[mid].Last.Less(a) {
			low = mid + 1
		} else {
			high = mid
		}
	}
	return low < len(s.ranges) && !a.Less(s.ranges[low].First)
}

// Union returns the addresses that are in s or in t.
func (s Addresses) Union(t Addresses) Addresses {
	if s.Empty() {
		return t
	}
	if t.Empty() {
		return s
	}
	return AddressesIn(slices.Concat(s.ranges, t.ranges))
}

// Intersect returns the addresses that are in both sets.
func (s Addresses) Intersect(t Addresses) Addresses {
	if len(s.ranges) < len(t.ranges) {
		s, t = t, s
	}
	if t.Empty() {
		return Addresses{}
	}
	some, others := s.since(t.ranges[0].First), t.since(s.ranges[0].First)
	out := rest{of: some}
	for i, j := 0, 0; i < len(some) && j < len(others); {
		a, b := some[i], others[j]
		first, last := a.First, a.Last
		if first.Less(b.First) {
			first = b.First
		}
		if b.Last.Less(last) {
			last = b.Last
		}
		if !last.Less(first) {
			out.add(i, Range{first, last})
		}
		if a.Last.Less(b.Last) {
			i++
		} else {
			j++
		}
	}
	return out.set()
}

// A rest is what is left of the ranges of a long set, one after the other. While it is whole ranges that are next
// to each other, they stay where they are.
type rest struct {
	of       []Range
	from, to int
	own      []Range
}

// add adds a part of range number i.
func (l *rest) add(i int, part Range) {
	if l.own == nil && part == l.of[i] {
		if l.from == l.to {
			l.from, l.to = i, i
		}
		if l.to == i {
			l.to++
			return
		}
	}
	if l.own == nil {
		l.own = slices.Clone(l.of[l.from:l.to])
	}
	l.own = append(l.own, part)
}

func (l *rest) set() Addresses {
	if l.own != nil || l.from == l.to {
		return Addresses{l.own}
	}
	return Addresses{l.of[l.from:l.to:l.to]}
}

// since returns the ranges that do not end before an address.
func (s Addresses) since(a netip.Addr) []Range {
	return s.ranges[sort.Search(len(s.ranges), func(i int) bool { return !s.ranges[i].Last.Less(a) }):]
}

// Overlaps reports whether an address is in both sets.
func (s Addresses) Overlaps(t Addresses) bool {
	if len(s.ranges) > len(t.ranges) {
		s, t = t, s
	}
	for _, r := range s.ranges {
		if others := t.since(r.First); len(others) > 0 && !r.Last.Less(others[0].First) {
			return true
		}
	}
	return false
}

// Minus returns the addresses that are in s and not in t.
func (s Addresses) Minus(t Addresses) Addresses {
	out := rest{of: s.ranges}
	j := 0
	for i, r := range s.ranges {
		first, open := r.First, true
		for j < len(t.ranges) && t.ranges[j].Last.Less(first) {
			j++
		}
		for k := j; k < len(t.ranges) && !r.Last.Less(t.ranges[k].First); k++ {
			if first.Less(t.ranges[k].First) {
				out.add(i, Range{first, t.ranges[k].First.Prev()})
			}
			if !t.ranges[k].Last.Less(r.Last) {
				open = false
				break
			}
			first = t.ranges[k].Last.Next()
		}
		if open {
			out.add(i, Range{first, r.Last})
		}
	}
	return out.set()
}

// First returns the lowest address of the set, IPv4 before IPv6.
// It returns false for an empty set.
func (s Addresses) First() (netip.Addr, bool) {
	if s.Empty() {
		return netip.Addr{}, false
	}
	return s.ranges[0].First, true
}

// FirstOf returns the lowest address of one family.
// It returns false where there is none.
func (s Addresses) FirstOf(family Family) (netip.Addr, bool) {
	i := sort.Search(len(s.ranges), func(i int) bool { return FamilyOf(s.ranges[i].First) >= family })
	if i == len(s.ranges) || FamilyOf(s.ranges[i].First) != family {
		return netip.Addr{}, false
	}
	return s.ranges[i].First, true
}

// Size returns how many addresses the set holds.
func (s Addresses) Size() (size Count) {
	for _, r := range s.ranges {
		size = size.plus(countBetween(r.First, r.Last))
	}
	return size
}

// Breadth returns the size of the larger family of the set, so that a set is no
// broader for naming the same things in both families.
func (s Addresses) Breadth() Count {
	four, six := s.Intersect(IPv4.All()).Size(), s.Intersect(IPv6.All()).Size()
	if four.Compare(six) > 0 {
		return four
	}
	return six
}

// Number returns an address as a number of 128 bits; IPv4 addresses are those of
// ::ffff:0:0/96.
func Number(a netip.Addr) (high, low uint64) {
	if a.Is4() {
		return 0, 0xffff<<32 | uint64(Four(a))
	}
	bytes := a.As16()
	return binary.BigEndian.Uint64(bytes[:8]), binary.BigEndian.Uint64(bytes[8:])
}

// Four returns an IPv4 address as a number of 32 bits; of another it panics.
func Four(a netip.Addr) uint32 {
	bytes := a.As4()
	return binary.BigEndian.Uint32(bytes[:])
}

// Shift returns the address that lies as far behind to as a lies behind from.
// All three are of one family, and the result must exist: it is used where two
// ranges of equal length are mapped one to one.
func Shift(a, from, to netip.Addr) netip.Addr {
	x, f, t := a.As16(), from.As16(), to.As16()
	var out [16]byte
	carry := 0
	for i := 15; i >= 0; i-- {
		sum := int(x[i]) - int(f[i]) + int(t[i]) + carry
		out[i] = byte(sum)
		carry = sum >> 8
	}
	if to.Is4() {
		return netip.AddrFrom16(out).Unmap()
	}
	return netip.AddrFrom16(out)
}

// String lists the set's ranges, "any" for all addresses and "none" for an empty set.
func (s Addresses) String() string {
	if s.IsAll() {
		return "any"
	}
	if s.Empty() {
		return "none"
	}
	texts := make([]string, len(s.ranges))
	for i, r := range s.ranges {
		texts[i] = r.String()
	}
	return strings.Join(texts, ", ")
}

// ParseAddress reads one address. An IPv4-mapped one (RFC 4291, 2.5.5.2) is refused, because programs have such addresses and
// packets have not; so is one with an interface behind %, which means something on one machine only.
func ParseAddress(text string) (netip.Addr, error) {
	a, err := netip.ParseAddr(text)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("%s: not an address", text)
	}
	if a.Zone() != "" {
		return netip.Addr{}, fmt.Errorf("%s: an address may not name an interface", text)
	}
	if a.Is4In6() {
		return netip.Addr{}, fmt.Errorf("%s: this is IPv4 written as IPv6, which no packet has; write %s", text, a.Unmap())
	}
	return a, nil
}

// ParsePrefix reads ADDRESS/BITS. Bits of the address behind the prefix are kept.
func ParsePrefix(text string) (netip.Prefix, error) {
	address, bits, found := strings.Cut(text, "/")
	if !found {
		return netip.Prefix{}, fmt.Errorf("%s: not a prefix; write it as ADDRESS/BITS", text)
	}
	a, err := ParseAddress(address)
	if err != nil {
		return netip.Prefix{}, err
	}
	n, err := parseNumber(bits, a.BitLen())
	if err != nil {
		return netip.Prefix{}, fmt.Errorf("%s: a prefix length goes from 0 to %d", text, a.BitLen())
	}
	return netip.PrefixFrom(a, n), nil
}

// ParseRange reads an address, a prefix or FIRST-LAST.
func ParseRange(text string) (Range, error) {
	if strings.Contains(text, "/") {
		p, err := ParsePrefix(text)
		if err != nil {
			return Range{}, err
		}
		if p.Masked() != p {
			return Range{}, fmt.Errorf("%s: the address has bits behind the prefix; the network is %s", text, p.Masked())
		}
		return RangeOf(p), nil
	}
	if first, last, found := strings.Cut(text, "-"); found {
		a, err := ParseAddress(first)
		if err != nil {
			return Range{}, err
		}
		b, err := ParseAddress(last)
		if err != nil {
			return Range{}, err
		}
		if a.BitLen() != b.BitLen() {
			return Range{}, fmt.Errorf("%s: the ends of a range are both IPv4 or both IPv6", text)
		}
		if b.Less(a) {
			return Range{}, fmt.Errorf("%s: the range is backwards; write %s-%s", text, b, a)
		}
		return Range{a, b}, nil
	}
	a, err := ParseAddress(text)
	return Range{a, a}, err
}

// LooksLikeAddress reports whether text was meant as an address, prefix or
// range rather than as a name: it holds only what addresses are written with.
func LooksLikeAddress(text string) bool {
	if text == "" || (!strings.ContainsAny(text, ".:") && !strings.Contains(text, "/")) {
		return false
	}
	digits := strings.ContainsAny(text, "0123456789") || strings.HasPrefix(text, "::")
	return digits && strings.Trim(text, "0123456789abcdefABCDEF.:/-%") == ""
}
