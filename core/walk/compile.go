// Package walk is a network, compiled, and the way of a connection through it: from its machine over segments and the internet to
// gateways, which decide, to a host, and back. Read Walk.Verdict first, and then how a packet is sent (segment.go, internet.go), what a
// host does (host.go), and how the answer comes back (back.go).
package walk

import (
	"net/netip"
	"slices"
	"sync"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// An Engine is a compiled network. It is never changed and may be used by many
// walks at once.
type Engine struct {
	Watch func() // where set, called for each region that an explorer finds

	net       *network.Network
	gateways  []*engine.Gateway
	segments  map[*network.Segment]*segment
	abroad    table.ByAddress[network.Host]                        // hosts that live on the internet
	clients   map[*network.Interface]table.ByAddress[network.Host] // hosts that are VPN clients
	nobody    table.ByAddress[network.Host]
	internet  table.AddressSet        // with those of hosts that live there
	uncarried table.AddressSet        // what the internet does not carry
	unsent    table.AddressSet        // outside addresses of NAT rules that nobody sends here
	entries   *table.Routes           // by which uplink comes what the internet sends to the network
	uplinks   [2][]*network.Interface // those that face the internet, of each family
	stranger  func() [2]netip.Addr
	places    func() []Where
	beside    func() []BesideUplink
	straight  func() []Straight
}

// Compile makes an engine of a network. Of a previous revision, which may be nil, it takes
// over what did not change, where both networks were sealed: where hosts are, and the tables
// of rules but for a few that differ.
func Compile(n *network.Network, previous *Engine) *Engine {
	e := &Engine{net: n, segments: map[*network.Segment]*segment{}}
	if previous != nil && (n.Digests == nil || previous.net.Digests == nil) {
		previous = nil
	}
	e.placeHosts(previous)
	var unsent header.Addresses
	for i, g := range n.Gateways {
		var digests *network.GatewayDigests
		if n.Digests != nil {
			digests = &n.Digests.Gateways[i]
		}
		c := engine.Compile(n, g, e.before(previous, i), digests)
		e.gateways = append(e.gateways, c)
		unsent = unsent.Union(c.Unsent())
		for _, i := range g.Interfaces {
			for _, family := range header.Families {
				if i.FacesInternet(family) {
					e.uplinks[family] = append(e.uplinks[family], i)
				}
			}
		}
	}
	e.entries = e.findEntries()
	e.stranger = sync.OnceValue(e.findStrangers)
	e.places = sync.OnceValue(e.findPlaces)
	e.beside = sync.OnceValue(e.findBeside)
	e.straight = sync.OnceValue(e.findStraight)
	e.internet = table.NewAddressSet(n.Internet().Union(e.abroad.All))
	e.unsent = table.NewAddressSet(unsent.Minus(e.abroad.All))
	e.uncarried = table.NewAddressSet(e.net.Uncarried())
	return e
}

// before returns a gateway of the previous revision, where its rules mean the same: the
// interfaces are what they were.
func (e *Engine) before(previous *Engine, number int) *engine.Gateway {
	if previous == nil || number >= len(previous.gateways) || e.net.Digests.Gateways[number].Interfaces != previous.net.Digests.Gateways[number].Interfaces {
		return nil
	}
	return previous.gateways[number]
}

// placeHosts finds who has which address where.
func (e *Engine) placeHosts(previous *Engine) {
	n := e.net
	for _, s := range n.Segments {
		c := &segment{Segment: s, owners: table.NewByAddress(s.Interfaces), hosts: table.NewByAddress(n.Hosts)}
		for number, i := range s.Interfaces {
			for _, p := range i.Addresses {
				c.owners.Set(p.Addr(), number)
			}
		}
		c.owners.Seal()
		if s.Behind != nil {
			c.held = table.NewAddressSet(s.Addresses())
			if p := s.Behind.Segment.PrefixOf(s.Router); p.IsValid() { // a link-local address is in none
				c.near = table.SetOfPrefixes(p)
			}
			e.segments[s] = c
			continue
		}
		for _, p := range s.Prefixes {
			c.prefixes = append(c.prefixes, newLink(s, p))
		}
		slices.SortStableFunc(c.prefixes, func(a, b link) int { return b.bits - a.bits })
		e.segments[s] = c
	}
	e.clients = map[*network.Interface]table.ByAddress[network.Host]{}
	e.abroad, e.nobody = table.NewByAddress(n.Hosts), table.NewByAddress(n.Hosts)
	shared := previous != nil && n.Digests.Hosts == previous.net.Digests.Hosts && sameInterfaces(n, previous.net)
	if shared {
		for k, s := range n.Segments {
			before := previous.segments[previous.net.Segments[k]]
			e.segments[s].hosts = before.hosts.With(n.Hosts)
		}
		for i, hosts := range previous.clients {
			e.clients[n.Gateways[i.Gateway.Index].Interfaces[i.Index]] = hosts.With(n.Hosts)
		}
		e.abroad = previous.abroad.With(n.Hosts)
		return
	}
	for number, h := range n.Hosts {
		for _, a := range h.Addresses {
			if s, i := h.Segment(a), h.Clients(a); s != nil {
				e.segments[s].hosts.Set(a, number)
			} else if i != nil {
				if _, known := e.clients[i]; !known {
					e.clients[i] = table.NewByAddress(n.Hosts)
				}
				hosts := e.clients[i]
				hosts.Set(a, number)
			} else {
				e.abroad.Set(a, number)
			}
		}
	}
	for _, s := range e.segments {
		s.hosts.Seal()
	}
	for _, hosts := range e.clients {
		hosts.Seal()
	}
	e.abroad.Seal()
}

// sameInterfaces reports whether the interfaces of two networks are the same, and so the
// segments too.
func sameInterfaces(n, m *network.Network) bool {
	return slices.EqualFunc(n.Digests.Gateways, m.Digests.Gateways, func(a, b network.GatewayDigests) bool { return a.Interfaces == b.Interfaces }) &&
		len(n.Segments) == len(m.Segments)
}

func newLink(s *network.Segment, p netip.Prefix) link {
	return link{s, p.Bits(), table.SetOfPrefixes(p)}
}

// Gateway returns a gateway of the network, compiled.
func (e *Engine) Gateway(g *network.Gateway) *engine.Gateway { return e.gateways[g.Index] }

// Gateways returns all of them, in the order of the file.
func (e *Engine) Gateways() []*engine.Gateway { return e.gateways }

// Network returns the network the engine was compiled from.
func (e *Engine) Network() *network.Network { return e.net }
