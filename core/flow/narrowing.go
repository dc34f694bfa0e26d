package flow

import (
	"net/netip"
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// A narrowing is the connections that have been decided like the one that is walked.
type narrowing struct {
	Narrowed
	views  *Views
	made   int  // how many decisions the walk has asked for
	known  int  // how many of them are known to be the same for the whole set
	turned bool // it is answers that are on their way
	terms  flowset.Terms
	asked  flowset.Terms   // of a flow that is only asked
	images []flowset.Terms // what was remembered of the packet on its way
}

// A Narrowed is what a set has become on its way: the connections that have been decided like the one that is walked, and
// those that were set aside.
type Narrowed struct {
	Set       flowset.Set
	Waiting   []Remainder   // set aside
	Delivered flowset.Terms // what the last machine got, in terms of the connection
	Rules     []*network.Rule
	Meetings  []Meeting
	Met       bool // the walked connection is of one of them: another has to be walked
	Unlike    bool // it has met a condition that the other network has not
}

// A Remainder is connections that were set aside, and how many decisions of their walk
// are known: those before they were, and the one by which.
type Remainder struct {
	Set   flowset.Set
	known int
}

// OverSet makes a flow one of the connections of a set like a packet, which begin as it does; others are set aside behind
// those that wait already. What it was before is used again.
func (f *Flow) OverSet(views *Views, set Remainder, protocol header.Protocol, waiting []Remainder) {
	if f.region == nil {
		f.region = &narrowing{}
		f.terms = &f.region.terms
	}
	r := f.region
	*r = narrowing{
		views: views, known: set.known, terms: flowset.OriginalTerms(), images: r.images[:0],
		Narrowed: Narrowed{Set: set.Set, Waiting: waiting, Rules: r.Rules[:0], Meetings: r.Meetings[:0]},
	}
	r.terms[flowset.Protocol] = flowset.ConstantPort(uint16(protocol))
}

// Narrowed returns what the set of a flow has become, valid until it is one of another set.
func (f *Flow) Narrowed() *Narrowed { return &f.region.Narrowed }

// remember keeps what the packet is as an image, and returns its number.
func (r *narrowing) remember(terms *flowset.Terms) int {
	r.images = append(r.images, *terms)
	return len(r.images) - 1
}

// termsOf returns the terms of an image, or of what answers it.
func (r *narrowing) termsOf(i *Image, answer bool, protocol header.Protocol) *flowset.Terms {
	if !answer {
		return &r.images[i.terms]
	}
	answered := r.images[i.terms].Answer(protocol)
	return &answered
}

// settled counts a decision, and reports whether the whole set is known to decide it as
// the walked connection does.
func (r *narrowing) settled() bool {
	r.made++
	return r.made <= r.known
}

// put sets connections aside.
func (r *narrowing) put(set flowset.Set) { r.Waiting = append(r.Waiting, Remainder{set, r.made}) }

// keep goes on with the connections for which a condition is as it was for the one
// walked, and sets the others aside.
func (r *narrowing) keep(inside, outside flowset.Set, holds bool) {
	if !holds {
		inside, outside = outside, inside
	}
	r.Set = inside
	if outside != flowset.Nothing {
		r.put(outside)
	}
}

// where decides by a set over the packet as it is now.
func (r *narrowing) where(terms *flowset.Terms, now flowset.Set, holds bool) {
	found := flowset.None
	if holds {
		found = 1
	}
	r.choose(terms, now, false, found)
}

// choose decides by the value that a set gives to the packet, by its terms: those with
// the value found go on, and each other value is set aside by itself.
func (r *narrowing) choose(terms *flowset.Terms, now flowset.Set, turned bool, found flowset.Value) {
	if r.settled() {
		return
	}
	space := r.views.Space
	if _, agreed := space.Agreed(r.Set, now, terms, turned); agreed {
		return
	}
	pulled := space.Preimage(r.Set, now, terms, turned)
	kept, unmet := flowset.Nothing, space.Minus(r.Set, pulled)
	if found == flowset.None {
		kept = unmet
	} else if unmet != flowset.Nothing {
		r.put(unmet)
	}
	for _, p := range space.Parts(pulled) {
		switch p.Value {
		case found:
			kept = p.Set
		case elsewhere: // it is not known what these decide
			r.Waiting = append(r.Waiting, Remainder{p.Set, r.made - 1})
		default:
			r.put(p.Set)
		}
	}
	r.Set = kept
}

// address decides by whether an address is in a set.
func (r *narrowing) address(terms *flowset.Terms, f flowset.Field, family header.Family, set header.Addresses, holds bool) {
	if !terms[f].IsConstant() { // what is constant is decided already
		r.where(terms, r.views.Where(f, set, family), holds)
	}
}

// services decides by whether the packet is for one of some services.
func (r *narrowing) services(terms *flowset.Terms, services header.Services, protocol header.Protocol, holds bool) {
	if ports, any := services.Of(protocol); !any && len(ports) > 0 {
		r.where(terms, r.ports(flowset.Port, ports...), holds)
	}
}

// ports returns the packets whose port is among some.
func (r *narrowing) ports(f flowset.Field, ports ...header.Ports) flowset.Set {
	return r.views.Space.Where(f, table.PortSpans(ports), flowset.Everything)
}

// table decides by which condition of a table is the first that a packet meets.
func (r *narrowing) table(terms *flowset.Terms, t *table.Table, p *header.Packet, in table.Scope, found int32) {
	v := r.views.Viewed(t, in, r.turned)
	if r.views.Splits(t) {
		v.between = r.views.blocksOf(p)
	}
	v.alike = r.views.stopAlike && !r.Unlike
	value := flowset.None
	if found != table.NoMatch {
		value = v.value(found)
	}
	if changed := r.views.Compared[t]; changed != nil {
		if q := table.NewQuery(p, in); changed.Find(&q) != table.NoMatch {
			value, r.Unlike = unlike(found), true
		}
	}
	r.choose(terms, r.views.View(v), r.turned, value)
	if x := r.views; x.Watched == t && found != table.NoMatch {
		x.Watch(r.Set, terms, v, found)
	}
}

// unlike is the value of what meets a condition that the other network has not.
func unlike(found int32) flowset.Value {
	if found == table.NoMatch {
		return flowset.None.Marked()
	}
	return flowset.Numbered(found).Marked()
}

// route decides by which route the destination has.
func (r *narrowing) route(terms *flowset.Terms, t *table.Routes, destination netip.Addr, route flowset.Value) {
	if !terms[flowset.Destination].IsConstant() {
		r.choose(terms, r.views.routes(t, header.FamilyOf(destination)), false, route)
	}
}

// one decides by which of some addresses the destination is, or that it is none of them.
func (r *narrowing) one(terms *flowset.Terms, among header.Addresses, destination netip.Addr) {
	if among.Empty() || terms[flowset.Destination].IsConstant() {
		return
	}
	c := r.views.choice(among, header.FamilyOf(destination))
	found, ok := slices.BinarySearchFunc(c.addresses, destination, netip.Addr.Compare)
	r.choose(terms, c.set, false, valueOf(found, ok))
}

// same decides whether two packets are equal in some fields.
func (r *narrowing) same(a, b *flowset.Terms, fields []flowset.Field, equal bool) bool {
	space := r.views.Space
	inside, told := r.Set, true
	for _, f := range fields {
		if inside == flowset.Nothing {
			break
		}
		if same, ok := space.EqualWithin(inside, f, a[f], b[f]); ok {
			inside = same
		} else {
			told = false
		}
	}
	switch {
	case told || inside == flowset.Nothing:
		r.keep(inside, space.Minus(r.Set, inside), equal)
	case equal:
		r.Met = true
	default:
		r.Meetings = append(r.Meetings, Meeting{*a, *b, fields})
	}
	return equal
}

// valueOf returns the value of what is for a member of a list, or for none of them.
func valueOf(number int, some bool) flowset.Value {
	if !some {
		return flowset.None
	}
	return flowset.Numbered(int32(number))
}

// prefix decides by how far a prefix translation moves an address, or that it has no place
// for it.
func (r *narrowing) prefix(terms *flowset.Terms, f flowset.Field, a netip.Addr, rule *network.NATRule) {
	if !terms[f].IsConstant() {
		moves := r.views.movesOf(rule, f)
		found := slices.IndexFunc(moves.classes, func(c header.PrefixClass) bool { return c.Alike.Contains(a) })
		r.choose(terms, moves.set, false, valueOf(found, found >= 0))
	}
}

// rule notes that a rule had a part in it.
func (r *narrowing) rule(rule *network.Rule) {
	if !slices.Contains(r.Rules, rule) {
		r.Rules = append(r.Rules, rule)
	}
}
