package header

import (
	"net/netip"
	"slices"
)

// A Term is what a field of a packet on its way is in terms of the connection it
// was at first: one of its fields and what was added to it, or a constant.
type Term struct {
	Field    Field
	constant bool
	number   number // the constant, or what was added
}

// Constant returns the term for an address.
func Constant(a netip.Addr) Term { return Term{constant: true, number: numberOf(a)} }

// ConstantPort returns the term for a port.
func ConstantPort(port uint16) Term { return Term{constant: true, number: number{low: uint64(port)}} }

// Original returns the term for a field that was not changed.
func Original(f Field) Term { return Term{Field: f} }

// Shifted returns the term for what a range from becomes when it is mapped to one
// that begins at to.
func (t Term) Shifted(from, to netip.Addr) Term {
	t.number = t.number.plus(numberOf(to).minus(numberOf(from)))
	return t
}

// ShiftedPort is Shifted for ports.
func (t Term) ShiftedPort(from, to uint16) Term {
	t.number = t.number.plus(number{low: uint64(to)}.minus(number{low: uint64(from)}))
	if !t.constant {
		return t
	}
	t.number = number{low: t.number.low & 0xffff}
	return t
}

// ConstantValue returns the number of a constant below 65536.
func (t Term) ConstantValue() uint16 { return uint16(t.number.low) }

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
	case a.Field == FieldSourcePort || a.Field == FieldPort:
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
	if f == FieldPort || f == FieldSourcePort {
		return s.equalPorts(set, a, b)
	}
	if a.Field == FieldSource {
		a, b = b, a
	}
	// destination + a = source + b
	var edges []setEdge
	s.eachEdge(set, FieldProtocol, func(_ Span, rest Set) {
		s.eachEdge(rest, FieldDestination, func(span Span, _ Set) {
			for v := span.first; len(edges) <= mostDiagonal; v = v.plus(one) {
				if v != (number{}) {
					edges = append(edges, setEdge{v.minus(one), Nothing})
				}
				source := v.plus(a.number).minus(b.number)
				edges = append(edges, setEdge{v, s.Where(FieldSource, []Span{{source, source}}, Everything)})
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
	edges = append(edges, setEdge{largest[FieldDestination], Nothing})
	return s.Restrict(set, s.make(FieldDestination, slices.CompactFunc(edges, func(x, y setEdge) bool { return x.last == y.last }))), true
}

// equalPorts is EqualWithin for the source port against the destination's.
func (s *Space) equalPorts(set Set, a, b Term) (equal Set, ok bool) {
	if a.Field == FieldSourcePort {
		a, b = b, a
	}
	// port + a = source port + b
	few, from := s.valuesIn(set, FieldPort), FieldPort
	if few == nil {
		few, from = s.valuesIn(set, FieldSourcePort), FieldSourcePort
	}
	if few == nil {
		return Nothing, false
	}
	equal = Nothing
	for value := range few {
		port, source := value, uint16(uint64(value)+a.number.low-b.number.low)
		if from == FieldSourcePort {
			port, source = uint16(uint64(value)+b.number.low-a.number.low), value
		}
		one := s.Where(FieldPort, []Span{PortSpan(port, port)}, s.Where(FieldSourcePort, []Span{PortSpan(source, source)}, Everything))
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

// Terms are what each field of a packet is in terms of the connection at first.
type Terms [Fields]Term

// OriginalTerms are those of a packet that nothing has changed.
func OriginalTerms() Terms {
	var t Terms
	for f := range Fields {
		t[f] = Original(f)
	}
	return t
}

// Answer returns the terms of the packet that answers.
func (t Terms) Answer(protocol Protocol) Terms {
	back := t
	back[FieldSource], back[FieldDestination] = t[FieldDestination], t[FieldSource]
	back[FieldSourcePort], back[FieldPort] = t[FieldPort], t[FieldSourcePort]
	if protocol == ICMP {
		back[FieldSourcePort], back[FieldPort] = t[FieldSourcePort], ConstantPort(0)
	}
	return back
}

// Pull returns, for the connections of a set, the values that a gives to what they
// have become by the terms. Turned, a is over answers: what it asks of the source it
// asks of the other end. Only those parts of a are looked at that the set comes to.
func (s *Space) Pull(set, a Set, terms *Terms, turned bool) Set {
	p := puller{Space: s, terms: terms, turned: turned}
	return p.pull(set, a)
}

// Agreed returns the value, as a set, that a gives to all connections of a set, as Pull
// would. It returns false where they have several, or where it can't be told quickly.
func (s *Space) Agreed(set, a Set, terms *Terms, turned bool) (value Set, ok bool) {
	p := puller{Space: s, terms: terms, turned: turned, steps: quick}
	return p.agreed(set, a)
}

// quick is how many pairs of nodes, and of their edges, Agreed looks at.
const quick = 512

// unmemoed is how many pairs of nodes are pulled before they are remembered.
const unmemoed = 32

type puller struct {
	*Space
	terms  *Terms
	turned bool
	steps  int
	memo   map[[2]Set]Set
}

// behind follows a while it asks for what is constant, and returns the term of the
// field it asks for then.
func (p *puller) behind(a Set) (Set, *Term) {
	for a >= 0 {
		n := &p.nodes[a]
		term := &p.terms[packetField(n.field, p.turned)]
		if !term.constant {
			return a, term
		}
		a = n.edges[edgeAt(n.edges, term.number)].child
	}
	return a, nil
}

func (p *puller) pull(set, a Set) Set {
	if set == Nothing || a == Nothing {
		return Nothing
	}
	a, term := p.behind(a)
	if term == nil {
		return p.Restrict(set, a)
	}
	p.steps++
	key := [2]Set{set, a}
	if known, ok := p.memo[key]; ok {
		return known
	}
	field := p.fieldOf(set)
	base := len(p.stack)
	if field < term.Field {
		for _, e := range p.nodes[set].edges {
			p.push(e.last, p.pull(e.child, a))
		}
	} else {
		field = term.Field
		first := number{}
		asked := p.nodes[a].edges
		limit := largest[p.nodes[a].field]
		at, last := 0, number{}
		var whole [1]setEdge
		for _, e := range p.edgesFor(set, field, &whole) {
			if e.child == Nothing {
				p.push(e.last, Nothing)
			} else {
				for done := false; !done; {
					at, last = meet(asked, at, first, e.last, term.number, limit)
					p.push(last, p.pull(e.child, asked[at].child))
					done = last == e.last
					first = last.plus(one)
				}
			}
			first = e.last.plus(one)
		}
	}
	made := p.pop(field, base)
	if p.steps > unmemoed {
		if p.memo == nil {
			p.memo = map[[2]Set]Set{}
		}
		p.memo[key] = made
	}
	return made
}

func (p *puller) agreed(set, a Set) (value Set, ok bool) {
	a, term := p.behind(a)
	if term == nil {
		return a, true
	}
	if p.steps--; p.steps < 0 {
		return 0, false
	}
	const unknown Set = 0
	add := func(child, asked Set) bool {
		v, ok := p.agreed(child, asked)
		if !ok || value != unknown && v != value {
			return false
		}
		value = v
		return true
	}
	field := p.fieldOf(set)
	if field < term.Field {
		for _, e := range p.nodes[set].edges {
			if e.child != Nothing && !add(e.child, a) {
				return 0, false
			}
		}
		return value, true
	}
	first := number{}
	asked := p.nodes[a].edges
	limit := largest[p.nodes[a].field]
	at, last := 0, number{}
	var whole [1]setEdge
	for _, e := range p.edgesFor(set, term.Field, &whole) {
		for done := e.child == Nothing; !done; {
			if p.steps--; p.steps < 0 {
				return 0, false
			}
			at, last = meet(asked, at, first, e.last, term.number, limit)
			if !add(e.child, asked[at].child) {
				return 0, false
			}
			done = last == e.last
			first = last.plus(one)
		}
		first = e.last.plus(one)
	}
	return value, true
}

// meet returns which of the edges the values from first on come to when by is added to
// them, and the last value up to end for which it is that one. before is the edge that the
// values before them come to: mostly it is this one or the next.
func meet(edges []setEdge, before int, first, end, by, limit number) (at int, last number) {
	now := first.plus(by)
	if limit.high == 0 {
		now = number{low: now.low & limit.low}
	}
	at = before
	if edges[at].last.less(now) && at+1 < len(edges) {
		at++
	}
	if edges[at].last.less(now) || at > 0 && !edges[at-1].last.less(now) {
		at = edgeAt(edges, now)
	}
	last = first.plus(edges[at].last.minus(now)) // goes round where it is behind the largest
	if last.less(first) || end.less(last) {
		last = end
	}
	return at, last
}

// edgeAt returns which edge a value takes.
func edgeAt(edges []setEdge, value number) int {
	low, high := 0, len(edges)-1
	for low < high {
		middle := int(uint(low+high) >> 1)
		if edges[middle].last.less(value) {
			low = middle + 1
		} else {
			high = middle
		}
	}
	return low
}

// packetField returns the field of the packet that a set's field asks for.
func packetField(f Field, turned bool) Field {
	if !turned {
		return f
	}
	return [Fields]Field{FieldProtocol, FieldSource, FieldSourcePort, FieldDestination, FieldPort}[f]
}

// Apply returns what a connection's packet is by the terms.
func (t Terms) Apply(p Packet) Packet {
	values := valuesOf(p)
	var now [Fields]number
	for f, term := range t {
		now[f] = term.number
		if !term.constant {
			now[f] = values[term.Field].plus(term.number)
		}
		if limit := largest[f]; limit.high == 0 {
			now[f] = number{low: now[f].low & limit.low}
		}
	}
	return packetOf(now)
}

// IsConstant reports whether the term does not depend on the connection.
func (t Term) IsConstant() bool { return t.constant }
