package engine

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// An Atlas finds out what becomes of whole sets of connections, exactly. It walks
// one connection of a set and lets every decision on the way narrow the set to
// those that are decided alike; what is decided otherwise is set aside and
// walked later. So the nine steps are the same ones that trace takes, and each
// region it returns is all connections that go one way.
type Atlas struct {
	Space  *header.Space
	engine *Engine
	moment network.Moment
	tables map[tableView]header.Set
	wheres map[whereKey]header.Set
	inside map[*netip.Prefix]header.Addresses
	routed map[routeKey]header.Set

	choices map[whereKey]*choice
	pieces  map[pieceKey][]moved

	walk    *Walk  // the one that is used for every region
	found   Region // the last one
	waiting []header.Set
}

// A routeKey is the routes of a table to one family.
type routeKey struct {
	table *routeTable
	v6    bool
}

// A whereKey names a set of addresses, which never changes, by where it is stored.
type whereKey struct {
	first *header.Range
	count int
	field header.Field
	v6    bool
}

// A tableView is a table as it is for a pair of zones. Turned, it is asked by
// answers: what rules say about the source stands at the destination's place.
type tableView struct {
	table            *table
	fromZone, toZone int
	turned           bool
}

// A Region is a set of connections that go one way.
type Region struct {
	Set     header.Set
	Verdict Verdict      // of one of them
	Terms   header.Terms // what the delivered packet is in terms of the connection; only where one was delivered
	Rules   []*network.Rule
	Example header.Packet

	Meetings []Meeting // of connections that it is not right about, see Claims
}

// Kept returns a copy of the region that stays valid.
func (r *Region) Kept() Region {
	kept := *r
	kept.Rules, kept.Meetings = slices.Clone(r.Rules), slices.Clone(r.Meetings)
	return kept
}

// NewAtlas returns an atlas for one moment; Always takes every rule with hours as
// active. It may hold as many pieces of sets, see header.NewSpace.
func (e *Engine) NewAtlas(moment network.Moment, most int) *Atlas {
	return e.NewAtlasIn(header.NewSpace(most), moment)
}

// NewAtlasIn returns an atlas whose sets are in a given space, so that those of
// several atlases can be compared.
func (e *Engine) NewAtlasIn(space *header.Space, moment network.Moment) *Atlas {
	walk := e.NewWalk()
	walk.region = &region{}
	return &Atlas{Space: space, engine: e, moment: moment, walk: walk, tables: map[tableView]header.Set{}, wheres: map[whereKey]header.Set{},
		inside: map[*netip.Prefix]header.Addresses{}, routed: map[routeKey]header.Set{}, choices: map[whereKey]*choice{}, pieces: map[pieceKey][]moved{}}
}

// Explore calls a function with each region of a set of connections that begin at a
// place; what it is given is valid until it returns, and it does not explore by itself. All
// of them must be of one protocol and of one family. A connection from an address to
// itself never leaves its machine; it may be in any region, or in none. The error is
// header.TooLarge where the atlas outgrows its limit, or Unfollowed: then nothing is claimed.
func (a *Atlas) Explore(from Place, set header.Set, do func(*Region)) (err error) {
	defer func() {
		switch reason := recover().(type) {
		case nil:
		case header.TooLarge:
			err = reason
		case Unfollowed:
			err = reason
		default:
			panic(reason)
		}
	}()
	waiting := append(a.waiting[:0], set)
	for len(waiting) > 0 {
		next := waiting[len(waiting)-1]
		waiting = waiting[:len(waiting)-1]
		example, ok := a.example(next)
		if !ok {
			continue
		}
		if !a.follow(from, next, example, waiting) {
			example = a.followAnother(from, next, example, waiting)
		}
		r := a.walk.region
		waiting = r.aside
		a.found = Region{Set: r.set, Verdict: a.walk.verdict, Terms: r.delivered, Rules: r.rules, Example: example, Meetings: r.meetings}
		if do(&a.found); a.engine.Watch != nil {
			a.engine.Watch()
		}
	}
	a.waiting = waiting
	return nil
}

