package header

import "net/netip"

// A Family is IPv4 or IPv6. It is also an index, for what there is one of for each.
type Family uint8

// The families.
const (
	IPv4 Family = iota
	IPv6
)

// Families lists both families.
var Families = [...]Family{IPv4, IPv6}

// FamilyOf returns the family of a valid address.
func FamilyOf(a netip.Addr) Family {
	if a.Is6() {
		return IPv6
	}
	return IPv4
}

// Prefix returns the prefix of every address of the family, to which a default route leads.
func (f Family) Prefix() netip.Prefix {
	if f == IPv6 {
		return netip.PrefixFrom(netip.IPv6Unspecified(), 0)
	}
	return netip.PrefixFrom(netip.IPv4Unspecified(), 0)
}

// String returns the family's name.
func (f Family) String() string { return [...]string{"IPv4", "IPv6"}[f] }
