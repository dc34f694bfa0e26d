package flowset

import (
	"fmt"
	"slices"
)

// A Set is an exact set of connections of a Space, or more generally gives each
// connection a value: 0 where it is not in the set. Two sets of one space are equal
// if and only if they are the same number.
//
// It is a decision diagram: a node asks for one field and has an edge for each
// stretch of values; equal nodes are stored once, and nodes that would not decide
// anything are left out.
type Set int32

// Nothing is the empty set, Everything the set of all connections.
const (
	Nothing    Set = -1
	Everything Set = -2
)

// Terminal gives every connection the value v, which is not negative.
func Terminal(v Value) Set { return Set(-1 - v) }

// value returns what a set without nodes gives every connection.
func (s Set) value() Value { return Value(-1 - s) }

// A Space holds sets: the unique table of their nodes, and a computed cache of operations on
// them. It is not safe for use by several goroutines.
//
// A space that outgrows its limit is of no more use: its operations return Nothing, and Err
// says so. Whoever makes sets asks Err before saying anything of them.
type Space struct {
	nodes  []node
	unique []Set // the nodes by hash, each one more than its number; 0 is free
	cache  []computed
	room   []edge // where the edges of the next nodes go
	stack  []edge // of nodes that are being put together

	pulls map[Terms]operation // see puller.operation

	listed map[sourcesKey][]Box // see sourcesOf
	long   int                  // see isLong

	taken   taken
	largest [Fields]number // value of each field

	most     int    // edges
	mostHeld uint64 // bytes, see Measure
	edges    int
	err      error
}

type node struct {
	edges []edge
	hash  uint32
	field Field
	flat  bool // it gives no other values than 0 and 1
	asks  fieldSet
}

// A fieldSet is the fields that a set asks for, a bit for each.
type fieldSet uint8

func (f fieldSet) has(field Field) bool { return f>>field&1 != 0 }

// An edge leads to child for the values after the edge before it, up to last.
type edge struct {
	last  number
	child Set
}

// Computed is an operation and what came out. A space remembers as many as it has room
// for; of two that want one place the later stays.
type computed struct {
	a, b, made Set
	operation  operation
}

type operation uint32

const (
	noOperation operation = iota
	overlayOperation
	restrictOperation
	minusOperation
	markOperation
	everOperation
	firstPull // and those behind it, see puller.operation
)

// TooLarge is the error of a space that outgrew its limit: of edges, or of the bytes that the process
// may take.
type TooLarge struct {
	Edges int
	Bytes uint64
}

func (e TooLarge) Error() string {
	if e.Bytes > 0 {
		return fmt.Sprintf("what has to be remembered of connections outgrows %d MB of memory: one rule for a group makes one kind of them, a rule for each member many", e.Bytes>>20)
	}
	return fmt.Sprintf("the sets of connections outgrow the limit of %d pieces", e.Edges)
}

// Err returns TooLarge where an operation needed more than the space may hold, else nil.
func (s *Space) Err() error { return s.err }

const (
	firstSlots = 1 << 8
	firstRoom  = 1 << 8
	mostRoom   = 1 << 15
	mostCached = 1 << 22
)

// NewSpace returns a space that may hold as many edges, about 40 bytes each, and knows so many moments, one
// at least.
func NewSpace(most, moments int) *Space {
	limits := largest
	limits[Time] = number{low: uint64(max(moments, 1) - 1)}
	return &Space{largest: limits, unique: make([]Set, firstSlots), cache: make([]computed, firstSlots), most: most, mostHeld: mostHeld, pulls: map[Terms]operation{}, listed: map[sourcesKey][]Box{}, long: usualLong}
}

// Most returns how many edges the space may hold.
func (s *Space) Most() int { return s.most }

// usualLong is how many edges a long node has.
const usualLong = 32

// isLong reports whether a set begins with a node of many edges. What was done with one is remembered longer
// than usually: mostly it is the same sources that come to many destinations.
func (s *Space) isLong(a Set) bool { return a >= 0 && len(s.nodes[a].edges) >= s.long }

func (s *Space) fieldOf(a Set) Field {
	if a < 0 {
		return Fields
	}
	return s.nodes[a].field
}

// isFlat reports whether a set gives no other values than 0 and 1.
func (s *Space) isFlat(a Set) bool {
	if a < 0 {
		return a >= Everything
	}
	return s.nodes[a].flat
}

// make returns the node with these edges, which it may change.
func (s *Space) make(field Field, edges []edge) Set {
	kept := edges[:0]
	for _, e := range edges {
		if n := len(kept); n > 0 && kept[n-1].child == e.child {
			kept[n-1].last = e.last
			continue
		}
		kept = append(kept, e)
	}
	if len(kept) == 1 {
		return kept[0].child
	}
	hash := hashOf(field, kept)
	mask := len(s.unique) - 1
	at := int(hash) & mask
	for ; s.unique[at] != 0; at = (at + 1) & mask {
		candidate := s.unique[at] - 1
		if n := &s.nodes[candidate]; n.hash == hash && n.field == field && slices.Equal(n.edges, kept) {
			return candidate
		}
	}
	if s.err == nil && s.edges+len(kept) > s.most {
		s.err = TooLarge{Edges: s.most}
	}
	if s.err != nil {
		return Nothing
	}
	s.edges += len(kept)
	made := Set(len(s.nodes))
	s.unique[at] = made + 1
	flat, asks := true, fieldSet(1)<<field
	for _, e := range kept {
		if flat = flat && s.isFlat(e.child); e.child >= 0 {
			asks |= s.nodes[e.child].asks
		}
	}
	s.nodes = append(s.nodes, node{s.keep(kept), hash, field, flat, asks})
	if len(s.nodes) > len(s.unique)/2 {
		s.grow()
	}
	if len(s.nodes)%untilMeasured == 0 {
		s.Measure()
	}
	return made
}

