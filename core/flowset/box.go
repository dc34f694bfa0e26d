package flowset

import (
	"math/big"

	"hollowbridge/core/header"
)

// Size returns how many connections a set holds at some moment: the product of how many values each
// field of packets can have that it does not ask for counts, also those that no packet has.
func (s *Space) Size(a Set) *big.Int {
	a = s.Ever(a)
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
		for ; f < min(s.fieldOf(a), Time); f++ {
			size.Mul(size, Span{last: s.largest[f]}.size())
		}
		return size
	}
	return below(a, 0)
}

// A Box is connections of one protocol to some addresses and ports, at some moments.
type Box struct {
	Protocol    header.Protocol
	To          header.Addresses
	Ports       []header.Ports // none where the protocol has no ports
	From        header.Addresses
	AllPorts    bool // from every source port; else only from:
	SourcePorts []header.Ports
	Moments     []Span // none where at all of them
}

// Boxes lists a set: one box for each protocol and each set of sources that comes
// with the same destinations, from the same source ports and at the same moments.
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
		do(Span{last: s.largest[f]}, a)
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
		to := header.AddressesIn(destinations[rest])
		var bySource []Set
		ports := map[Set][]header.Ports{}
		s.eachEdge(rest, Port, func(span Span, sources Set) {
			if _, known := ports[sources]; !known {
				bySource = append(bySource, sources)
			}
			ports[sources] = append(ports[sources], header.Ports{First: uint16(span.first.low), Last: uint16(span.last.low)})
		})
		for _, sources := range bySource {
			b := Box{Protocol: p, To: to}
			if p.HasPorts() {
				b.Ports = ports[sources]
			}
			for _, from := range s.sourcesOf(p, sources) {
				b.From, b.AllPorts, b.SourcePorts, b.Moments = from.From, from.AllPorts, from.SourcePorts, from.Moments
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

// sourcesOf lists sources, their ports and moments, as boxes that say nothing else. Long lists of sources mostly come to
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
		rest = s.withAllPorts(p, rest)
		if _, known := from[rest]; !known {
			order = append(order, rest)
		}
		from[rest] = append(from[rest], span.ranges()...)
	})
	for _, rest := range order {
		sources := header.AddressesIn(from[rest])
		if s.fieldOf(rest) > SourcePort {
			found = append(found, Box{From: sources, AllPorts: true, Moments: s.momentsOf(rest)})
			continue
		}
		var byMoments []Set
		ports := map[Set][]header.Ports{}
		s.eachEdge(rest, SourcePort, func(span Span, moments Set) {
			if _, known := ports[moments]; !known {
				byMoments = append(byMoments, moments)
			}
			ports[moments] = append(ports[moments], header.Ports{First: uint16(span.first.low), Last: uint16(span.last.low)})
		})
		for _, moments := range byMoments {
			found = append(found, Box{From: sources, SourcePorts: ports[moments], Moments: s.momentsOf(moments)})
		}
	}
	if s.isLong(sources) {
		s.listed[key] = found
	}
	return found
}

// withAllPorts returns a set over source ports and moments without asking for the ports, where all
// that the protocol uses have the same moments.
func (s *Space) withAllPorts(p header.Protocol, a Set) Set {
	if s.fieldOf(a) != SourcePort || p == header.ICMP { // an identifier can be any number
		return a
	}
	used := PortSpan(1, 65535)
	if !p.HasPorts() {
		used = PortSpan(0, 0)
	}
	first, last := edgeAt(s.nodes[a].edges, used.first), edgeAt(s.nodes[a].edges, used.last)
	if first != last || s.nodes[a].edges[first].child == Nothing {
		return a
	}
	return s.nodes[a].edges[first].child
}

// momentsOf returns the moments of a set that asks for nothing else; none where it holds all.
func (s *Space) momentsOf(a Set) (list []Span) {
	if s.fieldOf(a) == Time {
		s.eachEdge(a, Time, func(span Span, _ Set) { list = append(list, span) })
	}
	return list
}

// Ever returns the connections that a set holds at some moment, for all moments.
func (s *Space) Ever(a Set) Set {
	switch {
	case a < 0 || !s.nodes[a].asks.has(Time):
		return a
	case s.fieldOf(a) == Time:
		return Everything
	}
	if known, ok := s.recall(everOperation, a, a); ok {
		return known
	}
	field, base := s.nodes[a].field, len(s.stack)
	for _, e := range s.nodes[a].edges {
		s.push(e.last, s.Ever(e.child))
	}
	made := s.pop(field, base)
	s.remember(everOperation, a, a, made)
	return made
}

// Moments returns the moments at which a set holds connections; none where there are some at all of them.
func (s *Space) Moments(a Set) []Span {
	all, seen := Nothing, map[Set]bool{}
	var walk func(a Set)
	walk = func(a Set) {
		switch {
		case a == Nothing || all == Everything || seen[a]:
		case a < 0 || !s.nodes[a].asks.has(Time):
			all = Everything
		case s.fieldOf(a) == Time:
			all, seen[a] = s.Overlay(all, a), true
		default:
			seen[a] = true
			for _, e := range s.nodes[a].edges {
				walk(e.child)
			}
		}
	}
	walk(a)
	return s.momentsOf(all)
}

// At returns the connections that a set holds at a moment, for that moment alone.
func (s *Space) At(a Set, moment int) Set {
	if s.largest[Time] == (number{}) {
		return a
	}
	return s.Restrict(s.Where(Time, []Span{MomentSpan(moment, moment)}, Everything), a)
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
