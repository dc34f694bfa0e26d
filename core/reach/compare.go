package reach

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"hollowbridge/core/engine"
	"hollowbridge/core/explore"
	"hollowbridge/core/flow"
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
)

// A Change is how connections fare differently.
type Change string

// The kinds of change, in the order in which they are shown.
const (
	NewlyReached  Change = "newly reached"
	NoLonger      Change = "no longer reached"
	Elsewhere     Change = "reached elsewhere"
	Otherwise     Change = "translated differently"
	Named         Change = "newly named"     // they get to a machine that has a name now, and got to where it is before
	Unnamed       Change = "no longer named" // they got to a machine that has no name now, and still get to where it was
	StoppedBefore Change = "stopped differently"
)

// Changes lists the kinds of change.
var Changes = []Change{NewlyReached, NoLonger, Elsewhere, Otherwise, Named, Unnamed, StoppedBefore}

// A Difference is connections that fare differently in one way.
type Difference struct {
	Change    Change
	Old, New  *Fate
	On        *network.Segment // the segment the sources are on, set only where their addresses are elsewhere too
	Sender    Straight         // set where machines beside an uplink hand the packets to the gateway
	From      header.Addresses
	To        header.Addresses
	Services  header.Services // as the sources send them
	AllPorts  bool
	FromPorts []header.Ports // where not all, the sources' own ports
	When      network.When   // at which of the moments that were asked about
	Example   Example        // in the new network, or in the old one where it can't begin there
	Was, Is   Translation    // of the example, under the old network and the new one
	Inside    []Straight     // see Access; of those of Summary and Alike

	served header.Services // as they are delivered where they are reached
	own    bool            // of a next hop with addresses of the internet: with its own it gets there under both
}

// A Translation is what became of a connection's ends where it was delivered; what was kept is zero.
type Translation struct {
	Source, Destination netip.Addr
	Port                uint16 // of the destination
}

// translationOf returns the translation of a connection that a network delivers.
func translationOf(e *walk.Engine, c walk.Connection) (t Translation) {
	v := e.NewWalk().Verdict(c)
	if v.Outcome != engine.Reached {
		return t
	}
	p, q := c.Packet, v.Delivered
	if q.Source != p.Source {
		t.Source = q.Source
	}
	if q.Destination != p.Destination {
		t.Destination = q.Destination
	}
	if q.DestinationPort != p.DestinationPort {
		t.Port = q.DestinationPort
	}
	return t
}

// String says what the translation does, as "from 198.51.100.18 to 10.61.24.5:443".
func (t Translation) String() string {
	var parts []string
	if t.Source.IsValid() {
		parts = append(parts, "from "+t.Source.String())
	}
	switch {
	case t.Destination.IsValid() && t.Port != 0:
		parts = append(parts, "to "+netip.AddrPortFrom(t.Destination, t.Port).String())
	case t.Destination.IsValid():
		parts = append(parts, "to "+t.Destination.String())
	case t.Port != 0:
		parts = append(parts, fmt.Sprintf("to port %d", t.Port))
	}
	if len(parts) == 0 {
		return "untranslated"
	}
	return strings.Join(parts, " ")
}

// A Fate is what becomes of connections.
type Fate struct {
	Outcome engine.Outcome
	At      string
	Host    string
	Rule    *network.Rule   // that ended it, or nil
	Rules   []*network.Rule // that had a part in it

	at, to network.Site
	terms  flowset.Terms
}

// Differences returns all connections that fare differently under two networks: those
// that are reached under one and not under the other, by another host, or with another
// translation. With stops, those that are stopped under both but elsewhere or
// otherwise count too. None is a proof that both do the same at the moments that are asked about; the zero
// Times are all.
func Differences(old, new *walk.Engine, times network.Times, stops bool) ([]Difference, error) {
	if err := comparable(old.Network(), new.Network()); err != nil {
		return nil, err
	}
	base := NewBaseline(old, times.Or(old.Network(), new.Network()), MostPieces)
	base.compared = base.explorer.CompareWith(new)
	return base.Differences(new, stops, header.Protocols())
}

// TwoTimezones is the error where rules have hours, and those of two networks are in different places.
type TwoTimezones struct{ Old, New string }

