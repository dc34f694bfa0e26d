package header

import "net/netip"

// documentation are the prefixes that examples are taken from where they can
// (RFC 5737, RFC 3849), the preferred first.
var documentation = []Range{
	RangeOf(netip.MustParsePrefix("192.0.2.0/24")), RangeOf(netip.MustParsePrefix("203.0.113.0/24")), RangeOf(netip.MustParsePrefix("198.51.100.0/24")),
	RangeOf(netip.MustParsePrefix("2001:db8:ffff::/48")), RangeOf(netip.MustParsePrefix("2001:db8::/32")),
}

// usualPorts are the ports that examples are of where they can.
var usualPorts = []uint16{443, 80, 22, 53}

// usualSourcePort is the source port of examples where it can be; it is that of trace.
const usualSourcePort = 40000

// Usual returns an address of a family that a person would take for an example: of
// documentation where there is one, and one that looks like a machine's. It returns false
// where the set has none of the family.
func (a Addresses) Usual(v6 bool) (netip.Addr, bool) {
	for _, d := range documentation {
		if d.First.Is6() != v6 {
			continue
		}
		if found, ok := a.Intersect(AddressesOf(d)).machineLike(v6); ok {
			return found, true
		}
	}
	if found, ok := a.machineLike(v6); ok {
		return found, true
	}
	return a.FirstOf(v6)
}

// machineLike returns the first address of a family that ends in neither 0 nor 255.
func (a Addresses) machineLike(v6 bool) (netip.Addr, bool) {
	for _, r := range a.ranges {
		if r.First.Is6() != v6 {
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

// Usual returns a member that a person would take for an example. It returns false for
// nothing.
func (s *Space) Usual(a Set) (Packet, bool) {
	if a == Nothing {
		return Packet{}, false
	}
	var values [Fields]number
	for f := range Fields {
		var addresses []Range
		var spans []Span
		children := map[Span]Set{}
		s.eachEdge(a, f, func(span Span, rest Set) {
			spans, children[span] = append(spans, span), rest
			if f == FieldSource || f == FieldDestination {
				addresses = append(addresses, span.ranges()...)
			}
		})
		values[f] = usualValue(f, spans, AddressesOf(addresses...), values)
		for _, span := range spans {
			if !values[f].less(span.first) && !span.last.less(values[f]) {
				a = children[span]
			}
		}
	}
	return packetOf(values), true
}

// usualValue returns the value of a field that examples have, among those of the spans.
func usualValue(f Field, spans []Span, addresses Addresses, before [Fields]number) number {
	in := func(v uint64) bool {
		for _, span := range spans {
			if !(number{low: v}).less(span.first) && !span.last.less(number{low: v}) {
				return true
			}
		}
		return false
	}
	ported := Protocol(before[FieldProtocol].low).HasPorts()
	switch {
	case f == FieldSource || f == FieldDestination:
		v6 := f == FieldSource && before[FieldDestination].address().Is6()
		if a, ok := addresses.Usual(v6); ok {
			return numberOf(a)
		}
		if a, ok := addresses.Usual(!v6); ok {
			return numberOf(a)
		}
	case f == FieldPort && ported:
		for _, port := range usualPorts {
			if in(uint64(port)) {
				return number{low: uint64(port)}
			}
		}
	case f == FieldSourcePort && (ported || Protocol(before[FieldProtocol].low) == ICMP) && in(usualSourcePort):
		return number{low: usualSourcePort}
	}
	if spans[0].first == (number{}) && f != FieldProtocol && ported && spans[0].last != (number{}) {
		return one
	}
	return spans[0].first
}
