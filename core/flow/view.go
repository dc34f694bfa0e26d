package flow

import (
	"math"
	"net/netip"
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// A routeKey is the routes of a table to one family.
type routeKey struct {
	table  *table.Routes
	family header.Family
}

// A whereKey names a set of addresses, which never changes, by where it is stored.
type whereKey struct {
	first  *header.Range
	count  int
	field  flowset.Field
	family header.Family
}

// A claimKey is what a gateway claims, without the hosts beside it where these are given.
type claimKey struct {
	claims *table.Claims
	beside *table.Numbers
}

// A View is a table as it is in a scope. Turned, it is asked by answers: what rules
// say about the source stands at the destination's place.
//
// A view of packets between two blocks knows nothing of others: it gives them the value elsewhere.
type View struct {
	Table   *table.Table
	In      table.Scope
	Turned  bool
	alike   bool // rules that stop packets are not told apart, see StopAlike
	between table.Blocks
}

// elsewhere is the value of packets that a view is not about.
const elsewhere flowset.Value = math.MaxInt32

// Viewed returns a table as it is in a scope. Between zones that no condition asks about, nor one of the
// other network's table, it is the same everywhere.
func (x *Views) Viewed(t *table.Table, in table.Scope, turned bool) View {
	asked := t.Asked()
	if changed := x.Compared[t]; changed != nil {
		asked = asked.And(changed.Asked())
	}
	in.Moment = 0
	return View{Table: t, In: asked.In(in), Turned: turned}
}

// View returns a table as a set that gives each packet the number of the first
// condition it meets, or stopped; it is marked where it meets one that the other
// network's table has not.
func (x *Views) View(v View) flowset.Set {
	if known, ok := x.tables[v]; ok {
		return known
	}
	made := x.overlay(v, v.value)
	if changed := x.Compared[v.Table]; changed != nil {
		theirs := v
		theirs.Table = changed
		marked := x.overlay(theirs, func(int32) flowset.Value { return 1 })
		if v.alike {
			exact := v
			exact.alike = false
			made = x.Space.Overlay(x.Space.Restrict(marked, x.overlay(exact, exact.value)), made)
		}
		made = x.Space.Mark(made, marked)
	}
	x.tables[v] = made
	return made
}

// stopped is the value of packets that a rule stops, where these are not told apart; no table has so many
// conditions.
const stopped = flowset.Most

// value returns the value of packets that meet a condition first.
func (v *View) value(n int32) flowset.Value {
	if v.alike {
		if verb := v.Table.Condition(n).Verb; verb == network.Drop || verb == network.Reject {
			return stopped
		}
	}
	return flowset.Numbered(n)
}

// overlay returns a table as a set that gives each packet a value of the first condition it meets.
func (x *Views) overlay(v View, value func(n int32) flowset.Value) flowset.Set {
	var sets []flowset.Set
	for n, c := range x.about(v) {
		sets = append(sets, x.SetOf(c, value(n), v))
	}
	if !v.between.AreAll() {
		sets = append(sets, x.Space.Minus(flowset.Terminal(elsewhere), v.between.Set(x.Space, v.Turned)))
	}
	return x.Space.OverlayAll(sets)
}

// SetOf returns the packets that meet a condition in a view, each with a value. Turned, it is met by
// what answers them: what the condition says of the source stands at the destination's place.
func (x *Views) SetOf(c *table.Condition, value flowset.Value, v View) flowset.Set {
	whole := flowset.Nothing
	for _, protocol := range header.Protocols() {
		one := x.setOfProtocol(c, protocol, value, v)
		whole = x.Space.Overlay(whole, x.Space.Where(flowset.Protocol, table.ProtocolSpan(protocol), one))
	}
	return whole
}

// setOfProtocol is setOf for the packets of one protocol.
func (x *Views) setOfProtocol(c *table.Condition, protocol header.Protocol, value flowset.Value, v View) flowset.Set {
	var limits [flowset.Fields][]flowset.Span
	for p := range table.AspectCount {
		field, spans, all := c.Values(p, protocol, v.In, v.between, x.active)
		switch {
		case all:
		case len(spans) == 0:
			return flowset.Nothing
		case v.Turned:
			limits[field.Opposite()] = spans
		default:
			limits[field] = spans
		}
	}
	one := flowset.Terminal(value)
	for f := flowset.Fields - 1; f > flowset.Protocol; f-- { // from the last field that is tested to the first
		if limits[f] != nil {
			one = x.Space.Where(f, limits[f], one)
		}
	}
	return one
}

// Where returns the packets whose field is among the addresses of one family.
func (x *Views) Where(f flowset.Field, set header.Addresses, family header.Family) flowset.Set {
	ranges := set.Ranges()
	if len(ranges) == 0 {
		return flowset.Nothing
	}
	key := whereKey{&ranges[0], len(ranges), f, family}
	known, ok := x.wheres[key]
	if !ok {
		known = x.Space.Where(f, flowset.AddressSpans(set.Intersect(family.All())), flowset.Everything)
		x.wheres[key] = known
	}
	return known
}

// claimed returns the packets to outside addresses that are claimed.
func (x *Views) claimed(c *table.Claims, beside *table.Numbers) flowset.Set {
	key := claimKey{c, beside}
	known, ok := x.claims[key]
	if !ok {
		var hosts header.Addresses
		if beside != nil {
			hosts = beside.All
		}
		to := func(set header.Addresses, when flowset.Set) flowset.Set {
			return x.Space.Where(flowset.Destination, flowset.AddressSpans(set.Minus(hosts)), when)
		}
		sets := []flowset.Set{to(c.Always.Addresses, flowset.Everything)}
		for _, one := range c.Hourly {
			sets = append(sets, to(header.AddressesOf(one.Range), x.whenActive(one.Rule)))
		}
		known = x.Space.OverlayAll(sets)
		x.claims[key] = known
	}
	return known
}

// held returns all connections at the moments at which an outside address is claimed.
func (x *Views) held(a netip.Addr, c *table.Claims) flowset.Set {
	when := flowset.Nothing
	if c.Always.Contains(a) {
		when = flowset.Everything
	}
	for _, one := range c.Hourly {
		if header.AddressesOf(one.Range).Contains(a) {
			when = x.Space.Overlay(when, x.whenActive(one.Rule))
		}
	}
	return when
}

// active returns at which of the explorer's moments a rule takes part; all where at all of them.
func (x *Views) active(r *network.Rule) (spans []flowset.Span, all bool) {
	switch {
	case !r.Timed():
		return nil, !r.Off()
	case x.Times.IsOne():
		return nil, r.Active(x.Times.Moment(0))
	}
	hours := r.Hours()
	spans, known := x.hours[hours]
	if !known {
		for _, s := range x.Times.Active(hours) {
			spans = append(spans, flowset.MomentSpan(s.First, s.Last))
		}
		x.hours[hours] = spans
	}
	return spans, false
}

// whenActive returns all connections at the moments at which a rule takes part.
func (x *Views) whenActive(r *network.Rule) flowset.Set {
	spans, all := x.active(r)
	if all {
		return flowset.Everything
	}
	return x.Space.Where(flowset.Time, spans, flowset.Everything)
}

// routes returns the set that gives each destination of one family the number of its
// route, counted from 1.
func (x *Views) routes(t *table.Routes, family header.Family) flowset.Set {
	key := routeKey{t, family}
	known, ok := x.routed[key]
	if !ok {
		known = x.Space.Choice(flowset.Destination, t.Spans(family))
		x.routed[key] = known
	}
	return known
}

// A choice gives each of some addresses, of one family, its number.
type choice struct {
	addresses []netip.Addr
	set       flowset.Set
}

func (x *Views) choice(among header.Addresses, family header.Family) *choice {
	key := whereKey{&among.Ranges()[0], len(among.Ranges()), flowset.Destination, family}
	known := x.choices[key]
	if known == nil {
		known = &choice{}
		var spans []flowset.ValueSpan
		for _, r := range among.Intersect(family.All()).Ranges() {
			for address := r.First; ; address = address.Next() {
				known.addresses = append(known.addresses, address)
				one := flowset.AddressSpan(header.Range{First: address, Last: address})
				spans = append(spans, flowset.ValueSpan{Span: one, Value: flowset.Numbered(int32(len(known.addresses) - 1))})
				if address == r.Last {
					break
				}
			}
		}
		known.set = x.Space.Choice(flowset.Destination, spans)
		x.choices[key] = known
	}
	return known
}

// A moveKey is a translation of prefixes, and the field it changes.
type moveKey struct {
	rule  *network.NATRule
	field flowset.Field
}

// Moves gives each address of one side of a translation of prefixes the number of its
// class, counted from 1.
type moves struct {
	classes []header.PrefixClass
	set     flowset.Set
}

func (x *Views) movesOf(rule *network.NATRule, f flowset.Field) *moves {
	key := moveKey{rule, f}
	known := x.moves[key]
	if known == nil {
		known = &moves{classes: rule.Prefixes.Classes(f == flowset.Destination)}
		var spans []flowset.ValueSpan
		for i, c := range known.classes {
			for _, r := range c.Alike.Ranges() {
				spans = append(spans, flowset.ValueSpan{Span: flowset.AddressSpan(r), Value: flowset.Numbered(int32(i))})
			}
		}
		slices.SortFunc(spans, flowset.ValueSpan.Compare)
		known.set = x.Space.Choice(f, spans)
		x.moves[key] = known
	}
	return known
}
