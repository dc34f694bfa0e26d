package table

import (
	"net/netip"

	"hollowbridge/core/header"
)

// An AddressSet is addresses that are asked about for every packet.
type AddressSet struct {
	header.Addresses
	four []fourRange // those of IPv4, sorted
}

type fourRange struct{ first, last uint32 }

func NewAddressSet(set header.Addresses) AddressSet {
	s := AddressSet{Addresses: set}
	for _, r := range set.Ranges() {
		if r.First.Is4() {
			s.four = append(s.four, fourRange{header.Four(r.First), header.Four(r.Last)})
		}
	}
	return s
}

func SetOfPrefixes(list ...netip.Prefix) AddressSet {
	return NewAddressSet(header.AddressesOfPrefixes(list...))
}

// Contains reports whether an address is in the set.
func (s *AddressSet) Contains(a netip.Addr) bool {
	if !a.Is4() {
		return s.Addresses.Contains(a)
	}
	four := header.Four(a)
	low, high := 0, len(s.four)
	for low < high {
		if middle := int(uint(low+high) >> 1); s.four[middle].last < four {
			low = middle + 1
		} else {
			high = middle
		}
	}
	return low < len(s.four) && s.four[low].first <= four
}

// ByAddress finds what has an address: nil where nothing does.
type ByAddress[T any] struct {
	*Numbers
	list []*T
}

// An Numbers gives addresses numbers in a list. Once sealed it is never changed, so that
// it can serve the lists of several revisions.
type Numbers struct {
	four map[[4]byte]int32 // which is quicker than by netip.Addr
	six  map[netip.Addr]int32
	All  header.Addresses // that something has
}

func NewByAddress[T any](list []*T) ByAddress[T] {
	return ByAddress[T]{&Numbers{four: map[[4]byte]int32{}, six: map[netip.Addr]int32{}}, list}
}

// With returns the same addresses for the same list of another revision.
func (m *ByAddress[T]) With(list []*T) ByAddress[T] { return ByAddress[T]{m.Numbers, list} }

func (m *ByAddress[T]) Of(a netip.Addr) *T {
	n, ok := m.number(a)
	if !ok {
		return nil
	}
	return m.list[n]
}

func (m *Numbers) number(a netip.Addr) (n int32, ok bool) {
	if a.Is4() {
		n, ok = m.four[a.As4()]
	} else {
		n, ok = m.six[a]
	}
	return n, ok
}

func (m *Numbers) Has(a netip.Addr) bool {
	_, ok := m.number(a)
	return ok
}

func (m *Numbers) Set(a netip.Addr, number int) {
	if a.Is4() {
		m.four[a.As4()] = int32(number)
	} else {
		m.six[a] = int32(number)
	}
}

// Seal is called when everything has been set.
func (m *Numbers) Seal() {
	ranges := make([]header.Range, 0, len(m.four)+len(m.six))
	for b := range m.four {
		a := netip.AddrFrom4(b)
		ranges = append(ranges, header.Range{First: a, Last: a})
	}
	for a := range m.six {
		ranges = append(ranges, header.Range{First: a, Last: a})
	}
	m.All = header.AddressesOf(ranges...)
}
