package engine_test

import (
	"cmp"
	"net/netip"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// reference walks connections as the design tells it, rule by rule and address by
// address, straight on the network: slow and obvious. It shares no code with the
// engine.
type reference struct {
	n        *network.Network
	sessions []refSession // earlier ones, then this connection's
	earlier  int
	moment   network.Moment

	back     bool
	followed bool
	seen     []refSeen
	carried  []refCarried
	refused  *refSeen // what was refused with a word: where it came in, nil at a host
}

type refSession struct {
	g             *network.Gateway
	in, out       *network.Interface
	before, after header.Packet
	local         bool
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
	machine *engine.Place
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
func (r *reference) run(c engine.Connection, remember bool) engine.Verdict {
	r.sessions = r.sessions[:r.earlier]
	r.moment, r.back, r.followed, r.carried, r.refused = c.Moment, false, false, nil, nil
	v := r.whole(c)
	if remember {
		if v.Outcome != engine.Reached && v.Outcome != engine.Unanswered {
			r.sessions = r.sessions[:r.earlier]
		}
		r.earlier = len(r.sessions)
	}
	return v
}

type refLeg struct {
	from      engine.Place
	sent      header.Packet
	to        *engine.Place
	itself    *network.Gateway
	delivered header.Packet
}

func (r *reference) whole(c engine.Connection) engine.Verdict {
	var legs []refLeg
	var v engine.Verdict
	from, p := c.From, c.Packet
	for {
		r.seen = nil
		leg := refLeg{from: from, sent: p}
		end := r.sendFrom(from, &p)
		leg.delivered, leg.to, leg.itself = p, end.machine, end.itself
		legs = append(legs, leg)
		if end.itself != nil {
			v = engine.Verdict{Outcome: engine.Reached, At: end.itself.Name, Host: end.itself.Name, Delivered: p}
			break
		}
		if end.machine == nil {
			v.Outcome, v.At, v.Rule = end.outcome, end.at, end.rule
			v.Told = r.tell(legs)
			return v
		}
		next, onward, done := r.machine(*end.machine, p)
		v = next
		if done {
			break
		}
		if onward == nil {
			v.Told = r.tell(legs)
			return v
		}
		if len(legs) > 32 {
			v.Outcome = engine.Loop
			return v
		}
		from, p = *end.machine, *onward
	}
	r.back = true
	for i := len(legs) - 1; i >= 0; i-- {
		leg := legs[i]
		r.seen = nil
		p := leg.delivered.Answer()
		var end refEnd
		if leg.itself != nil {
			end = r.answerItself(leg.itself, &p)
		} else {
			end = r.sendFrom(*leg.to, &p)
		}
		switch {
		case end.machine == nil && end.itself == nil:
			v.Outcome, v.At, v.Rule = engine.Unanswered, end.at, end.rule
			return v
		case end.itself != nil:
			v.Outcome, v.At = engine.Unanswered, end.itself.Name
			return v
		case end.machine.Segment != leg.from.Segment || end.machine.Clients != leg.from.Clients || end.machine.Internet != leg.from.Internet || p.Destination != leg.sent.Answer().Destination:
			v.Outcome, v.At = engine.Unanswered, end.machine.Name()
			return v
		case p != leg.sent.Answer():
			v.Outcome, v.At = engine.Unanswered, leg.from.Name()
			return v
		}
		if i == 0 {
			v.Answered = p
		}
	}
	return v
}

// tell reports whether the refusal gets back to the client, through all relays.
func (r *reference) tell(legs []refLeg) bool {
	if r.refused == nil {
		return false
	}
	r.back = true
	for i := len(legs) - 1; i >= 0; i-- {
		leg := legs[i]
		r.seen = nil
		var end refEnd
		p := leg.delivered.Answer()
		if i == len(legs)-1 && r.refused.in != nil {
			p = r.refused.p.Answer()
			end = r.onward(refSession{g: r.refused.in.Gateway, local: true}, nil, r.refused.in, p, &p)
		} else {
			end = r.sendFrom(*leg.to, &p)
		}
		if end.machine == nil || p != leg.sent.Answer() ||
			end.machine.Segment != leg.from.Segment || end.machine.Clients != leg.from.Clients || end.machine.Internet != leg.from.Internet {
			return false
		}
	}
	return true
}

// sendFrom takes a packet from a machine to wherever it gets.
func (r *reference) sendFrom(from engine.Place, p *header.Packet) refEnd {
	if from.Through != nil && !r.back {
		return r.enterBy(from.Through, from.Internet, p)
	}
	if from.Clients != nil {
		return r.gateway(from.Clients, p)
	}
	if from.Segment == nil {
		return r.internet(p)
	}
	near := []*network.Segment{from.Segment}
	if from.Host != nil {
		for _, a := range from.Host.Addresses {
			if s := from.Host.Segment(a); s != nil {
				near = append(near, s)
			}
		}
	}
	for _, s := range near {
		if s.Contains(p.Destination) {
			return r.onSegment(s, p)
		}
	}
	v6 := p.Destination.Is6()
	if from.Host != nil && from.Host.Gateway != nil {
		for _, s := range near[1:] {
			for _, i := range s.Interfaces {
				if i.Gateway == from.Host.Gateway && hasFamily(i, v6) {
					return r.gateway(i, p)
				}
			}
		}
		return r.stop(engine.Unrouted, from.Name(), nil)
	}
	for _, i := range from.Segment.Interfaces {
		if i.FacesInternet(v6) {
			return r.internet(p)
		}
	}
	for _, i := range from.Segment.Interfaces {
		if hasFamily(i, v6) {
			return r.gateway(i, p)
		}
	}
	return r.stop(engine.Unrouted, from.Name(), nil)
}

func hasFamily(i *network.Interface, v6 bool) bool {
	return slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return p.Addr().Is6() == v6 })
}

