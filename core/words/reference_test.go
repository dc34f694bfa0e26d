package words_test

import (
	"cmp"
	"math/big"
	"net/netip"
	"slices"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile/netfiletest"
)

// reference walks connections as the design tells it, rule by rule and address by
// address, straight on the network: slow and obvious. It shares no code with the
// engine.
type reference struct {
	n        *network.Network
	sessions []*refSession // earlier ones, then this connection's
	earlier  int
	moment   network.Moment

	back    bool
	seen    []refSeen
	carried []refCarried
	calls   []refCall // earlier connections, as those know them who began them
	first   []*refSession
	refused *refRefusal
	met     map[string]int // how often something that is rare came up
	message string         // on the way back to a client that is refused: "reset" or "error"
	teller  netip.Addr
}

type refSession struct {
	g             *network.Gateway
	in, out       *network.Interface
	before, after header.Packet
	local         bool
	answered      bool
	led           bool // a rule redirected it
}

type refCall struct {
	from network.Place
	sent header.Packet
}

// A refRefusal is what was refused with a word: where it came in, nil at a host.
type refRefusal struct {
	in    *network.Interface
	p     header.Packet
	error bool // an ICMP error, else a reset

	behind *network.Segment // that of the inside router that refused it
}

type refSeen struct {
	in *network.Interface
	p  header.Packet
}

type refCarried struct {
	up *network.Interface
	p  header.Packet
}

// A refEnd is where a packet got to: a machine, the gateway itself, or an outcome.
type refEnd struct {
	machine *network.Place
	itself  *network.Gateway
	outcome engine.Outcome
	at      string
	rule    *network.Rule
}

func (r *reference) stop(o engine.Outcome, at string, rule *network.Rule) refEnd {
	if r.back {
		o = engine.Unanswered
	}
	return refEnd{outcome: o, at: at, rule: rule}
}

// run walks a connection; remember keeps its sessions.
func (r *reference) run(c walk.Connection, remember bool) refVerdict {
	r.sessions = r.sessions[:r.earlier]
	r.moment, r.carried, r.refused, r.message, r.teller = c.Moment, nil, nil, "", netip.Addr{}
	v, legs := r.whole(c)
	if remember {
		if v.Outcome != engine.Reached && v.Outcome != engine.Unanswered {
			r.sessions = r.sessions[:r.earlier]
		} else {
			for _, l := range legs {
				r.calls = append(r.calls, refCall{l.from, l.sent})
			}
		}
		r.earlier = len(r.sessions)
	}
	return v
}

// A refVerdict is what the reference says became of a connection.
type refVerdict struct {
	Outcome             engine.Outcome
	At, Host            string
	Rule                *network.Rule
	Delivered, Answered header.Packet
	Told                bool
	Handed              int
}

type refLeg struct {
	from      network.Place
	sent      header.Packet
	to        *network.Place
	itself    *network.Gateway
	delivered header.Packet
}

// whole walks leg after leg: the first packet, its answer, and the third packet of TCP,
// before a relay goes on.
func (r *reference) whole(c walk.Connection) (v refVerdict, legs []refLeg) {
	for from, p := c.From, c.Packet; ; {
		leg := refLeg{from: from, sent: p}
		r.back, r.seen, r.first = false, nil, nil
		end := r.sendFrom(from, &p)
		leg.delivered, leg.to, leg.itself = p, end.machine, end.itself
		legs = append(legs, leg)
		v.Handed = len(legs) - 1
		var onward *header.Packet
		taken := end.itself != nil
		if end.itself != nil {
			v.Outcome, v.At, v.Host, v.Delivered, v.Rule = engine.Reached, end.itself.Name, end.itself.Name, p, nil
		} else if end.machine == nil {
			v.Outcome, v.At, v.Rule = end.outcome, end.at, end.rule
		} else {
			handed := v.Handed
			if v.Handed = handed; r.waitsFor(*end.machine, p) {
				r.met["answer to an earlier connection"]++
				at := end.machine.Name()
				return refVerdict{Outcome: engine.Reached, At: at, Host: at, Delivered: p, Handed: handed}, legs
			}
			v, onward, taken = r.machine(*end.machine, p)
			v.Handed = handed
		}
		if !taken {
			if len(legs) > 1 {
				r.met["a relay's own connection stopped"]++
			}
			v.Told = len(legs) == 1 && r.refused != nil && r.tell(leg)
			return v, legs
		}
		if lost, ok := r.answer(leg); !ok {
			v.Outcome, v.At, v.Rule = engine.Unanswered, lost.at, lost.rule
			return v, legs
		}
		if p.Protocol == header.TCP {
			for _, s := range r.first {
				if !s.local && !s.answered && !s.g.Handling.TCPLoose {
					r.met["third packet dropped"]++
					v.Outcome, v.At, v.Rule = engine.Unanswered, s.g.Name, nil
					return v, legs
				}
			}
		}
		if onward == nil {
			v.Answered = legs[0].sent.Answer()
			return v, legs
		}
		if len(legs) > 32 {
			v.Outcome, v.At = engine.Loop, end.machine.Name()
			return v, legs
		}
		from, p = *end.machine, *onward
	}
}

// answer walks the answer of a leg back to where the leg began.
func (r *reference) answer(leg refLeg) (refEnd, bool) {
	r.back, r.seen = true, nil
	p := leg.delivered.Answer()
	var end refEnd
	if leg.itself != nil {
		end = r.answerItself(leg.itself, &p)
	} else {
		end = r.sendFrom(*leg.to, &p)
	}
	switch {
	case end.machine == nil && end.itself == nil:
		return end, false
	case end.itself != nil:
		return refEnd{at: end.itself.Name}, false
	case !home(leg.from, *end.machine) || p.Destination != leg.sent.Source:
		return refEnd{at: end.machine.Name()}, false
	case p != leg.sent.Answer():
		return refEnd{at: leg.from.Name()}, false
	}
	return end, true
}

func home(client, came network.Place) bool {
	return client.Host != nil && client.Host == came.Host || client.Segment == came.Segment && client.Clients == came.Clients && client.Internet == came.Internet
}

// tell reports whether the refusal gets back to the client.
func (r *reference) tell(leg refLeg) bool {
	r.back, r.seen, r.message = true, nil, "reset"
	if r.refused.error {
		r.message = "error"
	}
	p := r.refused.p.Answer()
	var end refEnd
	if s := r.refused.behind; s != nil {
		if !s.Router.IsLinkLocalUnicast() {
			r.teller = s.Router
		}
		end = r.fromRouter(s, s.Behind, &p)
	} else if in := r.refused.in; in != nil {
		end = r.onward(&refSession{g: in.Gateway, local: true}, nil, in, p, &p)
	} else {
		end = r.sendFrom(*leg.to, &p)
	}
	return end.machine != nil && home(leg.from, *end.machine) && p == leg.sent.Answer()
}

