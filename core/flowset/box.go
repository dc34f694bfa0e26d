package flowset

import (
	"math/big"

	"hollowbridge/core/header"
)

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

// A Box is connections of one protocol to some addresses and ports.
type Box struct {
	Protocol    header.Protocol
	To          header.Addresses
	Ports       []header.Ports // none where the protocol has no ports
	From        header.Addresses
	AllPorts    bool // from every source port; else only from:
	SourcePorts []header.Ports
}

// Boxes lists a set: one box for each protocol and each set of sources that comes
// with the same destinations and from the same source ports.
func (s *Space) Boxes(a Set) []Box {
	var found []Box
	s.eachEdge(a, Protocol, func(protocols Span, a Set) {
		for p := protocols.first.low; p <= protocols.last.low; p++ {
			found = append(found, s.boxesOf(header.Protocol(p), a)...)
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

func (s *Space) boxesOf(p header.Protocol, a Set) []Box {
	// Destinations by what stands behind them, then ports by what stands behind those.
	var found []Box
	var order []Set
	destinations := map[Set][]header.Range{}
	s.eachEdge(a, Destination, func(span Span, rest Set) {
		if _, known := destinations[rest]; !known {
			order = append(order, rest)
		}
		destinations[rest] = append(destinations[rest], span.ranges()...)
	})
	for _, rest := range order {
		var bySource []Set
		ports := map[Set][]header.Ports{}
		s.eachEdge(rest, Port, func(span Span, sources Set) {
			if _, known := ports[sources]; !known {
				bySource = append(bySource, sources)
			}
			ports[sources] = append(ports[sources], header.Ports{First: uint16(span.first.low), Last: uint16(span.last.low)})
		})
		for _, sources := range bySource {
			b := Box{Protocol: p, To: header.AddressesOf(destinations[rest]...)}
			if p.HasPorts() {
				b.Ports = ports[sources]
			}
			for _, from := range s.sourcesOf(p, sources) {
				b.From, b.AllPorts, b.SourcePorts = from.From, from.AllPorts, from.SourcePorts
				found = append(found, b)
			}
		}
	}
	return found
}

// A sourcesKey is sources of one protocol.
type sourcesKey struct {
	protocol header.Protocol
	sources  Set
}

// sourcesOf lists sources and their ports, as boxes that say nothing else. Long lists of sources mostly come to
// many destinations, and are listed once.
func (s *Space) sourcesOf(p header.Protocol, sources Set) []Box {
	key := sourcesKey{p, sources}
	if known, ok := s.listed[key]; ok {
		return known
	}
	var found []Box
	var order []Set
	from := map[Set][]header.Range{}
	s.eachEdge(sources, Source, func(span Span, rest Set) {
		if s.isAllPorts(p, rest) {
			rest = Everything
		}
		if _, known := from[rest]; !known {
			order = append(order, rest)
		}
		from[rest] = append(from[rest], span.ranges()...)
	})
	for _, rest := range order {
		b := Box{From: header.AddressesOf(from[rest]...), AllPorts: rest == Everything}
		if !b.AllPorts {
			s.eachEdge(rest, SourcePort, func(span Span, _ Set) {
				b.SourcePorts = append(b.SourcePorts, header.Ports{First: uint16(span.first.low), Last: uint16(span.last.low)})
			})
		}
		found = append(found, b)
	}
	if s.isLong(sources) {
		s.listed[key] = found
	}
	return found
}

// isAllPorts reports whether a set over source ports holds all that the protocol uses.
func (s *Space) isAllPorts(p header.Protocol, a Set) bool {
	if a == Everything || !p.HasPorts() && p != header.ICMP {
		return true
	}
	if p == header.ICMP {
		return false // an identifier can be any number
	}
	whole := s.Where(SourcePort, []Span{PortSpan(1, 65535)}, Everything)
	return s.Minus(whole, a) == Nothing
}

// Sources returns the sources of a set's connections.
func (s *Space) Sources(a Set) header.Addresses {
	seen := map[Set]bool{}
	var ranges []header.Range
	var walk func(a Set)
	walk = func(a Set) {
		if a == Nothing || seen[a] {
			return
		}
		seen[a] = true
		if s.fieldOf(a) >= Source {
			s.eachEdge(a, Source, func(span Span, _ Set) { ranges = append(ranges, span.ranges()...) })
			return
		}
		for _, e := range s.nodes[a].edges {
			walk(e.child)
		}
	}
	walk(a)
	return header.AddressesOf(ranges...)
}