func (t TwoTimezones) Error() string {
	return fmt.Sprintf("rules have hours, which are in %s in one network and in %s in the other: they can't be compared", t.Old, t.New)
}

// comparable returns TwoTimezones where moments of one network are others in another one, and that matters.
func comparable(old, new *network.Network) error {
	if a, b := old.Location().String(), new.Location().String(); a != b && network.Timed(old, new) {
		return TwoTimezones{a, b}
	}
	return nil
}

// A Baseline is a network that others are compared with. It is surveyed once, as far
// as it is asked about.
type Baseline struct {
	engine   *walk.Engine
	explorer *explore.Explorer
	every    bool // all moments are asked about: those that the network's rules and the other's tell apart
	surveyed []surveyed
	kinds    int  // that were found
	compared bool // it is for one network only, and knows which of its regions fare alike there
}

// A surveyed beginning is what becomes of all its connections.
type surveyed struct {
	explore.Beginning
	done    bool
	regions []fated
}

// Fated are connections that share a fate.
type fated struct {
	set      flowset.Set
	fate     *Fate
	meetings []flow.Meeting
}

// NewBaseline returns the baseline of a network, for some moments; the zero Times are all. Comparisons with it
// hold up to most pieces of sets altogether.
func NewBaseline(old *walk.Engine, times network.Times, most int) *Baseline {
	return &Baseline{engine: old, explorer: explore.New(old, times.Or(old.Network()), most), every: times.IsZero()}
}

// tellApart makes the baseline one for all moments that another network tells apart too: it is surveyed again,
// if that is more.
func (base *Baseline) tellApart(new *walk.Engine) {
	if !base.every {
		return
	}
	if times := network.EveryMoment(base.engine.Network(), new.Network()); !times.Equal(base.explorer.Times) {
		base.explorer, base.surveyed, base.kinds = explore.New(base.engine, times, base.explorer.Space.Most()), nil, 0
	}
}

// survey finds out what becomes of the connections of a beginning.
func (base *Baseline) survey(s *surveyed) error {
	if s.done {
		return nil
	}
	s.regions = nil // of an earlier attempt that came to an end too soon
	for r, err := range base.explorer.Explore(s.From, s.Set) {
		if err != nil {
			return err
		}
		if base.compared && !r.Unlike {
			continue
		}
		if base.kinds++; base.kinds > MostKinds {
			return TooManyKinds{MostKinds}
		}
		fate := fateOf(r)
		s.regions = append(s.regions, fated{r.Set, fate.kept(), slices.Clone(r.Meetings)})
	}
	s.done = true
	return nil
}

// Differences is Differences from the baseline, among the connections of some protocols.
// Connections that share a fate in the old network mostly do in the new one: so each of
// the baseline's regions is explored there, and what comes out is compared with what it was.
func (base *Baseline) Differences(new *walk.Engine, stops bool, protocols []header.Protocol) ([]Difference, error) {
	if err := comparable(base.engine.Network(), new.Network()); err != nil {
		return nil, err
	}
	base.tellApart(new)
	if base.surveyed == nil {
		var list []surveyed
		for _, b := range base.explorer.Beginnings(nil) {
			list = append(list, surveyed{Beginning: b})
		}
		base.surveyed = list
	}
	c := &comparison{space: base.explorer.Space, stops: stops, index: map[pairKey]int{}, old: base.engine, new: new, times: base.explorer.Times,
		renamed: network.FindRenamed(base.engine.Network(), new.Network()), before: network.FindRenamed(new.Network(), base.engine.Network())}
	explorer := explore.NewIn(new, base.explorer.Space, base.explorer.Times)
	for _, pair := range c.pairs(base.surveyed, explorer.Beginnings(nil), protocols) {
		if pair.old != nil {
			if err := base.survey(pair.old); err != nil {
				return nil, err
			}
		}
		if err := c.explore(explorer, pair); err != nil {
			return nil, err
		}
	}
	return c.differences(), c.space.Err()
}

// A pair is where some connections begin in the old network and in the new: nowhere, where
// it is nil.
type pair struct {
	old *surveyed
	new *explore.Beginning
	set flowset.Set // all those of the old one, or some
}