// cannotBeReached notes that the gateway of an interface tells the client so.
func (r *reference) cannotBeReached(seen []refSeen) {
	if !r.back && len(seen) > 0 {
		if last := seen[len(seen)-1]; !last.in.Gateway.Handling.UnreachableSilent {
			r.met["told unreachable"]++
			r.refused = &refRefusal{in: last.in, p: last.p, error: true}
		}
	}
}

// sendFrom takes a packet from a machine to wherever it gets.
func (r *reference) sendFrom(from network.Place, p *header.Packet) refEnd {
	if from.Through != nil && !r.back { // what no provider sends there, somebody beside it does
		if from.Internet && !r.isSentBy(from.Through, p.Destination) {
			r.met["handed to a gateway"]++
		}
		return r.enterBy(from.Through, from.Internet && r.isSentBy(from.Through, p.Destination), p)
	}
	if from.Clients != nil {
		return r.gateway(from.Clients, p)
	}
	if from.Segment == nil {
		return r.internet(p)
	}
	// The prefixes of its own addresses, the longest that holds each on its segment.
	type own struct {
		s *network.Segment
		p netip.Prefix
	}
	var known []own
	learn := func(s *network.Segment, a netip.Addr) {
		best := own{s: s}
		if s.Behind != nil {
			return
		}
		for _, q := range s.Prefixes {
			if q.Contains(a) && (!best.p.IsValid() || q.Bits() > best.p.Bits()) {
				best.p = q
			}
		}
		if best.p.IsValid() {
			known = append(known, best)
		}
	}
	near := []*network.Segment{from.Segment}
	if len(from.Segment.Prefixes) > 2 {
		r.met["a segment of several prefixes"]++
	}
	if from.Host == nil {
		learn(from.Segment, p.Source)
	} else {
		near = nil
		for _, a := range from.Host.Addresses {
			if s := from.Host.Segment(a); s != nil {
				near = append(near, s)
				learn(s, a)
			}
		}
	}
	slices.SortStableFunc(known, func(a, b own) int { return b.p.Bits() - a.p.Bits() })
	for _, k := range known {
		if k.p.Contains(p.Destination) {
			return r.onSegment(k.s, p)
		}
	}
	family := header.FamilyOf(p.Destination)
	named := (*network.Gateway)(nil)
	if h := from.Host; h != nil {
		if h.By != nil || h.Upstream != nil {
			r.met["a default gateway named by its address"]++
		}
		named = h.Gateway
		if h.Upstream != nil {
			near, named = []*network.Segment{h.Upstream}, nil
			if !slices.ContainsFunc(h.Upstream.Interfaces, func(i *network.Interface) bool { return i.FacesInternet(family) }) {
				near = nil
			}
		}
		if h.Elsewhere.IsValid() {
			r.met["a default gateway that is not in the file"]++
			near = nil
		}
		if h.By != nil {
			if hasFamily(h.By, family) {
				return r.gateway(h.By, p)
			}
			near = nil
		}
	}
	for _, s := range near {
		if s.Behind != nil {
			if s.Router.Is4() != p.Destination.Is4() {
				continue
			}
			in := s.Behind
			if named != nil {
				at := slices.IndexFunc(in.Segment.Interfaces, func(i *network.Interface) bool { return i.Gateway == named && hasFamily(i, family) })
				if at < 0 {
					continue
				}
				in = in.Segment.Interfaces[at]
			}
			return r.fromRouter(s, in, p)
		}
		for _, i := range s.Interfaces {
			if named == nil && i.FacesInternet(family) {
				return r.internet(p)
			}
		}
		for _, i := range s.Interfaces {
			if (named == nil || i.Gateway == named) && hasFamily(i, family) {
				return r.gateway(i, p)
			}
		}
	}
	return r.stop(engine.Unrouted, from.Name(), nil)
}

// fromRouter hands on what is with an inside router: to machines behind it, on its own segment, or to a gateway's interface.
func (r *reference) fromRouter(behind *network.Segment, in *network.Interface, p *header.Packet) refEnd {
	r.met["behind an inside router"]++
	if behind.Contains(p.Destination) {
		return r.onSegment(behind, p)
	}
	for _, q := range in.Segment.Prefixes {
		if own := in.Segment.PrefixOf(behind.Router); own == q && q.Contains(p.Destination) {
			return r.onSegment(in.Segment, p)
		}
	}
	return r.gateway(in, p)
}

func hasFamily(i *network.Interface, family header.Family) bool {
	return slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return header.FamilyOf(p.Addr()) == family })
}

func (r *reference) internet(p *header.Packet) refEnd {
	for _, c := range r.carried {
		if r.back && c.p.Answer() == *p {
			return r.onSegment(c.up.Segment, p)
		}
	}
	carried := network.Carried(p.Destination)
	upstreamBlocks := r.stop(engine.UpstreamBlocks, "the internet", nil)
	var sent netip.Prefix
	var by *network.Interface
	uplinks := false
	var beside *network.Interface // the uplink with the longest prefix of its own
	longest := -1
	for _, g := range r.n.Gateways {
		for _, i := range g.Interfaces {
			if !i.FacesInternet(header.FamilyOf(p.Destination)) {
				continue
			}
			uplinks = true
			for _, q := range i.Addresses {
				if q.Contains(p.Destination) && q.Bits() > longest {
					beside, longest = i, q.Bits()
				}
			}
			for _, q := range i.Upstream.Routes {
				better := by == nil || q.Bits() > sent.Bits() || q.Bits() == sent.Bits() && !by.IsUp() && i.IsUp()
				if q.Contains(p.Destination) && better {
					sent, by = q, i
				}
			}
		}
	}
	if beside != nil {
		if !carried && !r.back {
			r.met["a private uplink"]++
		}
		if r.blocked(beside, p) || !carried {
			return upstreamBlocks
		}
		return r.onSegment(beside.Segment, p)
	}
	if by != nil {
		return r.enterBy(by, true, p)
	}
	for _, h := range r.n.Hosts {
		if carried && h.Has(p.Destination) && h.Segment(p.Destination) == nil && h.Clients(p.Destination) == nil {
			return refEnd{machine: &network.Place{Host: h, Internet: true}}
		}
	}
	if carried && r.n.Internet().Contains(p.Destination) {
		foreign := slices.ContainsFunc(r.n.Gateways, func(g *network.Gateway) bool {
			return slices.ContainsFunc(g.NAT, func(rule *network.NATRule) bool { return claimedBy(rule, p.Destination) }) && !comesTo(g, p.Destination)
		})
		if foreign && !r.back && len(r.seen) == 0 {
			r.met["not sent here"]++
			return upstreamBlocks
		}
		return refEnd{machine: &network.Place{Internet: true}}
	}
	if carried && uplinks {
		return upstreamBlocks
	}
	return r.stop(engine.Unrouted, "the internet", nil)
}

