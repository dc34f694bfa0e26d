package header

import "net/netip"

// documentation are the prefixes that examples are taken from where they can
// (RFC 5737, RFC 3849), the preferred first.
var documentation = []Range{
	RangeOf(netip.MustParsePrefix("192.0.2.0/24")), RangeOf(netip.MustParsePrefix("203.0.113.0/24")), RangeOf(netip.MustParsePrefix("198.51.100.0/24")),
	RangeOf(netip.MustParsePrefix("2001:db8:ffff::/48")), RangeOf(netip.MustParsePrefix("2001:db8::/32")),
}

// Usual returns an address of a family that a person would take for an example: of
// documentation where there is one, and one that looks like a machine's. It returns false
// where the set has none of the family.
func (a Addresses) Usual(family Family) (netip.Addr, bool) {
	for _, d := range documentation {
		if FamilyOf(d.First) != family {
			continue
		}
		if found, ok := a.Intersect(AddressesOf(d)).machineLike(family); ok {
			return found, true
		}
	}
	if found, ok := a.machineLike(family); ok {
		return found, true
	}
	return a.FirstOf(family)
}

// machineLike returns the first address of a family that ends in neither 0 nor 255.
func (a Addresses) machineLike(family Family) (netip.Addr, bool) {
	for _, r := range a.ranges {
		if FamilyOf(r.First) != family {
			continue
		}
		for address, tries := r.First, 0; tries < 3; address, tries = address.Next(), tries+1 {
			if last := address.AsSlice()[address.BitLen()/8-1]; last != 0 && last != 255 {
				return address, true
			}
			if address == r.Last {
				break
			}
		}
	}
	return netip.Addr{}, false
}
