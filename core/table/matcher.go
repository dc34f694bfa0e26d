package table

import (
	"net/netip"
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Matcher is an address expression compiled for the zones of one gateway.
type Matcher struct {
	Any   bool
	All   header.Addresses   // for all zones, or
	Zones []header.Addresses // one a zone
}

// sets returns the sets of all zones.
func (m *Matcher) sets() []header.Addresses {
	if len(m.Zones) == 0 {
		return []header.Addresses{m.All}
	}
	return m.Zones
}

// In returns the addresses for one zone.
func (m *Matcher) In(zone int) *header.Addresses {
	if len(m.Zones) == 0 {
		return &m.All
	}
	return &m.Zones[zone]
}

func (m *Matcher) contains(a netip.Addr, zone int) bool { return m.Any || m.In(zone).Contains(a) }

// values returns the addresses for one zone, of a block where there is one, as spans.
func (m *Matcher) values(zone int, of *Block) (spans []flowset.Span, all bool) {
	switch {
	case m.Any && of == nil:
		return nil, true
	case m.Any:
		return of.spans, false
	case of == nil:
		return flowset.AddressSpans(*m.In(zone)), false
	}
	return flowset.AddressSpans(m.In(zone).Intersect(of.addresses)), false
}

// NewMatcher compiles an expression for the zones, within a family's addresses.
func NewMatcher(e network.Expression, zones []string, within header.Addresses) Matcher {
	if e.IsAny() {
		return MatcherOf(within)
	}
	limit := func(set header.Addresses) header.Addresses {
		if within.IsAll() {
			return set
		}
		return set.Intersect(within)
	}
	if len(e.Zones()) == 0 {
		return MatcherOf(limit(e.Addresses()))
	}
	m := Matcher{Zones: make([]header.Addresses, len(zones))}
	for i, zone := range zones {
		m.Zones[i] = limit(e.In(zone))
	}
	return m
}

func MatcherOf(set header.Addresses) Matcher {
	return Matcher{Any: set.IsAll(), All: set}
}

// Breadth returns how many addresses of some families a matcher holds, in the zone in
// which they are most.
func (m *Matcher) Breadth(families header.Addresses) (most header.Count) {
	for _, set := range m.sets() {
		if size := set.Intersect(families).Breadth(); size.Compare(most) > 0 {
			most = size
		}
	}
	return most
}

// Families returns all addresses of the families of which a matcher holds some.
func (m *Matcher) Families() header.Addresses {
	var families header.Addresses
	for _, family := range header.Families {
		if slices.ContainsFunc(m.sets(), func(set header.Addresses) bool { _, has := set.FirstOf(family); return has }) {
			families = families.Union(family.All())
		}
	}
	return families
}

// isOneRange reports whether the set is one range of IPv4 addresses.
func (m *Matcher) isOneRange() bool {
	return len(m.Zones) == 0 && len(m.All.Ranges()) == 1 && m.All.Ranges()[0].First.Is4()
}

func (m *Matcher) Overlaps(b *Block, zone int) bool {
	return m.Any || m.In(zone).Overlaps(b.addresses)
}
