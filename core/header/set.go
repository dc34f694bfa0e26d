package header

import (
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
	nodes  []setNode
	unique map[uint64][]Set
	memo   map[setCall]Set

	diagonals map[uint16]Set
	most      int // edges
	edges     int
}

type setNode struct {
	field Field
	edges []setEdge
}

// A setEdge leads to child for the values after the edge before it, up to last.
type setEdge struct {
	last  number
	child Set
}

type setCall struct {
	operation setOperation
	a, b      Set
}

type setOperation uint8

const (
	overlayCall setOperation = iota
	restrictCall
	minusCall
	flattenCall
)

// ErrTooLarge is what operations panic with, as TooLarge, when a space outgrows its limit.
type TooLarge struct{ Edges int }

func (e TooLarge) Error() string {
	return fmt.Sprintf("the sets of connections outgrow the limit of %d pieces", e.Edges)
}

// NewSpace returns a space that may hold as many edges. An operation that needs
// more panics with TooLarge.
func NewSpace(most int) *Space {
	return &Space{unique: map[uint64][]Set{}, memo: map[setCall]Set{}, diagonals: map[uint16]Set{}, most: most}
}

func (s *Space) fieldOf(a Set) Field {
	if a < 0 {
		return Fields
	}
	return s.nodes[a].field
}

// make returns the node with these edges.
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
	hash := uint64(field) + 0x9e3779b97f4a7c15
	for _, e := range kept {
		for _, word := range [3]uint64{e.last.high, e.last.low, uint64(uint32(e.child))} {
			hash = (hash ^ word) * 0xff51afd7ed558ccd
			hash ^= hash >> 32
		}
	}
	for _, candidate := range s.unique[hash] {
		if n := &s.nodes[candidate]; n.field == field && slices.Equal(n.edges, kept) {
			return candidate
		}
	}
	if s.edges += len(kept); s.edges > s.most {
		panic(TooLarge{s.most})
	}
	made := Set(len(s.nodes))
	s.nodes = append(s.nodes, setNode{field, slices.Clone(kept)})
	s.unique[hash] = append(s.unique[hash], made)
	return made
}

// Where returns a where one field has a value in the spans, and nothing elsewhere.
// The spans are sorted and disjoint. a must not ask for the field or one before it.
func (s *Space) Where(field Field, spans []Span, a Set) Set {
	if a == Nothing || len(spans) == 0 {
		return Nothing
	}
	var edges []setEdge
	next := number{}
	for _, span := range spans {
		if next.less(span.first) {
			edges = append(edges, setEdge{span.first.minus(one), Nothing})
		}
		edges = append(edges, setEdge{span.last, a})
		next = span.last.plus(one)
	}
	if last := spans[len(spans)-1].last; last.less(largest[field]) {
		edges = append(edges, setEdge{largest[field], Nothing})
	}
	return s.make(field, edges)
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
	slices.SortFunc(spans, func(a, b Span) int {
		if a.first.less(b.first) {
			return -1
		}
		return 1
	})
	return spans
}

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
	case a < 0:
		return b
	}
	return s.apply(restrictCall, a, b, s.Restrict)
}

// Minus returns a where b does not hold, and nothing elsewhere.
func (s *Space) Minus(a, b Set) Set {
	switch {
	case a == Nothing || b == Nothing:
		return a
	case b < 0:
		return Nothing
	}
	return s.apply(minusCall, a, b, s.Minus)
}

// apply combines two sets field by field.
func (s *Space) apply(operation setOperation, a, b Set, combine func(a, b Set) Set) Set {
	call := setCall{operation, a, b}
	if known, ok := s.memo[call]; ok {
		return known
	}
	field, edges := s.zip(a, b, combine)
	made := s.make(field, edges)
	s.memo[call] = made
	return made
}