// claims reports whether an address is a gateway's because of a rule that is active, and
// packets for it come to the gateway at all.
func (r *reference) claims(g *network.Gateway, a netip.Addr) bool {
	return comesTo(g, a) && slices.ContainsFunc(g.NAT, func(rule *network.NATRule) bool { return takesPart(&rule.Rule, r.moment) && claimedBy(rule, a) })
}

func comesTo(g *network.Gateway, a netip.Addr) bool {
	for _, i := range g.Interfaces {
		for _, q := range append(slices.Clone(i.Addresses), i.Upstream.Routes...) {
			if q.Contains(a) {
				return true
			}
		}
	}
	return false
}

// takesPart reports whether a rule takes part at a moment: by the calendar, a day after the other.
func takesPart(rule *network.Rule, at network.Moment) bool {
	now := at.Time(time.UTC)
	if rule.Disabled || isOver(rule, now) {
		return false
	}
	if rule.When == nil {
		return true
	}
	for _, day := range []time.Time{now, now.AddDate(0, 0, -1)} { // what begins on a day may end on the next one
		midnight := time.Date(day.Year(), day.Month(), day.Day(), 0, 0, 0, 0, time.UTC)
		begins, ends := midnight.Add(time.Duration(rule.When.First)*time.Minute), midnight.Add(time.Duration(rule.When.Last)*time.Minute)
		if !begins.Before(ends) {
			ends = ends.AddDate(0, 0, 1)
		}
		if rule.When.Days[(int(day.Weekday())+6)%7] && !now.Before(begins) && now.Before(ends) {
			return true
		}
	}
	return false
}

// isOver reports whether a rule's last day, or the minute that its deadline names, is over.
func isOver(rule *network.Rule, now time.Time) bool {
	if minute, err := time.Parse("2006-01-02 15:04", string(rule.Until)); err == nil {
		return !now.Before(minute)
	}
	day, err := time.Parse("2006-01-02", string(rule.Until))
	return err == nil && !now.Before(day.AddDate(0, 0, 1))
}

func claimedBy(rule *network.NATRule, a netip.Addr) bool {
	if rule.Disabled || isOver(&rule.Rule, netfiletest.Now.Truncate(24*time.Hour)) {
		return false
	}
	switch rule.Does {
	case network.OneToOne, network.PrefixNAT:
		return rule.Outside.Contains(a)
	case network.SourceNAT:
		return rule.As.Set.Contains(a)
	case network.PortForward:
		return !rule.AtOwn && !rule.At.IsAll() && rule.At.Contains(a)
	}
	return false
}

// isSentBy reports whether the internet sends what is for an address by an uplink: the first in whose prefix it is or, where it is in
// none, the one to which the longest prefix is sent.
func (r *reference) isSentBy(uplink *network.Interface, a netip.Addr) bool {
	var by *network.Interface
	bits := -1
	for _, own := range []bool{true, false} {
		for _, g := range r.n.Gateways {
			for _, i := range g.Interfaces {
				list := i.Upstream.Routes
				if own {
					list = i.Addresses
				}
				for _, q := range list {
					longer := by == nil || q.Bits() > bits || !own && q.Bits() == bits && !by.IsUp() && i.IsUp()
					if i.FacesInternet(header.FamilyOf(a)) && q.Contains(a) && longer {
						by, bits = i, q.Bits()
					}
				}
			}
		}
		if by != nil {
			break
		}
	}
	return by == uplink
}

func (r *reference) enterBy(i *network.Interface, fromInternet bool, p *header.Packet) refEnd {
	if fromInternet && r.blocked(i, p) {
		return r.stop(engine.UpstreamBlocks, "the internet", nil)
	}
	return r.gateway(i, p)
}

func (r *reference) blocked(i *network.Interface, p *header.Packet) bool {
	return !r.back && (i.Upstream.CarrierNAT && p.Destination.Is4() || i.Upstream.Blocks.Matches(p.Protocol, p.DestinationPort))
}

func (r *reference) onSegment(s *network.Segment, p *header.Packet) refEnd {
	for _, i := range s.Interfaces {
		if ownAddress(i, p.Destination) {
			return r.gateway(i, p)
		}
	}
	for _, h := range r.n.Hosts {
		if h.Has(p.Destination) && h.Segment(p.Destination) == s {
			return refEnd{machine: &network.Place{Host: h, Segment: s}}
		}
	}
	for _, i := range s.Interfaces {
		if r.claims(i.Gateway, p.Destination) {
			return r.gateway(i, p)
		}
	}
	if at := (network.Place{Segment: s}); r.back || r.waitsFor(at, *p) {
		return refEnd{machine: &at}
	}
	if s.Behind != nil && !r.back {
		r.met["told by an inside router"]++
		r.refused = &refRefusal{p: *p, error: true, behind: s}
	} else {
		r.cannotBeReached(r.seen)
	}
	return r.stop(engine.Absent, s.Name, nil)
}

// waitsFor reports whether a packet answers an earlier connection of the machine it comes
// to. What begins a TCP connection and a new echo request answer nothing.
func (r *reference) waitsFor(at network.Place, p header.Packet) bool {
	return !r.back && p.Protocol != header.TCP && p.Protocol != header.ICMP &&
		slices.ContainsFunc(r.calls, func(c refCall) bool { return home(c.from, at) && c.sent.Answer() == p })
}

func ownAddress(i *network.Interface, a netip.Addr) bool {
	return slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return p.Addr() == a })
}

// refRoute is the best way to an address.
type refRoute struct {
	bits, distance      int
	out                 *network.Interface
	via                 netip.Addr
	clients, blackhole  bool
	upstream, connected bool
}