// pairs returns where each connection begins in both networks, for some protocols: at the
// place of the same name, else wherever its source is.
func (c *comparison) pairs(old []surveyed, new []explore.Beginning, protocols []header.Protocol) []pair {
	var list []pair
	leftOld, leftNew := make([]flowset.Set, len(old)), make([]flowset.Set, len(new))
	for i := range leftOld {
		leftOld[i] = flowset.Nothing
		if slices.Contains(protocols, old[i].Protocol) {
			leftOld[i] = old[i].Set
		}
	}
	type anywhere struct { // who sends by the internet, or straight to a gateway
		protocol header.Protocol
		straight bool
	}
	byPlace, byProtocol := map[placeKey][]int{}, map[anywhere][]int{}
	anywhereOf := func(b *explore.Beginning) anywhere { return anywhere{b.Protocol, b.From.Through != nil} }
	for k := range new {
		y := &new[k]
		leftNew[k] = flowset.Nothing
		if slices.Contains(protocols, y.Protocol) {
			leftNew[k] = y.Set
			key := keyOf(y, nil)
			byPlace[key] = append(byPlace[key], k)
			byProtocol[anywhereOf(y)] = append(byProtocol[anywhereOf(y)], k)
		}
	}
	match := func(i int, candidates []int) {
		start, _ := slices.BinarySearch(candidates, i) // most likely the one at the same number
		for n := 0; n < len(candidates) && leftOld[i] != flowset.Nothing; n++ {
			k := candidates[(start+n)%len(candidates)]
			if common := c.space.Restrict(leftOld[i], leftNew[k]); common != flowset.Nothing {
				list = append(list, pair{&old[i], &new[k], common})
				leftOld[i], leftNew[k] = c.space.Minus(leftOld[i], common), c.space.Minus(leftNew[k], common)
			}
		}
	}
	for i := range old {
		match(i, byPlace[keyOf(&old[i].Beginning, &c.renamed)])
	}
	for i := range old {
		if leftOld[i] != flowset.Nothing {
			match(i, byProtocol[anywhereOf(&old[i].Beginning)])
		}
		if there, some := c.handedOver(&old[i].Beginning, leftOld[i], &c.renamed, &c.before, c.new); some {
			list = append(list, pair{&old[i], &there, there.Set})
			leftOld[i] = c.space.Minus(leftOld[i], there.Set)
		}
		if leftOld[i] != flowset.Nothing {
			list = append(list, pair{old: &old[i], set: leftOld[i]})
		}
	}
	for k := range new {
		if there, some := c.handedOver(&new[k], leftNew[k], &c.before, &c.renamed, c.old); some {
			list = append(list, pair{&surveyed{Beginning: there}, &new[k], there.Set})
			leftNew[k] = c.space.Minus(leftNew[k], there.Set)
		}
		if leftNew[k] != flowset.Nothing {
			list = append(list, pair{new: &new[k], set: leftNew[k]})
		}
	}
	return list
}

// handedOver returns which of some connections, that machines beside an uplink or its next hop hand to the gateway, these can hand to it in
// the other network too, though the internet sends them there anyway, or a machine beside it has a name there, so that they begin by no
// such way.
func (c *comparison) handedOver(b *explore.Beginning, set flowset.Set, now, then *network.Renamed, other *walk.Engine) (there explore.Beginning, some bool) {
	if b.From.Through == nil || set == flowset.Nothing {
		return there, false
	}
	first, _ := b.Sources.First()
	i := now.Interface(b.From.Through)
	if i == nil || !i.IsUp() || i.Upstream.NoBeside || !i.FacesInternet(header.FamilyOf(first)) {
		return there, false
	}
	there = *b
	there.From.Through = i
	if !b.From.Internet {
		there.From.Segment = i.Segment
		allowed := other.Network().Beside(i)
		for _, h := range other.Network().Hosts {
			for _, a := range h.Addresses {
				if h.Segment(a) == i.Segment && then.Host(h) == nil { // the name alone keeps nobody from it
					allowed = allowed.Union(header.Single(a))
				}
			}
		}
		beside := c.space.Where(flowset.Source, flowset.AddressSpans(allowed), flowset.Everything)
		set = c.space.Restrict(beside, set)
	}
	there.Set = set
	return there, set != flowset.Nothing
}