// zip combines the children of two sets stretch by stretch of the first field
// that one of them asks for.
func (s *Space) zip(a, b Set, combine func(a, b Set) Set) (Field, []setEdge) {
	field := min(s.fieldOf(a), s.fieldOf(b))
	x, y := s.edgesFor(a, field), s.edgesFor(b, field)
	edges := make([]setEdge, 0, len(x)+len(y))
	for i, j := 0, 0; i < len(x) && j < len(y); {
		last := x[i].last
		if y[j].last.less(last) {
			last = y[j].last
		}
		edges = append(edges, setEdge{last, combine(x[i].child, y[j].child)})
		if x[i].last == last {
			i++
		}
		if y[j].last == last {
			j++
		}
	}
	return field, edges
}

func (s *Space) edgesFor(a Set, field Field) []setEdge {
	if s.fieldOf(a) == field {
		return s.nodes[a].edges
	}
	return []setEdge{{largest[field], a}}
}

// Flatten gives every connection that has a value the value 1.
func (s *Space) Flatten(a Set) Set {
	if a < 0 {
		return max(a, Everything)
	}
	call := setCall{flattenCall, a, 0}
	if known, ok := s.memo[call]; ok {
		return known
	}
	edges := slices.Clone(s.nodes[a].edges)
	for i := range edges {
		edges[i].child = s.Flatten(edges[i].child)
	}
	made := s.make(s.nodes[a].field, edges)
	s.memo[call] = made
	return made
}

// A Part is the connections that a set gives one value.
type Part struct {
	Value int
	Set   Set
}

// Parts returns the connections of each value but 0, by ascending value.
func (s *Space) Parts(a Set) []Part {
	memo := map[Set][]Part{}
	var parts func(Set) []Part
	parts = func(a Set) []Part {
		if a == Nothing {
			return nil
		}
		if a < 0 {
			return []Part{{a.value(), Everything}}
		}
		if known, ok := memo[a]; ok {
			return known
		}
		n := s.nodes[a]
		edges := map[int][]setEdge{}
		var before number
		for i, e := range n.edges {
			for _, p := range parts(e.child) {
				list := edges[p.Value]
				if i > 0 && (len(list) == 0 || list[len(list)-1].last != before) {
					list = append(list, setEdge{before, Nothing})
				}
				edges[p.Value] = append(list, setEdge{e.last, p.Set})
			}
			before = e.last
		}
		var found []Part
		for value, list := range edges {
			if list[len(list)-1].last != largest[n.field] {
				list = append(list, setEdge{largest[n.field], Nothing})
			}
			found = append(found, Part{value, s.make(n.field, list)})
		}
		slices.SortFunc(found, func(a, b Part) int { return a.Value - b.Value })
		memo[a] = found
		return found
	}
	return parts(a)
}

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
// those that Equal is right about.
func (s *Space) Equal(f Field, a, b Term) Set {
	switch {
	case a.constant && b.constant, !a.constant && !b.constant && a.Field == b.Field:
		if a.number == b.number {
			return Everything
		}
		return Nothing
	case a.constant:
		return s.Equal(f, b, a)
	case b.constant:
		value := b.number.minus(a.number)
		if limit := largest[a.Field]; limit.high == 0 {
			value = number{low: value.low & limit.low}
		}
		return s.Where(a.Field, []Span{{value, value}}, Everything)
	}
	// Two fields of the connection against each other. No connection is from an
	// address to itself; apart from that there is no small diagram for addresses.
	if a.Field == FieldPort || a.Field == FieldSourcePort {
		if a.Field == FieldSourcePort {
			a, b = b, a
		}
		return s.diagonal(uint16(a.number.low - b.number.low))
	}
	if a.number == b.number {
		return Nothing
	}
	panic(Undecided{a.Field, b.Field})
}

// mostDiagonal is how many addresses are compared one by one.
const mostDiagonal = 1 << 14