func (r *reference) internet(p *header.Packet) refEnd {
	for _, c := range r.carried {
		if r.back && c.p.Answer() == *p {
			return r.gateway(c.up, p)
		}
	}
	carried := network.Carried(p.Destination)
	for _, h := range r.n.Hosts {
		if carried && h.Has(p.Destination) && h.Segment(p.Destination) == nil {
			return refEnd{machine: &engine.Place{Host: h, Internet: true}}
		}
	}
	var first *network.Interface
	for _, g := range r.n.Gateways {
		for _, i := range g.Interfaces {
			if i.FacesInternet(p.Destination.Is6()) {
				if slices.ContainsFunc(i.Addresses, func(q netip.Prefix) bool { return q.Contains(p.Destination) }) {
					if r.blocked(i, p) {
						return r.stop(engine.UpstreamBlocks, "the internet", nil)
					}
					return r.onSegment(i.Segment, p)
				}
				if first == nil || !first.IsUp() && i.IsUp() {
					first = i
				}
			}
		}
	}
	claimed := slices.ContainsFunc(r.n.Gateways, func(g *network.Gateway) bool { return claims(g, p.Destination) })
	if first != nil && carried && (claimed || !r.n.Internet().Contains(p.Destination)) {
		return r.enterBy(first, true, p)
	}
	if carried && r.n.Internet().Contains(p.Destination) {
		return refEnd{machine: &engine.Place{Internet: true}}
	}
	return r.stop(engine.Unrouted, "the internet", nil)
}