func bestRoute(g *network.Gateway, a netip.Addr) *refRoute {
	var best *refRoute
	offer := func(p netip.Prefix, c refRoute) {
		c.bits = p.Bits()
		if p.Contains(a) && (best == nil || c.bits > best.bits || c.bits == best.bits && c.distance < best.distance) {
			best = &c
		}
	}
	for _, i := range g.Interfaces {
		if i.IsUp() {
			for _, p := range i.Addresses {
				offer(p.Masked(), refRoute{out: i, connected: true})
			}
			for _, p := range i.Clients {
				offer(p, refRoute{out: i, clients: true})
			}
		}
	}
	for _, s := range g.Routes {
		if s.Blackhole {
			offer(s.To, refRoute{blackhole: true, distance: s.Distance})
			continue
		}
		out := s.Out
		if !out.IsUp() {
			continue
		}
		nobody := !slices.ContainsFunc(out.Segment.Interfaces, func(i *network.Interface) bool { return ownAddress(i, s.Via) })
		if !s.Via.IsValid() {
			nobody = len(out.Segment.Interfaces) == 1
		}
		toInternet := nobody && slices.ContainsFunc(g.Routes, func(d network.Route) bool {
			return d.To.Bits() == 0 && !d.Blackhole && d.Via == s.Via && d.Out == s.Out
		})
		offer(s.To, refRoute{out: out, via: s.Via, distance: s.Distance, upstream: toInternet, connected: !toInternet && !s.Via.IsValid()})
	}
	return best
}

// gateway is the nine steps.
func (r *reference) gateway(in *network.Interface, p *header.Packet) refEnd {
	g := in.Gateway
	if len(r.seen) == 32 || slices.Contains(r.seen, refSeen{in, *p}) {
		return r.stop(engine.Loop, g.Name, nil)
	}
	before := r.seen
	r.seen = append(r.seen, refSeen{in, *p})
	// 1 arrive
	if !in.IsUp() {
		r.cannotBeReached(before)
		return r.stop(engine.Unrouted, g.Name, nil)
	}
	source := p.Source
	if r.teller.IsValid() {
		source = r.teller
	}
	if r.forged(in, source) {
		return r.stop(engine.Dropped, g.Name, nil)
	}
	// 2 session
	for i := len(r.sessions) - 1; i >= 0; i-- {
		s := r.sessions[i]
		if s.g != g {
			continue
		}
		beginning := p.Protocol == header.TCP || p.Protocol == header.ICMP
		if s.after.Answer() == *p && (r.back || !beginning) {
			s.answered = true
			return r.known(s, in, s.in, s.before.Answer(), p)
		}
		if s.before == *p {
			if !r.back {
				r.first = append(r.first, s)
			}
			if s.local {
				*p = s.after
				return refEnd{itself: g}
			}
			return r.known(s, in, s.out, s.after, p)
		}
	}
	untranslated := false
	if r.back {
		switch {
		case r.message == "error" || p.Protocol == header.ICMP:
			r.met["stray ICMP"]++
			if !g.Handling.ICMPUntracked {
				return r.stop(engine.Unanswered, g.Name, nil)
			}
			untranslated = true
		case p.Protocol == header.TCP && !g.Handling.TCPLoose:
			return r.stop(engine.Unanswered, g.Name, nil)
		case p.Protocol == header.TCP:
			r.met["loose TCP"]++
		}
	}
	// 3 translate destination
	came := *p
	var forward *network.NATRule
	if !untranslated {
		forward, _ = r.destinationRule(in, p)
	}
	var mapping *network.Mapping
	if forward == nil && !untranslated {
		for _, m := range g.Opened {
			if m.On[0] == in && m.Protocol == p.Protocol && m.Outside == netip.AddrPortFrom(p.Destination, p.DestinationPort) && m.Admits(p.Source, p.SourcePort) {
				mapping, p.Destination, p.DestinationPort = m, m.Inside.Addr(), m.Inside.Port()
				r.met["a mapping"]++
			}
		}
	}
	if forward != nil && !r.redirect(forward, p) {
		r.cannotBeReached(r.seen)
		return r.stop(engine.Dropped, g.Name, &forward.Rule)
	}
	// 4 itself
	own := slices.ContainsFunc(g.Interfaces, func(i *network.Interface) bool { return ownAddress(i, p.Destination) })
	if own || r.claims(g, p.Destination) {
		if !r.back && own {
			for _, s := range g.Serves {
				if s.Services.Matches(p.Protocol, p.DestinationPort) && slices.Contains(s.On, in) {
					if !r.keep(&refSession{g: g, in: in, before: came, after: *p, local: true}) {
						return r.stop(engine.Exhausted, g.Name, nil)
					}
					return refEnd{itself: g}
				}
			}
		}
		return r.stop(engine.Itself, g.Name, nil)
	}
	// 5 route
	way := r.mustRoute(g, p.Destination)
	if p.Source.Is6() && p.Source.IsLinkLocalUnicast() {
		r.met["a link-local source"]++
		way = nil
		r.cannotBeReached(r.seen)
	}
	if way == nil {
		return r.stop(engine.Unrouted, g.Name, nil)
	}
	// 6 filter
	if !(forward != nil && g.Handling.ForwardsPermit && (forward.Does == network.PortForward || forward.Does == network.DestinationNAT)) {
		end, ok := r.filter(in, way.out, came, *p, forward != nil || mapping != nil)
		if !ok && (end.rule != nil || mapping == nil) { // no rule is for it, but a mapping
			return end
		}
	}
	// 7 turn back
	if way.out == in && !g.Handling.TurnBack {
		return r.stop(engine.Dropped, g.Name, nil)
	}
	if untranslated {
		return r.leaveBy(g, way, p)
	}
	// 8 translate source
	rule := r.sourceRule(in, way.out, *p)
	final := *p
	var named *network.Rule
	var ports header.Ports
	switch {
	case rule == nil && forward != nil && forward.Hairpin && in.Segment == way.out.Segment:
		named = &forward.Rule
		if !r.takePort(g, ownPool(way.out), header.Ports{}, &final) {
			return r.stop(engine.Exhausted, g.Name, named)
		}
	case rule == nil:
		if forward != nil {
			named = &forward.Rule
		} else if mapping != nil {
			named = &mapping.Rule
		}
	case rule.Does == network.NoNAT:
		named = &rule.Rule
	case rule.Does == network.OneToOne:
		named = &rule.Rule
		final.Source = header.Shift(p.Source, rule.Inside.First, rule.Outside.First)
	case rule.Does == network.PrefixNAT:
		named = &rule.Rule
		if final.Source = rule.Prefixes.Outward(p.Source).To; !final.Source.IsValid() {
			r.cannotBeReached(r.seen)
			return r.stop(engine.Dropped, g.Name, named)
		}
	default:
		named, ports = &rule.Rule, rule.SourcePorts
		pool := rule.As.Set.Ranges()
		if rule.As.Interface {
			pool = ownPool(way.out)
		}
		if rule.Destination.IsValid() {
			final.Destination = rule.Destination
			if rule.DestPort != 0 && p.Protocol.HasPorts() {
				final.DestinationPort = rule.DestPort
			}
		}
		if !r.takePort(g, pool, ports, &final) {
			return r.stop(engine.Exhausted, g.Name, named)
		}
	}
	if !r.tellApart(g, ports, &final) {
		return r.stop(engine.Exhausted, g.Name, named)
	}
	*p = final
	if rule != nil && rule.Does == network.SourceNAT && rule.Destination.IsValid() {
		if way = r.mustRoute(g, p.Destination); way == nil {
			return r.stop(engine.Unrouted, g.Name, nil)
		}
	}
	if !r.keep(&refSession{g: g, in: in, out: way.out, before: came, after: *p, led: forward != nil || mapping != nil}) {
		return r.stop(engine.Exhausted, g.Name, nil)
	}
	return r.leaveBy(g, way, p)
}