// A placeKey names a place, and connections of one protocol and family from there, in
// whatever network.
type placeKey struct {
	name     string
	protocol header.Protocol
	family   header.Family
}

// keyOf returns the place of a beginning, by the names that things have now where some were renamed.
func keyOf(b *explore.Beginning, renamed *network.Renamed) placeKey {
	first, _ := b.Sources.First()
	k := placeKey{"the internet", b.Protocol, header.FamilyOf(first)}
	from := b.From
	if renamed != nil {
		from = placeNow(renamed, from)
	}
	switch {
	case from.Through != nil && from.Internet:
		k.name = "next hop of " + from.Through.String()
	case from.Through != nil:
		k.name = "beside " + from.Through.String()
	case from.Beside:
		k.name = "uplinks"
	case from.Segment != nil:
		k.name = from.Segment.Name
	case from.Clients != nil:
		k.name = from.Clients.String() + " clients"
	}
	return k
}

// placeNow returns a place of an earlier network with what is in its place now; what is nowhere now is as it was.
func placeNow(r *network.Renamed, p network.Place) network.Place {
	now := func(i *network.Interface) *network.Interface {
		if i == nil {
			return nil
		}
		return cmp.Or(r.Interface(i), i)
	}
	p.Through, p.Clients = now(p.Through), now(p.Clients)
	if p.Host != nil {
		p.Host = cmp.Or(r.Host(p.Host), p.Host)
	}
	if p.Segment != nil {
		p.Segment = cmp.Or(r.Segment(p.Segment), p.Segment)
	}
	return p
}

// nameNow returns the name that a site of the old network has in the new one.
func (c *comparison) nameNow(s network.Site) string {
	if s.Gateway != nil {
		s.Gateway = cmp.Or(c.renamed.Gateway(s.Gateway), s.Gateway)
	}
	if s.Segment != nil {
		s.Segment = cmp.Or(c.renamed.Segment(s.Segment), s.Segment)
	}
	s.Machine = placeNow(&c.renamed, s.Machine)
	return s.Name()
}

// sameHost and sameAt report whether two fates end with the same machine, and at the same site, whatever they are called.
func (c *comparison) sameHost(old, new *Fate) bool {
	return old.Host == new.Host || !c.renamed.IsNothing() && c.nameNow(old.to) == new.Host
}

func (c *comparison) sameAt(old, new *Fate) bool {
	return old.At == new.At || !c.renamed.IsNothing() && c.nameNow(old.at) == new.At
}

// A comparison collects what fares differently.
type comparison struct {
	space    *flowset.Space
	stops    bool
	rules    network.RuleLists
	index    map[pairKey]int
	found    []altered
	old, new *walk.Engine
	times    network.Times
	renamed  network.Renamed // in the new network
	before   network.Renamed // what the new network has, in the old one
}

// Altered are a pair of fates and the connections that have them.
type altered struct {
	old, new *Fate
	on       *network.Segment // see Difference
	sender   Straight
	begins   *walk.Engine // the network in which they can begin
	sets     []flowset.Set
	meetings []flow.Meeting // of connections that this is not said of
}

// explore compares the connections of a pair.
func (c *comparison) explore(explorer *explore.Explorer, p pair) error {
	if p.old == nil {
		for r, err := range explorer.Explore(p.new.From, p.set) {
			if err != nil {
				return err
			}
			fate := fateOf(r)
			c.add(p, nowhere, &fate, r.Set, r.Meetings)
		}
		return nil
	}
	for _, x := range p.old.regions {
		set := x.set
		if p.set != p.old.Set {
			set = c.space.Restrict(p.set, set)
		}
		switch {
		case set == flowset.Nothing:
		case p.new == nil:
			c.add(p, x.fate, nowhere, set, x.meetings)
		default:
			for r, err := range explorer.Explore(p.new.From, set) {
				if err != nil {
					return err
				}
				if fate := fateOf(r); !c.alike(x.fate, &fate) {
					c.add(p, x.fate, &fate, r.Set, slices.Concat(x.meetings, r.Meetings))
				}
			}
		}
	}
	return nil
}