func claims(g *network.Gateway, a netip.Addr) bool {
	for _, rule := range g.NAT {
		if rule.Disabled {
			continue
		}
		switch rule.Does {
		case network.OneToOne, network.PrefixNAT:
			if rule.Outside.Contains(a) {
				return true
			}
		case network.SourceNAT:
			if rule.As.Set.Contains(a) {
				return true
			}
		case network.PortForward:
			if !rule.AtOwn && !rule.At.IsAll() && rule.At.Contains(a) {
				return true
			}
		}
	}
	return false
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
			return refEnd{machine: &engine.Place{Host: h, Segment: s}}
		}
	}
	for _, i := range s.Interfaces {
		if claims(i.Gateway, p.Destination) {
			return r.gateway(i, p)
		}
	}
	if r.back || r.followed {
		return refEnd{machine: &engine.Place{Segment: s}}
	}
	return r.stop(engine.Absent, s.Name, nil)
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
	r.seen = append(r.seen, refSeen{in, *p})
	// 1 arrive
	if !in.IsUp() {
		return r.stop(engine.Unrouted, g.Name, nil)
	}
	if r.forged(in, p.Source) {
		return r.stop(engine.Dropped, g.Name, nil)
	}
	// 2 session
	for i := len(r.sessions) - 1; i >= 0; i-- {
		s := r.sessions[i]
		if s.g != g {
			continue
		}
		if s.after.Answer() == *p {
			return r.known(s, s.out, s.in, s.before.Answer(), p)
		}
		if s.before == *p {
			if s.local {
				r.followed = r.followed || !r.back
				*p = s.after
				return refEnd{itself: g}
			}
			return r.known(s, s.in, s.out, s.after, p)
		}
	}
	if r.back && p.Protocol == header.TCP {
		return r.stop(engine.Unanswered, g.Name, nil)
	}
	// 3 translate destination
	before := *p
	forward, hairpinned := r.destinationRule(in, p)
	if forward != nil {
		r.redirect(forward, p)
	}
	_ = hairpinned
	// 4 itself
	own := slices.ContainsFunc(g.Interfaces, func(i *network.Interface) bool { return ownAddress(i, p.Destination) })
	if own || claims(g, p.Destination) {
		if !r.back && own {
			for _, s := range g.Serves {
				if s.Services.Matches(p.Protocol, p.DestinationPort) && slices.Contains(s.On, in) {
					r.sessions = append(r.sessions, refSession{g, in, nil, before, *p, true})
					return refEnd{itself: g}
				}
			}
		}
		return r.stop(engine.Itself, g.Name, nil)
	}
	// 5 route
	way := bestRoute(g, p.Destination)
	if way == nil || way.blackhole {
		return r.stop(engine.Unrouted, g.Name, nil)
	}
	// 6 filter
	if !(forward != nil && g.Handling.ForwardsPermit && (forward.Does == network.PortForward || forward.Does == network.DestinationNAT)) {
		if end, ok := r.filter(in, way.out, before, *p); !ok {
			return end
		}
	}
	// 7 turn back
	if way.out == in && !g.Handling.TurnBack {
		return r.stop(engine.Dropped, g.Name, nil)
	}
	// 8 translate source
	rule := r.sourceRule(in, way.out, *p)
	switch {
	case rule == nil && forward != nil && forward.Hairpin && in.Segment == way.out.Segment:
		if !r.takePort(g, ownPool(way.out), header.Ports{}, p) {
			return r.stop(engine.Exhausted, g.Name, &forward.Rule)
		}
	case rule == nil || rule.Does == network.NoNAT:
	case rule.Does == network.OneToOne:
		p.Source = header.Shift(p.Source, rule.Inside.First, rule.Outside.First)
	case rule.Does == network.PrefixNAT:
		p.Source = rule.Prefixes.Outward(p.Source)
	default:
		pool := rule.As.Set.Ranges()
		if rule.As.Interface {
			pool = ownPool(way.out)
		}
		if !r.takePort(g, pool, rule.SourcePorts, p) {
			return r.stop(engine.Exhausted, g.Name, &rule.Rule)
		}
		if rule.Destination.IsValid() {
			p.Destination = rule.Destination
			if rule.DestPort != 0 && p.Protocol.HasPorts() {
				p.DestinationPort = rule.DestPort
			}
			if way = bestRoute(g, p.Destination); way == nil || way.blackhole {
				return r.stop(engine.Unrouted, g.Name, nil)
			}
		}
	}
	r.sessions = append(r.sessions, refSession{g, in, way.out, before, *p, false})
	return r.leaveBy(g, way, p)
}

