package portmap

import (
	"net/netip"

	"hollowbridge/core/network"
)

// carrierPrefix is of addresses between a carrier's NAT and its customers (RFC 6598).
var carrierPrefix = netip.MustParsePrefix("100.64.0.0/10")

// sharedPrefix is of the two ends of IPv4 over a carrier's IPv6 (RFC 7335), and testPrefix of tests (RFC 2544).
var (
	sharedPrefix = netip.MustParsePrefix("192.0.0.0/24")
	testPrefix   = netip.MustParsePrefix("198.18.0.0/15")
)

// ExternalIs says what an outside address is, and, where it is none of the internet, what that means.
func ExternalIs(a netip.Addr) (is, note string) {
	switch {
	case !a.IsValid():
		return "", ""
	case a.IsUnspecified():
		return "none", "says that the gateway has no outside address now: its uplink is away."
	case sharedPrefix.Contains(a):
		return "carrier", "is an address between a carrier's gateway and its customers (RFC 7335): the carrier translates once more, and nobody on the internet can begin a connection to a mapping."
	case testPrefix.Contains(a):
		return "private", "is an address for tests of networks (RFC 2544), which the internet does not carry: nobody there can begin a connection to a mapping."
	case carrierPrefix.Contains(a):
		return "carrier", "is an address of a carrier's NAT (RFC 6598): the carrier translates once more, and nobody on the internet can begin a connection to a mapping."
	case a.Is6() && !network.Carried(a):
		return "private", "is a private address of IPv6, which the internet does not carry (RFC 4193): nobody there can begin a connection to a mapping."
	case !network.Carried(a):
		return "private", "is a private address: another gateway in front of this one translates once more (double NAT). A mapping is reached from the internet only if that one has a forward for it, or is asked too."
	}
	return "public", ""
}
