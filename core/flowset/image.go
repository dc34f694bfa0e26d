package flowset

// Preimage returns, for the connections of a set, the values that a gives to what they
// have become by the terms. Turned, a is over answers: what it asks of the source it
// asks of the other end. Only those parts of a are looked at that the set comes to.
func (s *Space) Preimage(set, a Set, terms *Terms, turned bool) Set {
	p := puller{Space: s, terms: terms, turned: turned}
	return p.pull(set, a)
}

// Agreed returns the value, as a set, that a gives to all connections of a set, as Preimage
// would. It returns false where they have several, or where it can't be told quickly.
func (s *Space) Agreed(set, a Set, terms *Terms, turned bool) (value Set, ok bool) {
	p := puller{Space: s, terms: terms, turned: turned, steps: mostAgreed}
	return p.agreed(set, a)
}

// mostAgreed is how many pairs of nodes, and of their edges, Agreed looks at.
const mostAgreed = 512

// unmemoed is how many pairs of nodes are pulled before they are remembered.
const unmemoed = 32

type puller struct {
	*Space
	terms      *Terms
	turned     bool
	steps      int
	memo       map[[2]Set]Set
	operations [1 << Fields]operation // by what is asked for, 0 where it is not known yet
}

// operation returns the number of what pulling a set that asks for some fields is, by these terms: the same
// for all terms that do not differ in them.
func (p *puller) operation(asks fieldSet) operation {
	known := p.operations[asks]
	if known == noOperation {
		var terms Terms
		for f := range Fields {
			if asks.has(f) {
				terms[f] = p.terms[packetField(f, p.turned)]
			}
		}
		if known = p.pulls[terms]; known == noOperation {
			known = firstPull + operation(len(p.pulls))
			p.pulls[terms] = known
		}
		p.operations[asks] = known
	}
	return known
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
	if set == Nothing || a == Nothing || p.err != nil {
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
	what := noOperation
	if p.isLong(a) || p.isLong(set) {
		what = p.operation(p.nodes[a].asks)
		if known, ok := p.recall(what, set, a); ok {
			return known
		}
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
		limit := p.largest[p.nodes[a].field]
		at, last := 0, number{}
		var whole [1]edge
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
	if what != noOperation {
		p.remember(what, set, a, made)
	}
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
	limit := p.largest[p.nodes[a].field]
	at, last := 0, number{}
	var whole [1]edge
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
func meet(edges []edge, before int, first, end, by, limit number) (at int, last number) {
	now := first.plus(by)
	if limit.high == 0 && by != (number{}) { // moments are never moved
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
func edgeAt(edges []edge, value number) int {
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
	return f.Opposite()
}
