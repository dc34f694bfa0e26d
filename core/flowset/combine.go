package flowset

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
	return s.apply(overlayOperation, a, b, s.Overlay)
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
	return s.apply(restrictOperation, a, b, s.Restrict)
}

// Minus returns a where b does not hold, and nothing elsewhere.
func (s *Space) Minus(a, b Set) Set {
	switch {
	case a == Nothing || b == Nothing:
		return a
	case b < 0 || a == b:
		return Nothing
	}
	return s.apply(minusOperation, a, b, s.Minus)
}

// Mark returns a's values, marked where b holds.
func (s *Space) Mark(a, b Set) Set {
	switch {
	case b == Nothing:
		return a
	case a < 0 && b < 0:
		return Terminal(a.value().Marked())
	}
	return s.apply(markOperation, a, b, s.Mark)
}

// apply combines two sets field by field.
func (s *Space) apply(what operation, a, b Set, combine func(a, b Set) Set) Set {
	if s.err != nil {
		return Nothing
	}
	if known, ok := s.recall(what, a, b); ok {
		return known
	}
	made := s.zip(a, b, combine)
	s.remember(what, a, b, made)
	return made
}

// zip combines the children of two sets stretch by stretch of the first field
// that one of them asks for.
func (s *Space) zip(a, b Set, combine func(a, b Set) Set) Set {
	field := min(s.fieldOf(a), s.fieldOf(b))
	var wholes [2][1]edge
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
func (s *Space) edgesFor(a Set, field Field, whole *[1]edge) []edge {
	if s.fieldOf(a) == field {
		return s.nodes[a].edges
	}
	whole[0] = edge{s.largest[field], a}
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
	if s.err != nil {
		return Nothing
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
	if columns, ok := sweep(s.largest[field], stretches); ok {
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
func sweep(largest number, waiting []stretch) (columns []column, ok bool) {
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
		c := column{last: largest}
		if len(waiting) > 0 {
			c.last = waiting[0].first.minus(one)
		}
		for _, o := range open {
			if c.children = append(c.children, o.child); o.last.less(c.last) {
				c.last = o.last
			}
		}
		columns = append(columns, c)
		if c.last == largest {
			return columns, true
		}
		open = slices.DeleteFunc(open, func(o stretch) bool { return o.last == c.last })
		at = c.last.plus(one)
	}
}