// add notes connections of a pair, unless their fates are alike.
func (c *comparison) add(p pair, old, new *Fate, set flowset.Set, meetings []flow.Meeting) {
	if c.alike(old, new) {
		return
	}
	x := altered{old: old, begins: c.new}
	if p.new == nil {
		x.on, x.sender, x.begins = sharedOn(&p.old.Beginning), senderOf(p.old.From), c.old
	} else {
		x.on, x.sender = sharedOn(p.new), senderOf(p.new.From)
	}
	key := pairKey{x.on, x.sender.By, x.sender.Hop, p.new == nil, c.changeOf(old, new), c.keyOfFate(old), c.keyOfFate(new)}
	at, known := c.index[key]
	if !known {
		at = len(c.found)
		c.index[key] = at
		x.new = new.kept()
		c.found = append(c.found, x)
	}
	c.found[at].sets = append(c.found[at].sets, set)
	c.found[at].meetings = append(c.found[at].meetings, meetings...)
}

// differences lists what was found.
func (c *comparison) differences() []Difference {
	var found []Difference
	for _, x := range c.found {
		d := Difference{Old: x.old, New: x.new, Change: c.changeOf(x.old, x.new), On: x.on, Sender: x.sender}
		set := c.space.OverlayAll(x.sets)
		if d.Change == Otherwise { // where both happen to give the same after all
			set = c.space.Minus(set, equalTerms(c.space, d.Old.terms, d.New.terms))
		}
		for _, box := range c.space.Boxes(set) {
			d.Services, d.From, d.To, d.AllPorts, d.FromPorts = sentTo(&box), box.From, box.To, box.AllPorts, box.SourcePorts
			d.When, d.served = whenOf(c.times, box.Moments), d.Services
			if reached := cmp.Or(x.new, x.old); len(box.Ports) > 0 {
				if x.new.Outcome != engine.Reached {
					reached = x.old
				}
				d.served = servedBy(&reached.terms, &box)
			}
			d.Example = exampleFrom(x.begins, c.times, x.on, x.sender, exampleOf(c.space, c.times, set, &box, x.meetings), d.When)
			d.Was, d.Is = c.translation(&d, c.old), c.translation(&d, c.new)
			d.own = d.Sender.Hop && c.reachesOtherwise(&d, c.old) && c.reachesOtherwise(&d, c.new)
			found = append(found, d)
		}
	}
	slices.SortStableFunc(found, compareDifferences)
	return found
}

// reachesOtherwise reports whether a next hop gets to where a difference is with its own address too, under one of the networks.
func (c *comparison) reachesOtherwise(d *Difference, e *walk.Engine) bool {
	x := d.Example.Connection
	via, known := d.Sender.By.NextHop(header.FamilyOf(x.Packet.Source))
	if !known {
		return false
	}
	x.Packet.Source = via
	at, ok := c.placeIn(e, &x.From, via)
	if x.From = at; !ok {
		return false
	}
	v := e.NewWalk().Verdict(x)
	return v.Outcome == engine.Reached && (v.To.Name() == d.Old.Host || v.To.Name() == d.New.Host)
}

// translation returns what becomes of a difference's example under one of the networks.
func (c *comparison) translation(d *Difference, e *walk.Engine) Translation {
	x := d.Example.Connection
	if d.Change != Otherwise && d.Change != Elsewhere {
		return Translation{}
	}
	if e == c.old { // the places of another network are its own
		from, ok := c.placeIn(e, &x.From, x.Packet.Source)
		if !ok {
			return Translation{}
		}
		x.From = from
	}
	return translationOf(e, x)
}

// placeIn returns a place of either network in one of them.
func (c *comparison) placeIn(e *walk.Engine, p *network.Place, a netip.Addr) (network.Place, bool) {
	if e == c.old {
		return PlaceIn(e, &c.before, p, a)
	}
	return PlaceIn(e, &c.renamed, p, a)
}

