package network

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"hollowbridge/core/header"
)

// notCarried are the addresses that the internet does not carry (IANA special-purpose
// address registries, RFC 6890). Documentation ranges are left in, because
// examples live in them.
var notCarried = func() header.Addresses {
	var prefixes []netip.Prefix
	for _, p := range []string{
		"0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12",
		"192.168.0.0/16", "224.0.0.0/3",
	} {
		prefixes = append(prefixes, netip.MustParsePrefix(p))
	}
	family := header.AddressesOfPrefixes(netip.MustParsePrefix("::/0")).Minus(header.AddressesOfPrefixes(netip.MustParsePrefix("2000::/3")))
	return header.AddressesOfPrefixes(prefixes...).Union(family)
}()

// Carried reports whether the internet carries packets to and from the address.
func Carried(a netip.Addr) bool { return !notCarried.Contains(a) }

// Unused returns the addresses of the network that no machine has, on one segment at
// least.
func (n *Network) Unused() header.Addresses {
	var unused header.Addresses
	for _, s := range n.Segments {
		unused = unused.Union(s.Unused())
	}
	var hosts []header.Range // also one whose address a gateway would answer for
	for _, h := range n.Hosts {
		for _, a := range h.Addresses {
			hosts = append(hosts, header.Range{First: a, Last: a})
		}
	}
	return unused.Minus(header.AddressesOf(hosts...))
}

// Unused returns the addresses of the segment that no machine there has: those of
// gateways, on an uplink their outside addresses too, and the first and the last of an
// IPv4 prefix. Behind a router nobody knows how its prefixes are divided, so there are none.
func (s *Segment) Unused() header.Addresses {
	if s.Behind != nil {
		return header.Addresses{}
	}
	var ranges []header.Range
	for _, p := range s.Prefixes {
		if r := header.RangeOf(p); p.Addr().Is4() && p.Bits() < 31 {
			ranges = append(ranges, header.Range{First: r.First, Last: r.First}, header.Range{First: r.Last, Last: r.Last})
		}
	}
	for _, i := range s.Interfaces {
		for _, p := range i.Addresses {
			ranges = append(ranges, header.Range{First: p.Addr(), Last: p.Addr()})
			if i.FacesInternet(header.FamilyOf(p.Addr())) {
				ranges = append(ranges, i.Gateway.Claims().Intersect(header.AddressesOfPrefixes(p)).Ranges()...)
			}
		}
	}
	return header.AddressesOf(ranges...)
}

// Beside returns the addresses of machines beside an uplink: those of its prefixes that are nobody's in the file, of
// the families of which it is one. Where the provider gives the address there are none that anybody knows.
func (n *Network) Beside(i *Interface) header.Addresses {
	if i.Segment == nil || i.Upstream.NoBeside {
		return header.Addresses{}
	}
	var prefixes, hosts []header.Range
	for _, p := range i.Addresses {
		if i.FacesInternet(header.FamilyOf(p.Addr())) {
			prefixes = append(prefixes, header.RangeOf(p.Masked()))
		}
	}
	for _, h := range n.Hosts {
		for _, a := range h.Addresses {
			hosts = append(hosts, header.Range{First: a, Last: a})
		}
	}
	return header.AddressesOf(prefixes...).Minus(i.Segment.Unused()).Minus(header.AddressesOf(hosts...)).Minus(cannotSend)
}

// NextHop returns the next hop of an interface's default route that leads to the internet; false where the file does not
// say its address.
func (i *Interface) NextHop(family header.Family) (via netip.Addr, ok bool) {
	for _, r := range i.Gateway.Upstreams() {
		if r.Out == i && r.Via.IsValid() && header.FamilyOf(r.Via) == family {
			return r.Via, true
		}
	}
	return via, false
}

// NotCarried returns the addresses that the internet does not carry.
func NotCarried() header.Addresses { return notCarried }

// cannotSend are the addresses that no machine sends from: unspecified, loopback, multicast
// and broadcast.
var cannotSend = prefixes("0.0.0.0/32", "127.0.0.0/8", "224.0.0.0/4", "255.255.255.255/32", "::/127", "ff00::/8")

// CannotSend returns the addresses that no machine sends from.
func CannotSend() header.Addresses { return cannotSend }

func prefixes(texts ...string) header.Addresses {
	list := make([]netip.Prefix, len(texts))
	for i := range texts {
		list[i] = netip.MustParsePrefix(texts[i])
	}
	return header.AddressesOfPrefixes(list...)
}

