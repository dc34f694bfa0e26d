package header

import (
	"cmp"
	"slices"
)

// Overlay returns a's values and, where a is nothing, b's. For sets it is the union.
func (s *Space) Overlay(a, b Set) Set {
	switch {
	case a == Nothing || a == b:
		return b
	case b == Nothing || a < 0:
		return a
	}
	return s.apply(overlayCall, a, b, s.Overlay)
}

// Restrict returns b's values where a holds, and nothing elsewhere. For sets it is
// the intersection.
func (s *Space) Restrict(a, b Set) Set {
	switch {
	case a == Nothing || b == Nothing:
		return Nothing
	case a < 0 || a == b && s.isFlat(a):
		return b
	case b == Everything && s.isFlat(a):
		return a
	}
	return s.apply(restrictCall, a, b, s.Restrict)
}

// Minus returns a where b does not hold, and nothing elsewhere.
func (s *Space) Minus(a, b Set) Set {
	switch {
	case a == Nothing || b == Nothing:
		return a
	case b < 0 || a == b:
		return Nothing
	}
	return s.apply(minusCall, a, b, s.Minus)
}

// apply combines two sets field by field.
func (s *Space) apply(operation setOperation, a, b Set, combine func(a, b Set) Set) Set {
	if known, ok := s.recall(operation, a, b); ok {
		return known
	}
	made := s.zip(a, b, combine)
	s.remember(operation, a, b, made)
	return made
}

// zip combines the children of two sets stretch by stretch of the first field
// that one of them asks for.
func (s *Space) zip(a, b Set, combine func(a, b Set) Set) Set {
	field := min(s.fieldOf(a), s.fieldOf(b))
	var wholes [2][1]setEdge
	x, y := s.edgesFor(a, field, &wholes[0]), s.edgesFor(b, field, &wholes[1])
	base := len(s.stack)
	for i, j := 0, 0; i < len(x) && j < len(y); {
		last := x[i].last
		if y[j].last.less(last) {
			last = y[j].last
		}
		s.push(last, combine(x[i].child, y[j].child))
		if x[i].last == last {
			i++
		}
		if y[j].last == last {
			j++
		}
	}
	return s.pop(field, base)
}

// edgesFor returns the edges of a set for a field; where it does not ask for that
// there is one edge, which whole has the place for.
func (s *Space) edgesFor(a Set, field Field, whole *[1]setEdge) []setEdge {
	if s.fieldOf(a) == field {
		return s.nodes[a].edges
	}
	whole[0] = setEdge{largest[field], a}
	return whole[:]
}

// OverlayAll returns the values of the first of the sets that has one.
func (s *Space) OverlayAll(list []Set) Set {
	list = slices.DeleteFunc(slices.Clone(list), func(a Set) bool { return a == Nothing })
	return s.overlayAll(list)
}

// overlayAll is OverlayAll of sets of which none is nothing. Those that hardly overlap
// are laid side by side, so that nothing is made on the way but the result.
func (s *Space) overlayAll(list []Set) Set {
	for i, a := range list {
		if a < 0 { // it hides what is behind it
			list = list[:i+1]
			break
		}
	}
	switch len(list) {
	case 0:
		return Nothing
	case 1:
		return list[0]
	case 2:
		return s.Overlay(list[0], list[1])
	}
	field := Fields
	for _, a := range list {
		field = min(field, s.fieldOf(a))
	}
	var stretches []stretch
	for i, a := range list {
		s.eachEdge(a, field, func(span Span, child Set) { stretches = append(stretches, stretch{span, i, child}) })
	}
	slices.SortFunc(stretches, func(a, b stretch) int { return cmp.Or(a.first.compare(b.first), a.set-b.set) })
	if columns, ok := sweep(field, stretches); ok {
		base := len(s.stack)
		for _, c := range columns {
			s.push(c.last, s.overlayAll(c.children))
		}
		return s.pop(field, base)
	}
	middle := len(list) / 2
	return s.Overlay(s.overlayAll(list[:middle]), s.overlayAll(list[middle:]))
}

// A stretch is the values of a field for which one of several sets leads on.
type stretch struct {
	Span
	set   int // its place in the order
	child Set
}

// mostOverlap is how many sets lead on for a value, on average, where sets are said to
// hardly overlap.
const mostOverlap = 8