func (r *reference) forged(in *network.Interface, source netip.Addr) bool {
	g := in.Gateway
	for _, i := range g.Interfaces {
		if ownAddress(i, source) {
			return true
		}
	}
	if !in.FacesInternet(source.Is6()) {
		return false
	}
	way := bestRoute(g, source)
	return way != nil && !way.blackhole && way.bits > 0 && way.out != in && !way.out.FacesInternet(source.Is6())
}

// known sends on a packet of a session, which becomes after and stays on an uplink.
func (r *reference) known(s refSession, cameBy, goesBy *network.Interface, after header.Packet, p *header.Packet) refEnd {
	r.followed = r.followed || !r.back
	before := *p
	*p = after
	return r.onward(s, cameBy, goesBy, before, p)
}

func (r *reference) onward(s refSession, cameBy, goesBy *network.Interface, before header.Packet, p *header.Packet) refEnd {
	g := s.g
	way := bestRoute(g, p.Destination)
	if goesBy != nil && goesBy.FacesInternet(p.Destination.Is6()) {
		if !goesBy.IsUp() {
			return r.stop(engine.Unrouted, g.Name, nil)
		}
		if way == nil || way.blackhole || way.out != goesBy {
			way = &refRoute{out: goesBy, upstream: true, via: p.Destination}
			if slices.ContainsFunc(goesBy.Addresses, func(q netip.Prefix) bool { return q.Contains(p.Destination) }) {
				way = &refRoute{out: goesBy, connected: true}
			}
		}
	}
	if way == nil || way.blackhole {
		return r.stop(engine.Unrouted, g.Name, nil)
	}
	if p.Protocol == header.ICMP && g.Handling.ICMPUntracked && !s.local {
		if end, ok := r.filter(cameBy, way.out, before, *p); !ok {
			return end
		}
	}
	return r.leaveBy(g, way, p)
}

func (r *reference) answerItself(g *network.Gateway, p *header.Packet) refEnd {
	for i := len(r.sessions) - 1; i >= 0; i-- {
		if s := r.sessions[i]; s.g == g && s.after.Answer() == *p {
			return r.known(s, s.out, s.in, s.before.Answer(), p)
		}
	}
	return r.stop(engine.Unanswered, g.Name, nil)
}

func (r *reference) leaveBy(g *network.Gateway, way *refRoute, p *header.Packet) refEnd {
	switch {
	case way.clients:
		return refEnd{machine: &engine.Place{Clients: way.out}}
	case way.connected:
		return r.onSegment(way.out.Segment, p)
	case way.upstream:
		if !r.back && way.out.Upstream.Blocks.Matches(p.Protocol, p.DestinationPort) {
			return r.stop(engine.UpstreamBlocks, "the internet", nil)
		}
		inside := slices.ContainsFunc(way.out.Addresses, func(q netip.Prefix) bool { return q.Contains(p.Source) })
		if way.out.Upstream.CarrierNAT && p.Source.Is4() && inside {
			r.carried = append(r.carried, refCarried{way.out, *p})
		}
		return r.internet(p)
	}
	for _, i := range way.out.Segment.Interfaces {
		if ownAddress(i, way.via) && i.Gateway != g {
			return r.gateway(i, p)
		}
	}
	return r.stop(engine.Unrouted, g.Name, nil)
}

// in an expression that stands in a rule, a zone is the interface's.
func contains(e network.Expression, zone string, a netip.Addr) bool {
	return len(e.Terms) == 0 || anyTerm(e.Terms, zone, a)
}