// Connect makes the network of a draft: it finds the segments, puts hosts on them, and finds
// which interfaces face the internet. It is called once.
func (d *Draft) Connect() *Network {
	n := &Network{Name: d.Name, Services: d.Services, Zones: d.Zones, Hosts: d.Hosts, Gateways: d.Gateways}
	n.findSegments()
	n.findUplinks()
	n.findRouters()
	n.hosts = map[string]*Host{}
	for _, h := range n.Hosts {
		n.hosts[h.Name] = h
		h.locations = make([]location, len(h.Addresses))
		for i, a := range h.Addresses {
			if h.SegmentName == "" {
				h.locations[i].clients = n.ClientsAt(a)
			}
			if h.locations[i].clients == nil {
				h.locations[i].segment = n.SegmentOf(a, h.SegmentName)
			}
		}
	}
	n.internet = n.findInternet()
	n.findBehind()
	return n
}

// findSegments puts interfaces on one segment that name the same segment or, where
// they name none, have an address in the same prefix.
func (n *Network) findSegments() {
	n.Segments = nil
	named := map[string]*Segment{}
	shared := map[netip.Prefix]*Segment{}
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			if len(i.Addresses) == 0 {
				continue
			}
			var s *Segment
			if i.SegmentName != "" {
				s = named[i.SegmentName]
			} else {
				for _, p := range i.Addresses {
					if found := shared[p.Masked()]; found != nil {
						s = found
						break
					}
				}
			}
			if s == nil {
				s = &Segment{Name: i.SegmentName}
				if s.Name == "" {
					s.Name = i.String()
				} else {
					named[s.Name] = s
				}
				n.Segments = append(n.Segments, s)
			}
			i.Segment = s
			s.Interfaces = append(s.Interfaces, i)
			for _, p := range i.Addresses {
				if p = p.Masked(); !slices.Contains(s.Prefixes, p) {
					s.Prefixes = append(s.Prefixes, p)
				}
				if i.SegmentName == "" {
					shared[p] = s
				}
			}
		}
	}
}

// SegmentOf returns the segment an address is on: the one that is named, else what is behind the inside router that it
// is sent to, else the one with the longest prefix that holds it, else nil.
func (n *Network) SegmentOf(a netip.Addr, name string) *Segment {
	var best *Segment
	bits := -1
	for _, s := range n.Segments {
		switch {
		case name != "" && s.Name != name:
			continue
		case s.routed.Contains(a):
			return s
		case s.Behind != nil:
			continue
		}
		for _, p := range s.Prefixes {
			if p.Contains(a) && p.Bits() > bits {
				best, bits = s, p.Bits()
			}
		}
	}
	return best
}

// ClientsAt returns the interface at which a VPN client with the address arrives, or nil.
func (n *Network) ClientsAt(a netip.Addr) *Interface {
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			if i.IsClient(a) {
				return i
			}
		}
	}
	return nil
}

// ClientsOf returns the addresses of the interface's VPN clients: those of its pools that no host has which says that it is
// on the segment.
func (n *Network) ClientsOf(i *Interface) header.Addresses {
	if len(i.Clients) == 0 {
		return header.Addresses{}
	}
	var there []header.Range
	for _, h := range n.Hosts {
		for _, a := range h.Addresses {
			if i.IsClient(a) && h.Clients(a) != i {
				there = append(there, header.Range{First: a, Last: a})
			}
		}
	}
	return header.AddressesOfPrefixes(i.Clients...).Minus(header.AddressesOf(there...))
}

// OwnerOn returns the interface on the segment that has the address, or nil.
func (s *Segment) OwnerOn(a netip.Addr) *Interface {
	for _, i := range s.Interfaces {
		for _, p := range i.Addresses {
			if p.Addr() == a {
				return i
			}
		}
	}
	return nil
}

func (n *Network) findUplinks() {
	for _, g := range n.Gateways {
		for _, r := range g.Upstreams() {
			r.Out.internet[header.FamilyOf(r.To.Addr())] = true
		}
	}
}

