package walk

import (
	"net/netip"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/flow"
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// A segment is who has which address on it.
type segment struct {
	*network.Segment
	owners   table.ByAddress[network.Interface]
	hosts    table.ByAddress[network.Host]
	prefixes []link // the longest first; none behind a router

	// Behind a router, the addresses there, and those that the router takes for its own segment.
	held, near table.AddressSet
}

// A link is a prefix that a machine takes for a segment of its own.
type link struct {
	on     *network.Segment
	bits   int // of the prefix
	prefix table.AddressSet
}

// send puts the packet on the way at a machine and returns where it comes first.
func (w *Walk) send(from network.Place) nextPlace {
	switch {
	case from.Through != nil && !w.back:
		if from.Internet && w.entersBy(from.Through) && !w.passesUpstream(from.Through) {
			return nextPlace{}
		}
		return arriveAt(from.Through)
	case from.Clients != nil:
		return arriveAt(from.Clients)
	case from.Segment == nil || w.beside && !w.back && len(w.legs) == 1:
		return w.overInternet()
	}
	if on := w.ownSegment(from); on != nil {
		if !w.back && flow.Somebody(w.flow, &w.engine.segments[on].owners) == nil {
			w.note(engine.StepRoute, engine.Sends, network.Site{Machine: from})
		}
		return w.handOver(on)
	}
	return w.toDefaultGateway(from)
}

// ownSegment returns the segment on which a machine believes the destination to be, or
// nil. It knows the prefixes of its own addresses, the longest of its segment for each,
// and no others that the segment has.
func (w *Walk) ownSegment(from network.Place) *network.Segment {
	w.links = w.links[:0]
	if from.Host != nil {
		w.links = w.engine.linksOf(from.Host, w.links)
	} else {
		all := w.engine.segments[from.Segment].prefixes
		for i := range all {
			if w.flow.In(flowset.Source, &all[i].prefix) {
				w.links = append(w.links, &all[i])
				break
			}
		}
	}
	for _, l := range w.links {
		if w.flow.In(flowset.Destination, &l.prefix) {
			return l.on
		}
	}
	return nil
}

// linksOf appends the prefixes of a host's addresses, the longest of its segment for each, in
// the order of their lengths, the longest first.
func (e *Engine) linksOf(h *network.Host, links []*link) []*link {
	for _, a := range h.Addresses {
		s := h.Segment(a)
		if s == nil {
			continue
		}
		all := e.segments[s].prefixes
		at := slices.IndexFunc(all, func(l link) bool { return l.prefix.Contains(a) })
		if at < 0 {
			continue
		}
		place := len(links)
		for place > 0 && links[place-1].bits < all[at].bits {
			place--
		}
		links = slices.Insert(links, place, &all[at])
	}
	return links
}

// toDefaultGateway sends the packet to the gateway the host names, else to the
// first on its segment, or to the router that it is behind; beside an uplink, to the internet.
func (w *Walk) toDefaultGateway(from network.Place) nextPlace {
	hop := w.engine.defaultGateway(from, w.flow.Family())
	switch {
	case hop.abroad:
		return w.overInternet()
	case hop.in != nil:
		if w.back && from.Host != nil && from.Host.Gateway != nil {
			w.note(engine.StepBack, engine.AnswersBy, network.Site{Machine: from}).In = hop.in
		}
		return w.byRouter(hop)
	}
	w.end(engine.Unrouted, network.Site{Machine: from}, engine.StepRoute, nil)
	if h := from.Host; h != nil && h.Elsewhere.IsValid() && header.FamilyOf(h.Elsewhere) == w.flow.Family() {
		w.note(engine.StepRoute, engine.SendsElsewhere, w.verdict.At).Via = h.Elsewhere
	} else {
		w.note(engine.StepRoute, engine.NoGateway, w.verdict.At)
	}
	return nextPlace{}
}

// byRouter hands on what a machine sends to its default gateway: an inside router in between hands over itself what is for
// machines behind it or on its own segment.
func (w *Walk) byRouter(hop firstHop) nextPlace {
	if hop.router != nil {
		switch s := w.engine.segments[hop.router]; {
		case w.flow.In(flowset.Destination, &s.held):
			return w.handOver(hop.router)
		case w.flow.In(flowset.Destination, &s.near):
			return w.handOver(hop.router.Behind.Segment)
		}
	}
	return arriveAt(hop.in)
}

// A firstHop is where a machine sends what is not on a segment of its own: to an interface, which may be by an inside
// router, or to the provider's router. The zero firstHop is nowhere.
type firstHop struct {
	in     *network.Interface
	router *network.Segment // what is behind that router
	abroad bool
}

// defaultGateway returns where a machine on a segment sends what is not on a segment of its own.
func (e *Engine) defaultGateway(from network.Place, family header.Family) firstHop {
	h := from.Host
	switch {
	case h == nil:
		return e.gatewayOn(from.Segment, nil, family)
	case h.Elsewhere.IsValid():
		return firstHop{}
	case h.Upstream != nil:
		return firstHop{abroad: h.Upstream.IsUplink(family)}
	case h.By != nil:
		if _, has := h.By.Address(family); has {
			return firstHop{in: h.By}
		}
		return firstHop{}
	}
	for _, a := range h.Addresses {
		if s := h.Segment(a); s != nil {
			if hop := e.gatewayOn(s, h.Gateway, family); hop != (firstHop{}) {
				return hop
			}
		}
	}
	return firstHop{}
}

// gatewayOn returns where machines on a segment send: to a gateway, the named one where one is, to the provider's router,
// or to the inside router that they are behind.
func (e *Engine) gatewayOn(s *network.Segment, named *network.Gateway, family header.Family) firstHop {
	switch {
	case s.Behind != nil:
		switch {
		case header.FamilyOf(s.Router) != family:
			return firstHop{}
		case named == nil:
			return firstHop{in: s.Behind, router: s}
		}
		hop := e.gatewayOn(s.Behind.Segment, named, family)
		if hop.in != nil {
			hop.router = s
		}
		return hop
	case named == nil && s.IsUplink(family):
		return firstHop{abroad: true}
	}
	for _, i := range s.Interfaces {
		if _, has := i.Address(family); has && (named == nil || i.Gateway == named) {
			return firstHop{in: i}
		}
	}
	return firstHop{}
}

func arriveAt(i *network.Interface) nextPlace { return nextPlace{kind: atGateway, in: i} }

// leave hands on what leaves a gateway: to the next gateway, to the host, or to the internet.
func (w *Walk) leave(g *engine.Gateway, r *table.Route) nextPlace {
	switch {
	case r.Clients:
		return w.toMachine(network.Place{Clients: r.Out})
	case r.Upstream:
		return w.toUpstream(r.Out)
	case !r.Via.IsValid():
		return w.handOver(r.Out.Segment)
	}
	s := w.engine.segments[r.Out.Segment]
	owner := s.owners.Of(r.Via)
	if owner != nil && owner.Gateway != g.Gateway {
		return arriveAt(owner)
	}
	host := s.hosts.Of(r.Via)
	if at, own := w.ownOf(host); own {
		return w.reaches(at)
	}
	if host == nil && owner == nil {
		if i := w.claimer(g, r.Out.Segment, r.Via); i != nil {
			return arriveAt(i)
		}
		if router := w.engine.net.RouterAt(r.Out.Segment, r.Via); router != nil {
			return w.handOver(router)
		}
	}
	w.end(engine.Unrouted, network.Site{Gateway: g.Gateway}, engine.StepRoute, nil)
	w.unreachable(len(w.passages) - 1)
	what := engine.HopIsNobody
	if host != nil {
		what = engine.HopIsHost
	} else if owner != nil {
		what = engine.HopIsItself
	}
	e := w.note(engine.StepRoute, what, w.verdict.At)
	e.Route, e.Via, e.Host = r.Prefix, r.Via, host
	return nextPlace{}
}

// claimer returns the interface of another gateway on a segment that answers for an address there
// because of a rule that is active, or nil: so it takes what has that for its next hop.
func (w *Walk) claimer(g *engine.Gateway, on *network.Segment, a netip.Addr) *network.Interface {
	if w.engine.segments[on].hosts.Of(a) != nil {
		return nil
	}
	for _, i := range on.Interfaces {
		if i.Gateway != g.Gateway && w.flow.IsHeld(a, w.engine.gateways[i.Gateway.Index].Claims(), w.moment) {
			return i
		}
	}
	return nil
}

// ownOf asks whether the packet is for an address of a host's own, and returns where the host
// has that. A host takes what is for itself, also as somebody's next hop.
func (w *Walk) ownOf(h *network.Host) (at network.Place, own bool) {
	if h == nil {
		return at, false
	}
	for _, a := range h.Addresses {
		if header.FamilyOf(a) != w.flow.Family() {
			continue
		}
		set := table.NewAddressSet(header.Single(a))
		if w.flow.In(flowset.Destination, &set) {
			return network.PlaceOf(h, a), true
		}
	}
	return at, false
}

// handOver delivers the packet on a segment to whoever has its destination.
func (w *Walk) handOver(on *network.Segment) nextPlace {
	s := w.engine.segments[on]
	if owner := flow.Whose(w.flow, &s.owners); owner != nil {
		return arriveAt(owner)
	}
	for _, i := range on.Interfaces {
		if w.flow.IsClaimed(w.engine.gateways[i.Gateway.Index].Claims(), s.hosts.Numbers, w.moment) {
			return arriveAt(i)
		}
	}
	at := network.Place{Segment: on}
	if w.back || w.awaited(at) || flow.Whose(w.flow, &s.hosts) != nil {
		return w.toMachine(at)
	}
	w.end(engine.Absent, network.Site{Segment: on}, engine.StepLeave, nil)
	if on.Behind != nil {
		w.refusal = refusal{packet: w.flow.Now(), router: on, how: engine.ErrorMessage}
	} else {
		w.unreachable(len(w.passages) - 1)
	}
	w.note(engine.StepLeave, engine.NobodyHas, w.verdict.At)
	return nextPlace{}
}

// toMachine delivers the packet at a place to the machine with its destination. Which
// host that is does not matter for an answer that comes to where it is waited for.
func (w *Walk) toMachine(at network.Place) nextPlace {
	hosts := w.engine.hostsAt(at)
	if w.back {
		at.Host = flow.Somebody(w.flow, hosts)
	} else {
		at.Host = flow.Whose(w.flow, hosts)
	}
	return w.reaches(at)
}

func (w *Walk) reaches(at network.Place) nextPlace {
	w.machine = at
	return nextPlace{kind: atMachine, machine: &w.machine}
}

// Held returns the outside addresses that an interface answers for on its segment at a moment: of those for which packets come to
// its gateway, the ones in a prefix of the segment that no interface and no host there has, and no gateway that stands before it
// there answers for.
func (e *Engine) Held(i *network.Interface, at network.Moment) header.Addresses {
	if i.Segment == nil || !i.IsUp() {
		return header.Addresses{}
	}
	held := e.Gateway(i.Gateway).Claimed(at).Intersect(header.AddressesOfPrefixes(i.Segment.Prefixes...))
	if held.Empty() {
		return held
	}
	s, isBefore := e.segments[i.Segment], true
	held = held.Minus(s.hosts.All)
	for _, other := range i.Segment.Interfaces {
		held = held.Minus(other.Own())
		if isBefore = isBefore && other != i; isBefore {
			held = held.Minus(e.Gateway(other.Gateway).Claimed(at))
		}
	}
	return held
}

// DefaultGateway returns the interface that a machine sends to what is not on a segment of its
// own, by what inside router it does so, or that it sends it to the provider's router; none where it has no default gateway.
func (e *Engine) DefaultGateway(from network.Place, family header.Family) (i *network.Interface, router *network.Segment, abroad bool) {
	hop := e.defaultGateway(from, family)
	return hop.in, hop.router, hop.abroad
}

// Unsent returns the outside addresses of rules that the internet does not send to the network.
func (e *Engine) Unsent() header.Addresses { return e.unsent.Addresses }
