package header

import (
	"cmp"
	"fmt"
	"math/bits"
	"net/netip"
	"slices"
)

// A Field is one of the fields a connection is made of.
type Field uint8

// The fields, in the order in which sets of connections decide about them.
const (
	FieldProtocol Field = iota
	FieldDestination
	FieldPort // of the destination
	FieldSource
	FieldSourcePort
	Fields
)

// A number is a field's value: an address as Number gives it, a port, a protocol.
type number struct{ high, low uint64 }

func (n number) less(m number) bool { return n.high < m.high || n.high == m.high && n.low < m.low }

func (n number) compare(m number) int {
	return cmp.Or(cmp.Compare(n.high, m.high), cmp.Compare(n.low, m.low))
}

func (n number) plus(m number) number {
	low, carry := bits.Add64(n.low, m.low, 0)
	high, _ := bits.Add64(n.high, m.high, carry)
	return number{high, low}
}

func (n number) minus(m number) number {
	low, borrow := bits.Sub64(n.low, m.low, 0)
	high, _ := bits.Sub64(n.high, m.high, borrow)
	return number{high, low}
}

var one = number{low: 1}

// largest is the largest value of each field.
var largest = [Fields]number{
	FieldProtocol: {low: 255}, FieldPort: {low: 65535}, FieldSourcePort: {low: 65535},
	FieldDestination: {^uint64(0), ^uint64(0)}, FieldSource: {^uint64(0), ^uint64(0)},
}

// A Span is the values of a field from first to last.
type Span struct{ first, last number }

// AddressSpan returns the addresses of a range as a span.
func AddressSpan(r Range) Span { return Span{numberOf(r.First), numberOf(r.Last)} }

// PortSpan returns the numbers from first to last as a span, for ports and protocols.
func PortSpan(first, last uint16) Span {
	return Span{number{low: uint64(first)}, number{low: uint64(last)}}
}

func numberOf(a netip.Addr) number {
	high, low := Number(a)
	return number{high, low}
}

// address returns the number as the address it stands for, IPv4 where it is one.
func (n number) address() netip.Addr { return n.wide().Unmap() }

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

// ValueSet gives every connection the value v, which is not negative.
func ValueSet(v int) Set { return Set(-1 - v) }

// value returns what a set without nodes gives every connection.
func (s Set) value() int { return int(-1 - s) }

// A Space holds sets. It is not safe for use by several goroutines.
type Space struct {
	nodes []setNode
	slots []Set // the nodes by hash, each one more than its number; 0 is free
	calls []setCall
	room  []setEdge // where the edges of the next nodes go
	stack []setEdge // of nodes that are being put together

	taken taken
	most  int // edges
	edges int
}

type setNode struct {
	edges []setEdge
	hash  uint32
	field Field
	flat  bool // it gives no other values than 0 and 1
}

// A setEdge leads to child for the values after the edge before it, up to last.
type setEdge struct {
	last  number
	child Set
}

// A setCall is an operation and what came out. A space remembers as many calls as
// it has room for; of two that want one place the later stays.
type setCall struct {
	a, b, made Set
	operation  setOperation
}

type setOperation uint8

const (
	noCall setOperation = iota
	overlayCall
	restrictCall
	minusCall
)

// TooLarge is what operations panic with when a space outgrows its limit.
type TooLarge struct{ Edges int }

func (e TooLarge) Error() string {
	return fmt.Sprintf("the sets of connections outgrow the limit of %d pieces", e.Edges)
}

// CatchTooLarge, deferred, makes an error of the panic of a space that outgrows its limit.
func CatchTooLarge(err *error) {
	switch reason := recover().(type) {
	case nil:
	case TooLarge:
		*err = reason
	default:
		panic(reason)
	}
}

const (
	firstSlots = 1 << 8
	firstRoom  = 1 << 8
	mostRoom   = 1 << 15
	mostCalls  = 1 << 22
)

