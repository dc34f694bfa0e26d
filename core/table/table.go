// Package table finds the first of a list of rules that a packet meets without trying each: conditions and what they ask of a packet
// and of a set (condition.go), a table of them (table.go), its change from one revision to the next (patch.go), routes and claims.
//
// A packet goes through one so: it is made a Query in a Scope, an exact index or the tree of cuts leads to few members, whose
// outermost values are compared first, and what is left of the condition at last; the number of the first one is the answer.
package table

import (
	"math"
	"net/netip"
	"slices"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Table finds the first of its conditions that a packet meets, in time that
// grows with the logarithm of their number where they do not all overlap.
//
// It is a tree. A node cuts one field (source, destination, service) at a value:
// conditions that lie wholly below go left, wholly above go right, and those that
// the cut goes through stay in the middle, where another field may tell them apart.
// So no condition is held twice. The tree and its leaves compare the outermost
// values of a condition first, which lie side by side in memory; only what passes is
// compared exactly, in the fields where that says more. Every node knows its lowest
// number, so branches that can't hold an earlier match are passed over.
//
// Conditions for one port of one IPv4 address, which most are in large tables, are not in
// the tree: they are found by a hash of the two.
type Table struct {
	conditions []Condition // in the order they are tried
	nodes      []treeNode
	members    []member        // of the leaves, one after the other
	exact      exactIndex      // the conditions for one port of one address
	rules      []*network.Rule // the list, as it is now
	patch      *patch          // where that has changed since the table was made, or nil
	asksFrom   bool            // a condition asks which zone packets come from,
	asksTo     bool            // or which they go to,
	zones      int             // of so many
	asksLed    bool            // a condition asks whether a rule redirected packets
}

// A member of a leaf is a condition's outermost values, and which condition it is.
type member struct {
	source, destination interval // without the lower half of IPv6 addresses
	service             serviceInterval
	number              int32
	exact               [2]Aspects // of which the outermost values are all there is to compare, for packets of IPv4 and IPv6
}

func (m *member) admits(q *Query) bool {
	return m.service.first <= q.service && q.service <= m.service.last &&
		m.destination.contains(q.keys[destinationField]) && m.source.contains(q.keys[sourceField])
}

// A Query is what conditions are compared with.
type Query struct {
	Scope
	Packet  *header.Packet
	keys    [fields]uint64
	service uint32
	family  header.Family
}

func NewQuery(p *header.Packet, in Scope) (q Query) {
	q.Packet = p
	q.Fill(in)
	return q
}

// Fill makes a query of its packet where it stands: one that is copied as soon as it is written has to
// wait for that.
func (q *Query) Fill(in Scope) {
	p := q.Packet
	q.Scope, q.service, q.family = in, serviceKey(p.Protocol, p.DestinationPort), header.FamilyOf(p.Destination)
	if p.Source.Is4() && p.Destination.Is4() {
		q.keys[sourceField], q.keys[sourceLowField] = uint64(header.Four(p.Source)), 0
		q.keys[destinationField], q.keys[destinationLowField] = uint64(header.Four(p.Destination)), 0
	} else {
		q.keys[sourceField], q.keys[sourceLowField] = addressKeys(p.Source)
		q.keys[destinationField], q.keys[destinationLowField] = addressKeys(p.Destination)
	}
	q.keys[serviceField] = uint64(q.service)
}

// The fields a node can cut. An address is two: an IPv4 address stands in the first,
// of an IPv6 address the upper half in the first and the lower in the second.
const (
	sourceField = iota
	sourceLowField
	destinationField
	destinationLowField
	serviceField
	fields
)

func addressKeys(a netip.Addr) (upper, lower uint64) {
	if a.Is4() {
		return uint64(header.Four(a)), 0
	}
	return header.Number(a)
}

func serviceKey(protocol header.Protocol, port uint16) uint32 {
	return uint32(protocol)<<16 | uint32(port)
}

type interval struct{ first, last uint64 }

func (s *interval) contains(k uint64) bool { return s.first <= k && k <= s.last }

type serviceInterval struct{ first, last uint32 }

var everyService = serviceInterval{last: math.MaxUint32}

var everything = interval{last: math.MaxUint64}

type Intervals [fields]interval

func SpansOf(c *Condition) Intervals {
	service := spanOfServices(c.Services)
	s := Intervals{serviceField: {uint64(service.first), uint64(service.last)}}
	s[sourceField], s[sourceLowField] = addressIntervals(&c.From)
	s[destinationField], s[destinationLowField] = addressIntervals(&c.To)
	return s
}

// addressIntervals returns the outermost upper halves and, where there is only one, the
// outermost lower halves.
func addressIntervals(m *Matcher) (upper, lower interval) {
	if m.Any {
		return everything, everything
	}
	empty := true
	for _, set := range m.sets() {
		for _, r := range outermost(set) {
			first, firstLow := addressKeys(r.First)
			last, lastLow := addressKeys(r.Last)
			if empty {
				upper, lower, empty = interval{first, last}, interval{firstLow, lastLow}, false
				continue
			}
			upper = interval{min(upper.first, first), max(upper.last, last)}
			lower = interval{min(lower.first, firstLow), max(lower.last, lastLow)}
		}
	}
	if upper.first != upper.last {
		lower = everything
	}
	return upper, lower
}

// outermost returns ranges whose ends are also the ends of the whole set, for
// each family by itself.
func outermost(set header.Addresses) []header.Range {
	ranges := set.Ranges()
	if len(ranges) <= 2 {
		return ranges
	}
	family := slices.IndexFunc(ranges, func(r header.Range) bool { return r.First.Is6() })
	if family <= 0 {
		return []header.Range{ranges[0], ranges[len(ranges)-1]}
	}
	return []header.Range{ranges[0], ranges[family-1], ranges[family], ranges[len(ranges)-1]}
}

func spanOfServices(services header.Services) serviceInterval {
	hull := everyService
	for i, s := range services {
		if s.Protocol == header.AnyProtocol {
			return everyService
		}
		one := serviceInterval{serviceKey(s.Protocol, 0), serviceKey(s.Protocol, math.MaxUint16)}
		if s.Protocol.HasPorts() {
			one = serviceInterval{serviceKey(s.Protocol, s.Ports.First), serviceKey(s.Protocol, s.Ports.Last)}
		}
		if i == 0 {
			hull = one
			continue
		}
		hull = serviceInterval{min(hull.first, one.first), max(hull.last, one.last)}
	}
	return hull
}

// exact returns of which aspects the outermost values are all there is to compare, for packets
// of IPv4 and IPv6.
func (c *Condition) exact() [2]Aspects {
	var both, four Aspects
	if len(c.Services) == 0 || len(c.Services) == 1 {
		both |= ServiceAspect.Bit()
	}
	if len(c.SourcePorts) == 0 {
		both |= SourcePortAspect.Bit()
	}
	if !c.Redirected {
		both |= RedirectedAspect.Bit()
	}
	if !c.Rule.Timed() {
		both |= activeAspect.Bit()
	}
	for _, side := range []struct {
		m   *Matcher
		bit Aspects
	}{{&c.From, SourceAspect.Bit()}, {&c.To, DestinationAspect.Bit()}} {
		switch {
		case side.m.Any:
			both |= side.bit
		case side.m.isOneRange():
			four |= side.bit
		}
	}
	return [2]Aspects{both | four, both}
}

// A treeNode is a leaf where field is fields: then its conditions are members[left:right].
type treeNode struct {
	cut                 uint64
	lowest              int32 // number of the first condition below
	left, right, middle int32 // nodes, none where negative
	field               int8
}

const (
	leafSize   = 6
	sampleSize = 63
	none       = int32(-1)
	NoMatch    = int32(math.MaxInt32)
)

// New makes a table of the conditions of a list of rules, in the order in which they are tried.
func New(conditions []Condition, rules []*network.Rule) *Table {
	t := &Table{conditions: conditions, rules: rules}
	b := builder{Table: t, spans: make([]Intervals, len(conditions))}
	var order, single []int32
	for i := range conditions {
		if conditions[i].Rule.Off() {
			continue
		}
		b.spans[i] = SpansOf(&conditions[i])
		t.asksFrom = t.asksFrom || len(conditions[i].From.Zones) > 0
		t.asksTo = t.asksTo || len(conditions[i].To.Zones) > 0
		t.asksLed = t.asksLed || conditions[i].Redirected
		t.zones = max(t.zones, len(conditions[i].From.Zones), len(conditions[i].To.Zones))
		if _, ok := exactKeyOf(&conditions[i]); ok {
			single = append(single, int32(i))
		} else {
			order = append(order, int32(i))
		}
	}
	b.exact = newExactIndex(b, single)
	b.build(order)
	return t
}

type builder struct {
	*Table
	spans []Intervals
}

func (b *builder) member(number int32) member {
	s := &b.spans[number]
	return member{
		source: s[sourceField], destination: s[destinationField],
		service: spanOfServices(b.conditions[number].Services), number: number, exact: b.conditions[number].exact(),
	}
}

// build makes a node of the conditions, which are in ascending order, and returns it.
func (b *builder) build(order []int32) int32 {
	if len(order) == 0 {
		return none
	}
	at := int32(len(b.nodes))
	b.nodes = append(b.nodes, treeNode{lowest: order[0], left: none, right: none, middle: none})
	field, cut, ok := b.bestCut(order)
	if !ok {
		b.nodes[at].field = fields
		b.nodes[at].left = int32(len(b.members))
		for _, i := range order {
			b.members = append(b.members, b.member(i))
		}
		b.nodes[at].right = int32(len(b.members))
		return at
	}
	var left, right, middle []int32
	for _, i := range order {
		switch s := b.spans[i][field]; {
		case s.last <= cut:
			left = append(left, i)
		case s.first > cut:
			right = append(right, i)
		default:
			middle = append(middle, i)
		}
	}
	l, r, m := b.build(left), b.build(right), b.build(middle)
	n := &b.nodes[at]
	n.field, n.cut, n.left, n.right, n.middle = int8(field), cut, l, r, m
	return at
}

// bestCut picks the field and value that leave the fewest conditions to be looked
// at, judged by a sample. It returns false where no cut is worth a node.
func (b *builder) bestCut(order []int32) (field int, cut uint64, ok bool) {
	if len(order) <= leafSize {
		return 0, 0, false
	}
	step := max(1, len(order)/sampleSize)
	var sample []int32
	for i := 0; i < len(order); i += step {
		sample = append(sample, order[i])
	}
	fewest := len(sample)
	ends := make([]uint64, len(sample))
	for f := range fields {
		for i, c := range sample {
			ends[i] = b.spans[c][f].last
		}
		slices.Sort(ends)
		for _, at := range []int{len(ends) / 2, len(ends) / 4} {
			left, right := 0, 0
			for _, c := range sample {
				switch s := b.spans[c][f]; {
				case s.last <= ends[at]:
					left++
				case s.first > ends[at]:
					right++
				}
			}
			if look := max(left, right) + len(sample) - left - right; look < fewest && left > 0 {
				fewest, field, cut, ok = look, f, ends[at], true
			}
		}
	}
	return field, cut, ok
}

// findFrom returns the number of the first condition the query meets, of those from a number
// on, or noMatch.
func (t *Table) findFrom(q *Query, from int32) int32 {
	best := NoMatch
	if len(t.exact.slots) > 0 && q.family == header.IPv4 {
		best = t.exact.find(t, q, from)
	}
	if len(t.nodes) == 0 {
		return best
	}
	return t.findBelow(0, q, best, from)
}

// meets reports whether a packet that a member admits meets its condition.
func (t *Table) meets(m *member, q *Query) bool {
	exact := m.exact[q.family]
	return exact == AllAspects || t.conditions[m.number].Meets(q, AllAspects&^exact)
}

// findBelow returns the lower of best and the first match below node n, from a number on.
func (t *Table) findBelow(n int32, q *Query, best, from int32) int32 {
	for n != none {
		at := &t.nodes[n]
		if at.lowest >= best {
			return best
		}
		if at.field == fields {
			members := t.members[at.left:at.right]
			for i := range members {
				m := &members[i]
				if m.number >= best {
					break
				}
				if m.number >= from && m.admits(q) && t.meets(m, q) {
					return m.number
				}
			}
			return best
		}
		side := at.left
		if q.keys[at.field] > at.cut {
			side = at.right
		}
		n = at.middle
		if side == none {
			continue
		}
		if n != none && t.nodes[n].lowest < t.nodes[side].lowest {
			side, n = n, side
		}
		best = t.findBelow(side, q, best, from)
	}
	return best
}

// KeepsAll reports whether a table has rules, all of which are among some.
func (t *Table) KeepsAll(some map[*network.Rule]bool) bool {
	rules := false
	for n := range t.Ordered() {
		if rules = true; !some[t.Rule(n)] {
			return false
		}
	}
	return rules
}

// Overlap reports whether both have values in common in each field.
func (s *Intervals) Overlap(t *Intervals) bool {
	for f := fields - 1; f >= 0; f-- { // services differ most
		if s[f].last < t[f].first || t[f].last < s[f].first {
			return false
		}
	}
	return true
}

// IsSplitFrom reports whether a table is so large that sets are made of it block by block: by its conditions, and twice by
// between how many pairs of zones it is another list, as the more there are the fewer of its rules are about each.
func (t *Table) IsSplitFrom(size int) bool {
	pairs := 1
	if t.asksFrom {
		pairs *= t.zones
	}
	if t.asksTo {
		pairs *= t.zones
	}
	return pairs > 1 && pairs*pairs*len(t.conditions) >= size
}