// EqualWithin is Equal for the members of a set, all of one protocol. It can also compare the source with
// the destination, each changed by some amount, where the set holds few destinations.
func (s *Space) EqualWithin(set Set, f Field, a, b Term) Set {
	if a.constant || b.constant || a.Field == b.Field || a.Field == FieldPort || a.Field == FieldSourcePort || a.number == b.number {
		return s.Restrict(set, s.Equal(f, a, b))
	}
	if a.Field == FieldSource {
		a, b = b, a
	}
	// destination + a = source + b
	var edges []setEdge
	s.eachEdge(set, FieldProtocol, func(_ Span, rest Set) {
		s.eachEdge(rest, FieldDestination, func(span Span, _ Set) {
			for v := span.first; ; v = v.plus(one) {
				if len(edges) > mostDiagonal {
					panic(Undecided{a.Field, b.Field})
				}
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
	if len(edges) == 0 {
		return Nothing
	}
	edges = append(edges, setEdge{largest[FieldDestination], Nothing})
	return s.Restrict(set, s.make(FieldDestination, slices.CompactFunc(edges, func(x, y setEdge) bool { return x.last == y.last })))
}

// diagonal returns the connections whose source port is their port and distance more.
func (s *Space) diagonal(distance uint16) Set {
	if known, ok := s.diagonals[distance]; ok {
		return known
	}
	edges := make([]setEdge, 1<<16)
	for port := range edges {
		other := PortSpan(uint16(port)+distance, uint16(port)+distance)
		edges[port] = setEdge{number{low: uint64(port)}, s.Where(FieldSourcePort, []Span{other}, Everything)}
	}
	made := s.make(FieldPort, edges)
	s.diagonals[distance] = made
	return made
}

// Undecided is what Equal panics with where one field of a connection would have
// to be compared with another.
type Undecided struct{ A, B Field }

func (u Undecided) Error() string {
	return "a set would have to compare the source of a connection with its destination"
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
func (s *Space) Pull(set, a Set, terms Terms, turned bool) Set {
	p := puller{s, terms, turned, map[[2]Set]Set{}}
	return p.pull(set, a)
}

type puller struct {
	*Space
	terms  Terms
	turned bool
	memo   map[[2]Set]Set
}

func (p *puller) pull(set, a Set) Set {
	if set == Nothing || a == Nothing {
		return Nothing
	}
	for a >= 0 { // constants are looked up at once
		n := &p.nodes[a]
		term := p.terms[packetField(n.field, p.turned)]
		if !term.constant {
			break
		}
		a = n.edges[edgeAt(n.edges, term.number)].child
	}
	if a < 0 {
		return p.Restrict(set, a)
	}
	key := [2]Set{set, a}
	if known, ok := p.memo[key]; ok {
		return known
	}
	term := p.terms[packetField(p.nodes[a].field, p.turned)]
	field := p.fieldOf(set)
	var edges []setEdge
	if field < term.Field {
		edges = slices.Clone(p.nodes[set].edges)
		for i := range edges {
			edges[i].child = p.pull(edges[i].child, a)
		}
	} else {
		field = term.Field
		first := number{}
		for _, e := range p.edgesFor(set, field) {
			edges = p.stretch(edges, first, e, a, term.number)
			first = e.last.plus(one)
		}
	}
	made := p.make(field, edges)
	p.memo[key] = made
	return made
}

// stretch appends what becomes of the values from first to e.last, for which the
// set goes on with e.child, when by is added to them and a is asked.
func (p *puller) stretch(edges []setEdge, first number, e setEdge, a Set, by number) []setEdge {
	if e.child == Nothing {
		return append(edges, setEdge{e.last, Nothing})
	}
	limit := largest[p.nodes[a].field]
	for {
		now := first.plus(by)
		if limit.high == 0 {
			now.low &= limit.low
			now.high = 0
		}
		asked := p.nodes[a].edges
		at := edgeAt(asked, now)
		last := first.plus(asked[at].last.minus(now)) // goes round where it is behind the largest
		if last.less(first) || e.last.less(last) {
			last = e.last
		}
		edges = append(edges, setEdge{last, p.pull(e.child, asked[at].child)})
		if last == e.last {
			return edges
		}
		first = last.plus(one)
	}
}

// edgeAt returns which edge a value takes.
func edgeAt(edges []setEdge, value number) int {
	at, _ := slices.BinarySearchFunc(edges, value, func(e setEdge, v number) int {
		if e.last.less(v) {
			return -1
		}
		return 1
	})
	return at
}

// packetField returns the field of the packet that a set's field asks for.
func packetField(f Field, turned bool) Field {
	if !turned {
		return f
	}
	return [Fields]Field{FieldProtocol, FieldSource, FieldSourcePort, FieldDestination, FieldPort}[f]
}

// Example returns a member: the lowest in the order of fields. It returns false for nothing.
func (s *Space) Example(a Set) (Packet, bool) {
	if a == Nothing {
		return Packet{}, false
	}
	var values [Fields]number
	for a >= 0 {
		n := s.nodes[a]
		first := number{}
		for _, e := range n.edges {
			if e.child != Nothing {
				values[n.field], a = first, e.child
				break
			}
			first = e.last.plus(one)
		}
	}
	return packetOf(values), true
}

// Contains reports whether a packet is in the set.
func (s *Space) Contains(a Set, p Packet) bool {
	values := [Fields]number{
		FieldProtocol: {low: uint64(p.Protocol)}, FieldDestination: numberOf(p.Destination), FieldPort: {low: uint64(p.DestinationPort)},
		FieldSource: numberOf(p.Source), FieldSourcePort: {low: uint64(p.SourcePort)},
	}
	for a >= 0 {
		n := s.nodes[a]
		for _, e := range n.edges {
			if !e.last.less(values[n.field]) {
				a = e.child
				break
			}
		}
	}
	return a != Nothing
}

// Sample returns a member that random numbers choose, often one at the border of a
// stretch. It returns false for nothing.
func (s *Space) Sample(a Set, random func() uint64) (Packet, bool) {
	if a == Nothing {
		return Packet{}, false
	}
	var values [Fields]number
	for f := range Fields {
		if s.fieldOf(a) != f { // any value will do
			values[f] = number{low: random() & largest[f].low, high: random() & largest[f].high}
			continue
		}
		n := s.nodes[a]
		var spans []Span
		var children []Set
		first := number{}
		for _, e := range n.edges {
			if e.child != Nothing {
				spans, children = append(spans, Span{first, e.last}), append(children, e.child)
			}
			first = e.last.plus(one)
		}
		i := int(random() % uint64(len(spans)))
		a = children[i]
		switch span := spans[i]; random() % 3 {
		case 0:
			values[f] = span.first
		case 1:
			values[f] = span.last
		default:
			values[f] = within(span, number{high: random(), low: random()})
		}
	}
	return packetOf(values), true
}

// within returns a value of a span that is chosen by v.
func within(span Span, v number) number {
	width := span.last.minus(span.first)
	switch {
	case width == number{^uint64(0), ^uint64(0)}:
		return v
	case width.high == 0 && width.low == ^uint64(0):
		return span.first.plus(number{low: v.low})
	case width.high == 0:
		return span.first.plus(number{low: v.low % (width.low + 1)})
	}
	return span.first.plus(number{v.high % width.high, v.low})
}

func packetOf(values [Fields]number) Packet {
	return Packet{
		Source: values[FieldSource].address(), Destination: values[FieldDestination].address(),
		SourcePort: uint16(values[FieldSourcePort].low), DestinationPort: uint16(values[FieldPort].low),
		Protocol: Protocol(values[FieldProtocol].low),
	}
}

// Apply returns what a connection's packet is by the terms.
func (t Terms) Apply(p Packet) Packet {
	values := [Fields]number{
		FieldProtocol: {low: uint64(p.Protocol)}, FieldDestination: numberOf(p.Destination), FieldPort: {low: uint64(p.DestinationPort)},
		FieldSource: numberOf(p.Source), FieldSourcePort: {low: uint64(p.SourcePort)},
	}
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

// A Box is connections of one protocol to some addresses and ports.
type Box struct {
	Protocol Protocol
	To       Addresses
	Ports    []Ports // none where the protocol has no ports
	From     Addresses
	AllPorts bool // from every source port; else only from some
}

// Boxes lists a set: one box for each protocol and each set of sources that comes
// with the same destinations. Whether all source ports belong to it is only noted.
func (s *Space) Boxes(a Set) []Box {
	var found []Box
	s.eachEdge(a, FieldProtocol, func(protocols Span, a Set) {
		for p := protocols.first.low; p <= protocols.last.low; p++ {
			found = append(found, s.boxesOf(Protocol(p), a)...)
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
		do(Span{last: largest[f]}, a)
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

func (s *Space) boxesOf(p Protocol, a Set) []Box {
	// Destinations by what stands behind them, then ports by what stands behind those.
	var found []Box
	var order []Set
	destinations := map[Set][]Range{}
	s.eachEdge(a, FieldDestination, func(span Span, rest Set) {
		if _, known := destinations[rest]; !known {
			order = append(order, rest)
		}
		destinations[rest] = append(destinations[rest], span.ranges()...)
	})
	for _, rest := range order {
		var bySource []Set
		ports := map[Set][]Ports{}
		s.eachEdge(rest, FieldPort, func(span Span, sources Set) {
			if _, known := ports[sources]; !known {
				bySource = append(bySource, sources)
			}
			ports[sources] = append(ports[sources], Ports{uint16(span.first.low), uint16(span.last.low)})
		})
		for _, sources := range bySource {
			b := Box{Protocol: p, To: AddressesOf(destinations[rest]...), AllPorts: true}
			if p.HasPorts() {
				b.Ports = ports[sources]
			}
			var from []Range
			s.eachEdge(sources, FieldSource, func(span Span, rest Set) {
				from = append(from, span.ranges()...)
				b.AllPorts = b.AllPorts && s.isAllPorts(p, rest)
			})
			b.From = AddressesOf(from...)
			found = append(found, b)
		}
	}
	return found
}

// isAllPorts reports whether a set over source ports holds all that the protocol uses.
func (s *Space) isAllPorts(p Protocol, a Set) bool {
	if a == Everything || !p.HasPorts() && p != ICMP {
		return true
	}
	if p == ICMP {
		return false // an identifier can be any number
	}
	whole := s.Where(FieldSourcePort, []Span{PortSpan(1, 65535)}, Everything)
	return s.Minus(whole, a) == Nothing
}

// ranges returns a span of addresses as ranges: the numbers of IPv4 addresses are those.
func (s Span) ranges() []Range {
	first4, last4 := numberOf(mapped.ranges[0].First), numberOf(mapped.ranges[0].Last)
	var found []Range
	if s.first.less(first4) {
		last := s.last
		if !last.less(first4) {
			last = first4.minus(one)
		}
		found = append(found, Range{s.first.wide(), last.wide()})
	}
	if !s.last.less(first4) && !last4.less(s.first) {
		first, last := s.first, s.last
		if first.less(first4) {
			first = first4
		}
		if last4.less(last) {
			last = last4
		}
		found = append(found, Range{first.address(), last.address()})
	}
	if last4.less(s.last) {
		first := s.first
		if !last4.less(first) {
			first = last4.plus(one)
		}
		found = append(found, Range{first.wide(), s.last.wide()})
	}
	return found
}

// wide returns the number as an IPv6 address.
func (n number) wide() netip.Addr {
	var b [16]byte
	for i := range 8 {
		b[i], b[8+i] = byte(n.high>>(56-8*i)), byte(n.low>>(56-8*i))
	}
	return netip.AddrFrom16(b)
}

// Combine gives each connection the value that a function gives to its values in a
// and b; the function is asked once for each pair, and 0 is nothing.
func (s *Space) Combine(a, b Set, value func(a, b int) int) Set {
	memo := map[[2]Set]Set{}
	var combine func(a, b Set) Set
	combine = func(a, b Set) Set {
		if known, ok := memo[[2]Set{a, b}]; ok {
			return known
		}
		var made Set
		if a < 0 && b < 0 {
			made = ValueSet(value(a.value(), b.value()))
		} else {
			field, edges := s.zip(a, b, combine)
			made = s.make(field, edges)
		}
		memo[[2]Set{a, b}] = made
		return made
	}
	return combine(a, b)
}

// Label gives the members of a set a value.
func (s *Space) Label(a Set, value int) Set { return s.Restrict(a, ValueSet(value)) }

// IsConstant reports whether the term does not depend on the connection.
func (t Term) IsConstant() bool { return t.constant }