func anyTerm(terms []network.Term, zone string, a netip.Addr) bool {
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
func size(g *network.Gateway, e network.Expression, within header.Addresses) float64 {
	most := 0.0
	for _, i := range g.Interfaces {
		most = max(most, e.In(i.Zone).Intersect(within).Breadth())
	}
	return most
}

// listensAt returns the original destinations of a rule for what arrives by in.
func listensAt(rule *network.NATRule, in *network.Interface) (at header.Addresses, hairpin, ok bool) {
	hairpin = !slices.Contains(rule.On, in)
	if hairpin && (!rule.Hairpin || in.FacesInternet(false) || in.FacesInternet(true)) {
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

func ports(rule *network.NATRule) int {
	if len(rule.Ports) == 0 {
		return 1 << 30
	}
	count := 0
	for _, m := range rule.Ports {
		count += m.Ports.Count()
	}
	return count
}

func (r *reference) destinationRule(in *network.Interface, p *header.Packet) (found *network.NATRule, hairpinned bool) {
	type candidate struct {
		rule     *network.NATRule
		at, from float64
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
		candidates = append(candidates, candidate{rule, at.Breadth(), size(in.Gateway, from, header.AllAddresses()), hairpin})
	}
	if in.Gateway.Handling.SpecificFirst {
		slices.SortStableFunc(candidates, func(a, b candidate) int {
			return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(ports(a.rule), ports(b.rule)), cmp.Compare(a.from, b.from))
		})
	}
	for _, c := range candidates {
		at, _, _ := listensAt(c.rule, in)
		service := len(c.rule.Ports) == 0 || slices.ContainsFunc(c.rule.Ports, func(m network.PortMap) bool { return m.Matches(p.Protocol, p.DestinationPort) })
		if c.rule.Active(r.moment) && at.Contains(p.Destination) && service && (c.hairpin || contains(c.rule.From, in.Zone, p.Source)) {
			return c.rule, c.hairpin
		}
	}
	return nil, false
}

func (r *reference) redirect(rule *network.NATRule, p *header.Packet) {
	switch rule.Does {
	case network.OneToOne:
		p.Destination = header.Shift(p.Destination, rule.Outside.First, rule.Inside.First)
	case network.PrefixNAT:
		p.Destination = rule.Prefixes.Inward(p.Destination)
	default:
		p.Destination, _ = rule.Target.Of(p.Destination)
		for _, m := range rule.Ports {
			if m.Matches(p.Protocol, p.DestinationPort) {
				if p.Protocol.HasPorts() {
					p.DestinationPort = m.ToFirst + p.DestinationPort - m.Ports.First
				}
				return
			}
		}
	}
}

func (r *reference) filter(in, out *network.Interface, before, p header.Packet) (refEnd, bool) {
	g := in.Gateway
	to, port := p.Destination, p.DestinationPort
	if g.Handling.FilterSeesOriginal {
		to, port = before.Destination, before.DestinationPort
	}
	for _, rule := range g.Filter {
		source := len(rule.SourcePorts) == 0 || p.Protocol.HasPorts() && slices.ContainsFunc(rule.SourcePorts, func(q header.Ports) bool { return q.Contains(p.SourcePort) })
		if !rule.Active(r.moment) || !source || !contains(rule.From, in.Zone, p.Source) || !contains(rule.To, out.Zone, to) ||
			len(rule.Services) > 0 && !rule.Services.Matches(p.Protocol, port) {
			continue
		}
		switch rule.Verb {
		case network.Allow:
			return refEnd{}, true
		case network.Drop:
			return r.stop(engine.Dropped, g.Name, &rule.Rule), false
		}
		if !r.back {
			r.refused = &refSeen{in, before}
		}
		return r.stop(engine.Rejected, g.Name, &rule.Rule), false
	}
	if g.Handling.UnmatchedByTrust && r.n.Zone(in.Zone).Trust > r.n.Zone(out.Zone).Trust {
		return refEnd{}, true
	}
	return r.stop(engine.Dropped, g.Name, nil), false
}

func (r *reference) sourceRule(in, out *network.Interface, p header.Packet) *network.NATRule {
	type candidate struct {
		rule     *network.NATRule
		within   header.Addresses
		from, to float64
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
			for _, v6 := range []bool{false, true} {
				_, has := rule.As.Set.FirstOf(v6)
				if rule.As.Interface {
					has = hasFamily(out, v6)
				}
				if has && (!rule.Destination.IsValid() || rule.Destination.Is6() == v6) {
					within = within.Union(header.Family(v6))
				}
			}
		default:
			continue
		}
		candidates = append(candidates, candidate{rule, within, size(out.Gateway, rule.From, within), size(out.Gateway, rule.To, header.AllAddresses())})
	}
	if out.Gateway.Handling.SpecificFirst {
		slices.SortStableFunc(candidates, func(a, b candidate) int { return cmp.Or(cmp.Compare(a.to, b.to), cmp.Compare(a.from, b.from)) })
	}
	for _, c := range candidates {
		if c.rule.Active(r.moment) && c.within.Contains(p.Source) && contains(c.rule.From, in.Zone, p.Source) && contains(c.rule.To, out.Zone, p.Destination) {
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
	for _, v6 := range []bool{false, true} { // the first of each family only
		first := true
		pool = slices.DeleteFunc(pool, func(a header.Range) bool {
			drop := a.First.Is6() == v6 && !first
			first = first && a.First.Is6() != v6
			return drop
		})
	}
	return pool
}

// takePort hides the source behind the first address and port that is free.
func (r *reference) takePort(g *network.Gateway, pool []header.Range, allowed header.Ports, p *header.Packet) bool {
	taken := map[uint16]bool{}
	for _, addresses := range pool {
		if addresses.First.Is6() != p.Source.Is6() {
			continue
		}
		for a := addresses.First; addresses.Contains(a); a = a.Next() {
			if !p.Protocol.HasPorts() && p.Protocol != header.ICMP {
				p.Source, p.SourcePort = a, 0
				return true
			}
			clear(taken)
			for _, s := range r.sessions[:r.earlier] {
				if s.g != g || s.local || s.after.Source != a || s.before.Protocol != p.Protocol {
					continue
				}
				taken[s.after.SourcePort] = true
				if s.before.Source == p.Source && s.before.SourcePort == p.SourcePort && (allowed == header.Ports{} || allowed.Contains(s.after.SourcePort)) {
					p.Source, p.SourcePort = a, s.after.SourcePort
					return true
				}
			}
			if (allowed == header.Ports{} || allowed.Contains(p.SourcePort)) && !taken[p.SourcePort] {
				p.Source = a
				return true
			}
			first, last := 1024, 65535
			if allowed != (header.Ports{}) {
				first, last = int(allowed.First), int(allowed.Last)
			}
			start := int(p.SourcePort) + 1
			if start <= first || start > last {
				start = first
			}
			for i := range last - first + 1 {
				port := uint16(first + (start-first+i)%(last-first+1))
				if !taken[port] {
					p.Source, p.SourcePort = a, port
					return true
				}
			}
		}
	}
	return false
}

// machine is the host: its firewall, relays, services, pings.
func (r *reference) machine(at engine.Place, p header.Packet) (v engine.Verdict, onward *header.Packet, done bool) {
	v = engine.Verdict{Outcome: engine.Reached, At: at.Name(), Host: at.Name(), Delivered: p}
	h := at.Host
	if r.followed || h == nil {
		return v, nil, true
	}
	if h.Firewall != nil {
		allowed := false
		for _, rule := range h.Firewall.Rules {
			if rule.Services.Matches(p.Protocol, p.DestinationPort) && rule.From.Contains(p.Source) {
				allowed = rule.Verb == network.Allow
				if rule.Verb == network.Reject {
					r.refused = &refSeen{}
				}
				break
			}
		}
		if !allowed {
			v.Outcome = engine.HostFirewall
			return v, nil, false
		}
	}
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
				r.refused = &refSeen{}
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
					return v, &p, false
				}
			}
			v.Outcome = engine.Unrouted
			return v, nil, false
		}
	}
	v.Outcome = engine.Loop
	return v, nil, false
}
