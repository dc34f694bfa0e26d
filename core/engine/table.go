package engine

import (
	"cmp"
	"math"
	"net/netip"
	"slices"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A table finds the first of its conditions that a packet meets, in time that
// grows with the logarithm of their number where they do not all overlap.
//
// It is a tree. A node cuts one field (source, destination, service) at a value:
// conditions that lie wholly below go left, wholly above go right, and those that
// the cut goes through stay in the middle, where another field may tell them apart.
// So no condition is held twice. The tree and its leaves compare the outermost
// values of a condition first, which lie side by side in memory; only what passes is
// compared exactly. Every node knows its lowest number, so
// branches that can't hold an earlier match are passed over.
type table struct {
	conditions []condition // in the order they are tried
	nodes      []node
	members    []member // of the leaves, one after the other
}

// A member of a leaf is a condition's outermost values, and which condition it is.
type member struct {
	source, destination span
	service             serviceSpan
	number              int32
	whole               bool // the outermost values are all there is to compare
}

func (m *member) admits(q *query) bool {
	return m.service.first <= q.service && q.service <= m.service.last &&
		m.destination.contains(q.keys[destinationField]) && m.source.contains(q.keys[sourceField])
}

// A condition is what a packet must meet for a rule.
type condition struct {
	rule        *network.Rule
	index       int // in the gateway's nat or filter list
	from, to    matcher
	services    header.Services // empty: every service
	sourcePorts []header.Ports  // empty: every port
}

// A matcher is an address expression compiled for the zones of one gateway.
type matcher struct {
	any  bool
	sets []header.Addresses // one for all zones, or one a zone
}

func (m *matcher) contains(a netip.Addr, zone int) bool {
	switch {
	case m.any:
		return true
	case len(m.sets) == 1:
		return m.sets[0].Contains(a)
	}
	return m.sets[zone].Contains(a)
}

// A query is what conditions are compared with.
type query struct {
	source, destination netip.Addr
	sourcePort, port    uint16
	protocol            header.Protocol
	fromZone, toZone    int
	moment              network.Moment
	keys                [fields]key
	service             uint32
}

func newQuery(p header.Packet, fromZone, toZone int, moment network.Moment) query {
	service := serviceKey(p.Protocol, p.DestinationPort)
	return query{
		service: service,
		source:  p.Source, destination: p.Destination, sourcePort: p.SourcePort, port: p.DestinationPort, protocol: p.Protocol,
		fromZone: fromZone, toZone: toZone, moment: moment,
		keys: [fields]key{addressKey(p.Source), addressKey(p.Destination), {low: uint64(service)}},
	}
}

func (c *condition) meets(q *query) bool {
	if len(c.services) > 0 && !c.services.Matches(q.protocol, q.port) {
		return false
	}
	if !c.to.contains(q.destination, q.toZone) || !c.from.contains(q.source, q.fromZone) {
		return false
	}
	return c.meetsSourcePort(q) && c.rule.Active(q.moment)
}

func (c *condition) meetsSourcePort(q *query) bool {
	if len(c.sourcePorts) == 0 {
		return true
	}
	if !q.protocol.HasPorts() {
		return false
	}
	for _, ports := range c.sourcePorts {
		if ports.Contains(q.sourcePort) {
			return true
		}
	}
	return false
}

// The fields a node can cut.
const (
	sourceField = iota
	destinationField
	serviceField
	fields
)

// A key is a field's value as a number.
type key struct{ high, low uint64 }

func (k key) compare(l key) int {
	if c := cmp.Compare(k.high, l.high); c != 0 {
		return c
	}
	return cmp.Compare(k.low, l.low)
}

func (k key) after(l key) bool { return k.high > l.high || k.high == l.high && k.low > l.low }

func addressKey(a netip.Addr) key {
	high, low := header.Number(a)
	return key{high, low}
}

func serviceKey(protocol header.Protocol, port uint16) uint32 {
	return uint32(protocol)<<16 | uint32(port)
}

type span struct{ first, last key }

func (s *span) contains(k key) bool { return !s.first.after(k) && !k.after(s.last) }

type serviceSpan struct{ first, last uint32 }

var everyService = serviceSpan{last: math.MaxUint32}

var everything = span{last: key{math.MaxUint64, math.MaxUint64}}

type spans [fields]span

func spansOf(c *condition) spans {
	service := spanOfServices(c.services)
	return spans{addressSpan(&c.from), addressSpan(&c.to), {key{low: uint64(service.first)}, key{low: uint64(service.last)}}}
}

func addressSpan(m *matcher) span {
	if m.any {
		return everything
	}
	hull, empty := span{}, true
	for _, set := range m.sets {
		for _, r := range outermost(set) {
			s := span{addressKey(r.First), addressKey(r.Last)}
			if empty {
				hull, empty = s, false
				continue
			}
			hull = span{lower(hull.first, s.first), higher(hull.last, s.last)}
		}
	}
	return hull
}

// outermost returns ranges whose ends are also the ends of the whole set, for
// each family by itself.
func outermost(set header.Addresses) []header.Range {
	ranges := set.Ranges()
	if len(ranges) <= 2 {
		return ranges
	}
	v6 := slices.IndexFunc(ranges, func(r header.Range) bool { return r.First.Is6() })
	if v6 <= 0 {
		return []header.Range{ranges[0], ranges[len(ranges)-1]}
	}
	return []header.Range{ranges[0], ranges[v6-1], ranges[v6], ranges[len(ranges)-1]}
}

func spanOfServices(services header.Services) serviceSpan {
	hull := everyService
	for i, s := range services {
		if s.Protocol == header.AnyProtocol {
			return everyService
		}
		one := serviceSpan{serviceKey(s.Protocol, 0), serviceKey(s.Protocol, math.MaxUint16)}
		if s.Protocol.HasPorts() {
			one = serviceSpan{serviceKey(s.Protocol, s.Ports.First), serviceKey(s.Protocol, s.Ports.Last)}
		}
		if i == 0 {
			hull = one
			continue
		}
		hull = serviceSpan{min(hull.first, one.first), max(hull.last, one.last)}
	}
	return hull
}

// isWhole reports whether the condition holds for everything within its outermost
// values: one range of addresses of one family on both sides, one service, and
// nothing else to compare.
func (c *condition) isWhole() bool {
	return len(c.services) <= 1 && len(c.sourcePorts) == 0 && c.rule.When == nil && !c.rule.Disabled &&
		c.from.isSpan() && c.to.isSpan()
}

// isSpan reports whether the set is everything, or one range. An IPv6 range could
// hold the numbers that IPv4 addresses have as keys, so it must begin above them.
func (m *matcher) isSpan() bool {
	if m.any {
		return true
	}
	if len(m.sets) != 1 || len(m.sets[0].Ranges()) != 1 {
		return false
	}
	r := m.sets[0].Ranges()[0]
	return r.First.Is4() || addressKey(r.First).high != 0
}

func lower(a, b key) key {
	if a.after(b) {
		return b
	}
	return a
}

func higher(a, b key) key {
	if a.after(b) {
		return a
	}
	return b
}

// A node is a leaf where field is fields: then its conditions are members[left:right].
type node struct {
	cut                 key
	lowest              int32 // number of the first condition below
	left, right, middle int32 // nodes, none where negative
	field               int8
}

const (
	leafSize   = 6
	sampleSize = 63
	none       = int32(-1)
	noMatch    = int32(math.MaxInt32)
)

func newTable(conditions []condition) *table {
	t := &table{conditions: conditions}
	b := builder{table: t, spans: make([]spans, len(conditions))}
	order := make([]int32, len(conditions))
	for i := range conditions {
		b.spans[i] = spansOf(&conditions[i])
		order[i] = int32(i)
	}
	b.build(order)
	return t
}

type builder struct {
	*table
	spans []spans
}

// build makes a node of the conditions, which are in ascending order, and returns it.
func (b *builder) build(order []int32) int32 {
	if len(order) == 0 {
		return none
	}
	at := int32(len(b.nodes))
	b.nodes = append(b.nodes, node{lowest: order[0], left: none, right: none, middle: none})
	field, cut, ok := b.bestCut(order)
	if !ok {
		b.nodes[at].field = fields
		b.nodes[at].left = int32(len(b.members))
		for _, i := range order {
			b.members = append(b.members, member{
				source: b.spans[i][sourceField], destination: b.spans[i][destinationField],
				service: spanOfServices(b.conditions[i].services), number: i, whole: b.conditions[i].isWhole(),
			})
		}
		b.nodes[at].right = int32(len(b.members))
		return at
	}
	var left, right, middle []int32
	for _, i := range order {
		switch s := b.spans[i][field]; {
		case !s.last.after(cut):
			left = append(left, i)
		case s.first.after(cut):
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
func (b *builder) bestCut(order []int32) (field int, cut key, ok bool) {
	if len(order) <= leafSize {
		return 0, key{}, false
	}
	step := max(1, len(order)/sampleSize)
	var sample []int32
	for i := 0; i < len(order); i += step {
		sample = append(sample, order[i])
	}
	fewest := len(sample)
	ends := make([]key, len(sample))
	for f := range fields {
		for i, c := range sample {
			ends[i] = b.spans[c][f].last
		}
		slices.SortFunc(ends, key.compare)
		for _, at := range []int{len(ends) / 2, len(ends) / 4} {
			left, right := 0, 0
			for _, c := range sample {
				switch s := b.spans[c][f]; {
				case !s.last.after(ends[at]):
					left++
				case s.first.after(ends[at]):
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

// find returns the number of the first condition the query meets, or noMatch.
func (t *table) find(q *query) int32 {
	if len(t.nodes) == 0 {
		return noMatch
	}
	return t.findBelow(0, q, noMatch)
}

// findBelow returns the lower of best and the first match below node n.
func (t *table) findBelow(n int32, q *query, best int32) int32 {
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
				if m.admits(q) && (m.whole || t.conditions[m.number].meets(q)) {
					return m.number
				}
			}
			return best
		}
		side := at.left
		if q.keys[at.field].after(at.cut) {
			side = at.right
		}
		n = at.middle
		if side == none {
			continue
		}
		if n != none && t.nodes[n].lowest < t.nodes[side].lowest {
			side, n = n, side
		}
		best = t.findBelow(side, q, best)
	}
	return best
}
