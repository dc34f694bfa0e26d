package flowset

import "slices"

// Equal returns the connections for which two terms of one field are equal. A
// connection from an address to itself never leaves its machine, and is not among
// those that Equal is right about. It returns false where there is no small set of them:
// one end against the other, the source's address or port against the destination's, each
// changed by some amount.
func (s *Space) Equal(f Field, a, b Term) (equal Set, ok bool) {
	switch {
	case a.constant && b.constant, !a.constant && !b.constant && a.Field == b.Field:
		if a.number == b.number {
			return Everything, true
		}
		return Nothing, true
	case a.constant:
		return s.Equal(f, b, a)
	case b.constant:
		value := b.number.minus(a.number)
		if limit := largest[a.Field]; limit.high == 0 {
			value = number{low: value.low & limit.low}
		}
		return s.Where(a.Field, []Span{{value, value}}, Everything), true
	case a.Field == SourcePort || a.Field == Port:
		return Nothing, false
	}
	return Nothing, a.number == b.number
}

// mostDiagonal is how many addresses are compared one by one.
const mostDiagonal = 1 << 10

// EqualWithin is Equal for the members of a set, all of one protocol. It can also compare
// one end with the other, each changed by some amount, where the set holds few destinations,
// or ports of one of the ends; else it returns false.
func (s *Space) EqualWithin(set Set, f Field, a, b Term) (equal Set, ok bool) {
	if equal, ok = s.Equal(f, a, b); ok {
		return s.Restrict(equal, set), true
	}
	if f == Port || f == SourcePort {
		return s.equalPorts(set, a, b)
	}
	if a.Field == Source {
		a, b = b, a
	}
	// destination + a = source + b
	var edges []edge
	s.eachEdge(set, Protocol, func(_ Span, rest Set) {
		s.eachEdge(rest, Destination, func(span Span, _ Set) {
			for v := span.first; len(edges) <= mostDiagonal; v = v.plus(one) {
				if v != (number{}) {
					edges = append(edges, edge{v.minus(one), Nothing})
				}
				source := v.plus(a.number).minus(b.number)
				edges = append(edges, edge{v, s.Where(Source, []Span{{source, source}}, Everything)})
				if v == span.last {
					return
				}
			}
		})
	})
	switch {
	case len(edges) > mostDiagonal:
		return Nothing, false
	case len(edges) == 0:
		return Nothing, true
	}
	edges = append(edges, edge{largest[Destination], Nothing})
	return s.Restrict(set, s.make(Destination, slices.CompactFunc(edges, func(x, y edge) bool { return x.last == y.last }))), true
}

// equalPorts is EqualWithin for the source port against the destination's.
func (s *Space) equalPorts(set Set, a, b Term) (equal Set, ok bool) {
	if a.Field == SourcePort {
		a, b = b, a
	}
	// port + a = source port + b
	few, from := s.valuesIn(set, Port), Port
	if few == nil {
		few, from = s.valuesIn(set, SourcePort), SourcePort
	}
	if few == nil {
		return Nothing, false
	}
	equal = Nothing
	for value := range few {
		port, source := value, uint16(uint64(value)+a.number.low-b.number.low)
		if from == SourcePort {
			port, source = uint16(uint64(value)+b.number.low-a.number.low), value
		}
		one := s.Where(Port, []Span{PortSpan(port, port)}, s.Where(SourcePort, []Span{PortSpan(source, source)}, Everything))
		equal = s.Overlay(equal, one)
	}
	return s.Restrict(equal, set), true
}

// mostPorts is how many ports are compared one by one, and mostLooked at how many nodes
// it is looked which they are.
const (
	mostPorts  = 64
	mostLooked = 1 << 12
)

// valuesIn returns the values that a field of ports has in a set, or nil where there are
// many.
func (s *Space) valuesIn(set Set, f Field) map[uint16]bool {
	found, seen := map[uint16]bool{}, map[Set]bool{}
	var look func(a Set) bool
	look = func(a Set) bool {
		if a == Nothing || seen[a] {
			return true
		}
		seen[a] = true
		if len(seen) > mostLooked {
			return false
		}
		few := true
		if s.fieldOf(a) >= f {
			s.eachEdge(a, f, func(span Span, _ Set) {
				for v := span.first.low; few && v <= span.last.low; v++ {
					found[uint16(v)] = true
					few = len(found) <= mostPorts
				}
			})
			return few
		}
		for _, e := range s.nodes[a].edges {
			if few = few && look(e.child); !few {
				break
			}
		}
		return few
	}
	if !look(set) {
		return nil
	}
	return found
}
