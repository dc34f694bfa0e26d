package engine

import (
	"net/netip"
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A region is the connections that have been decided like the one that is walked.
// Its methods do nothing on nil, so that a walk of one connection does not ask.
type region struct {
	atlas  *Atlas
	set    flowset.Set
	aside  []remainder
	made   int           // how many decisions the walk has asked for
	known  int           // how many of them are known to be the same for the whole set
	terms  flowset.Terms // what the packet is now, in terms of the connection
	before flowset.Terms // as it arrived at the gateway

	delivered flowset.Terms // to the last machine

	meetings []Meeting
	met      bool // the walked connection is of one of them: another has to be walked
	legs     []legTerms
	sessions []sessionTerms
	passages []flowset.Terms
	carriers []flowset.Terms
	rules    []*network.Rule
}

type legTerms struct{ sent, delivered flowset.Terms }

type sessionTerms struct{ before, after flowset.Terms }

// A remainder is connections that were set aside, and how many decisions of their walk
// are known: those before they were, and the one by which.
type remainder struct {
	set   flowset.Set
	known int
}

// settled counts a decision, and reports whether the whole set is known to decide it as
// the walked connection does.
func (r *region) settled() bool {
	r.made++
	return r.made <= r.known
}

// put sets connections aside.
func (r *region) put(set flowset.Set) { r.aside = append(r.aside, remainder{set, r.made}) }

// keep goes on with the connections for which a condition is as it was for the one
// walked, and sets the others aside.
func (r *region) keep(inside, outside flowset.Set, holds bool) {
	if !holds {
		inside, outside = outside, inside
	}
	r.set = inside
	if outside != flowset.Nothing {
		r.put(outside)
	}
}

// spans decides by the value of a field of the packet.
func (r *region) spans(f flowset.Field, spans []flowset.Span, holds bool) {
	r.where(r.atlas.Space.Where(f, spans, flowset.Everything), holds)
}

// where decides by a set over the packet as it is now.
func (r *region) where(now flowset.Set, holds bool) {
	if r.settled() {
		return
	}
	space := r.atlas.Space
	if _, agreed := space.Agreed(r.set, now, &r.terms, false); agreed {
		return
	}
	inside := space.Preimage(r.set, now, &r.terms, false)
	r.keep(inside, space.Minus(r.set, inside), holds)
}

// choose decides by the value that a set gives to the packet, by its terms: those with
// the value found go on, 0 where there is none, and each other value is set aside by itself.
func (r *region) choose(now flowset.Set, terms *flowset.Terms, turned bool, found int) {
	if r.settled() {
		return
	}
	space := r.atlas.Space
	if _, agreed := space.Agreed(r.set, now, terms, turned); agreed {
		return
	}
	pulled := space.Preimage(r.set, now, terms, turned)
	kept, unmet := flowset.Nothing, space.Minus(r.set, pulled)
	if found == 0 {
		kept = unmet
	} else if unmet != flowset.Nothing {
		r.put(unmet)
	}
	for _, p := range space.Parts(pulled) {
		if p.Value == found {
			kept = p.Set
		} else {
			r.put(p.Set)
		}
	}
	r.set = kept
}

func (r *region) address(f flowset.Field, a netip.Addr, set header.Addresses, holds bool) {
	if r != nil && !r.terms[f].IsConstant() { // what is constant is decided already
		r.where(r.atlas.where(f, set, header.FamilyOf(a)), holds)
	}
}

func (r *region) services(services header.Services, protocol header.Protocol, holds bool) {
	if r == nil || len(services) == 0 {
		return
	}
	if ports, any, ok := portsOf(services, protocol); ok && !any {
		r.spans(flowset.Port, portSpans(ports), holds)
	}
}

// table decides by which condition of a table is the first.
func (r *region) table(t *table, fromZone, toZone int, turned bool, found int32) {
	if r != nil {
		r.view(tableView{t, fromZone, toZone, turned}, r.terms, found)
	}
}

// filter is table for a gateway's filter, which sees the source as it came in, and may
// see the destination so.
func (r *region) filter(g *gateway, in, out *network.Interface, turned bool, found int32) {
	if r == nil {
		return
	}
	seen := r.terms
	seen[flowset.Source], seen[flowset.SourcePort] = r.before[flowset.Source], r.before[flowset.SourcePort]
	if g.Handling.FilterSeesOriginal {
		seen[flowset.Destination], seen[flowset.Port] = r.before[flowset.Destination], r.before[flowset.Port]
	}
	r.view(tableView{g.filter, g.zones[in.Index], g.zones[out.Index], turned}, seen, found)
}

func (r *region) view(v tableView, terms flowset.Terms, found int32) {
	if found == noMatch {
		found = -1
	}
	r.choose(r.atlas.view(v), &terms, v.turned, int(found)+1)
}

// route decides by which route the destination has.
func (r *region) route(t *routeTable, destination netip.Addr) {
	if r != nil && !r.terms[flowset.Destination].IsConstant() {
		r.choose(r.atlas.routes(t, header.FamilyOf(destination)), &r.terms, false, int(t.winner(destination))+1)
	}
}

// one decides by which of some addresses the destination is, or that it is none of them.
func (r *region) one(among header.Addresses, destination netip.Addr) {
	if r == nil || among.Empty() || r.terms[flowset.Destination].IsConstant() {
		return
	}
	c := r.atlas.choice(among, header.FamilyOf(destination))
	found, ok := slices.BinarySearchFunc(c.addresses, destination, netip.Addr.Compare)
	if !ok {
		found = -1
	}
	r.choose(c.set, &r.terms, false, found+1)
}

// same decides whether two packets are equal in some fields.
func (r *region) same(a, b flowset.Terms, fields []flowset.Field, equal bool) bool {
	inside, told := r.set, true
	for _, f := range fields {
		if inside == flowset.Nothing {
			break
		}
		if same, ok := r.atlas.Space.EqualWithin(inside, f, a[f], b[f]); ok {
			inside = same
		} else {
			told = false
		}
	}
	switch {
	case told || inside == flowset.Nothing:
		r.keep(inside, r.atlas.Space.Minus(r.set, inside), equal)
	case equal:
		r.met = true
	default:
		r.meetings = append(r.meetings, Meeting{a, b, fields})
	}
	return equal
}

var endFields = []flowset.Field{flowset.Destination, flowset.Port, flowset.Source, flowset.SourcePort}

var justDestination = []flowset.Field{flowset.Destination}

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
func (r *region) sameAnswer(leg int, fields []flowset.Field, equal bool) bool {
	if r == nil {
		return equal
	}
	return r.same(r.terms, r.legs[leg].sent.Answer(r.protocol()), fields, equal)
}

func (r *region) protocol() header.Protocol {
	return header.Protocol(r.terms[flowset.Protocol].ConstantValue())
}

func (r *region) beginLeg() {
	if r != nil {
		r.legs = append(r.legs, legTerms{sent: r.terms})
		r.passages = r.passages[:0]
	}
}

// now returns the terms of the packet as it is, and resume goes on with them after the
// way back of a relay's client.
func (r *region) now() flowset.Terms {
	if r == nil {
		return flowset.Terms{}
	}
	return r.terms
}

func (r *region) resume(terms flowset.Terms) {
	if r != nil {
		r.terms = terms
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

func (r *region) becomes(f flowset.Field, a netip.Addr) {
	if r != nil {
		r.terms[f] = flowset.Constant(a)
	}
}

func (r *region) becomesPort(f flowset.Field, port uint16) {
	if r != nil {
		r.terms[f] = flowset.ConstantPort(port)
	}
}

func (r *region) shift(f flowset.Field, from, to netip.Addr) {
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
		r.terms[flowset.Port] = r.terms[flowset.Port].ShiftedPort(m.Ports.First, m.ToFirst)
	}
}

// prefix decides by how far a prefix translation moves an address, or that it has no place
// for it.
func (r *region) prefix(f flowset.Field, a netip.Addr, rule *network.NATRule, m header.PrefixMove) {
	if r == nil {
		return
	}
	if !r.terms[f].IsConstant() {
		moves := r.atlas.movesOf(rule, f)
		found := slices.IndexFunc(moves.classes, func(c header.PrefixClass) bool { return c.Alike.Contains(a) })
		r.choose(moves.set, &r.terms, false, found+1)
	}
	if m.To.IsValid() {
		r.shift(f, a, m.To)
	}
}

// hide notes that the source becomes a, and its port the one found: its own where
// that is kept and among the rule's ports.
func (r *region) hide(a netip.Addr, ports header.Ports, p *header.Packet, port uint16, keeps bool) {
	switch {
	case r == nil:
		return
	case !p.Protocol.HasPorts() && p.Protocol != header.ICMP:
	case !keeps:
		r.becomesPort(flowset.SourcePort, port)
	case ports != (header.Ports{}):
		own := ports.Contains(p.SourcePort)
		if r.spans(flowset.SourcePort, portSpans([]header.Ports{ports}), own); !own {
			r.becomesPort(flowset.SourcePort, port)
		}
	}
	r.becomes(flowset.Source, a)
}

// rule notes that a rule had a part in it.
func (r *region) rule(rule *network.Rule) {
	if r != nil && !slices.Contains(r.rules, rule) {
		r.rules = append(r.rules, rule)
	}
}