// findRouters finds the inside routers that the file does not name, and which addresses are behind each. What a static
// route leads to inside is behind its next hop, where no gateway and no host has that; where a route names an interface
// alone, it is on its segment. Of what several lead to, it is the one with the longest prefix, the lowest distance, and the first in the file. What is in the prefix of an interface is on that
// segment, unless a gateway there sends it on by a longer route.
func (n *Network) findRouters() {
	var routes []Route
	hosts := map[netip.Addr]bool{}
	for _, h := range n.Hosts {
		for _, a := range h.Addresses {
			hosts[a] = true
		}
	}
	for _, g := range n.Gateways {
		for _, r := range g.Routes {
			inside := !r.Blackhole && r.To.Bits() > 0 && r.Out.Segment != nil && !r.Out.FacesInternet(header.FamilyOf(r.To.Addr()))
			if inside && r.Out.Segment.OwnerOn(r.Via) == nil && !hosts[r.Via] {
				routes = append(routes, r)
			}
		}
	}
	slices.SortStableFunc(routes, func(a, b Route) int { return cmp.Or(b.To.Bits()-a.To.Bits(), a.Distance-b.Distance) })
	type router struct {
		on  *Segment
		via netip.Addr
	}
	held, known, ranges := n.heldBy(routes), map[router]*Segment{}, map[*Segment][]header.Range{}
	for k, r := range routes {
		switch key := (router{r.Out.Segment, r.Via}); {
		case held[k].Empty():
		case !r.Via.IsValid():
			ranges[r.Out.Segment] = append(ranges[r.Out.Segment], held[k].Ranges()...)
		default:
			s := known[key]
			if s == nil {
				s = &Segment{Name: fmt.Sprintf("%s behind %s", r.Out, r.Via.WithZone("")), Behind: r.Out, Router: r.Via}
				known[key] = s
				n.Segments = append(n.Segments, s)
			}
			ranges[s], s.Prefixes = append(ranges[s], held[k].Ranges()...), append(s.Prefixes, r.To)
		}
	}
	for s, list := range ranges {
		s.routed = header.AddressesOf(list...)
	}
	for _, r := range slices.Backward(routes) { // of several gateways with routes to a router, it sends to the first in the file
		if s := known[router{r.Out.Segment, r.Via}]; s != nil && r.Out.Gateway.Index < s.Behind.Gateway.Index {
			s.Behind = r.Out
		}
	}
}

// heldBy returns the addresses that each of some routes, the first that counts first, leads to, and none before it; no VPN clients.
// Prefixes nest: of each it is what is sent by it without what is sent by those within it, so a walk over them in the order of
// their addresses, with those that are open on a stack, meets each once for every one that it is within.
func (n *Network) heldBy(routes []Route) []header.Addresses {
	var clients header.Addresses
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			clients = clients.Union(header.AddressesOfPrefixes(i.Clients...))
		}
	}
	order := make([]int, len(routes))
	for k := range order {
		order[k] = k
	}
	slices.SortFunc(order, func(a, b int) int {
		x, y := routes[a].To, routes[b].To
		return cmp.Or(x.Addr().Compare(y.Addr()), x.Bits()-y.Bits(), b-a) // of several alike, what counts first is within the others
	})
	held, within := make([]header.Addresses, len(routes)), make([][]header.Range, len(routes))
	connected := n.connected()
	var open []int
	closeLast := func() {
		k := open[len(open)-1]
		open = open[:len(open)-1]
		held[k] = sentOn(routes[k], connected).Minus(clients).Minus(header.AddressesOf(within[k]...))
		if len(open) > 0 {
			outer := open[len(open)-1]
			within[outer] = append(append(within[outer], within[k]...), held[k].Ranges()...)
		}
		within[k] = nil
	}
	for _, k := range order {
		for len(open) > 0 && !routes[open[len(open)-1]].To.Contains(routes[k].To.Addr()) {
			closeLast()
		}
		open = append(open, k)
	}
	for len(open) > 0 {
		closeLast()
	}
	return held
}

// A connection is a prefix of a segment.
type connection struct {
	prefix netip.Prefix
	on     *Segment
}

// connected returns the prefixes of all segments, the shortest first and, of several alike, that of the first segment last.
func (n *Network) connected() (list []connection) {
	for _, s := range slices.Backward(n.Segments) {
		for _, p := range s.Prefixes {
			list = append(list, connection{p, s})
		}
	}
	slices.SortStableFunc(list, func(a, b connection) int { return a.prefix.Bits() - b.prefix.Bits() })
	return list
}

// sentOn returns the addresses that a route leads to and that are on no segment, or on one that the route leads away from.
func sentOn(r Route, connected []connection) header.Addresses {
	sent := header.AddressesOfPrefixes(r.To)
	for _, c := range connected {
		switch here := slices.ContainsFunc(c.on.Interfaces, func(i *Interface) bool { return i.Gateway == r.Out.Gateway }); {
		case !c.prefix.Overlaps(r.To):
		case here && c.prefix.Bits() < r.To.Bits():
			sent = header.AddressesOfPrefixes(r.To)
		default:
			sent = sent.Minus(header.AddressesOfPrefixes(c.prefix))
		}
	}
	return sent
}