// keep remembers a session, where the gateway has room for it.
func (r *reference) keep(s *refSession) bool {
	there := 0
	for _, other := range r.sessions {
		if other.g == s.g {
			there++
		}
	}
	if most := s.g.Limits.Sessions; most > 0 && there >= most {
		r.met["no room for a session"]++
		return false
	}
	r.sessions = append(r.sessions, s)
	if !r.back {
		r.first = append(r.first, s)
	}
	return true
}

// mustRoute returns the way to an address; the client is told where there is none.
func (r *reference) mustRoute(g *network.Gateway, a netip.Addr) *refRoute {
	way := bestRoute(g, a)
	if way == nil {
		r.cannotBeReached(r.seen)
	}
	if way == nil || way.blackhole {
		return nil
	}
	return way
}

func (r *reference) forged(in *network.Interface, source netip.Addr) bool {
	g := in.Gateway
	for _, i := range g.Interfaces {
		if ownAddress(i, source) {
			return true
		}
	}
	if !in.FacesInternet(header.FamilyOf(source)) || r.isClient(in, source) {
		return false
	}
	way := bestRoute(g, source)
	return way != nil && !way.blackhole && way.bits > 0 && way.out != in && !way.out.FacesInternet(header.FamilyOf(source))
}

// isClient reports whether an address is that of a VPN client of an interface: of its pool, and of no host that is elsewhere.
func (r *reference) isClient(i *network.Interface, a netip.Addr) bool {
	for _, h := range r.n.Hosts {
		if h.Has(a) && h.Clients(a) != i {
			return false
		}
	}
	return slices.ContainsFunc(i.Clients, func(p netip.Prefix) bool { return p.Contains(a) })
}

// known sends on a packet of a session, which becomes after and stays on an uplink.
func (r *reference) known(s *refSession, cameBy, goesBy *network.Interface, after header.Packet, p *header.Packet) refEnd {
	before := *p
	*p = after
	if before.Source != p.Source {
		r.teller = netip.Addr{}
	}
	return r.onward(s, cameBy, goesBy, before, p)
}

func (r *reference) onward(s *refSession, cameBy, goesBy *network.Interface, before header.Packet, p *header.Packet) refEnd {
	if goesBy != nil && goesBy.Segment != nil && p.Destination.Is6() && p.Destination.IsLinkLocalUnicast() {
		return r.onSegment(goesBy.Segment, p)
	}
	g := s.g
	way := bestRoute(g, p.Destination)
	if goesBy != nil && goesBy.FacesInternet(header.FamilyOf(p.Destination)) {
		if !goesBy.IsUp() {
			r.cannotBeReached(r.seen)
			return r.stop(engine.Unrouted, g.Name, nil)
		}
		if way == nil || way.blackhole || way.out != goesBy {
			way = &refRoute{out: goesBy, upstream: true, via: p.Destination}
			if slices.ContainsFunc(goesBy.Addresses, func(q netip.Prefix) bool { return q.Contains(p.Destination) }) {
				way = &refRoute{out: goesBy, connected: true}
			}
		}
	}
	if goesBy != nil && goesBy.IsUp() && r.isClient(goesBy, p.Destination) {
		if way == nil || !way.clients {
			r.met["a client beside a longer route"]++
		}
		way = &refRoute{out: goesBy, clients: true}
	}
	if way == nil {
		r.cannotBeReached(r.seen)
	}
	if way == nil || way.blackhole {
		return r.stop(engine.Unrouted, g.Name, nil)
	}
	if cameBy == nil && r.message == "error" { // the gateway's own word, from the address it leaves by
		for _, q := range way.out.Addresses {
			if q.Addr().Is6() == p.Destination.Is6() && !r.teller.IsValid() {
				r.teller = q.Addr()
			}
		}
	}
	if p.Protocol == header.ICMP && g.Handling.ICMPUntracked && !s.local && r.message == "" {
		if end, ok := r.filter(cameBy, way.out, before, *p, s.led); !ok {
			return end
		}
	}
	return r.leaveBy(g, way, p)
}

func (r *reference) answerItself(g *network.Gateway, p *header.Packet) refEnd {
	for i := len(r.sessions) - 1; i >= 0; i-- {
		if s := r.sessions[i]; s.g == g && s.after.Answer() == *p {
			s.answered = true
			return r.known(s, s.out, s.in, s.before.Answer(), p)
		}
	}
	return r.stop(engine.Unanswered, g.Name, nil)
}

