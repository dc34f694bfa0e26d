package network

import (
	"net/netip"
)

// A Place is where a machine is: a client that begins a connection, or the
// machine that a connection ends at.
type Place struct {
	Host     *Host      // nil for a machine the file does not name
	Segment  *Segment   // the segment it is on, or
	Clients  *Interface // the interface it arrives at as a VPN client, or
	Internet bool       // the internet
	Through  *Interface // set where the packet is put on an interface by hand: by whoever is on its segment
	Beside   bool       // of a Beginning: beside any uplink, and what it sends goes to the provider's router
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
	case p.Beside:
		return "a machine beside an uplink"
	case p.Segment != nil:
		return "a machine on " + p.Segment.Name
	}
	return "nowhere"
}

// Same reports whether an answer that ends at q has come back to p: to the same host, or
// to where it is.
func (p Place) Same(q Place) bool {
	return p.Host != nil && p.Host == q.Host || p.Segment == q.Segment && p.Clients == q.Clients && p.Internet == q.Internet
}

// PlaceOf returns where a host is with one of its addresses.
func PlaceOf(h *Host, a netip.Addr) Place {
	s, i := h.Segment(a), h.Clients(a)
	return Place{Host: h, Segment: s, Clients: i, Internet: s == nil && i == nil}
}

// A Site is where something happens to a packet: at a gateway, on a segment, or where a
// machine is. The zero Site is nowhere.
type Site struct {
	Gateway *Gateway
	Segment *Segment
	Machine Place
}

// Name returns the site in a person's words, empty for nowhere.
func (s Site) Name() string {
	switch {
	case s.Gateway != nil:
		return s.Gateway.Name
	case s.Segment != nil:
		return s.Segment.Name
	case s.Machine != Place{}:
		return s.Machine.Name()
	}
	return ""
}