// PlaceIn returns where a machine is in a network that has an address and a place in another one; ok is false where there is none.
func PlaceIn(e *walk.Engine, renamed *network.Renamed, p *network.Place, a netip.Addr) (at network.Place, ok bool) {
	if p.Through != nil {
		i := renamed.Interface(p.Through)
		if i == nil {
			return network.Place{}, false
		}
		return e.Behind(i, a), true
	}
	if p.Host != nil {
		if h := renamed.Host(p.Host); h != nil && h.Has(a) {
			return network.PlaceOf(h, a), true
		}
	}
	if p.Segment != nil {
		if s := renamed.Segment(p.Segment); s != nil && s.Contains(a) {
			return e.On(s, a), true
		}
	}
	there, err := e.Locate(a)
	return there, err == nil
}

// compareDifferences orders differences by their kind, then by where the connections go.
func compareDifferences(x, y Difference) int {
	a, _ := x.To.First()
	b, _ := y.To.First()
	return cmp.Or(slices.Index(Changes, x.Change)-slices.Index(Changes, y.Change), a.Compare(b), compareService(x.Services[0], y.Services[0]))
}

func equalTerms(space *flowset.Space, a, b flowset.Terms) flowset.Set {
	equal := flowset.Everything
	for f := range flowset.Fields {
		if equal == flowset.Nothing {
			break
		}
		same, ok := space.Equal(f, a[f], b[f])
		if !ok {
			return flowset.Nothing
		}
		equal = space.Restrict(equal, same)
	}
	return equal
}

// nowhere is the fate of connections that can't begin.
var nowhere = &Fate{Outcome: engine.Unrouted, At: "nowhere"}

// fateOf returns a region's fate, which is valid as long as the region.
func fateOf(r *explore.Region) Fate {
	return Fate{r.Verdict.Outcome, r.Verdict.At.Name(), r.Verdict.To.Name(), r.Verdict.Rule, r.Rules, r.Verdict.At, r.Verdict.To, r.Terms}
}

// kept returns a copy that stays valid.
func (f Fate) kept() *Fate {
	f.Rules = slices.Clone(f.Rules)
	return &f
}

// A pairKey is what connections have in common of which one difference is said.
type pairKey struct {
	on       *network.Segment
	by       *network.Interface
	hop      bool
	gone     bool // they can't begin in the new network
	change   Change
	old, new fateKey
}

type fateKey struct {
	outcome  engine.Outcome
	at, host string
	terms    flowset.Terms // where they are reached
	rules    int
}

func (c *comparison) keyOfFate(f *Fate) fateKey {
	key := fateKey{outcome: f.Outcome, at: f.At, host: f.Host, rules: c.rules.Number(f.Rules)}
	if f.Outcome == engine.Reached {
		key.terms = f.terms
	}
	return key
}

// justNamed reports whether connections get to somebody on the internet, or to a VPN client, under one network, and to a host there under
// the other, which only that one names: the name changes nothing, whatever the host is said to serve.
func (c *comparison) justNamed(old, new *Fate) bool {
	one := func(there, named *Fate, renamed *network.Renamed) bool {
		h, of, with := named.to.Machine.Host, there.to.Machine, named.to.Machine
		if h == nil || named.at.Machine.Host != h || renamed.Host(h) != nil || there.Outcome != engine.Reached || of.Host != nil {
			return false
		}
		return of.Internet && with.Internet || of.Clients != nil && with.Clients != nil && renamed.Interface(with.Clients) == of.Clients
	}
	return one(old, new, &c.before) || one(new, old, &c.renamed)
}

// onlyNamed reports whether connections that nobody in the file takes under one network get to a machine there under the other, which
// only that one names: the gateways let them through under both. There knows the first network's things in the second, here the other way.
func (c *comparison) onlyNamed(nobody, named *Fate, there, here *network.Renamed) bool {
	h := named.to.Machine.Host
	if nobody.Outcome != engine.Absent || nobody.at.Segment == nil || named.Outcome != engine.Reached || nobody.terms != named.terms ||
		h == nil || named.at.Machine.Host != h || here.Host(h) != nil {
		return false
	}
	segment := there.Segment(nobody.at.Segment)
	return segment != nil && slices.ContainsFunc(h.Addresses, func(a netip.Addr) bool { return h.Segment(a) == segment })
}

