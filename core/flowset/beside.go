package flowset

// Beside returns connections that differ from a member of a set in one field only, are not in the
// set, and lie right beside one that is: one below and one above each stretch of the field's
// values that is in the set, in their order. The cost is that of a look at the member's path for
// each value that the field is cut at.
func (s *Space) Beside(a Set, p Member, f Field) (near []Member) {
	values := valuesOf(p)
	for a >= 0 && s.nodes[a].field < f {
		a = s.next(a, &values)
	}
	if a < 0 || s.nodes[a].field != f {
		return nil
	}
	edges := s.nodes[a].edges
	before := false // whether the stretch below is in the set
	for i, e := range edges {
		inside := s.holds(e.child, &values)
		if i > 0 && inside != before {
			at := values
			if at[f] = edges[i-1].last; before {
				at[f] = at[f].plus(one)
			}
			near = append(near, memberOf(at))
		}
		before = inside
	}
	return near
}

// next returns where a node leads.
func (s *Space) next(a Set, values *[Fields]number) Set {
	n := &s.nodes[a]
	return n.edges[edgeAt(n.edges, values[n.field])].child
}

// holds reports whether values are those of a packet in the set.
func (s *Space) holds(a Set, values *[Fields]number) bool {
	for a >= 0 {
		a = s.next(a, values)
	}
	return a != Nothing
}
