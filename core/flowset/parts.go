package flowset

import (
	"cmp"
	"slices"
)

// A Valued is the connections that a set gives one value.
type Valued struct {
	Value Value
	Set   Set
}

// Parts returns the connections of each value but 0, by ascending value.
func (s *Space) Parts(a Set) []Valued {
	if s.taken.count > mostParts {
		s.taken = taken{}
	}
	if s.taken.parts == nil {
		s.taken.parts = map[Set][]Valued{}
	}
	p := parter{Space: s, whole: map[Set][]Valued{}}
	return p.parts(a)
}

// mostParts is how many parts of nodes a space remembers: about 100 MB.
const mostParts = 1 << 22

// Taken are the nodes for ports and sources that were taken apart before.
type taken struct {
	parts map[Set][]Valued
	count int
}

type parter struct {
	*Space
	whole  map[Set][]Valued // of nodes for protocols and destinations
	pieces []piece          // of nodes that are being taken apart
}

// A piece is the part of one value behind an edge.
type piece struct {
	value Value
	edge  int
	set   Set
}

func (p *parter) parts(a Set) []Valued {
	switch {
	case a == Nothing || p.err != nil:
		return nil
	case a < 0:
		return []Valued{{a.value(), Everything}}
	case p.isFlat(a):
		return []Valued{{1, a}}
	}
	field, edges := p.nodes[a].field, p.nodes[a].edges
	memo := p.taken.parts
	if field <= Destination { // large, and hardly met again
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
	slices.SortFunc(pieces, func(a, b piece) int { return cmp.Or(cmp.Compare(a.value, b.value), a.edge-b.edge) })
	var found []Valued
	for len(pieces) > 0 {
		count := 1
		for count < len(pieces) && pieces[count].value == pieces[0].value {
			count++
		}
		found = append(found, Valued{pieces[0].value, p.from(field, edges, pieces[:count])})
		pieces = pieces[count:]
	}
	p.pieces = p.pieces[:base]
	memo[a] = found
	if field > Destination {
		p.taken.count += len(found)
	}
	return found
}

// from makes the node of the pieces, which are behind some of the edges of another.
func (p *parter) from(field Field, edges []edge, pieces []piece) Set {
	base, next := len(p.stack), 0
	for _, q := range pieces {
		if q.edge > next {
			p.push(edges[q.edge-1].last, Nothing)
		}
		p.push(edges[q.edge].last, q.set)
		next = q.edge + 1
	}
	if next < len(edges) {
		p.push(p.largest[field], Nothing)
	}
	return p.pop(field, base)
}
