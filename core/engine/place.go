package engine

import (
	"fmt"
	"net/netip"
	"strings"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Place is where a machine is: a client that begins a connection, or the
// machine that a connection ends at.
type Place struct {
	Host     *network.Host      // nil for a machine the file does not name
	Segment  *network.Segment   // the segment it is on, or
	Clients  *network.Interface // the interface it arrives at as a VPN client, or
	Internet bool               // the internet
	Through  *network.Interface // set where the packet is put on an interface by hand
}

// Name returns the place in a person's words.
func (p Place) Name() string {
	switch {
	case p.Host != nil:
		return p.Host.Name
	case p.Clients != nil:
		return "a VPN client of " + p.Clients.String()
	case p.Internet:
		return "the internet"
	case p.Through != nil:
		return "whoever is on " + p.Through.String()
	case p.Segment != nil:
		return "a machine on " + p.Segment.Name
	}
	return "nowhere"
}

// same reports whether an answer that ends at q has come back to p: to the same host, or
// to where it is.
func (p Place) same(q Place) bool {
	return p.Host != nil && p.Host == q.Host || p.Segment == q.Segment && p.Clients == q.Clients && p.Internet == q.Internet
}

// At returns where a host is with one of its addresses.
func At(h *network.Host, a netip.Addr) Place {
	s, i := h.Segment(a), h.Clients(a)
	return Place{Host: h, Segment: s, Clients: i, Internet: s == nil && i == nil}
}

// Several is the error for an address that is in several places.
type Several struct{ text string }

func (s Several) Error() string { return s.text }

// Locate returns where the address is: at a host, with the VPN clients of an interface,
// on a segment, or on the internet. It fails for an address that is nowhere, for one
// that is in several places, and for a gateway's own.
func (e *Engine) Locate(a netip.Addr) (Place, error) {
	if !network.CanSend(a) {
		return Place{}, fmt.Errorf("%s: no machine sends from this address", a)
	}
	var hosts []string
	var found Place
	for _, h := range e.named()[a] {
		hosts, found = append(hosts, h.Name), At(h, a)
	}
	switch {
	case len(hosts) == 1:
		return found, nil
	case len(hosts) > 1:
		return Place{}, Several{fmt.Sprintf("%s: several hosts have this address; say which by its name: %s", a, strings.Join(hosts, ", "))}
	}
	if i := e.net.ClientsAt(a); i != nil {
		return Place{Clients: i}, nil
	}
	var segments []string
	bits := -1
	for _, s := range e.net.Segments {
		p := s.PrefixOf(a)
		if !p.IsValid() || s.OwnerOn(a) != nil || p.Bits() < bits {
			continue
		}
		if p.Bits() > bits {
			segments, bits = nil, p.Bits()
		}
		segments, found = append(segments, s.Interfaces[0].String()), Place{Segment: s}
	}
	switch {
	case len(segments) == 1:
		return found, nil
	case len(segments) > 1:
		return Place{}, Several{fmt.Sprintf("%s: several segments have this address; say which with -in %s", a, strings.Join(segments, " or -in "))}
	}
	for _, g := range e.gateways {
		if i := g.own.of(a); i != nil {
			return Place{}, fmt.Errorf("%s: this is the gateway's own address (%s); a trace begins at a machine", a, i)
		}
	}
	if e.net.Internet().Contains(a) {
		return Place{Internet: true}, nil
	}
	return Place{}, fmt.Errorf("%s: nothing in this network has this address, and the internet does not carry it; say where it enters with -in GATEWAY:INTERFACE", a)
}

// hostsAt returns the hosts of a place by their addresses.
func (e *Engine) hostsAt(at Place) *byAddress[network.Host] {
	switch {
	case at.Segment != nil:
		return &e.segments[at.Segment].hosts
	case at.Clients != nil:
		return e.clients[at.Clients]
	case at.Internet:
		return &e.abroad
	}
	return &byAddress[network.Host]{}
}

// Stranger returns an address on the internet that is in no group, has no host, and is
// in no prefix of the network, an uplink's included; a documentation address where there
// is one. It returns false where the network has no way to the internet of that family.
func (e *Engine) Stranger(family header.Family) (netip.Addr, bool) {
	found := e.stranger()[family]
	return found, found.IsValid()
}

// findStrangers returns a stranger of each family, where there is one.
func (e *Engine) findStrangers() [2]netip.Addr {
	outside := e.net.Internet().Minus(e.unsent.Addresses)
	for _, s := range e.net.Segments {
		outside = outside.Minus(header.AddressesOfPrefixes(s.Prefixes...))
	}
	strangers := outside.Minus(e.abroadSet)
	for _, g := range e.net.Groups {
		strangers = strangers.Minus(g.Members)
	}
	var found [2]netip.Addr
	for i, family := range header.Families {
		for _, set := range []header.Addresses{strangers, outside} {
			if a, ok := set.Usual(family); ok {
				found[i] = a
				break
			}
		}
	}
	return found
}

// On returns the place of the machine on a segment that has the address.
func (e *Engine) On(s *network.Segment, a netip.Addr) Place {
	return Place{Segment: s, Host: e.segments[s].hosts.of(a)}
}

// Behind returns the place of a machine with the address that is put on an
// interface by hand.
func (e *Engine) Behind(i *network.Interface, a netip.Addr) Place {
	p := Place{Through: i}
	switch {
	case i.Segment != nil && i.Segment.Contains(a):
		p.Segment = i.Segment
		p.Host = e.segments[i.Segment].hosts.of(a)
	case i.IsClient(a):
		p.Clients = i
		p.Host = e.clients[i].of(a)
	case i.FacesInternet(header.FamilyOf(a)):
		p.Internet = true
		p.Host = e.abroad.of(a)
	default:
		p.Segment = i.Segment
	}
	return p
}

// A sentPrefix is addresses that the internet sends to an uplink.
type sentPrefix struct {
	addresses header.Addresses
	uplink    *network.Interface
}

// entry returns the uplink by which a packet from the internet to the address arrives,
// nil where none does: the one whose own prefix holds it, and then the address is
// beside it, else the one to which the provider sends the longest prefix that holds it.
func (w *Walk) entry(a netip.Addr) (i *network.Interface, beside bool) {
	e := w.engine
	for _, g := range e.gateways {
		for _, i := range g.Interfaces {
			if i.FacesInternet(header.FamilyOf(a)) && w.inPrefixes(flowset.Destination, i.Addresses, a) {
				return i, true
			}
		}
	}
	for i := range e.sent {
		s := &e.sent[i]
		sent := s.addresses.Contains(a)
		if w.region.address(flowset.Destination, a, s.addresses, sent); sent {
			return s.uplink, false
		}
	}
	return nil, false
}

// A Connection is a question: this packet, put on the way at this place.
type Connection struct {
	Packet header.Packet
	From   Place
	Moment network.Moment
}
