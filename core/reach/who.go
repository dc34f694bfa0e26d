package reach

import (
	"fmt"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// Who names a set of sources as shortly as it can: everybody, a group, a host, a
// zone, everybody except one of these, or the ranges.
func Who(n *network.Network, from header.Addresses) string {
	var families header.Addresses
	for _, v6 := range []bool{false, true} {
		if _, has := from.FirstOf(v6); has {
			families = families.Union(header.Family(v6))
		}
	}
	internet := n.Internet().Intersect(families)
	if name := nameOf(n, from, families); name != "" {
		return name
	}
	missing := internet.Minus(from)
	switch beyond := from.Minus(n.Internet()); {
	case missing.Empty() && beyond.Empty():
		return "everybody"
	case beyond.Empty() && Open(n, from):
		if name := nameOf(n, missing, families); name != "" {
			return "everybody except " + name
		}
		return "everybody except " + rangesText(missing)
	}
	return rangesText(from)
}

// Open reports whether more than half of the internet, of one family, is among the sources.
func Open(n *network.Network, from header.Addresses) bool {
	for _, v6 := range []bool{false, true} {
		internet := n.Internet().Intersect(header.Family(v6))
		if size := internet.Size(); size > 0 && internet.Intersect(from).Size() > size/2 {
			return true
		}
	}
	return false
}

// nameOf returns the group, host or zone that a set is, within families.
func nameOf(n *network.Network, set, families header.Addresses) string {
	is := func(members header.Addresses) bool { return !set.Empty() && members.Intersect(families).Equal(set) }
	for _, g := range n.Groups {
		if is(g.Members) {
			return g.Name
		}
	}
	for _, h := range n.Hosts {
		var ranges []header.Range
		for _, a := range h.Addresses {
			ranges = append(ranges, header.Range{First: a, Last: a})
		}
		if is(header.AddressesOf(ranges...)) {
			return h.Name
		}
	}
	for _, z := range n.Zones {
		if is(n.ZoneAddresses(z.Name).Minus(n.Internet())) {
			return z.Name
		}
	}
	return ""
}

// mostRanges is how many ranges are written out.
const mostRanges = 4

func rangesText(set header.Addresses) string {
	ranges := set.Ranges()
	var texts []string
	for _, r := range ranges[:min(len(ranges), mostRanges)] {
		texts = append(texts, r.String())
	}
	if more := len(ranges) - len(texts); more > 0 {
		texts = append(texts, fmt.Sprintf("%d more ranges", more))
	}
	return strings.Join(texts, ", ")
}