func hashOf(field Field, edges []edge) uint32 {
	hash := uint64(field) + 0x9e3779b97f4a7c15
	for _, e := range edges {
		for _, word := range [3]uint64{e.last.high, e.last.low, uint64(uint32(e.child))} {
			hash = (hash ^ word) * 0xff51afd7ed558ccd
			hash ^= hash >> 32
		}
	}
	return uint32(hash)
}

// keep copies edges to where they stay.
func (s *Space) keep(edges []edge) []edge {
	if cap(s.room)-len(s.room) < len(edges) {
		size := min(max(firstRoom, 2*cap(s.room)), mostRoom)
		s.room = make([]edge, 0, max(size, len(edges)))
	}
	from := len(s.room)
	s.room = append(s.room, edges...)
	return s.room[from:len(s.room):len(s.room)]
}

// grow makes place for more nodes, and for more calls to be remembered.
func (s *Space) grow() {
	s.unique = make([]Set, 2*len(s.unique))
	mask := len(s.unique) - 1
	for i := range s.nodes {
		at := int(s.nodes[i].hash) & mask
		for s.unique[at] != 0 {
			at = (at + 1) & mask
		}
		s.unique[at] = Set(i) + 1
	}
	if len(s.cache) < mostCached {
		before := s.cache
		s.cache = make([]computed, 2*len(before))
		for _, c := range before {
			if c.operation != noOperation {
				s.remember(c.operation, c.a, c.b, c.made)
			}
		}
	}
}

func (s *Space) cached(what operation, a, b Set) *computed {
	hash := (uint64(uint32(a))<<32 | uint64(uint32(b)) + uint64(what)<<30) * 0xff51afd7ed558ccd
	return &s.cache[int(hash>>40)&(len(s.cache)-1)]
}

func (s *Space) remember(what operation, a, b, made Set) {
	*s.cached(what, a, b) = computed{a, b, made, what}
}

func (s *Space) recall(what operation, a, b Set) (made Set, ok bool) {
	c := s.cached(what, a, b)
	return c.made, c.operation == what && c.a == a && c.b == b
}

// Where returns a where one field has a value in the spans, and nothing elsewhere.
// The spans are sorted and disjoint. a must not ask for the field or one before it.
func (s *Space) Where(field Field, spans []Span, a Set) Set {
	base, next := len(s.stack), number{}
	for _, span := range spans {
		next = s.pushSpan(next, span, a)
	}
	return s.popLast(field, base)
}

// A ValueSpan is the values of a field from first to last, and what a set gives them.
type ValueSpan struct {
	Span
	Value Value
}

// Compare orders spans by where they begin.
func (s ValueSpan) Compare(t ValueSpan) int { return s.first.compare(t.first) }

// Choice returns the set that gives each span of a field its value, and nothing
// elsewhere. The spans are sorted and disjoint.
func (s *Space) Choice(field Field, spans []ValueSpan) Set {
	base, next := len(s.stack), number{}
	for _, span := range spans {
		next = s.pushSpan(next, span.Span, Terminal(span.Value))
	}
	return s.popLast(field, base)
}

// pushSpan puts a span on the stack, and what is between it and the one before, which
// ends before next. It returns what comes next.
func (s *Space) pushSpan(next number, span Span, a Set) number {
	if next.less(span.first) {
		s.push(span.first.minus(one), Nothing)
	}
	s.push(span.last, a)
	return span.last.plus(one)
}

// popLast is pop for a node of spans, after the last of which there is nothing.
func (s *Space) popLast(field Field, base int) Set {
	if len(s.stack) == base || s.stack[len(s.stack)-1].last != s.largest[field] {
		s.push(s.largest[field], Nothing)
	}
	return s.pop(field, base)
}

// push puts the next edge of a node on the stack.
func (s *Space) push(last number, child Set) { s.stack = append(s.stack, edge{last, child}) }

// pop makes the node whose edges are on the stack from base on, and takes them off.
func (s *Space) pop(field Field, base int) Set {
	made := s.make(field, s.stack[base:])
	if s.stack = s.stack[:base]; base == 0 && cap(s.stack) > mostStack {
		s.stack = nil
	}
	return made
}

// mostStack is how many edges the stack keeps place for between two nodes: nearly none has so many.
const mostStack = 1 << 20

// Contains reports whether a connection is in the set.
func (s *Space) Contains(a Set, p Member) bool {
	values := valuesOf(p)
	return s.holds(a, &values)
}
