package header_test

import (
	"fmt"
	"net/netip"

	"hollowbridge/core/header"
)

// Sets of addresses are exact, and written as short as they can be.
func ExampleAddresses() {
	prefix := func(text string) header.Addresses { return header.AddressesOfPrefixes(netip.MustParsePrefix(text)) }
	left := prefix("10.61.0.0/16").Minus(prefix("10.61.128.0/17")).Union(header.Single(netip.MustParseAddr("2001:db8::1")))
	fmt.Println(left, left.Contains(netip.MustParseAddr("10.61.200.1")))
	// Output: 10.61.0.0/17, 2001:db8::1 false
}
