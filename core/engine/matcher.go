package engine

import (
	"net/netip"
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A matcher is an address expression compiled for the zones of one gateway.
type matcher struct {
	any   bool
	all   header.Addresses   // for all zones, or
	zones []header.Addresses // one a zone
}

// sets returns the sets of all zones.
func (m *matcher) sets() []header.Addresses {
	if len(m.zones) == 0 {
		return []header.Addresses{m.all}
	}
	return m.zones
}

// in returns the addresses for one zone.
func (m *matcher) in(zone int) *header.Addresses {
	if len(m.zones) == 0 {
		return &m.all
	}
	return &m.zones[zone]
}

func (m *matcher) contains(a netip.Addr, zone int) bool { return m.any || m.in(zone).Contains(a) }

// values returns the addresses for one zone, of a block where there is one, as spans.
func (m *matcher) values(zone int, of *block) (spans []flowset.Span, all bool) {
	switch {
	case m.any && of == nil:
		return nil, true
	case m.any:
		return of.spans, false
	case of == nil:
		return flowset.AddressSpans(*m.in(zone)), false
	}
	return flowset.AddressSpans(m.in(zone).Intersect(of.addresses)), false
}

// newMatcher compiles an expression for the zones, within a family's addresses.
func newMatcher(e network.Expression, zones []string, within header.Addresses) matcher {
	if e.IsAny() {
		return setMatcher(within)
	}
	limit := func(set header.Addresses) header.Addresses {
		if within.IsAll() {
			return set
		}
		return set.Intersect(within)
	}
	if len(e.Zones()) == 0 {
		return setMatcher(limit(e.Addresses()))
	}
	m := matcher{zones: make([]header.Addresses, len(zones))}
	for i, zone := range zones {
		m.zones[i] = limit(e.In(zone))
	}
	return m
}

func setMatcher(set header.Addresses) matcher {
	return matcher{any: set.IsAll(), all: set}
}

// breadth returns how many addresses of some families a matcher holds, in the zone in
// which they are most.
func (m *matcher) breadth(families header.Addresses) (most header.Count) {
	for _, set := range m.sets() {
		if size := set.Intersect(families).Breadth(); size.Compare(most) > 0 {
			most = size
		}
	}
	return most
}

// families returns all addresses of the families of which a matcher holds some.
func (m *matcher) families() header.Addresses {
	var families header.Addresses
	for _, family := range header.Families {
		if slices.ContainsFunc(m.sets(), func(set header.Addresses) bool { _, has := set.FirstOf(family); return has }) {
			families = families.Union(family.All())
		}
	}
	return families
}

// isOneRange reports whether the set is one range of IPv4 addresses.
func (m *matcher) isOneRange() bool {
	return len(m.zones) == 0 && len(m.all.Ranges()) == 1 && m.all.Ranges()[0].First.Is4()
}

func (m *matcher) overlaps(b *block, zone int) bool {
	return m.any || m.in(zone).Overlaps(b.addresses)
}