// mostTries is how many connections of a set are walked to find one by which no machine
// meets itself.
const mostTries = 200

// followAnother follows a random connection of a set.
func (a *Atlas) followAnother(from Place, set header.Set, example header.Packet, waiting []header.Set) header.Packet {
	random := rand.New(rand.NewPCG(1, 1))
	for range mostTries {
		if p, ok := a.Space.Sample(set, random.Uint64); ok && a.follow(from, set, p, waiting) {
			return p
		}
	}
	panic(Unfollowed{example})
}

// Unfollowed is the error where there seems to be none.
type Unfollowed struct{ Example header.Packet }

func (u Unfollowed) Error() string {
	return fmt.Sprintf("connections like %s to %s lead machines back to themselves, and can't be followed all at once", u.Example.From(), u.Example.To())
}

// follow walks one connection of a set. It returns false where by this one a machine
// meets itself and the others of the set can't be told apart from it.
func (a *Atlas) follow(from Place, set header.Set, example header.Packet, waiting []header.Set) (ok bool) {
	if example.Source == example.Destination {
		return false
	}
	defer func() {
		if reason := recover(); reason != nil {
			if _, met := reason.(meets); !met {
				panic(reason)
			}
			ok = false
		}
	}()
	w := a.walk
	r := w.region
	*r = region{
		atlas: a, set: set, terms: header.OriginalTerms(), aside: waiting,
		rules: r.rules[:0], meetings: r.meetings[:0], legs: r.legs[:0], sessions: r.sessions[:0], passages: r.passages[:0], carriers: r.carriers[:0],
	}
	r.terms[header.FieldProtocol] = header.ConstantPort(uint16(example.Protocol))
	w.run(Connection{Packet: example, From: from, Moment: a.moment})
	return true
}

// example returns a member that is not from an address to itself.
func (a *Atlas) example(set header.Set) (header.Packet, bool) {
	for {
		p, ok := a.Space.Example(set)
		if !ok || p.Source != p.Destination {
			return p, ok
		}
		itself := a.Space.Where(header.FieldSource, header.AddressSpans(header.Single(p.Source)), header.Everything)
		set = a.Space.Minus(set, a.Space.Where(header.FieldDestination, header.AddressSpans(header.Single(p.Source)), itself))
	}
}

// view returns a table as a set that gives each packet the number of the first
// condition it meets, counted from 1.
func (a *Atlas) view(v tableView) header.Set {
	if known, ok := a.tables[v]; ok {
		return known
	}
	sets := make([]header.Set, len(v.table.conditions))
	for i := range v.table.conditions {
		sets[i] = a.condition(&v.table.conditions[i], i+1, v)
	}
	made := a.Space.OverlayAll(sets)
	a.tables[v] = made
	return made
}

// condition returns the packets that meet a condition, with a value.
func (a *Atlas) condition(c *condition, value int, v tableView) header.Set {
	if !c.rule.Active(a.moment) {
		return header.Nothing
	}
	source, destination := header.FieldSource, header.FieldDestination
	sourcePort, port := header.FieldSourcePort, header.FieldPort
	if v.turned {
		source, destination, sourcePort, port = destination, source, port, sourcePort
	}
	spans := map[header.Field][]header.Span{}
	for _, side := range []struct {
		field header.Field
		m     *matcher
		zone  int
	}{{source, &c.from, v.fromZone}, {destination, &c.to, v.toZone}} {
		if !side.m.any {
			spans[side.field] = header.AddressSpans(side.m.set(side.zone))
		}
	}
	whole := header.Nothing
	for _, protocol := range header.Protocols() {
		ports, any, ok := portsOf(c.services, protocol)
		if !ok || len(c.sourcePorts) > 0 && !protocol.HasPorts() {
			continue
		}
		delete(spans, port)
		delete(spans, sourcePort)
		if !any {
			spans[port] = portSpans(ports)
		}
		if len(c.sourcePorts) > 0 {
			spans[sourcePort] = portSpans(c.sourcePorts)
		}
		one := header.ValueSet(value)
		for f := header.FieldSourcePort; f > header.FieldProtocol; f-- {
			if s, limited := spans[f]; limited {
				one = a.Space.Where(f, s, one)
			}
		}
		whole = a.Space.Overlay(whole, a.Space.Where(header.FieldProtocol, protocolSpan(protocol), one))
	}
	return whole
}

