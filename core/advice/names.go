package advice

import (
	"fmt"
	"net/netip"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

func (x *exam) groups() {
	for _, g := range x.net.Groups {
		switch {
		case g.Members.Empty():
			x.report(network.EmptyGroup, g.Place, "group "+g.Name, "it has no members", nil)
		case header.IPv4.All().Minus(g.Members).Empty() || header.IPv6.All().Minus(g.Members).Empty():
			x.report(network.GroupOfEverything, g.Place, "group "+g.Name, "it holds every address of a family", nil)
		}
	}
}

func (x *exam) twinAddresses() {
	first := map[netip.Addr]*network.Host{}
	for _, h := range x.net.Hosts {
		for _, a := range h.Addresses {
			if other := first[a]; other != nil && other != h {
				x.report(network.TwinAddress, h.Place, "host "+h.Name, fmt.Sprintf("%s has %s too", other.Name, a), nil)
			} else {
				first[a] = h
			}
		}
	}
}
