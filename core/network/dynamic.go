package network

import (
	"fmt"
	"net/netip"

	"hollowbridge/core/header"
)

// An interface whose address the provider gives has one that nobody knows. Something has to stand
// for it where packets are followed: an address that nobody else has, of those that are reserved for
// future use (RFC 1112, section 4). Whoever shows it to people shows the interface's name.

// StandIn returns the address that stands for that of the interface of a number, counted from 0 over
// all such interfaces; ok is false beyond the last one there is.
func StandIn(number int) (a netip.Addr, ok bool) {
	return netip.AddrFrom4([4]byte{240, 0, 0, byte(number + 1)}), number < mostDynamic
}

// mostDynamic is how many interfaces may have an address that the provider gives.
const mostDynamic = 64

// dynamic returns the stand-ins of the network's interfaces.
func (n *Network) dynamic() header.Addresses {
	var ranges []header.Range
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			if a, ok := i.StandIn(); ok {
				ranges = append(ranges, header.Range{First: a, Last: a})
			}
		}
	}
	return header.AddressesOf(ranges...)
}

// StandIn returns the address that stands for the interface's own, where the provider gives that.
func (i *Interface) StandIn() (a netip.Addr, ok bool) {
	if !i.Dynamic {
		return a, false
	}
	return i.Address(header.IPv4)
}

// Uncarried returns the addresses that the internet does not carry, as NotCarried, but for those
// that stand for what the provider gives.
func (n *Network) Uncarried() header.Addresses { return notCarried.Minus(n.dynamic()) }

// CheckKnown returns an error where the address of an interface is not known, which whoever builds
// the network needs.
func (n *Network) CheckKnown() error {
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			if i.Dynamic {
				return fmt.Errorf("the provider gives %s its address, so nobody knows it; say what it is now: -is %s=ADDRESS", i, i)
			}
		}
	}
	return nil
}