func (r *reference) leaveBy(g *network.Gateway, way *refRoute, p *header.Packet) refEnd {
	switch {
	case way.clients:
		at := &network.Place{Clients: way.out}
		for _, h := range r.n.Hosts {
			if h.Has(p.Destination) && h.Clients(p.Destination) == way.out {
				r.met["a named VPN client"]++
				at.Host = h
			}
		}
		return refEnd{machine: at}
	case way.connected:
		return r.onSegment(way.out.Segment, p)
	case way.upstream:
		if !r.back && way.out.Upstream.Blocks.Matches(p.Protocol, p.DestinationPort) {
			return r.stop(engine.UpstreamBlocks, "the internet", nil)
		}
		inside := slices.ContainsFunc(way.out.Addresses, func(q netip.Prefix) bool { return q.Contains(p.Source) })
		if (way.out.Upstream.CarrierNAT && p.Source.Is4() || !network.Carried(p.Source)) && inside {
			r.carried = append(r.carried, refCarried{way.out, *p})
		}
		return r.internet(p)
	}
	for _, i := range way.out.Segment.Interfaces {
		if ownAddress(i, way.via) && i.Gateway != g {
			return r.gateway(i, p)
		}
	}
	for _, h := range r.n.Hosts {
		if h.Has(way.via) && h.Segment(way.via) == way.out.Segment && h.Has(p.Destination) {
			r.met["a next hop that is the destination"]++
			at := network.PlaceOf(h, p.Destination)
			return refEnd{machine: &at}
		}
	}
	taken := slices.ContainsFunc(r.n.Hosts, func(h *network.Host) bool { return h.Has(way.via) && h.Segment(way.via) == way.out.Segment }) ||
		slices.ContainsFunc(way.out.Segment.Interfaces, func(i *network.Interface) bool { return ownAddress(i, way.via) })
	for _, i := range way.out.Segment.Interfaces {
		if !taken && i.Gateway != g && r.claims(i.Gateway, way.via) {
			r.met["a next hop that a rule claims"]++
			return r.gateway(i, p)
		}
	}
	for _, s := range r.n.Segments {
		if !taken && s.Behind != nil && s.Behind.Segment == way.out.Segment && s.Router == way.via {
			return r.onSegment(s, p)
		}
	}
	r.cannotBeReached(r.seen)
	return r.stop(engine.Unrouted, g.Name, nil)
}

// in an expression that stands in a rule, a zone is the interface's.
func contains(e network.Expression, zone string, a netip.Addr) bool {
	return len(e.Items) == 0 || anyTerm(e.Items, zone, a)
}

func anyTerm(terms []network.Item, zone string, a netip.Addr) bool {
	for _, t := range terms {
		hit := t.Set.Contains(a)
		if t.Zone != "" {
			hit = t.Zone == zone
		}
		if len(t.List) > 0 {
			hit = anyTerm(t.List, zone, a)
		}
		if hit && (t.Except == nil || !contains(*t.Except, zone, a)) {
			return true
		}
	}
	return false
}

// size is the largest breadth an expression has in any zone of the
// gateway, within a set.
func size(g *network.Gateway, e network.Expression, within header.Addresses) *big.Int {
	most := new(big.Int)
	for _, i := range g.Interfaces {
		if of := breadth(e.In(i.Zone).Intersect(within)); of.Cmp(most) > 0 {
			most = of
		}
	}
	return most
}

// breadth counts the addresses of the family of which a set has more.
func breadth(set header.Addresses) *big.Int {
	of := map[bool]*big.Int{false: new(big.Int), true: new(big.Int)}
	for _, r := range set.Ranges() {
		count := new(big.Int).Sub(new(big.Int).SetBytes(r.Last.AsSlice()), new(big.Int).SetBytes(r.First.AsSlice()))
		of[r.First.Is6()].Add(of[r.First.Is6()], count.Add(count, big.NewInt(1)))
	}
	if of[true].Cmp(of[false]) > 0 {
		return of[true]
	}
	return of[false]
}

// listensAt returns the original destinations of a rule for what arrives by in.
func listensAt(rule *network.NATRule, in *network.Interface) (at header.Addresses, hairpin, ok bool) {
	hairpin = !slices.Contains(rule.On, in)
	if hairpin && (!rule.Hairpin || in.IsUplink()) {
		return at, false, false
	}
	switch rule.Does {
	case network.OneToOne, network.PrefixNAT:
		return header.AddressesOf(rule.Outside), hairpin, true
	case network.PortForward, network.DestinationNAT:
		at = rule.At
		if rule.AtOwn {
			on := []*network.Interface{in}
			if hairpin {
				on = rule.On
			}
			at = header.Addresses{}
			for _, i := range on {
				at = at.Union(header.AddressesOfPrefixes(hostPrefixes(i)...))
			}
		}
		return at.Intersect(rule.Target.Families()), hairpin, true
	}
	return at, false, false
}

func hostPrefixes(i *network.Interface) []netip.Prefix {
	var list []netip.Prefix
	for _, p := range i.Addresses {
		list = append(list, netip.PrefixFrom(p.Addr(), p.Addr().BitLen()))
	}
	return list
}

// ports counts the ports of a rule, each protocol's once; those without ports count as one.
func ports(rule *network.NATRule) int {
	count := 0
	asked := slices.Clone(rule.Ports)
	for _, s := range rule.Services {
		asked = append(asked, network.PortMap{Protocol: s.Protocol, Ports: s.Ports})
	}
	for _, protocol := range header.Protocols() {
		var list []header.Ports
		for _, m := range asked {
			if m.Protocol == protocol || m.Protocol == header.AnyProtocol {
				p := m.Ports
				if m.Protocol == header.AnyProtocol {
					p = header.AllPorts
				}
				list = append(list, p)
			}
		}
		if len(asked) == 0 {
			list = append(list, header.AllPorts)
		}
		switch {
		case len(list) == 0:
		case !protocol.HasPorts():
			count++
		default:
			slices.SortFunc(list, func(a, b header.Ports) int { return int(a.First) - int(b.First) })
			last := 0
			for _, p := range list {
				count += max(0, int(p.Last)-max(last, int(p.First)-1))
				last = max(last, int(p.Last))
			}
		}
	}
	return count
}

// families returns all addresses of the families that both sets have some of.
func families(a, b header.Addresses) (both header.Addresses) {
	for _, family := range header.Families {
		_, inA := a.FirstOf(family)
		_, inB := b.FirstOf(family)
		if inA && inB {
			both = both.Union(family.All())
		}
	}
	return both
}

// anywhere is all that an expression can match at a gateway.
func anywhere(g *network.Gateway, e network.Expression) (all header.Addresses) {
	for _, i := range g.Interfaces {
		all = all.Union(e.In(i.Zone))
	}
	return all
}

func (r *reference) destinationRule(in *network.Interface, p *header.Packet) (found *network.NATRule, hairpinned bool) {
	type candidate struct {
		rule     *network.NATRule
		at, from *big.Int
		hairpin  bool
	}
	var candidates []candidate
	for _, rule := range in.Gateway.NAT {
		at, hairpin, ok := listensAt(rule, in)
		if !ok || at.Empty() {
			continue
		}
		from := rule.From
		if hairpin {
			from = network.Expression{}
		}
		within := families(at, anywhere(in.Gateway, from))
		candidates = append(candidates, candidate{rule, breadth(at.Intersect(within)), size(in.Gateway, from, within), hairpin})
	}
	if in.Gateway.Handling.SpecificFirst {
		slices.SortStableFunc(candidates, func(a, b candidate) int {
			return cmp.Or(a.at.Cmp(b.at), cmp.Compare(ports(a.rule), ports(b.rule)), a.from.Cmp(b.from))
		})
	}
	for _, c := range candidates {
		at, _, _ := listensAt(c.rule, in)
		service := len(c.rule.Ports) == 0 || slices.ContainsFunc(c.rule.Ports, func(m network.PortMap) bool { return m.Matches(p.Protocol, p.DestinationPort) })
		if takesPart(&c.rule.Rule, r.moment) && at.Contains(p.Destination) && service && (c.hairpin || contains(c.rule.From, in.Zone, p.Source)) {
			return c.rule, c.hairpin
		}
	}
	return nil, false
}