func (m *matcher) set(zone int) header.Addresses {
	if len(m.zones) == 0 {
		return m.all
	}
	return m.zones[zone]
}

func protocolSpan(p header.Protocol) []header.Span {
	return []header.Span{header.PortSpan(uint16(p), uint16(p))}
}

// portsOf returns which ports of a protocol are among the services: any of them,
// or those listed; ok is false where the protocol is not among them.
func portsOf(services header.Services, protocol header.Protocol) (ports []header.Ports, any, ok bool) {
	if len(services) == 0 {
		return nil, true, true
	}
	for _, s := range services {
		switch {
		case s.Protocol == header.AnyProtocol, s.Protocol == protocol && !protocol.HasPorts():
			return nil, true, true
		case s.Protocol == protocol:
			ports = append(ports, s.Ports)
		}
	}
	return ports, false, len(ports) > 0
}

// portSpans returns ranges of ports as sorted, disjoint spans.
func portSpans(list []header.Ports) []header.Span {
	sorted := slices.Clone(list)
	slices.SortFunc(sorted, func(a, b header.Ports) int { return int(a.First) - int(b.First) })
	merged := sorted[:1]
	for _, p := range sorted[1:] {
		last := &merged[len(merged)-1]
		if int(p.First) <= int(last.Last)+1 {
			last.Last = max(last.Last, p.Last)
			continue
		}
		merged = append(merged, p)
	}
	spans := make([]header.Span, len(merged))
	for i, p := range merged {
		spans[i] = header.PortSpan(p.First, p.Last)
	}
	return spans
}

// A region is the connections that have been decided like the one that is walked.
// Its methods do nothing on nil, so that a walk of one connection does not ask.
type region struct {
	atlas  *Atlas
	set    header.Set
	aside  []header.Set
	terms  header.Terms // what the packet is now, in terms of the connection
	before header.Terms // as it arrived at the gateway

	delivered header.Terms // to the last machine

	meetings []Meeting
	legs     []legTerms
	sessions []sessionTerms
	passages []header.Terms
	carriers []header.Terms
	rules    []*network.Rule
}

type legTerms struct{ sent, delivered header.Terms }

type sessionTerms struct{ before, after header.Terms }

// keep goes on with the connections for which a condition is as it was for the one
// walked, and sets the others aside.
func (r *region) keep(inside, outside header.Set, holds bool) {
	if !holds {
		inside, outside = outside, inside
	}
	r.set = inside
	if outside != header.Nothing {
		r.aside = append(r.aside, outside)
	}
}

// spans decides by the value of a field of the packet.
func (r *region) spans(f header.Field, spans []header.Span, holds bool) {
	r.where(r.atlas.Space.Where(f, spans, header.Everything), holds)
}

// where decides by a set over the packet as it is now.
func (r *region) where(now header.Set, holds bool) {
	space := r.atlas.Space
	if _, agreed := space.Agreed(r.set, now, &r.terms, false); agreed {
		return
	}
	inside := space.Pull(r.set, now, &r.terms, false)
	r.keep(inside, space.Minus(r.set, inside), holds)
}

// choose decides by the value that a set gives to the packet, by its terms: those with
// the value found go on, 0 where there is none, and each other value is set aside by itself.
func (r *region) choose(now header.Set, terms *header.Terms, turned bool, found int) {
	space := r.atlas.Space
	if _, agreed := space.Agreed(r.set, now, terms, turned); agreed {
		return
	}
	pulled := space.Pull(r.set, now, terms, turned)
	kept, unmet := header.Nothing, space.Minus(r.set, pulled)
	if found == 0 {
		kept = unmet
	} else if unmet != header.Nothing {
		r.aside = append(r.aside, unmet)
	}
	for _, p := range space.Parts(pulled) {
		if p.Value == found {
			kept = p.Set
		} else {
			r.aside = append(r.aside, p.Set)
		}
	}
	r.set = kept
}

