package header

import (
	"math/big"
	"net/netip"
)

// Example returns a member: the lowest in the order of fields. It returns false for nothing.
func (s *Space) Example(a Set) (Packet, bool) {
	if a == Nothing {
		return Packet{}, false
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
	return packetOf(values), true
}

// Sample returns a member that random numbers choose, often one at the border of a
// stretch. It returns false for nothing.
func (s *Space) Sample(a Set, random func() uint64) (Packet, bool) {
	if a == Nothing {
		return Packet{}, false
	}
	var values [Fields]number
	for f := range Fields {
		if s.fieldOf(a) != f { // any value will do
			values[f] = number{low: random() & largest[f].low, high: random() & largest[f].high}
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
	return packetOf(values), true
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

func valuesOf(p Packet) [Fields]number {
	return [Fields]number{
		FieldProtocol: {low: uint64(p.Protocol)}, FieldDestination: numberOf(p.Destination), FieldPort: {low: uint64(p.DestinationPort)},
		FieldSource: numberOf(p.Source), FieldSourcePort: {low: uint64(p.SourcePort)},
	}
}

// Same reports whether two packets are equal in a field.
func (p Packet) Same(q Packet, f Field) bool { return valuesOf(p)[f] == valuesOf(q)[f] }

func packetOf(values [Fields]number) Packet {
	return Packet{
		Source: values[FieldSource].address(), Destination: values[FieldDestination].address(),
		SourcePort: uint16(values[FieldSourcePort].low), DestinationPort: uint16(values[FieldPort].low),
		Protocol: Protocol(values[FieldProtocol].low),
	}
}

// Size returns how many connections a set holds: the product of how many values each
// field can have that it does not ask for counts, also those that no packet has.
func (s *Space) Size(a Set) *big.Int {
	memo := map[Set]*big.Int{}
	var below func(a Set, f Field) *big.Int // of the fields from f on
	below = func(a Set, f Field) *big.Int {
		size := new(big.Int)
		switch {
		case a == Nothing:
			return size
		case a < 0:
			size.SetInt64(1)
		case memo[a] != nil:
			size.Set(memo[a])
		default:
			field := s.nodes[a].field
			s.eachEdge(a, field, func(span Span, rest Set) {
				size.Add(size, new(big.Int).Mul(span.size(), below(rest, field+1)))
			})
			memo[a] = new(big.Int).Set(size)
		}
		for ; f < s.fieldOf(a); f++ {
			size.Mul(size, Span{last: largest[f]}.size())
		}
		return size
	}
	return below(a, 0)
}

// size returns how many values a span has.
func (s Span) size() *big.Int {
	width := s.last.minus(s.first)
	size := new(big.Int).Lsh(new(big.Int).SetUint64(width.high), 64)
	size.Or(size, new(big.Int).SetUint64(width.low))
	return size.Add(size, big.NewInt(1))
}

// A Box is connections of one protocol to some addresses and ports.
type Box struct {
	Protocol    Protocol
	To          Addresses
	Ports       []Ports // none where the protocol has no ports
	From        Addresses
	AllPorts    bool // from every source port; else only from:
	SourcePorts []Ports
}

// Boxes lists a set: one box for each protocol and each set of sources that comes
// with the same destinations and from the same source ports.
func (s *Space) Boxes(a Set) []Box {
	var found []Box
	s.eachEdge(a, FieldProtocol, func(protocols Span, a Set) {
		for p := protocols.first.low; p <= protocols.last.low; p++ {
			found = append(found, s.boxesOf(Protocol(p), a)...)
		}
	})
	return found
}

// eachEdge calls a function for each stretch of a field's values that leads on.
func (s *Space) eachEdge(a Set, f Field, do func(Span, Set)) {
	if a == Nothing {
		return
	}
	if s.fieldOf(a) != f {
		do(Span{last: largest[f]}, a)
		return
	}
	first := number{}
	for _, e := range s.nodes[a].edges {
		if e.child != Nothing {
			do(Span{first, e.last}, e.child)
		}
		first = e.last.plus(one)
	}
}

func (s *Space) boxesOf(p Protocol, a Set) []Box {
	// Destinations by what stands behind them, then ports by what stands behind those.
	var found []Box
	var order []Set
	destinations := map[Set][]Range{}
	s.eachEdge(a, FieldDestination, func(span Span, rest Set) {
		if _, known := destinations[rest]; !known {
			order = append(order, rest)
		}
		destinations[rest] = append(destinations[rest], span.ranges()...)
	})
	for _, rest := range order {
		var bySource []Set
		ports := map[Set][]Ports{}
		s.eachEdge(rest, FieldPort, func(span Span, sources Set) {
			if _, known := ports[sources]; !known {
				bySource = append(bySource, sources)
			}
			ports[sources] = append(ports[sources], Ports{uint16(span.first.low), uint16(span.last.low)})
		})
		for _, sources := range bySource {
			b := Box{Protocol: p, To: AddressesOf(destinations[rest]...)}
			if p.HasPorts() {
				b.Ports = ports[sources]
			}
			var bySourcePorts []Set
			from := map[Set][]Range{}
			s.eachEdge(sources, FieldSource, func(span Span, rest Set) {
				if s.isAllPorts(p, rest) {
					rest = Everything
				}
				if _, known := from[rest]; !known {
					bySourcePorts = append(bySourcePorts, rest)
				}
				from[rest] = append(from[rest], span.ranges()...)
			})
			for _, rest := range bySourcePorts {
				b.From, b.AllPorts, b.SourcePorts = AddressesOf(from[rest]...), rest == Everything, nil
				if !b.AllPorts {
					s.eachEdge(rest, FieldSourcePort, func(span Span, _ Set) {
						b.SourcePorts = append(b.SourcePorts, Ports{uint16(span.first.low), uint16(span.last.low)})
					})
				}
				found = append(found, b)
			}
		}
	}
	return found
}

// isAllPorts reports whether a set over source ports holds all that the protocol uses.
func (s *Space) isAllPorts(p Protocol, a Set) bool {
	if a == Everything || !p.HasPorts() && p != ICMP {
		return true
	}
	if p == ICMP {
		return false // an identifier can be any number
	}
	whole := s.Where(FieldSourcePort, []Span{PortSpan(1, 65535)}, Everything)
	return s.Minus(whole, a) == Nothing
}

// ranges returns a span of addresses as ranges: the numbers of IPv4 addresses are those.
func (s Span) ranges() []Range {
	first4, last4 := numberOf(mapped.ranges[0].First), numberOf(mapped.ranges[0].Last)
	var found []Range
	if s.first.less(first4) {
		last := s.last
		if !last.less(first4) {
			last = first4.minus(one)
		}
		found = append(found, Range{s.first.wide(), last.wide()})
	}
	if !s.last.less(first4) && !last4.less(s.first) {
		first, last := s.first, s.last
		if first.less(first4) {
			first = first4
		}
		if last4.less(last) {
			last = last4
		}
		found = append(found, Range{first.address(), last.address()})
	}
	if last4.less(s.last) {
		first := s.first
		if !last4.less(first) {
			first = last4.plus(one)
		}
		found = append(found, Range{first.wide(), s.last.wide()})
	}
	return found
}

// wide returns the number as an IPv6 address.
func (n number) wide() netip.Addr {
	var b [16]byte
	for i := range 8 {
		b[i], b[8+i] = byte(n.high>>(56-8*i)), byte(n.low>>(56-8*i))
	}
	return netip.AddrFrom16(b)
}

// Sources returns the sources of a set's connections.
func (s *Space) Sources(a Set) Addresses {
	seen := map[Set]bool{}
	var ranges []Range
	var walk func(a Set)
	walk = func(a Set) {
		if a == Nothing || seen[a] {
			return
		}
		seen[a] = true
		if s.fieldOf(a) >= FieldSource {
			s.eachEdge(a, FieldSource, func(span Span, _ Set) { ranges = append(ranges, span.ranges()...) })
			return
		}
		for _, e := range s.nodes[a].edges {
			walk(e.child)
		}
	}
	walk(a)
	return AddressesOf(ranges...)
}