// NewSpace returns a space that may hold as many edges. An operation that needs
// more panics with TooLarge.
func NewSpace(most int) *Space {
	return &Space{slots: make([]Set, firstSlots), calls: make([]setCall, firstSlots), most: most}
}

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
func (s *Space) make(field Field, edges []setEdge) Set {
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
	mask := len(s.slots) - 1
	at := int(hash) & mask
	for ; s.slots[at] != 0; at = (at + 1) & mask {
		candidate := s.slots[at] - 1
		if n := &s.nodes[candidate]; n.hash == hash && n.field == field && slices.Equal(n.edges, kept) {
			return candidate
		}
	}
	if s.edges += len(kept); s.edges > s.most {
		panic(TooLarge{s.most})
	}
	made := Set(len(s.nodes))
	s.slots[at] = made + 1
	flat := true
	for _, e := range kept {
		flat = flat && s.isFlat(e.child)
	}
	s.nodes = append(s.nodes, setNode{s.keep(kept), hash, field, flat})
	if len(s.nodes) > len(s.slots)/2 {
		s.grow()
	}
	return made
}

func hashOf(field Field, edges []setEdge) uint32 {
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
func (s *Space) keep(edges []setEdge) []setEdge {
	if cap(s.room)-len(s.room) < len(edges) {
		size := min(max(firstRoom, 2*cap(s.room)), mostRoom)
		s.room = make([]setEdge, 0, max(size, len(edges)))
	}
	from := len(s.room)
	s.room = append(s.room, edges...)
	return s.room[from:len(s.room):len(s.room)]
}

// grow makes place for more nodes, and for more calls to be remembered.
func (s *Space) grow() {
	s.slots = make([]Set, 2*len(s.slots))
	mask := len(s.slots) - 1
	for i := range s.nodes {
		at := int(s.nodes[i].hash) & mask
		for s.slots[at] != 0 {
			at = (at + 1) & mask
		}
		s.slots[at] = Set(i) + 1
	}
	if len(s.calls) < mostCalls {
		before := s.calls
		s.calls = make([]setCall, 2*len(before))
		for _, c := range before {
			if c.operation != noCall {
				s.remember(c.operation, c.a, c.b, c.made)
			}
		}
	}
}

func (s *Space) callAt(operation setOperation, a, b Set) *setCall {
	hash := (uint64(uint32(a))<<32 | uint64(uint32(b)) + uint64(operation)<<30) * 0xff51afd7ed558ccd
	return &s.calls[int(hash>>40)&(len(s.calls)-1)]
}

func (s *Space) remember(operation setOperation, a, b, made Set) {
	*s.callAt(operation, a, b) = setCall{a, b, made, operation}
}

func (s *Space) recall(operation setOperation, a, b Set) (made Set, ok bool) {
	c := s.callAt(operation, a, b)
	return c.made, c.operation == operation && c.a == a && c.b == b
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
	Value int
}

// Compare orders spans by where they begin.
func (s ValueSpan) Compare(t ValueSpan) int { return s.first.compare(t.first) }

// Choice returns the set that gives each span of a field its value, and nothing
// elsewhere. The spans are sorted and disjoint.
func (s *Space) Choice(field Field, spans []ValueSpan) Set {
	base, next := len(s.stack), number{}
	for _, span := range spans {
		next = s.pushSpan(next, span.Span, ValueSet(span.Value))
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
	if len(s.stack) == base || s.stack[len(s.stack)-1].last != largest[field] {
		s.push(largest[field], Nothing)
	}
	return s.pop(field, base)
}

// push puts the next edge of a node on the stack.
func (s *Space) push(last number, child Set) { s.stack = append(s.stack, setEdge{last, child}) }

// pop makes the node whose edges are on the stack from base on, and takes them off.
func (s *Space) pop(field Field, base int) Set {
	made := s.make(field, s.stack[base:])
	s.stack = s.stack[:base]
	return made
}

// mapped are the IPv6 addresses whose numbers IPv4 addresses have. No packet
// carries them.
var mapped = Addresses{[]Range{{
	netip.AddrFrom16([16]byte{10: 0xff, 11: 0xff}),
	netip.AddrFrom16([16]byte{10: 0xff, 11: 0xff, 12: 0xff, 13: 0xff, 14: 0xff, 15: 0xff}),
}}}

// AddressSpans returns a set of addresses as spans, sorted as numbers.
func AddressSpans(set Addresses) []Span {
	spans := make([]Span, 0, len(set.ranges)+1)
	for _, r := range set.Minus(mapped).ranges {
		spans = append(spans, AddressSpan(r))
	}
	slices.SortFunc(spans, func(a, b Span) int { return a.first.compare(b.first) })
	return spans
}