func (r *region) address(f header.Field, a netip.Addr, set header.Addresses, holds bool) {
	if r != nil && !r.terms[f].IsConstant() { // what is constant is decided already
		r.where(r.atlas.where(f, set, a.Is6()), holds)
	}
}

// prefixes returns the addresses of an interface's prefixes.
func (a *Atlas) prefixes(list []netip.Prefix) header.Addresses {
	if len(list) == 0 {
		return header.Addresses{}
	}
	known, ok := a.inside[&list[0]]
	if !ok {
		known = header.AddressesOfPrefixes(list...)
		a.inside[&list[0]] = known
	}
	return known
}

// where returns the packets whose field is among the addresses of one family.
func (a *Atlas) where(f header.Field, set header.Addresses, v6 bool) header.Set {
	ranges := set.Ranges()
	if len(ranges) == 0 {
		return header.Nothing
	}
	key := whereKey{&ranges[0], len(ranges), f, v6}
	known, ok := a.wheres[key]
	if !ok {
		known = a.Space.Where(f, header.AddressSpans(set.Intersect(header.Family(v6))), header.Everything)
		a.wheres[key] = known
	}
	return known
}

func (r *region) services(services header.Services, protocol header.Protocol, holds bool) {
	if r == nil || len(services) == 0 {
		return
	}
	if ports, any, ok := portsOf(services, protocol); ok && !any {
		r.spans(header.FieldPort, portSpans(ports), holds)
	}
}

// table decides by which condition of a table is the first.
func (r *region) table(t *table, fromZone, toZone int, turned bool, found int32) {
	if r != nil {
		r.view(tableView{t, fromZone, toZone, turned}, r.terms, found)
	}
}

// filter is table for a gateway's filter, which may see the destination as it came in.
func (r *region) filter(g *gateway, in, out *network.Interface, turned bool, found int32) {
	if r == nil {
		return
	}
	seen := r.terms
	if g.Handling.FilterSeesOriginal {
		seen[header.FieldDestination], seen[header.FieldPort] = r.before[header.FieldDestination], r.before[header.FieldPort]
	}
	r.view(tableView{g.filter, g.zones[in.Index], g.zones[out.Index], turned}, seen, found)
}

func (r *region) view(v tableView, terms header.Terms, found int32) {
	if found == noMatch {
		found = -1
	}
	r.choose(r.atlas.view(v), &terms, v.turned, int(found)+1)
}

// route decides by which route the destination has.
func (r *region) route(t *routeTable, destination netip.Addr) {
	if r != nil && !r.terms[header.FieldDestination].IsConstant() {
		r.choose(r.atlas.routes(t, destination.Is6()), &r.terms, false, int(t.winner(destination))+1)
	}
}

// routes returns the set that gives each destination of one family the number of its
// route, counted from 1.
func (a *Atlas) routes(t *routeTable, v6 bool) header.Set {
	key := routeKey{t, v6}
	known, ok := a.routed[key]
	if !ok {
		known = a.Space.Choice(header.FieldDestination, t.spans(v6))
		a.routed[key] = known
	}
	return known
}

// one decides by which of some addresses the destination is, or that it is none of them.
func (r *region) one(among header.Addresses, destination netip.Addr) {
	if r == nil || among.Empty() || r.terms[header.FieldDestination].IsConstant() {
		return
	}
	c := r.atlas.choice(among, destination.Is6())
	found, ok := slices.BinarySearchFunc(c.addresses, destination, netip.Addr.Compare)
	if !ok {
		found = -1
	}
	r.choose(c.set, &r.terms, false, found+1)
}