// alike reports whether connections of both fates fare the same.
func (c *comparison) alike(old, new *Fate) bool {
	if c.justNamed(old, new) {
		return old.terms == new.terms
	}
	if old.Outcome == engine.Reached || new.Outcome == engine.Reached {
		return old.Outcome == new.Outcome && c.sameHost(old, new) && old.terms == new.terms
	}
	return !c.stops || old.Outcome == new.Outcome && c.sameAt(old, new)
}

func (c *comparison) changeOf(old, new *Fate) Change {
	before, after := old.Outcome == engine.Reached, new.Outcome == engine.Reached
	switch {
	case c.justNamed(old, new):
		return Otherwise
	case before && after && !c.sameHost(old, new):
		return Elsewhere
	case before && after:
		return Otherwise
	case after && c.onlyNamed(old, new, &c.renamed, &c.before):
		return Named
	case after:
		return NewlyReached
	case before && c.onlyNamed(new, old, &c.before, &c.renamed):
		return Unnamed
	case before:
		return NoLonger
	}
	return StoppedBefore
}

// Summary puts differences together that are about the same destinations and hosts, whatever rules
// stopped their sources before: those of the same services, of the same source ports, and then those
// of the same sources, whatever the services.
func Summary(names *Namer, list []Difference) []Difference {
	return summary(names, list, func(*Difference) string { return "" })
}

// Alike is Summary of differences by the same rules: what is put together fares alike in
// everything that is said of it.
func Alike(names *Namer, list []Difference) []Difference {
	var rules network.RuleLists
	said := func(f *Fate) string { // all that is said of a fate
		return fmt.Sprintf("%s %s %s %d", f.Outcome, f.At, f.Host, rules.With(rules.Number(f.Rules), f.Rule))
	}
	return summary(names, list, func(d *Difference) string { return said(d.Old) + " " + said(d.New) })
}

func summary(names *Namer, list []Difference, key func(*Difference) string) []Difference {
	ports := func(d *Difference) string { return fmt.Sprint(d.AllPorts, d.FromPorts) }
	sameServices := func(d *Difference) string { return fmt.Sprint(d.Services) + ports(d) + key(d) }
	bySource := join(list, sameServices, sourcesOfBoth)
	byPorts := join(bySource, func(d *Difference) string { return fmt.Sprint(d.Services) + key(d) }, func(into, d *Difference) bool {
		if !into.To.Equal(d.To) || !into.From.Equal(d.From) {
			return false
		}
		into.AllPorts, into.FromPorts = portsOfBoth(into, d)
		return true
	})
	joined := join(join(byPorts, sameServices, sourcesOfBoth), func(d *Difference) string { return ports(d) + key(d) }, func(into, d *Difference) bool {
		if !into.To.Equal(d.To) || !into.From.Equal(d.From) {
			return false
		}
		into.Services, into.served = slices.Concat(into.Services, d.Services), slices.Concat(into.served, d.served)
		return true
	})
	joined = eachSourceOnce(joined, func(d *Difference) string { return ports(d) + key(d) })
	byTo := join(joined, func(d *Difference) string { return ports(d) + key(d) }, func(into, d *Difference) bool {
		many := len(into.To.Ranges()) > fewDestinations || len(d.To.Ranges()) > fewDestinations
		if !many || !into.From.Equal(d.From) || !slices.Equal(into.Services, d.Services) {
			return false
		}
		into.To = into.To.Union(d.To)
		return true
	})
	return foldedDifferences(names, byTo)
}

// sourcesOfBoth takes up the sources of another difference about the same destinations.
func sourcesOfBoth(into, d *Difference) bool {
	if !into.To.Equal(d.To) {
		return false
	}
	into.From = into.From.Union(d.From)
	return true
}

// mostToldApart is how many differences about the same destinations eachSourceOnce looks at together.
const mostToldApart = 16

