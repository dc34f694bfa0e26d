package engine

import (
	"net/netip"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// send puts a packet on the way at a machine and returns where it comes first.
func (w *Walk) send(from Place, p *header.Packet) position {
	if from.Through != nil && !w.back {
		if from.Internet && !w.passesUpstream(from.Through, p) {
			return position{}
		}
		return w.arriveAt(from.Through)
	}
	if from.Clients != nil {
		return w.arriveAt(from.Clients)
	}
	if from.Segment == nil {
		return w.overInternet(p)
	}
	if on := w.ownSegment(from, p); on != nil {
		if w.trace != nil && !w.back && w.engine.segments[on].owners.of(p.Destination) == nil {
			w.note(from.Name(), StepRoute, "sends", "", "directly: both are on one segment, no gateway is on the way")
		}
		return w.handOver(on, p)
	}
	return w.toDefaultGateway(from, p)
}

// A link is a prefix that a machine takes for a segment of its own.
type link struct {
	on     *network.Segment
	bits   int // of the prefix
	prefix header.Addresses
}

// ownSegment returns the segment on which a machine believes the destination to be, or
// nil. It knows the prefixes of its own addresses, the longest of its segment for each,
// and no others that the segment has.
func (w *Walk) ownSegment(from Place, p *header.Packet) *network.Segment {
	links := w.engine.links[from.Host]
	if from.Host == nil {
		for i := range w.engine.segments[from.Segment].links {
			l := &w.engine.segments[from.Segment].links[i]
			own := l.prefix.Contains(p.Source)
			if w.region.address(flowset.Source, p.Source, l.prefix, own); own {
				links = w.engine.segments[from.Segment].links[i : i+1]
				break
			}
		}
	}
	for i := range links {
		l := &links[i]
		inside := l.prefix.Contains(p.Destination)
		if w.region.address(flowset.Destination, p.Destination, l.prefix, inside); inside {
			return l.on
		}
	}
	return nil
}

// toDefaultGateway sends a packet to the gateway the host names, else to the
// first on its segment; beside an uplink, to the internet.
func (w *Walk) toDefaultGateway(from Place, p *header.Packet) position {
	i, abroad := w.engine.defaultGateway(from, header.FamilyOf(p.Destination))
	switch {
	case abroad:
		return w.overInternet(p)
	case i != nil:
		if w.trace != nil && w.back && from.Host != nil && from.Host.Gateway != nil {
			w.note(from.Host.Name, StepBack, "answers", "", "by "+i.Gateway.Name+", its gateway")
		}
		return w.arriveAt(i)
	}
	w.end(Unrouted, from.Name(), StepRoute, nil)
	if w.trace != nil {
		w.why("%s has no gateway for %s on its segment.", from.Name(), header.FamilyOf(p.Destination))
	}
	return position{}
}

// defaultGateway returns the interface that a machine on a segment sends to what is not
// on a segment of its own, or that it sends it to the provider's router.
func (e *Engine) defaultGateway(from Place, family header.Family) (i *network.Interface, abroad bool) {
	segments := []*network.Segment{from.Segment}
	h := from.Host
	switch {
	case h == nil:
	case h.Upstream != nil:
		return nil, h.Upstream.IsUplink(family)
	case h.By != nil:
		if _, has := h.By.Address(family); has {
			return h.By, false
		}
		return nil, false
	default:
		segments = e.stands[h]
	}
	for _, s := range segments {
		if (h == nil || h.Gateway == nil) && s.IsUplink(family) {
			return nil, true
		}
		for _, i := range s.Interfaces {
			if _, has := i.Address(family); has && (h == nil || h.Gateway == nil || i.Gateway == h.Gateway) {
				return i, false
			}
		}
	}
	return nil, false
}

func (w *Walk) arriveAt(i *network.Interface) position {
	return position{kind: atGateway, gateway: w.engine.gateways[i.Gateway.Index], in: i}
}

// overInternet takes a packet over the internet: to a host that lives there, to
// an uplink of the network, or to a machine the file does not name.
func (w *Walk) overInternet(p *header.Packet) position {
	if at, ok := w.throughCarrier(p); ok {
		return at
	}
	e := w.engine
	carried := !e.uncarried.Contains(p.Destination)
	w.region.address(flowset.Destination, p.Destination, e.uncarried.Addresses, !carried)
	if i, beside := w.entry(p.Destination); i != nil {
		switch {
		case !w.passesUpstream(i, p):
			return position{}
		case !carried:
			w.notSent(p, i)
			return position{}
		case beside: // the upstream router is on that segment too
			return w.handOver(i.Segment, p)
		}
		return w.arriveAt(i)
	}
	abroad := e.internet.Contains(p.Destination)
	w.region.address(flowset.Destination, p.Destination, e.internet.Addresses, abroad)
	if abroad && carried {
		foreign := !w.back && len(w.passages) == 0 && e.unsent.Contains(p.Destination)
		if !w.back && len(w.passages) == 0 {
			w.region.address(flowset.Destination, p.Destination, e.unsent.Addresses, foreign)
		}
		if foreign {
			w.notSent(p, nil)
			return position{}
		}
		return w.toMachine(Place{Internet: true}, p)
	}
	if carried && e.uplinked[header.FamilyOf(p.Destination)] {
		w.notSent(p, nil)
		return position{}
	}
	w.end(Unrouted, internetName, StepRoute, nil)
	if w.trace != nil {
		switch {
		case carried:
			w.why("No uplink of this network has %s behind it.", p.Destination)
		case w.back:
			w.why("%s is a private address that no source rule hid on the way out: the internet does not carry the answer.", p.Destination)
		default:
			w.why("%s is a private address: the internet does not carry packets to it.", p.Destination)
		}
	}
	return position{}
}

// notSent ends a packet for an address of the network that the internet does not send
// here: one that it carries to nobody, on an uplink, or one that it carries elsewhere.
func (w *Walk) notSent(p *header.Packet, uplink *network.Interface) {
	w.end(UpstreamBlocks, internetName, StepUpstream, nil)
	if w.trace == nil {
		return
	}
	if uplink != nil {
		w.why("%s is a private or shared address: nobody on the internet can send to it. Whoever stands in front of %s translates, and a forward there would have to lead here.", p.Destination, uplink)
		return
	}
	w.why("%s is in no prefix of an uplink and in no `upstream: routes`, so nobody on the internet sends it here. If the provider does, say so: upstream: {routes: [%s]}.", p.Destination, netip.PrefixFrom(p.Destination, p.Destination.BitLen()))
}

const internetName = "the internet"

// throughCarrier gives an answer back to the uplink whose carrier translated the
// connection's source on the way out.
func (w *Walk) throughCarrier(p *header.Packet) (position, bool) {
	if !w.back {
		return position{}, false
	}
	for i := range w.carriers {
		if c := &w.carriers[i]; w.region.sameCarrier(i, c.packet.Answer() == *p) {
			return w.arriveAt(c.uplink), true
		}
	}
	return position{}, false
}

// passesUpstream reports whether what is upstream of an uplink lets a packet in.
func (w *Walk) passesUpstream(i *network.Interface, p *header.Packet) bool {
	switch {
	case w.back:
		return true
	case i.Upstream.CarrierNAT && p.Destination.Is4():
		w.end(UpstreamBlocks, internetName, StepUpstream, nil)
		if w.trace != nil {
			w.why("%s is behind a carrier's NAT: nobody outside can begin a connection to it, and no forward there can be reached.", i)
		}
		return false
	case w.matches(i.Upstream.Blocks, p):
		w.upstreamBlocks(i, p)
		return false
	}
	return true
}

func (w *Walk) upstreamBlocks(i *network.Interface, p *header.Packet) {
	w.end(UpstreamBlocks, internetName, StepUpstream, nil)
	if w.trace != nil {
		w.why("The upstream of %s blocks %s.", i, p.Service())
	}
}

// handOver delivers a packet on a segment to whoever has its destination.
func (w *Walk) handOver(on *network.Segment, p *header.Packet) position {
	s := w.engine.segments[on]
	owner := s.owners.of(p.Destination)
	if w.region.one(s.taken[0], p.Destination); owner != nil {
		return w.arriveAt(owner)
	}
	h := s.hosts.of(p.Destination)
	for n, i := range on.Interfaces {
		if w.claimed(s.claims[n], p.Destination) {
			return w.arriveAt(i)
		}
	}
	if at := (Place{Segment: on}); h != nil || w.back || w.awaited(at, p) {
		return w.toMachine(at, p)
	}
	w.region.one(s.taken[1], p.Destination)
	w.end(Absent, on.Name, StepLeave, nil)
	w.unreachable(len(w.passages) - 1)
	if w.trace != nil {
		w.why("No host has %s.", p.Destination)
	}
	return position{}
}

// toMachine delivers a packet at a place to the machine with its destination. Which
// host that is does not matter for an answer that comes to where it is waited for.
func (w *Walk) toMachine(at Place, p *header.Packet) position {
	if !w.back {
		w.oneHost(at, p.Destination)
	}
	at.Host = w.engine.hostsAt(at).of(p.Destination)
	return position{kind: atMachine, machine: at}
}

// oneHost decides by which host of a place has an address.
func (w *Walk) oneHost(at Place, a netip.Addr) {
	switch {
	case at.Segment != nil:
		w.region.one(w.engine.segments[at.Segment].taken[1], a)
	case at.Clients != nil:
		w.region.one(w.engine.clientSets[at.Clients], a)
	case at.Internet:
		w.region.one(w.engine.abroadSet, a)
	}
}

// leave is the ninth step: to the next gateway, to the host, or to the internet.
func (w *Walk) leave(g *gateway, r *route, p *header.Packet) position {
	switch {
	case r.clients:
		return w.toMachine(Place{Clients: r.out}, p)
	case r.upstream:
		return w.toUpstream(r.out, p)
	case !r.via.IsValid():
		return w.handOver(r.out.Segment, p)
	}
	s := w.engine.segments[r.out.Segment]
	if i := s.owners.of(r.via); i != nil && i.Gateway != g.Gateway {
		return w.arriveAt(i)
	}
	w.end(Unrouted, g.Name, StepRoute, nil)
	w.unreachable(len(w.passages) - 1)
	if w.trace != nil {
		switch h := s.hosts.of(r.via); {
		case h != nil:
			w.why("The route to %s leads to %s, which is %s: a host, it passes nothing on.", r.prefix, r.via, h.Name)
		case s.owners.of(r.via) != nil:
			w.why("The route to %s leads to %s, which is the gateway itself.", r.prefix, r.via)
		default:
			w.why("The route to %s leads to %s, and nobody has that address.", r.prefix, r.via)
		}
	}
	return position{}
}

// toUpstream hands a packet to the network on the other side of an uplink.
func (w *Walk) toUpstream(out *network.Interface, p *header.Packet) position {
	if !w.back && w.matches(out.Upstream.Blocks, p) {
		w.upstreamBlocks(out, p)
		return position{}
	}
	if w.inPrefixes(flowset.Source, out.Addresses, p.Source) && w.translatedInFront(out, p) {
		w.carriers = append(w.carriers, carrier{out, *p})
		w.region.carry(len(w.carriers))
	}
	return w.overInternet(p)
}

// translatedInFront reports whether somebody on the other side of an uplink gives a
// packet that leaves by it a source of its own: a carrier's NAT, or whoever stands in
// front of a private or shared address.
func (w *Walk) translatedInFront(out *network.Interface, p *header.Packet) bool {
	if out.Upstream.CarrierNAT && p.Source.Is4() {
		return true
	}
	private := w.engine.uncarried.Contains(p.Source)
	w.region.address(flowset.Source, p.Source, w.engine.uncarried.Addresses, private)
	return private
}

// inPrefixes reports whether a field of the packet is in one of the prefixes.
func (w *Walk) inPrefixes(f flowset.Field, prefixes []netip.Prefix, a netip.Addr) bool {
	inside := false
	for _, p := range prefixes {
		inside = inside || p.Contains(a)
	}
	if w.region != nil {
		w.region.address(f, a, w.region.atlas.prefixes(prefixes), inside)
	}
	return inside
}

// matches reports whether one of the services is what the packet is for.
func (w *Walk) matches(services header.Services, p *header.Packet) bool {
	found := services.Matches(p.Protocol, p.DestinationPort)
	w.region.services(services, p.Protocol, found)
	return found
}