// A choice gives each of some addresses, of one family, its number, counted from 1.
type choice struct {
	addresses []netip.Addr
	set       header.Set
}

func (a *Atlas) choice(among header.Addresses, v6 bool) *choice {
	key := whereKey{&among.Ranges()[0], len(among.Ranges()), header.FieldDestination, v6}
	known := a.choices[key]
	if known == nil {
		known = &choice{}
		var spans []header.ValueSpan
		for _, r := range among.Intersect(header.Family(v6)).Ranges() {
			for address := r.First; ; address = address.Next() {
				known.addresses = append(known.addresses, address)
				one := header.AddressSpan(header.Range{First: address, Last: address})
				spans = append(spans, header.ValueSpan{Span: one, Value: len(known.addresses)})
				if address == r.Last {
					break
				}
			}
		}
		known.set = a.Space.Choice(header.FieldDestination, spans)
		a.choices[key] = known
	}
	return known
}

// same decides whether two packets are equal in some fields.
func (r *region) same(a, b header.Terms, fields []header.Field, equal bool) bool {
	inside, told := r.set, true
	for _, f := range fields {
		if inside == header.Nothing {
			break
		}
		if same, ok := r.atlas.Space.EqualWithin(inside, f, a[f], b[f]); ok {
			inside = same
		} else {
			told = false
		}
	}
	switch {
	case told || inside == header.Nothing:
		r.keep(inside, r.atlas.Space.Minus(r.set, inside), equal)
	case equal:
		panic(meets{}) // it is one of those machines: another has to be walked
	default:
		r.meetings = append(r.meetings, Meeting{a, b, fields})
	}
	return equal
}

// A Meeting is where a translation leads machines back to themselves, each to its own
// address: two packets are equal in some fields then. Of many machines these connections
// are no set that could be written down, so a region does not claim them.
type Meeting struct {
	a, b   header.Terms
	fields []header.Field
}

// meets is what a walk is broken off with that is of such a connection.
type meets struct{}

// has reports whether a connection is one by which a machine meets itself.
func (m *Meeting) has(p header.Packet) bool {
	a, b := m.a.Apply(p), m.b.Apply(p)
	for _, f := range m.fields {
		if !a.Same(b, f) {
			return false
		}
	}
	return true
}

// Claims reports whether what a region says is said of a member too: it is not of a
// connection from an address to itself, nor of those of its meetings.
func Claims(meetings []Meeting, p header.Packet) bool {
	return p.Source != p.Destination && !slices.ContainsFunc(meetings, func(m Meeting) bool { return m.has(p) })
}

var endFields = []header.Field{header.FieldDestination, header.FieldPort, header.FieldSource, header.FieldSourcePort}

var justDestination = []header.Field{header.FieldDestination}

func (r *region) samePassage(i int, equal bool) bool {
	if r == nil {
		return equal
	}
	return r.same(r.terms, r.passages[i], endFields, equal)
}

func (r *region) sameSession(i int, forward, equal bool) bool {
	if r == nil {
		return equal
	}
	s := r.sessions[i]
	if forward {
		return r.same(r.terms, s.before, endFields, equal)
	}
	return r.same(r.terms, s.after.Answer(r.protocol()), endFields, equal)
}

func (r *region) sameCarrier(i int, equal bool) bool {
	if r == nil {
		return equal
	}
	return r.same(r.terms, r.carriers[i].Answer(r.protocol()), endFields, equal)
}

// sameAnswer decides whether the packet is what the client of a leg waits for.
func (r *region) sameAnswer(leg int, fields []header.Field, equal bool) bool {
	if r == nil {
		return equal
	}
	return r.same(r.terms, r.legs[leg].sent.Answer(r.protocol()), fields, equal)
}

func (r *region) protocol() header.Protocol {
	return header.Protocol(r.terms[header.FieldProtocol].ConstantValue())
}

func (r *region) beginLeg() {
	if r != nil {
		r.legs = append(r.legs, legTerms{sent: r.terms})
		r.passages = r.passages[:0]
	}
}