// eachSourceOnce tells differences of the same destinations and key, in which some sources stand more than once, by sources with all
// their services, where these are no more.
func eachSourceOnce(list []Difference, key func(*Difference) string) []Difference {
	groups := map[likeness][]int{}
	for i := range list {
		k := likenessOf(&list[i], func(d *Difference) string { return key(d) + d.To.String() })
		groups[k] = append(groups[k], i)
	}
	gone := make([]bool, len(list))
	for _, group := range groups {
		if len(group) < 2 || len(group) > mostToldApart {
			continue
		}
		of := make([]Difference, len(group))
		for n, i := range group {
			of[n] = list[i]
		}
		told := bySources(of)
		if told == nil || len(told) > len(of) {
			continue
		}
		for n, i := range group {
			if gone[i] = n >= len(told); !gone[i] {
				list[i] = told[n]
			}
		}
	}
	var kept []Difference
	for i := range list {
		if !gone[i] {
			kept = append(kept, list[i])
		}
	}
	return kept
}

// bySources tells differences that are alike but for sources and services by disjoint sources; nil where there is no example for each.
func bySources(list []Difference) []Difference {
	var parts []Difference
	for i := range list {
		rest := list[i].From
		for n := range len(parts) {
			common := parts[n].From.Intersect(rest)
			if common.Empty() {
				continue
			}
			both := parts[n]
			both.Services, both.served = slices.Concat(both.Services, list[i].Services), slices.Concat(both.served, list[i].served)
			both.From = common
			if others := parts[n].From.Minus(common); !others.Empty() {
				parts[n].From = others
				parts = append(parts, both)
			} else {
				parts[n] = both
			}
			rest = rest.Minus(common)
		}
		if !rest.Empty() {
			d := list[i]
			d.From = rest
			parts = append(parts, d)
		}
	}
	parts = join(parts, func(d *Difference) string { return fmt.Sprint(d.Services) }, sourcesOfBoth)
	for n := range parts {
		d := &parts[n]
		k := slices.IndexFunc(list, func(x Difference) bool {
			p := x.Example.Packet
			return d.From.Contains(p.Source) && d.Services.Matches(p.Protocol, p.DestinationPort)
		})
		if k < 0 {
			return nil
		}
		d.Old, d.New, d.Example, d.Was, d.Is = list[k].Old, list[k].New, list[k].Example, list[k].Was, list[k].Is
	}
	return parts
}

// fewDestinations is how many ranges of destinations are told apart; of more nobody reads each.
const fewDestinations = 3

// portsOfBoth returns the source ports of two differences together.
func portsOfBoth(a, b *Difference) (all bool, ports []header.Ports) {
	if a.AllPorts || b.AllPorts {
		return true, nil
	}
	list := slices.Concat(a.FromPorts, b.FromPorts)
	slices.SortFunc(list, func(x, y header.Ports) int { return int(x.First) - int(y.First) })
	for _, p := range list {
		if last := len(ports) - 1; last >= 0 && int(p.First) <= int(ports[last].Last)+1 {
			ports[last].Last = max(ports[last].Last, p.Last)
			continue
		}
		ports = append(ports, p)
	}
	if len(ports) == 1 && ports[0].First <= header.AllPorts.First && ports[0].Last == header.AllPorts.Last {
		return true, nil
	}
	return false, ports
}

// join puts differences of the same change, hosts and translation together, and of the same key,
// where one takes up another.
func join(list []Difference, key func(*Difference) string, takeUp func(into, d *Difference) bool) []Difference {
	var merged []Difference
	alike := map[likeness][]int{} // by what is quickly compared
	for i := range list {
		d := list[i]
		k := likenessOf(&d, key)
		if !slices.ContainsFunc(alike[k], func(i int) bool { return takeUp(&merged[i], &d) }) {
			alike[k] = append(alike[k], len(merged))
			merged = append(merged, d)
		}
	}
	return merged
}

// A likeness is what differences have in common that are put together.
type likeness struct {
	change    Change
	old, new  string // hosts
	on        *network.Segment
	by        *network.Interface
	hop       bool
	when, key string
	was, is   Translation // where that is the difference
}

func likenessOf(d *Difference, key func(*Difference) string) likeness {
	k := likeness{change: d.Change, old: d.Old.Host, new: d.New.Host, on: d.On, by: d.Sender.By, hop: d.Sender.Hop, when: d.When.String(), key: key(d)}
	if d.Change == Otherwise || d.Change == Elsewhere {
		k.was, k.is = d.Was, d.Is
	}
	return k
}
