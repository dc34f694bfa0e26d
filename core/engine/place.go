package engine

import (
	"fmt"
	"net/netip"

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

// same reports whether an answer that ends at q has come back to p.
func (p Place) same(q Place) bool {
	return p.Segment == q.Segment && p.Clients == q.Clients && p.Internet == q.Internet
}

// Locate returns where the address is: at a host, on a segment, with the VPN
// clients of an interface, or on the internet. It fails for an address that is
// nowhere, and for a gateway's own.
func (e *Engine) Locate(a netip.Addr) (Place, error) {
	if !network.CanSend(a) {
		return Place{}, fmt.Errorf("%s: no machine sends from this address", a)
	}
	for _, g := range e.gateways {
		if i := g.own.of(a); i != nil {
			return Place{}, fmt.Errorf("%s: this is the gateway's own address (%s); a trace begins at a machine", a, i)
		}
	}
	if h := e.hostAt(a); h != nil {
		s := h.Segment(a)
		return Place{Host: h, Segment: s, Internet: s == nil}, nil
	}
	for _, g := range e.gateways {
		for _, i := range g.Interfaces {
			for _, p := range i.Clients {
				if p.Contains(a) {
					return Place{Clients: i}, nil
				}
			}
		}
	}
	if s := e.net.SegmentOf(a, ""); s != nil {
		return Place{Segment: s}, nil
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
	case at.Internet:
		return &e.abroad
	}
	return &byAddress[network.Host]{}
}

func (e *Engine) hostAt(a netip.Addr) *network.Host {
	if h := e.abroad.of(a); h != nil {
		return h
	}
	for _, s := range e.net.Segments {
		if h := e.segments[s].hosts.of(a); h != nil {
			return h
		}
	}
	return nil
}

// Stranger returns an address on the internet that is in no group and has no
// host, a documentation address where there is one. It returns false where the
// network has no way to the internet of that family.
func (e *Engine) Stranger(v6 bool) (netip.Addr, bool) {
	found := e.stranger()[network.FamilyIndex(v6)]
	return found, found.IsValid()
}

// findStrangers returns a stranger of each family, where there is one.
func (e *Engine) findStrangers() [2]netip.Addr {
	strangers := e.net.Internet().Minus(e.claimed)
	for _, g := range e.net.Groups {
		strangers = strangers.Minus(g.Members)
	}
	for _, s := range e.segments {
		strangers = strangers.Minus(s.taken[1])
	}
	strangers = strangers.Minus(e.abroadSet)
	var found [2]netip.Addr
	for _, v6 := range []bool{false, true} {
		for _, set := range []header.Addresses{strangers, e.net.Internet()} {
			if a, ok := set.FirstOf(v6); ok && !found[network.FamilyIndex(v6)].IsValid() {
				found[network.FamilyIndex(v6)] = a
			}
		}
	}
	for _, usual := range []string{"2001:db8:ffff::1", "198.51.100.1", "203.0.113.1", "192.0.2.1"} {
		if a := netip.MustParseAddr(usual); strangers.Contains(a) {
			found[network.FamilyIndex(a.Is6())] = a
		}
	}
	return found
}

// Behind returns the place of a machine with the address that is put on an
// interface by hand.
func (e *Engine) Behind(i *network.Interface, a netip.Addr) Place {
	p := Place{Through: i}
	switch {
	case i.Segment != nil && i.Segment.Contains(a):
		p.Segment = i.Segment
		p.Host = e.segments[i.Segment].hosts.of(a)
	case isClient(i, a):
		p.Clients = i
	case i.FacesInternet(a.Is6()):
		p.Internet = true
		p.Host = e.abroad.of(a)
	default:
		p.Segment = i.Segment
	}
	return p
}

func isClient(i *network.Interface, a netip.Addr) bool {
	for _, p := range i.Clients {
		if p.Contains(a) {
			return true
		}
	}
	return false
}

// entry returns the interface by which a packet from the internet to the address
// arrives, or nil: the uplink whose prefix holds it, else the first uplink that
// is up, where the address is one of the network's own that the internet carries.
func (w *Walk) entry(a netip.Addr, carried bool) *network.Interface {
	e := w.engine
	var first *network.Interface
	for _, g := range e.gateways {
		for _, i := range g.Interfaces {
			if !i.FacesInternet(a.Is6()) {
				continue
			}
			if w.inPrefixes(header.FieldDestination, i.Addresses, a) {
				return i
			}
			if first == nil || !first.IsUp() && i.IsUp() {
				first = i
			}
		}
	}
	if first == nil || !carried {
		return nil
	}
	others := e.strangers.Contains(a)
	if w.region.address(header.FieldDestination, a, e.strangers.Addresses, others); others {
		return nil
	}
	return first
}

// A Connection is a question: this packet, put on the way at this place.
type Connection struct {
	Packet header.Packet
	From   Place
	Moment network.Moment
}