func (r *region) endLeg() {
	if r != nil {
		r.legs[len(r.legs)-1].delivered = r.terms
		r.deliver()
	}
}

// deliver notes how the packet comes to whoever answers it.
func (r *region) deliver() {
	if r != nil {
		r.delivered = r.terms
	}
}

// answer begins the way back of a leg.
func (r *region) answer(leg int, protocol header.Protocol) {
	if r != nil {
		r.terms = r.legs[leg].delivered.Answer(protocol)
		r.passages = r.passages[:0]
	}
}

func (r *region) pass(count int) {
	if r != nil {
		r.passages = append(r.passages[:count-1], r.terms)
	}
}

func (r *region) carry(count int) {
	if r != nil {
		r.carriers = append(r.carriers[:count-1], r.terms)
	}
}

func (r *region) arrived() {
	if r != nil {
		r.before = r.terms
	}
}

func (r *region) remember(count int) {
	if r != nil {
		r.sessions = append(r.sessions[:count-1], sessionTerms{r.before, r.terms})
	}
}

func (r *region) follow(i int, forward bool) {
	switch {
	case r == nil:
	case forward:
		r.terms = r.sessions[i].after
	default:
		r.terms = r.sessions[i].before.Answer(r.protocol())
	}
}

func (r *region) becomes(f header.Field, a netip.Addr) {
	if r != nil {
		r.terms[f] = header.Constant(a)
	}
}

func (r *region) becomesPort(f header.Field, port uint16) {
	if r != nil {
		r.terms[f] = header.ConstantPort(port)
	}
}

func (r *region) shift(f header.Field, from, to netip.Addr) {
	if r != nil {
		r.terms[f] = r.terms[f].Shifted(from, to)
	}
}

// portMap decides whether the port is among those of a map.
func (r *region) portMap(m *network.PortMap, protocol header.Protocol, matches bool) {
	if r != nil {
		r.services(header.Services{{Protocol: m.Protocol, Ports: m.Ports}}, protocol, matches)
	}
}

func (r *region) shiftPort(m *network.PortMap) {
	if r != nil && m.Protocol.HasPorts() {
		r.terms[header.FieldPort] = r.terms[header.FieldPort].ShiftedPort(m.Ports.First, m.ToFirst)
	}
}

// prefix keeps the addresses that a prefix translation moves as far as this one.
func (r *region) prefix(f header.Field, a netip.Addr, pair header.PrefixPair, piece func(netip.Addr) header.Piece) {
	if r == nil {
		return
	}
	key := pieceKey{pair, f}
	known := r.atlas.pieces[key]
	at := slices.IndexFunc(known, func(m moved) bool { return m.addresses.Contains(a) })
	if at < 0 {
		p := piece(a)
		at = len(known)
		known = append(known, moved{p, header.AddressesOf(p.From)})
		r.atlas.pieces[key] = known
	}
	r.address(f, a, known[at].addresses, true)
	r.shift(f, known[at].From.First, known[at].To)
}

// A pieceKey is a translation of prefixes, of the field it changes.
type pieceKey struct {
	pair  header.PrefixPair
	field header.Field
}

// Moved is the addresses of a piece.
type moved struct {
	header.Piece
	addresses header.Addresses
}

// hide notes that the source becomes a, and its port the one found: its own where
// that is among the rule's ports.
func (r *region) hide(a netip.Addr, ports header.Ports, p *header.Packet, port uint16) {
	if r == nil {
		return
	}
	if ports != (header.Ports{}) && (p.Protocol.HasPorts() || p.Protocol == header.ICMP) {
		own := ports.Contains(p.SourcePort)
		if r.spans(header.FieldSourcePort, portSpans([]header.Ports{ports}), own); !own {
			r.becomesPort(header.FieldSourcePort, port)
		}
	}
	r.becomes(header.FieldSource, a)
}

// rule notes that a rule had a part in it.
func (r *region) rule(rule *network.Rule) {
	if r != nil && !slices.Contains(r.rules, rule) {
		r.rules = append(r.rules, rule)
	}
}

