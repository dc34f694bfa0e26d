package engine

import (
	"net/netip"

	"hollowbridge/core/header"
)

// A quickSet is addresses that are asked about for every packet.
type quickSet struct {
	header.Addresses
	four []fourRange // those of IPv4, sorted
}

type fourRange struct{ first, last uint32 }

func quick(set header.Addresses) quickSet {
	q := quickSet{Addresses: set}
	for _, r := range set.Ranges() {
		if r.First.Is4() {
			q.four = append(q.four, fourRange{fourOf(r.First), fourOf(r.Last)})
		}
	}
	return q
}

// fourOf returns an IPv4 address as a number.
func fourOf(a netip.Addr) uint32 {
	b := a.As4()
	return uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3])
}

// Contains reports whether an address is in the set.
func (q *quickSet) Contains(a netip.Addr) bool {
	if !a.Is4() {
		return q.Addresses.Contains(a)
	}
	four := fourOf(a)
	low, high := 0, len(q.four)
	for low < high {
		if middle := int(uint(low+high) >> 1); q.four[middle].last < four {
			low = middle + 1
		} else {
			high = middle
		}
	}
	return low < len(q.four) && q.four[low].first <= four
}