// A column is what stands behind the values after the column before it, up to last.
type column struct {
	last     number
	children []Set
}

// sweep cuts stretches, sorted by where they begin, into columns. It returns false where
// too many overlap.
func sweep(field Field, waiting []stretch) (columns []column, ok bool) {
	overlap, most := 0, mostOverlap*(len(waiting)+1)
	var open []stretch // in their order
	for at := (number{}); ; {
		for len(waiting) > 0 && waiting[0].first == at {
			place, _ := slices.BinarySearchFunc(open, waiting[0].set, func(o stretch, set int) int { return o.set - set })
			open = slices.Insert(open, place, waiting[0])
			waiting = waiting[1:]
		}
		if overlap += len(open); overlap > most {
			return nil, false
		}
		c := column{last: largest[field]}
		if len(waiting) > 0 {
			c.last = waiting[0].first.minus(one)
		}
		for _, o := range open {
			if c.children = append(c.children, o.child); o.last.less(c.last) {
				c.last = o.last
			}
		}
		columns = append(columns, c)
		if c.last == largest[field] {
			return columns, true
		}
		open = slices.DeleteFunc(open, func(o stretch) bool { return o.last == c.last })
		at = c.last.plus(one)
	}
}

// A Part is the connections that a set gives one value.
type Part struct {
	Value int
	Set   Set
}

// Parts returns the connections of each value but 0, by ascending value.
func (s *Space) Parts(a Set) []Part {
	if s.taken.count > mostParts {
		s.taken = taken{}
	}
	if s.taken.parts == nil {
		s.taken.parts = map[Set][]Part{}
	}
	p := parter{Space: s, whole: map[Set][]Part{}}
	return p.parts(a)
}

// mostParts is how many parts of nodes a space remembers: about 100 MB.
const mostParts = 1 << 22

// Taken are the nodes for ports and sources that were taken apart before.
type taken struct {
	parts map[Set][]Part
	count int
}

type parter struct {
	*Space
	whole  map[Set][]Part // of nodes for protocols and destinations
	pieces []piece        // of nodes that are being taken apart
}

// A piece is the part of one value behind an edge.
type piece struct {
	value, edge int
	set         Set
}

func (p *parter) parts(a Set) []Part {
	switch {
	case a == Nothing:
		return nil
	case a < 0:
		return []Part{{a.value(), Everything}}
	case p.isFlat(a):
		return []Part{{1, a}}
	}
	field, edges := p.nodes[a].field, p.nodes[a].edges
	memo := p.taken.parts
	if field <= FieldDestination { // large, and hardly met again
		memo = p.whole
	}
	if known, ok := memo[a]; ok {
		return known
	}
	base := len(p.pieces)
	for i, e := range edges {
		for _, q := range p.parts(e.child) {
			p.pieces = append(p.pieces, piece{q.Value, i, q.Set})
		}
	}
	pieces := p.pieces[base:]
	slices.SortFunc(pieces, func(a, b piece) int { return cmp.Or(a.value-b.value, a.edge-b.edge) })
	var found []Part
	for len(pieces) > 0 {
		count := 1
		for count < len(pieces) && pieces[count].value == pieces[0].value {
			count++
		}
		found = append(found, Part{pieces[0].value, p.from(field, edges, pieces[:count])})
		pieces = pieces[count:]
	}
	p.pieces = p.pieces[:base]
	memo[a] = found
	if field > FieldDestination {
		p.taken.count += len(found)
	}
	return found
}

// from makes the node of the pieces, which are behind some of the edges of another.
func (p *parter) from(field Field, edges []setEdge, pieces []piece) Set {
	base, next := len(p.stack), 0
	for _, q := range pieces {
		if q.edge > next {
			p.push(edges[q.edge-1].last, Nothing)
		}
		p.push(edges[q.edge].last, q.set)
		next = q.edge + 1
	}
	if next < len(edges) {
		p.push(largest[field], Nothing)
	}
	return p.pop(field, base)
}

// Contains reports whether a packet is in the set.
func (s *Space) Contains(a Set, p Packet) bool {
	values := valuesOf(p)
	for a >= 0 {
		n := &s.nodes[a]
		a = n.edges[edgeAt(n.edges, values[n.field])].child
	}
	return a != Nothing
}