// RouterAt returns what is behind the inside router with an address on a segment, or nil.
func (n *Network) RouterAt(on *Segment, a netip.Addr) *Segment {
	for _, s := range n.Segments {
		if s.Behind != nil && s.Behind.Segment == on && s.Router == a {
			return s
		}
	}
	return nil
}

// Reaches returns the interface whose longest prefix holds the address, or nil.
func (g *Gateway) Reaches(a netip.Addr) *Interface {
	var best *Interface
	bits := -1
	for _, i := range g.Interfaces {
		for _, p := range i.Addresses {
			if p.Contains(a) && p.Bits() > bits {
				best, bits = i, p.Bits()
			}
		}
	}
	return best
}

// Upstreams returns the default routes that lead to the internet: no gateway of
// the file has their next hop, or stands on the segment where only the interface is
// named.
func (g *Gateway) Upstreams() []Route {
	var found []Route
	for _, r := range g.Routes {
		if r.To.Bits() != 0 || r.Blackhole || r.Out.Segment == nil {
			continue
		}
		nobody := len(r.Out.Segment.Interfaces) == 1
		if r.Via.IsValid() {
			nobody = r.Out.Segment.OwnerOn(r.Via) == nil
		}
		if nobody {
			found = append(found, r)
		}
	}
	return found
}

// SameHop reports whether two routes lead to the same next hop.
func (r Route) SameHop(q Route) bool { return r.Via == q.Via && r.Out == q.Out }

func (n *Network) findInternet() header.Addresses {
	var uplinks [2]bool
	var inside []header.Range
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			for _, p := range i.Addresses {
				family := header.FamilyOf(p.Addr())
				inside = append(inside, header.Range{First: p.Addr(), Last: p.Addr()})
				if i.FacesInternet(family) {
					uplinks[family] = true
				} else {
					inside = append(inside, header.RangeOf(p))
				}
			}
			for _, p := range slices.Concat(i.Clients, i.Upstream.Routes) {
				inside = append(inside, header.RangeOf(p))
			}
		}
		for _, r := range g.Routes {
			if r.To.Bits() == 0 || r.Blackhole {
				continue
			}
			if !r.Out.FacesInternet(header.FamilyOf(r.To.Addr())) {
				inside = append(inside, header.RangeOf(r.To))
			}
		}
	}
	var carried header.Addresses
	for _, family := range header.Families {
		if uplinks[family] {
			carried = carried.Union(family.All().Minus(n.Uncarried()))
		}
	}
	return carried.Minus(header.AddressesOf(inside...))
}

// Internet returns the addresses that live on the internet: those it carries, those
// beside an uplink included, without the network's own.
func (n *Network) Internet() header.Addresses { return n.internet }

// ZoneAddresses returns the addresses behind the interfaces of a zone.
func (n *Network) ZoneAddresses(zone string) header.Addresses {
	if z := n.Zone(zone); z != nil {
		return z.behind
	}
	return header.Addresses{}
}

// findBehind finds the addresses behind the interfaces of each zone.
func (n *Network) findBehind() {
	behind := map[string][]header.Range{}
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			list := behind[i.Zone]
			for _, p := range slices.Concat(i.Addresses, i.Clients) {
				list = append(list, header.RangeOf(p))
			}
			for _, family := range header.Families {
				if i.FacesInternet(family) {
					list = append(list, n.internet.Intersect(family.All()).Ranges()...)
				}
			}
			behind[i.Zone] = list
		}
	}
	for _, s := range n.Segments {
		zone := s.Lead().Zone
		behind[zone] = append(behind[zone], s.routed.Ranges()...)
	}
	for _, z := range n.Zones {
		z.behind = header.AddressesOf(behind[z.Name]...)
	}
}

// Sent returns the addresses for which packets come to the gateway: those of its
// interfaces' prefixes, and what a provider sends it besides.
func (g *Gateway) Sent() header.Addresses {
	var ranges []header.Range
	for _, i := range g.Interfaces {
		for _, p := range slices.Concat(i.Addresses, i.Upstream.Routes) {
			ranges = append(ranges, header.RangeOf(p))
		}
	}
	return header.AddressesOf(ranges...)
}

// Claims returns the outside addresses of the gateway's NAT rules that packets come
// to it for: it answers for them on its segments. Rules count whatever their hours.
func (g *Gateway) Claims() header.Addresses {
	var ranges []header.Range
	for _, r := range g.NAT {
		ranges = append(ranges, r.Claims().Ranges()...)
	}
	return header.AddressesOf(ranges...).Intersect(g.Sent())
}
