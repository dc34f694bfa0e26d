package reach

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Namer names sets of addresses as shortly as it can.
type Namer struct {
	internet header.Addresses
	unused   header.Addresses
	names    []named // groups and zones
	hosts    map[netip.Addr]named
}

type named struct {
	name string
	set  header.Addresses
}

// NewNamer returns a namer that knows the groups, hosts and zones of a network.
func NewNamer(n *network.Network) *Namer {
	m := &Namer{unused: n.Unused(), hosts: map[netip.Addr]named{}}
	m.internet = n.Internet().Minus(m.unused)
	add := func(name string, set header.Addresses) {
		if set = set.Minus(m.unused); !set.Empty() {
			m.names = append(m.names, named{name, set})
		}
	}
	for _, g := range n.Groups {
		add(g.Name, g.Members)
	}
	for _, z := range n.Zones {
		add(z.Name, n.ZoneAddresses(z.Name).Minus(n.Internet()))
	}
	for _, s := range n.Segments {
		if !slices.ContainsFunc(s.Interfaces, func(i *network.Interface) bool { return i.FacesInternet(false) || i.FacesInternet(true) }) {
			add(segmentName(n, s), header.AddressesOfPrefixes(s.Prefixes...))
		}
	}
	for _, h := range n.Hosts {
		var ranges []header.Range
		for _, a := range h.Addresses {
			ranges = append(ranges, header.Range{First: a, Last: a})
		}
		if set := header.AddressesOf(ranges...).Minus(m.unused); !set.Empty() {
			for _, a := range h.Addresses {
				m.hosts[a] = named{h.Name, set}
			}
		}
	}
	return m
}

// segmentName returns a zone for a segment that is all there is of it, else the segment.
func segmentName(n *network.Network, s *network.Segment) string {
	zone := s.Interfaces[0].Zone
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			if i.IsUp() && (i.Zone == zone) != (i.Segment == s) {
				return "machines on " + s.Name
			}
		}
	}
	return zone
}

// Who names sources: everybody, groups, zones and hosts, everybody except some of
// these, or ranges.
func (m *Namer) Who(from header.Addresses) string {
	families := familiesOf(from)
	internet := m.internet.Intersect(families)
	if m.Open(from) {
		missing, beyond := internet.Minus(from), from.Minus(m.internet)
		text := "everybody"
		if !missing.Empty() {
			text += " except " + m.list(missing, families)
		}
		if !beyond.Empty() {
			text += ", and " + m.list(beyond, families)
		}
		return text
	}
	return m.list(from, families)
}

func familiesOf(set header.Addresses) header.Addresses {
	var families header.Addresses
	for _, v6 := range []bool{false, true} {
		if _, has := set.FirstOf(v6); has {
			families = families.Union(header.Family(v6))
		}
	}
	return families
}

// Open reports whether more than half of the internet, of one family, is among the sources.
func (m *Namer) Open(from header.Addresses) bool {
	for _, v6 := range []bool{false, true} {
		internet := m.internet.Intersect(header.Family(v6))
		if size := internet.Size(); size > 0 && internet.Intersect(from).Size() > size/2 {
			return true
		}
	}
	return false
}

// list names a set by the fewest large names that make it up, hosts, and ranges for the rest.
func (m *Namer) list(set, families header.Addresses) string {
	var texts []string
	left := set
	for !left.Empty() {
		best, size := -1, 0.0
		for i, candidate := range m.names {
			members := candidate.set.Intersect(families)
			if covered := members.Intersect(left).Size(); covered > size && members.Minus(set).Empty() {
				best, size = i, covered
			}
		}
		if best < 0 {
			name, covered := m.allBut(set, left, families)
			if name == "" {
				break
			}
			texts, left = append(texts, name), left.Minus(covered)
			continue
		}
		texts = append(texts, m.names[best].name)
		left = left.Minus(m.names[best].set)
	}
	for _, h := range m.hostsIn(left) {
		if members := h.set.Intersect(families); members.Minus(set).Empty() {
			texts, left = append(texts, h.name), left.Minus(members)
		}
	}
	ranges := left.Ranges()
	for _, r := range ranges[:min(len(ranges), mostRanges)] {
		texts = append(texts, r.String())
	}
	if more := len(ranges) - mostRanges; more > 0 {
		texts = append(texts, fmt.Sprintf("%d more ranges", more))
	}
	return strings.Join(slices.Compact(texts), ", ")
}

// mostNamed is how many addresses next to each other are named as hosts, and how many
// hosts are named.
const mostNamed = 8

// hostsIn returns the hosts of a set that stand out: not those in the middle of a range.
func (m *Namer) hostsIn(set header.Addresses) []named {
	var found []named
	for _, r := range set.Ranges() {
		if header.AddressesOf(r).Size() > mostNamed {
			continue
		}
		for a := r.First; ; a = a.Next() {
			if h, known := m.hosts[a]; known && !slices.ContainsFunc(found, func(f named) bool { return f.name == h.name }) {
				found = append(found, h)
			}
			if len(found) == mostNamed {
				return found
			}
			if a == r.Last {
				break
			}
		}
	}
	return found
}

// allBut finds a name for part of what is left that fits but for what another name
// stands for, or one or two hosts.
func (m *Namer) allBut(set, left, families header.Addresses) (string, header.Addresses) {
	for _, candidate := range m.names {
		members := candidate.set.Intersect(families)
		missing := members.Minus(set)
		if members.Intersect(left).Size() <= missing.Size() {
			continue
		}
		if but := m.exactly(missing, members); but != "" {
			return candidate.name + " except " + but, members
		}
	}
	return "", header.Addresses{}
}

// exactly names a set among the members of another: by one name, or by one or two hosts.
func (m *Namer) exactly(set, among header.Addresses) string {
	for _, n := range m.names {
		if n.set.Intersect(among).Equal(set) {
			return n.name
		}
	}
	var hosts []string
	for _, h := range m.hostsIn(set) {
		if h.set.Intersect(among).Minus(set).Empty() {
			hosts, set = append(hosts, h.name), set.Minus(h.set)
		}
	}
	if set.Empty() && len(hosts) <= 2 {
		return strings.Join(hosts, " and ")
	}
	return ""
}

// mostRanges is how many ranges are written out.
const mostRanges = 4