// redirect rewrites the destination; it returns false where nothing can become of it.
func (r *reference) redirect(rule *network.NATRule, p *header.Packet) bool {
	switch rule.Does {
	case network.OneToOne:
		p.Destination = header.Shift(p.Destination, rule.Outside.First, rule.Inside.First)
	case network.PrefixNAT:
		r.met["prefix-nat"]++
		if p.Destination = rule.Prefixes.Inward(p.Destination).To; !p.Destination.IsValid() {
			r.met["no place on the other side"]++
			return false
		}
	default:
		p.Destination, _ = rule.Target.Of(p.Destination)
		for _, m := range rule.Ports {
			if m.Matches(p.Protocol, p.DestinationPort) {
				if p.Protocol.HasPorts() {
					p.DestinationPort = m.ToFirst + p.DestinationPort - m.Ports.First
				}
				return true
			}
		}
	}
	return true
}

func (r *reference) filter(in, out *network.Interface, before, p header.Packet, led bool) (refEnd, bool) {
	g := in.Gateway
	p.Source, p.SourcePort = before.Source, before.SourcePort // it is translated behind the filter
	to, port := p.Destination, p.DestinationPort
	if g.Handling.FilterSeesOriginal {
		to, port = before.Destination, before.DestinationPort
	}
	if r.message == "error" {
		p.Protocol, p.SourcePort, port = header.ICMP, 0, 0
		if r.teller.IsValid() {
			p.Source = r.teller
		}
	}
	for _, rule := range g.Filter {
		source := len(rule.SourcePorts) == 0 || p.Protocol.HasPorts() && slices.ContainsFunc(rule.SourcePorts, func(q header.Ports) bool { return q.Contains(p.SourcePort) })
		if !takesPart(&rule.Rule, r.moment) || !source || !contains(rule.From, in.Zone, p.Source) || !contains(rule.To, out.Zone, to) ||
			len(rule.Services) > 0 && !rule.Services.Matches(p.Protocol, port) || rule.Redirected && !led {
			continue
		}
		if rule.Redirected {
			r.met["only what is redirected"]++
		}
		switch rule.Verb {
		case network.Allow:
			return refEnd{}, true
		case network.Drop:
			return r.stop(engine.Dropped, g.Name, &rule.Rule), false
		}
		if !r.back {
			r.refused = &refRefusal{in: in, p: before, error: p.Protocol != header.TCP}
		}
		return r.stop(engine.Rejected, g.Name, &rule.Rule), false
	}
	rank := func(zone string) int {
		return slices.IndexFunc(g.Handling.Trust, func(alike []string) bool { return slices.Contains(alike, zone) })
	}
	if g.Handling.UnmatchedByTrust && rank(in.Zone) < rank(out.Zone) {
		return refEnd{}, true
	}
	return r.stop(engine.Dropped, g.Name, nil), false
}

func (r *reference) sourceRule(in, out *network.Interface, p header.Packet) *network.NATRule {
	type candidate struct {
		rule     *network.NATRule
		within   header.Addresses
		from, to *big.Int
	}
	var candidates []candidate
	for _, rule := range out.Gateway.NAT {
		if len(rule.On) > 0 && !slices.Contains(rule.On, out) {
			continue
		}
		within := header.AllAddresses()
		switch rule.Does {
		case network.OneToOne, network.PrefixNAT:
			within = header.AddressesOf(rule.Inside)
		case network.NoNAT:
		case network.SourceNAT:
			within = header.Addresses{}
			for _, family := range header.Families {
				_, has := rule.As.Set.FirstOf(family)
				if rule.As.Interface {
					has = hasFamily(out, family)
				}
				if has && (!rule.Destination.IsValid() || header.FamilyOf(rule.Destination) == family) {
					within = within.Union(family.All())
				}
			}
		default:
			continue
		}
		both := families(anywhere(out.Gateway, rule.From).Intersect(within), anywhere(out.Gateway, rule.To))
		candidates = append(candidates, candidate{rule, within, size(out.Gateway, rule.From, within.Intersect(both)), size(out.Gateway, rule.To, both)})
	}
	if out.Gateway.Handling.SpecificFirst {
		slices.SortStableFunc(candidates, func(a, b candidate) int {
			return cmp.Or(a.to.Cmp(b.to), cmp.Compare(ports(a.rule), ports(b.rule)), a.from.Cmp(b.from))
		})
	}
	for _, c := range candidates {
		service := len(c.rule.Services) == 0 || c.rule.Services.Matches(p.Protocol, p.DestinationPort)
		if service && takesPart(&c.rule.Rule, r.moment) && c.within.Contains(p.Source) && contains(c.rule.From, in.Zone, p.Source) && contains(c.rule.To, out.Zone, p.Destination) {
			return c.rule
		}
	}
	return nil
}

func ownPool(out *network.Interface) []header.Range {
	var pool []header.Range
	for _, p := range out.Addresses {
		pool = append(pool, header.Range{First: p.Addr(), Last: p.Addr()})
	}
	for _, family := range header.Families { // the first of each family only
		first := true
		pool = slices.DeleteFunc(pool, func(a header.Range) bool {
			drop := header.FamilyOf(a.First) == family && !first
			first = first && header.FamilyOf(a.First) != family
			return drop
		})
	}
	return pool
}

// holds reports whether an earlier session's outside port is out of reach for a packet
// that leaves like p: everywhere, or where it goes to the same address, or address and port.
func holds(g *network.Gateway, s *refSession, p *header.Packet) bool {
	if s.g != g || s.local || s.after.Source != p.Source || s.after.Protocol != p.Protocol {
		return false
	}
	address, port := s.after.Destination == p.Destination, s.after.DestinationPort == p.DestinationPort
	if !p.Protocol.HasPorts() && p.Protocol != header.ICMP {
		return address
	}
	switch g.Handling.Mapping {
	case network.AddressDependent:
		return address
	case network.AddressAndPortDependent:
		return address && port
	}
	return true
}

