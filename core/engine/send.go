package engine

import (
	"net/netip"

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
	if w.isInside(from.Segment, p.Destination) {
		if w.trace != nil && !w.back && w.engine.segments[from.Segment].owners.of(p.Destination) == nil {
			w.note(from.Name(), StepRoute, "sends", "", "directly: both are on one segment, no gateway is on the way")
		}
		return w.handOver(from.Segment, p)
	}
	if from.Host != nil {
		for _, a := range from.Host.Addresses {
			if s := from.Host.Segment(a); s != nil && s != from.Segment && w.isInside(s, p.Destination) {
				return w.handOver(s, p)
			}
		}
	}
	return w.toDefaultGateway(from, p)
}

// toDefaultGateway sends a packet to the gateway the host names, else to the
// first on its segment; beside an uplink, to the internet.
func (w *Walk) toDefaultGateway(from Place, p *header.Packet) position {
	v6 := p.Destination.Is6()
	if h := from.Host; h != nil && h.Gateway != nil {
		for _, a := range h.Addresses {
			if s := h.Segment(a); s != nil {
				for _, i := range s.Interfaces {
					if _, has := i.Address(v6); has && i.Gateway == h.Gateway {
						if w.trace != nil && w.back {
							w.note(h.Name, StepBack, "answers", "", "by "+h.Gateway.Name+", its gateway")
						}
						return w.arriveAt(i)
					}
				}
			}
		}
	} else {
		for _, i := range from.Segment.Interfaces {
			if i.FacesInternet(v6) {
				return w.overInternet(p)
			}
		}
		for _, i := range from.Segment.Interfaces {
			if _, has := i.Address(v6); has {
				return w.arriveAt(i)
			}
		}
	}
	w.end(Unrouted, from.Name(), StepRoute, nil)
	if w.trace != nil {
		w.why("%s has no gateway for %s on its segment.", from.Name(), familyName(v6))
	}
	return position{}
}

func familyName(v6 bool) string {
	if v6 {
		return "IPv6"
	}
	return "IPv4"
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
	carried := !w.engine.uncarried.Contains(p.Destination)
	w.region.address(header.FieldDestination, p.Destination, w.engine.uncarried.Addresses, !carried)
	if i := w.entry(p.Destination, carried); i != nil {
		if !w.passesUpstream(i, p) {
			return position{}
		}
		if w.inPrefixes(header.FieldDestination, i.Addresses, p.Destination) { // the upstream router is on that segment too
			return w.handOver(i.Segment, p)
		}
		return w.arriveAt(i)
	}
	abroad := w.engine.internet.Contains(p.Destination)
	w.region.address(header.FieldDestination, p.Destination, w.engine.internet.Addresses, abroad)
	if abroad && carried {
		return w.toMachine(Place{Internet: true}, p)
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
		w.why("The upstream of %s blocks %s.", i, serviceOf(p))
	}
}

func serviceOf(p *header.Packet) string {
	return header.Service{Protocol: p.Protocol, Ports: header.Ports{First: p.DestinationPort, Last: p.DestinationPort}}.String()
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
		claimed := h == nil && s.claims[n].Contains(p.Destination)
		if w.region.address(header.FieldDestination, p.Destination, s.claims[n].Addresses, claimed); claimed {
			return w.arriveAt(i)
		}
	}
	if h != nil || w.back || w.followed {
		return w.toMachine(Place{Segment: on}, p)
	}
	w.region.one(s.taken[1], p.Destination)
	w.end(Absent, on.Name, StepLeave, nil)
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
	case at.Internet:
		w.region.one(w.engine.abroadSet, a)
	}
}

// leave is the ninth step: to the next gateway, to the host, or to the internet.
func (w *Walk) leave(g *gateway, r *route, p *header.Packet) position {
	switch {
	case r.clients:
		return position{kind: atMachine, machine: Place{Clients: r.out}}
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
	if out.Upstream.CarrierNAT && p.Source.Is4() && w.inPrefixes(header.FieldSource, out.Addresses, p.Source) {
		w.carriers = append(w.carriers, carrier{out, *p})
		w.region.carry(len(w.carriers))
	}
	return w.overInternet(p)
}

// inPrefixes reports whether a field of the packet is in one of the prefixes.
func (w *Walk) inPrefixes(f header.Field, prefixes []netip.Prefix, a netip.Addr) bool {
	inside := false
	for _, p := range prefixes {
		inside = inside || p.Contains(a)
	}
	if w.region != nil {
		w.region.address(f, a, w.region.atlas.prefixes(prefixes), inside)
	}
	return inside
}

// isInside reports whether the destination is on the segment.
func (w *Walk) isInside(s *network.Segment, a netip.Addr) bool {
	inside := s.Contains(a)
	if w.region != nil {
		w.region.address(header.FieldDestination, a, w.engine.segments[s].inside, inside)
	}
	return inside
}

// matches reports whether one of the services is what the packet is for.
func (w *Walk) matches(services header.Services, p *header.Packet) bool {
	found := services.Matches(p.Protocol, p.DestinationPort)
	w.region.services(services, p.Protocol, found)
	return found
}
