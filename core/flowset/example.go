package flowset

import "hollowbridge/core/header"

// usualPorts are the ports that examples are of where they can.
var usualPorts = []uint16{443, 80, 22, 53}

// Usual returns a member that a person would take for an example. It returns false for
// nothing.
func (s *Space) Usual(a Set) (Member, bool) {
	if a == Nothing {
		return Member{}, false
	}
	var values [Fields]number
	for f := range Fields {
		var addresses []header.Range
		var spans []Span
		children := map[Span]Set{}
		s.eachEdge(a, f, func(span Span, rest Set) {
			spans, children[span] = append(spans, span), rest
			if f == Source || f == Destination {
				addresses = append(addresses, span.ranges()...)
			}
		})
		values[f] = usualValue(f, spans, header.AddressesOf(addresses...), values)
		for _, span := range spans {
			if !values[f].less(span.first) && !span.last.less(values[f]) {
				a = children[span]
			}
		}
	}
	return memberOf(values), true
}

// usualValue returns the value of a field that examples have, among those of the spans.
func usualValue(f Field, spans []Span, addresses header.Addresses, before [Fields]number) number {
	in := func(v uint64) bool {
		for _, span := range spans {
			if !(number{low: v}).less(span.first) && !span.last.less(number{low: v}) {
				return true
			}
		}
		return false
	}
	ported := header.Protocol(before[Protocol].low).HasPorts()
	switch {
	case f == Source || f == Destination:
		first := header.IPv4
		if f == Source {
			first = header.FamilyOf(before[Destination].address())
		}
		for _, family := range []header.Family{first, header.IPv4, header.IPv6} {
			if a, ok := addresses.Usual(family); ok {
				return numberOf(a)
			}
		}
	case f == Port && ported:
		for _, port := range usualPorts {
			if in(uint64(port)) {
				return number{low: uint64(port)}
			}
		}
	case f == SourcePort && header.Protocol(before[Protocol].low).Numbered() && in(header.UsualSourcePort):
		return number{low: header.UsualSourcePort}
	}
	if spans[0].first == (number{}) && f != Protocol && ported && spans[0].last != (number{}) {
		return one
	}
	return spans[0].first
}

// Example returns a member: the lowest in the order of fields. It returns false for nothing.
func (s *Space) Example(a Set) (Member, bool) {
	if a == Nothing {
		return Member{}, false
	}
	var values [Fields]number
	for a >= 0 {
		n := s.nodes[a]
		first := number{}
		for _, e := range n.edges {
			if e.child != Nothing {
				values[n.field], a = first, e.child
				break
			}
			first = e.last.plus(one)
		}
	}
	return memberOf(values), true
}

// Sample returns a member that random numbers choose, often one at the border of a
// stretch. It returns false for nothing.
func (s *Space) Sample(a Set, random func() uint64) (Member, bool) {
	if a == Nothing {
		return Member{}, false
	}
	var values [Fields]number
	for f := range Fields {
		if s.fieldOf(a) != f { // any value will do
			values[f] = within(Span{last: s.largest[f]}, number{high: random(), low: random()})
			continue
		}
		n := s.nodes[a]
		var spans []Span
		var children []Set
		first := number{}
		for _, e := range n.edges {
			if e.child != Nothing {
				spans, children = append(spans, Span{first, e.last}), append(children, e.child)
			}
			first = e.last.plus(one)
		}
		i := int(random() % uint64(len(spans)))
		a = children[i]
		switch span := spans[i]; random() % 3 {
		case 0:
			values[f] = span.first
		case 1:
			values[f] = span.last
		default:
			values[f] = within(span, number{high: random(), low: random()})
		}
	}
	return memberOf(values), true
}

// within returns a value of a span that is chosen by v.
func within(span Span, v number) number {
	width := span.last.minus(span.first)
	switch {
	case width == number{^uint64(0), ^uint64(0)}:
		return v
	case width.high == 0 && width.low == ^uint64(0):
		return span.first.plus(number{low: v.low})
	case width.high == 0:
		return span.first.plus(number{low: v.low % (width.low + 1)})
	}
	return span.first.plus(number{v.high % width.high, v.low})
}
