package engine

import (
	"net/netip"

	"hollowbridge/core/header"
)

// A Beginning is the connections that machines of one place can begin, of one
// protocol and one family.
type Beginning struct {
	From     Place
	Sources  header.Addresses
	Protocol header.Protocol
	Set      header.Set
}

// Beginnings returns all connections that some machines can begin: by place, by
// protocol and by family, each in one beginning only. Sources are split as Locate
// puts them at hosts, segments, VPN clients and the internet.
func (a *Atlas) Beginnings(machines header.Addresses) []Beginning {
	var found []Beginning
	for _, p := range a.engine.places() {
		for _, v6 := range []bool{false, true} {
			sources := p.sources.Intersect(header.Family(v6)).Intersect(machines)
			if sources.Empty() {
				continue
			}
			for _, protocol := range header.Protocols() {
				found = append(found, Beginning{p.place, sources, protocol, a.connections(sources, header.Family(v6), protocol)})
			}
		}
	}
	return found
}

// connections returns the connections of a protocol from some addresses to others.
func (a *Atlas) connections(from, to header.Addresses, protocol header.Protocol) header.Set {
	set := header.Everything
	some := []header.Span{header.PortSpan(1, 65535)}
	no := []header.Span{header.PortSpan(0, 0)}
	ports, sourcePorts := some, some
	if !protocol.HasPorts() {
		ports, sourcePorts = no, no
	}
	if protocol != header.ICMP {
		set = a.Space.Where(header.FieldSourcePort, sourcePorts, set)
	}
	set = a.Space.Where(header.FieldSource, header.AddressSpans(from), set)
	set = a.Space.Where(header.FieldPort, ports, set)
	set = a.Space.Where(header.FieldDestination, header.AddressSpans(to), set)
	return a.Space.Where(header.FieldProtocol, protocolSpan(protocol), set)
}

// A placed is a place and the addresses of the machines there.
type placed struct {
	place   Place
	sources header.Addresses
}

// places splits all addresses as Locate does, but for hosts that send like every
// other machine of their segment, or of the internet: they are with those.
func (e *Engine) places() []placed {
	var found []placed
	left := header.AllAddresses().Minus(cannotSend())
	for _, g := range e.gateways {
		left = left.Minus(g.ownSet)
	}
	add := func(p Place, addresses header.Addresses) {
		if addresses = addresses.Intersect(left); !addresses.Empty() {
			found = append(found, placed{p, addresses})
			left = left.Minus(addresses)
		}
	}
	for _, h := range e.net.Hosts {
		for _, a := range h.Addresses {
			s := h.Segment(a)
			plain := h.Gateway == nil && len(h.Addresses) == 1 && s != nil || s == nil && e.net.Internet().Contains(a)
			if e.hostAt(a) == h && !plain {
				add(Place{Host: h, Segment: s, Internet: s == nil}, header.Single(a))
			}
		}
	}
	for _, g := range e.gateways {
		for _, i := range g.Interfaces {
			add(Place{Clients: i}, header.AddressesOfPrefixes(i.Clients...))
		}
	}
	for bits := 128; bits > 0; bits-- { // the longest prefix has an address
		for _, s := range e.net.Segments {
			for _, p := range s.Prefixes {
				if p.Bits() == bits {
					add(Place{Segment: s}, header.AddressesOfPrefixes(p))
				}
			}
		}
	}
	add(Place{Internet: true}, e.net.Internet())
	return found
}

// cannotSend returns the addresses that no machine sends from.
func cannotSend() header.Addresses {
	var prefixes []netip.Prefix
	for _, p := range []string{"0.0.0.0/32", "127.0.0.0/8", "224.0.0.0/4", "255.255.255.255/32", "::/127", "ff00::/8"} {
		prefixes = append(prefixes, netip.MustParsePrefix(p))
	}
	return header.AddressesOfPrefixes(prefixes...)
}