// mappedBehind are the mappings of an address behind which a packet leaves.
func mappedBehind(g *network.Gateway, p *header.Packet) (list []*network.Mapping) {
	for _, m := range g.Opened {
		if g.Handling.Mapping == network.EndpointIndependent && m.Protocol == p.Protocol && m.Outside.Addr() == p.Source && m.Outside != m.Inside {
			list = append(list, m)
		}
	}
	return list
}

// takePort hides the source behind the first address and port that is free.
func (r *reference) takePort(g *network.Gateway, pool []header.Range, allowed header.Ports, p *header.Packet) bool {
	client := *p
	for _, addresses := range pool {
		if addresses.First.Is6() != client.Source.Is6() {
			continue
		}
		for a := addresses.First; addresses.Contains(a); a = a.Next() {
			p.Source = a
			taken, mapped := map[uint16]bool{}, uint16(0)
			for _, m := range mappedBehind(g, p) {
				taken[m.Outside.Port()] = true
				if port := m.Outside.Port(); m.Inside == netip.AddrPortFrom(client.Source, client.SourcePort) && (allowed == header.Ports{} || allowed.Contains(port)) && (mapped == 0 || port < mapped) {
					mapped = port
				}
			}
			if mapped != 0 {
				r.met["a source with a mapping"]++
				p.SourcePort = mapped
				return true
			}
			lowest, kept := uint16(0), false
			for _, s := range r.sessions[:r.earlier] {
				if !holds(g, s, p) {
					continue
				}
				taken[s.after.SourcePort] = true
				if p.SourcePort != 0 && s.before.Source == client.Source && s.before.SourcePort == client.SourcePort && (allowed == header.Ports{} || allowed.Contains(s.after.SourcePort)) &&
					(!kept || s.after.SourcePort < lowest) {
					lowest, kept = s.after.SourcePort, true
				}
			}
			if kept {
				p.SourcePort = lowest
				return true
			}
			if !p.Protocol.HasPorts() && p.Protocol != header.ICMP {
				if !taken[0] {
					return true
				}
				r.met["not told apart"]++
				continue
			}
			if g.Handling.Mapping != network.EndpointIndependent && len(taken) < r.earlier {
				r.met["another mapping behavior"]++
			}
			order := portsInTurn(allowed, client.SourcePort)
			if g.Handling.PortAssignment != network.PortPreserving {
				order = portsInTurn(allowed, 0)
			} else if (allowed == header.Ports{} || allowed.Contains(client.SourcePort)) {
				order = append([]uint16{client.SourcePort}, order...)
			}
			for _, port := range order {
				if !taken[port] {
					p.SourcePort = port
					return true
				}
			}
		}
	}
	*p = client
	return false
}

// portsInTurn returns the ports of a rule, or those that any other gets, from the one
// behind a port on, and round to it.
func portsInTurn(allowed header.Ports, behind uint16) []uint16 {
	if allowed == (header.Ports{}) {
		allowed = header.Ports{First: 1024, Last: 65535}
	}
	var before, after []uint16
	for port := int(allowed.First); port <= int(allowed.Last); port++ {
		if allowed.Contains(behind) && port > int(behind) {
			after = append(after, uint16(port))
		} else {
			before = append(before, uint16(port))
		}
	}
	return append(after, before...)
}

// tellApart gives a packet another source port where an earlier session leaves just so.
func (r *reference) tellApart(g *network.Gateway, allowed header.Ports, p *header.Packet) bool {
	same := func() bool {
		return slices.ContainsFunc(r.sessions[:r.earlier], func(s *refSession) bool { return s.g == g && !s.local && s.after == *p })
	}
	if !same() {
		return true
	}
	if !p.Protocol.HasPorts() && p.Protocol != header.ICMP {
		r.met["not told apart"]++
		return false
	}
	for _, port := range portsInTurn(allowed, p.SourcePort) {
		p.SourcePort = port
		held := slices.ContainsFunc(mappedBehind(g, p), func(m *network.Mapping) bool { return m.Outside.Port() == port }) || slices.ContainsFunc(r.sessions[:r.earlier], func(s *refSession) bool { return holds(g, s, p) && s.after.SourcePort == port })
		if !same() && !held {
			r.met["told apart by the port"]++
			return true
		}
	}
	return false
}

// machine is the host: its firewall, relays, services, pings.
func (r *reference) machine(at network.Place, p header.Packet) (v refVerdict, onward *header.Packet, done bool) {
	v = refVerdict{Outcome: engine.Reached, At: at.Name(), Host: at.Name(), Delivered: p}
	h := at.Host
	if h == nil {
		return v, nil, true
	}
	if h.Firewall != nil {
		allowed := false
		for _, rule := range h.Firewall.Rules {
			if rule.Services.Matches(p.Protocol, p.DestinationPort) && rule.From.Contains(p.Source) {
				allowed = rule.Verb == network.Allow
				if rule.Verb == network.Reject {
					r.refused = &refRefusal{p: p, error: p.Protocol != header.TCP}
				}
				break
			}
		}
		if !allowed {
			v.Outcome = engine.HostFirewall
			return v, nil, false
		}
	}
	came := p
	for range 32 {
		i := slices.IndexFunc(h.Relays, func(relay network.Relay) bool { return relay.Listen.Matches(p.Protocol, p.DestinationPort) })
		if i < 0 {
			v.Delivered = p
			ping := p.Protocol == header.ICMP
			serves := slices.ContainsFunc(h.Serves, func(s network.HostService) bool {
				return (!s.At.IsValid() || s.At == p.Destination) && s.Services.Matches(p.Protocol, p.DestinationPort)
			})
			switch {
			case ping && !h.AnswersPing:
				v.Outcome = engine.Unanswered
			case !ping && !serves:
				v.Outcome = engine.Refused
				r.refused = &refRefusal{p: came, error: p.Protocol != header.TCP}
			}
			return v, nil, v.Outcome == engine.Reached
		}
		p.Destination = h.Relays[i].To
		if h.Relays[i].ToPort != 0 {
			p.DestinationPort = h.Relays[i].ToPort
		}
		if !p.Destination.IsLoopback() && !h.Has(p.Destination) {
			for _, a := range h.Addresses {
				if a.Is6() == p.Destination.Is6() {
					p.Source = a
					return v, &p, true
				}
			}
			v.Outcome = engine.Unrouted
			return v, nil, false
		}
	}
	v.Outcome = engine.Loop
	return v, nil, false
}