// A HiddenRule is a rule that can never match, and the rules that take what it
// would match; none where it matches nothing by itself.
type HiddenRule struct {
	Rule *network.Rule
	By   []*network.Rule
}

// Hidden returns the rules that are hidden wherever they are looked at.
func (a *Atlas) Hidden() []HiddenRule {
	var hidden []HiddenRule
	for _, g := range a.engine.gateways {
		var views []tableView
		for _, in := range g.Interfaces {
			zone := g.zones[in.Index]
			views = append(views, tableView{table: g.destination[in.Index], fromZone: zone, toZone: zone})
			for _, out := range g.Interfaces {
				views = append(views, tableView{table: g.filter, fromZone: zone, toZone: g.zones[out.Index]},
					tableView{table: g.source[out.Index], fromZone: zone, toZone: g.zones[out.Index]})
			}
		}
		hidden = append(hidden, a.hiddenIn(g, views)...)
	}
	return hidden
}

func (a *Atlas) hiddenIn(g *gateway, views []tableView) []HiddenRule {
	seen := map[*network.Rule]bool{}
	by := map[*network.Rule][]*network.Rule{}
	done := map[tableView]bool{}
	for _, v := range views {
		if done[v] {
			continue
		}
		done[v] = true
		whole := a.view(v)
		first := map[int]bool{}
		for _, p := range a.Space.Parts(whole) {
			first[p.Value] = true
			seen[v.table.conditions[p.Value-1].rule] = true
		}
		for i := range v.table.conditions {
			c := &v.table.conditions[i]
			if first[i+1] {
				continue
			}
			for _, p := range a.Space.Parts(a.within(a.condition(c, 1, v), whole)) {
				if other := v.table.conditions[p.Value-1].rule; !slices.Contains(by[c.rule], other) {
					by[c.rule] = append(by[c.rule], other)
				}
			}
		}
	}
	var hidden []HiddenRule
	add := func(r *network.Rule) {
		if !seen[r] {
			hidden = append(hidden, HiddenRule{r, by[r]})
		}
	}
	for _, r := range g.NAT {
		add(&r.Rule)
	}
	for _, r := range g.Filter {
		add(&r.Rule)
	}
	return hidden
}

// within returns the values that whole gives to the members of a set. Of a large whole
// it looks only at what the set comes to.
func (a *Atlas) within(set, whole header.Set) header.Set {
	terms := header.OriginalTerms()
	return a.Space.Pull(set, whole, &terms, false)
}

// A Crossing is two rules of a filter of which each matches connections that the
// other does not, and the first decides about some that both match.
type Crossing struct {
	First, Second *network.Rule
	Example       header.Packet
}

// Crossings returns the crossings of all filters.
func (a *Atlas) Crossings() []Crossing {
	var found []Crossing
	for _, g := range a.engine.gateways {
		done := map[tableView]bool{}
		for _, in := range g.Interfaces {
			for _, out := range g.Interfaces {
				v := tableView{table: g.filter, fromZone: g.zones[in.Index], toZone: g.zones[out.Index]}
				if !done[v] {
					done[v] = true
					found = append(found, a.crossingsIn(v)...)
				}
			}
		}
	}
	return found
}

func (a *Atlas) crossingsIn(v tableView) []Crossing {
	var found []Crossing
	whole := a.view(v)
	for i := range v.table.conditions {
		second := a.condition(&v.table.conditions[i], 1, v)
		for _, p := range a.Space.Parts(a.within(second, whole)) {
			if p.Value == i+1 {
				continue
			}
			first := a.condition(&v.table.conditions[p.Value-1], 1, v)
			if a.Space.Minus(first, second) != header.Nothing && a.Space.Minus(second, first) != header.Nothing {
				example, _ := a.Space.Example(p.Set)
				found = append(found, Crossing{v.table.conditions[p.Value-1].rule, v.table.conditions[i].rule, example})
			}
		}
	}
	return found
}
