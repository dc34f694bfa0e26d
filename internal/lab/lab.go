package lab

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os/exec"
	"slices"
	"sync"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/kernel"

	"golang.org/x/sys/unix"
)

// A Lab is a network on the kernel: every gateway, every host and the internet is a network
// namespace of its own. It must be built in namespaces that are the process's own, see Enter.
type Lab struct {
	Unable []*kernel.Unable // what the kernel can't do as the file says, which is left out
	Notes  []string         // how the lab differs from the network

	engine   *walk.Engine
	at       network.Moment
	nodes    []*node
	wires    *node // the switches: a bridge for each segment
	gateways map[*network.Gateway]*node
	hosts    map[string]*node
	internet *node
	clients  map[string]*node     // VPN clients of an interface
	machines map[machinesOf]*node // machines without a name
	owners   map[*network.Interface]*link
	upstream map[*network.Interface]*link // the internet's ends of uplinks
	straight map[straightTo]bool          // who has routes for what is handed to an interface
	ports    int                          // how many ends of wires there are at the switches
	stations []*station
	answered answerers
	raws     []*rawStation
	captures []*capture
	watches  bool
	seen     sightings
	placing  sync.Mutex // of machines without a name, which are made when they are needed, and of watches
}

// machinesOf names the machines of a segment that take one prefix for it.
type machinesOf struct {
	segment *network.Segment
	prefix  netip.Prefix
}

// Build builds the lab for a network at a moment. Close takes it down.
func Build(e *walk.Engine, at network.Moment) (*Lab, error) {
	if err := e.Network().CheckKnown(); err != nil {
		return nil, err
	}
	l := &Lab{
		engine: e, at: at, gateways: map[*network.Gateway]*node{}, hosts: map[string]*node{}, clients: map[string]*node{},
		machines: map[machinesOf]*node{}, owners: map[*network.Interface]*link{}, straight: map[straightTo]bool{}, upstream: map[*network.Interface]*link{},
	}
	if err := l.build(); err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// Close takes the lab down.
func (l *Lab) Close() {
	for _, s := range l.stations {
		s.close()
	}
	for _, r := range l.raws {
		r.close()
	}
	for _, c := range l.captures {
		c.close()
	}
	for _, n := range l.nodes {
		n.close()
	}
}

func (l *Lab) node(name string) (*node, error) {
	n, err := newNode(name)
	if n != nil && err == nil {
		l.nodes = append(l.nodes, n)
	}
	return n, err
}

func (l *Lab) build() error {
	var err error
	if l.wires, err = l.node("switches"); err != nil {
		return err
	}
	if l.internet, err = l.node(Internet); err != nil {
		return err
	}
	n := l.engine.Network()
	for number, s := range n.Segments {
		if err := l.bridge(number); err != nil {
			return fmt.Errorf("%s: %w", s.Name, err)
		}
	}
	for _, step := range []func() error{l.placeGateways, l.placeRouters, l.placeInternet, l.placeHosts, l.placeClients, l.program} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

func bridgeOf(number int) string { return fmt.Sprintf("seg%d", number) }

// join connects a node to a segment and returns its end.
func (l *Lab) join(n *node, s *network.Segment, name, about string) (*link, error) {
	l.ports++
	port := fmt.Sprintf("port%d", l.ports)
	end, other, err := connect(n, l.wires, name, port, about)
	if err != nil {
		return nil, err
	}
	if err := l.plug(other, slices.Index(l.engine.Network().Segments, s)); err != nil {
		return nil, err
	}
	return end, end.hurries()
}

// placeGateways makes the gateways, with the interfaces that are up.
func (l *Lab) placeGateways() error {
	for _, g := range l.engine.Network().Gateways {
		n, err := l.node(g.Name)
		if err != nil {
			return err
		}
		l.gateways[g] = n
		if err := n.forwards(); err != nil {
			return err
		}
		if err := n.sets("ipv4/conf/all/arp_ignore"); err != nil { // it answers on a segment for its address there
			return err
		}
		for _, i := range g.Interfaces {
			if !i.IsUp() || i.Segment == nil {
				continue
			}
			if i.Trunk != nil {
				l.Notes = append(l.Notes, fmt.Sprintf("%s, VLAN %d of %s, has a wire of its own", i, i.VLAN, i.Trunk.Name))
			}
			end, err := l.join(n, i.Segment, DeviceOf(i), i.Name)
			if err != nil {
				return err
			}
			l.owners[i] = end
			for _, p := range i.Addresses {
				if err := end.address(p.Addr()); err != nil {
					return err
				}
			}
		}
		if err := l.routeGateway(g, n); err != nil {
			return err
		}
		if err := l.stationOf(g, n); err != nil {
			return err
		}
	}
	return nil
}

// routeGateway gives a gateway its routes, and those of interfaces that answers must leave by to what came in there.
func (l *Lab) routeGateway(g *network.Gateway, n *node) error {
	for _, w := range l.engine.Gateway(g).Ways() {
		if err := n.route(l.wayOf(g, w, 0)); err != nil {
			return err
		}
	}
	for k, i := range l.engine.Gateway(g).Stays() {
		mark, mask := kernel.UplinkMark(k + 1)
		table := 100 + k
		for _, r := range g.Upstreams() {
			if r.Out == i {
				if err := n.route(l.wayOf(g, engine.Way{To: r.To, Out: r.Out, Via: r.Via}, table)); err != nil {
					return err
				}
			}
		}
		for _, p := range i.Addresses {
			if !i.IsUplink() {
				break
			}
			if err := n.route(way{to: p.Masked(), out: l.owners[i], table: table}); err != nil {
				return err
			}
		}
		for _, w := range l.engine.Gateway(g).Ways() {
			if w.Out == i && (w.Clients || i.IsUplink()) {
				if err := n.route(l.wayOf(g, w, table)); err != nil {
					return err
				}
			}
		}
		for _, family := range header.Families {
			clients := slices.ContainsFunc(i.Clients, func(p netip.Prefix) bool { return header.FamilyOf(p.Addr()) == family })
			if !i.FacesInternet(family) && !clients {
				continue
			}
			if err := n.follows(mark, mask, table, family); err != nil {
				return err
			}
		}
	}
	return nil
}

// placeRouters makes the inside routers that the file does not name: one end is on the segment of gateways, the other with what is
// behind.
func (l *Lab) placeRouters() error {
	for _, s := range l.engine.Network().Segments {
		if s.Behind == nil || !s.Behind.IsUp() {
			continue
		}
		n, err := l.node(nameOfRouter(s))
		if err != nil {
			return err
		}
		if err := n.forwards(); err != nil {
			return err
		}
		near, err := l.join(n, s.Behind.Segment, "near", "")
		if err != nil {
			return err
		}
		if err := near.settle(s.Router, s.Behind.Segment.PrefixOf(s.Router)); err != nil {
			return err
		}
		behind, err := l.join(n, s, "behind", "")
		if err != nil {
			return err
		}
		family := header.FamilyOf(s.Router)
		if err := behind.address(routers[family]); err != nil {
			return err
		}
		prefixes := prefixesOf(s.Addresses())
		for _, p := range prefixes {
			if err := n.route(way{to: p, out: behind}); err != nil {
				return err
			}
		}
		if err := n.takesFrom(near, behind, prefixesOf(l.ledTo(s).Minus(s.Addresses())), prefixes); err != nil {
			return err
		}
		via, _ := s.Behind.Address(family)
		if err := n.route(way{to: family.Prefix(), out: near, via: via}); err != nil {
			return err
		}
		for k, h := range l.engine.Network().Hosts {
			for _, a := range h.Addresses {
				if i, router, _ := l.engine.DefaultGateway(network.Place{Host: h, Segment: h.Segment(a)}, family); router == s && i != s.Behind && header.FamilyOf(a) == family {
					via, _ := i.Address(family)
					if err := n.sendsFrom(a, near, via, 100+k); err != nil {
						return err
					}
				}
			}
		}
	}
	return nil
}

// ledTo returns what gateways send to the router of a segment, but for default routes.
func (l *Lab) ledTo(s *network.Segment) header.Addresses {
	var list []netip.Prefix
	for _, g := range l.engine.Network().Gateways {
		for _, r := range g.Routes {
			if r.Via == s.Router && r.To.Bits() > 0 {
				list = append(list, r.To)
			}
		}
	}
	return header.AddressesOfPrefixes(list...)
}

// routers are the addresses of the provider's router on an uplink where the file names none, and of inside routers on their other side.
var routers = [2]netip.Addr{netip.MustParseAddr("169.254.0.1"), netip.MustParseAddr("fe80::1")}

// wayOf returns a route of a gateway for the kernel.
func (l *Lab) wayOf(g *network.Gateway, w engine.Way, table int) way {
	made := way{to: w.To, out: l.owners[w.Out], via: l.hop(w), table: table}
	switch {
	case w.Blackhole:
		made.kind = unix.RTN_BLACKHOLE
	case l.engine.Gateway(g).Own().Contains(w.Via): // which the kernel does not take
		made.via = nobodys[header.FamilyOf(w.Via)]
	}
	return made
}

// nobodys are addresses on no segment.
var nobodys = [2]netip.Addr{netip.MustParseAddr("169.254.0.99"), netip.MustParseAddr("fe80::99")}

// hop returns the next hop of a route of a gateway.
func (l *Lab) hop(w engine.Way) netip.Addr {
	if family := header.FamilyOf(w.To.Addr()); !w.Via.IsValid() && w.To.Bits() == 0 && w.Out != nil && w.Out.FacesInternet(family) {
		return routers[family]
	}
	return w.Via
}

// placeInternet connects the internet to the uplinks. It has every address that nobody else
// has.
func (l *Lab) placeInternet() error {
	n := l.internet
	if err := n.forwards(); err != nil {
		return err
	}
	if err := l.station(n, 1, nil); err != nil {
		return err
	}
	if err := l.answersRaw(n, nil, rawProtocols()); err != nil {
		return err
	}
	if err := n.isEverybody(); err != nil {
		return err
	}
	if err := n.route(way{to: header.IPv6.Prefix(), kind: unix.RTN_LOCAL}); err != nil {
		return err
	}
	for _, p := range prefixesOf(l.lost()) {
		if err := n.route(way{to: p, kind: unix.RTN_BLACKHOLE, metric: 2000}); err != nil {
			return err
		}
	}
	for _, i := range slices.Backward(l.uplinks()) { // of several that have one prefix, the first is sent what is for it
		if err := l.placeUplink(i); err != nil {
			return err
		}
	}
	if err := l.routeSent(); err != nil {
		return err
	}
	for _, i := range l.uplinks() {
		for _, family := range header.Families {
			if _, has := i.Address(family); has && i.IsUp() {
				if err := l.routeStraight(l.upstream[i], i, family); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// lost returns the addresses for which the internet has no way.
func (l *Lab) lost() header.Addresses {
	lost := header.AllAddresses().Minus(l.engine.Network().Internet()).Union(l.engine.Unsent())
	for _, i := range l.uplinks() { // to an uplink of the other family alone nothing can be sent
		for _, p := range i.Upstream.Routes {
			if _, has := i.Address(header.FamilyOf(p.Addr())); !has {
				lost = lost.Union(header.AddressesOfPrefixes(p))
			}
		}
	}
	for _, i := range l.uplinks() {
		lost = lost.Minus(header.AddressesOfPrefixes(i.Addresses...))
		for _, p := range i.Upstream.Routes {
			if _, has := i.Address(header.FamilyOf(p.Addr())); has {
				lost = lost.Minus(header.AddressesOfPrefixes(p))
			}
		}
	}
	for _, h := range l.engine.Network().Hosts {
		for _, a := range h.Addresses {
			if h.Segment(a) == nil && h.Clients(a) == nil {
				lost = lost.Minus(header.Single(a))
			}
		}
	}
	lost = lost.Union(network.NotCarried()).Minus(header.AddressesOfPrefixes(netip.MustParsePrefix("fe80::/10"), netip.MustParsePrefix("ff00::/8"), netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("::1/128")))
	for _, i := range l.uplinks() {
		lost = lost.Minus(header.AddressesOfPrefixes(i.Addresses...))
	}
	return lost
}

// routeSent makes the internet send the uplinks what their providers send there.
func (l *Lab) routeSent() error {
	sent := l.uplinks()
	slices.SortStableFunc(sent, func(a, b *network.Interface) int { // likewise, but to one that is up
		return cmp.Compare(down(a), down(b))
	})
	for _, i := range slices.Backward(sent) {
		for _, p := range i.Upstream.Routes {
			if a, has := i.Address(header.FamilyOf(p.Addr())); has {
				via, err := l.viaOf(i, a)
				if err != nil {
					return err
				}
				if err := l.internet.route(way{to: p, out: l.upstream[i], via: via, source: l.stranger(p.Addr())}); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// hopAddress is a link-local address that stands for a gateway at the internet's end of its uplink.
var hopAddress = netip.MustParseAddr("fe80::ffff:ffff:ffff:fffe")

// viaOf returns the next hop by which the internet sends to an interface's address. Of IPv6 the kernel takes none of a
// prefix that it has on another link, as where two uplinks are on one segment, so it is a link-local one.
func (l *Lab) viaOf(i *network.Interface, a netip.Addr) (netip.Addr, error) {
	if a.Is4() {
		return a, nil
	}
	if owner := l.owners[i]; owner != nil {
		return hopAddress, l.upstream[i].knows(hopAddress, owner.mac)
	}
	return hopAddress, nil
}

func down(i *network.Interface) int {
	if i.IsUp() {
		return 0
	}
	return 1
}

// uplinks returns the interfaces that face the internet; their segments are there also where
// they are down.
func (l *Lab) uplinks() (list []*network.Interface) {
	for _, g := range l.engine.Network().Gateways {
		for _, i := range g.Interfaces {
			if i.IsUplink() && i.Segment != nil {
				list = append(list, i)
			}
		}
	}
	return list
}

// upDevice is what the internet calls its end of an uplink.
func upDevice(i *network.Interface) string { return fmt.Sprintf("up%d-%d", i.Gateway.Index, i.Index) }

func (l *Lab) placeUplink(i *network.Interface) error {
	n := l.internet
	end, err := l.join(n, i.Segment, upDevice(i), "")
	if err != nil {
		return err
	}
	l.upstream[i] = end
	if a := l.stranger(netip.IPv6Unspecified()); a.IsValid() { // of IPv6, a source must be an address of its own
		if err := end.address(a); err != nil {
			return err
		}
	}
	for _, a := range routers {
		if err := end.address(a); err != nil {
			return err
		}
	}
	for _, r := range i.Gateway.Upstreams() {
		if r.Out == i && r.Via.IsValid() {
			if err := end.address(r.Via); err != nil {
				return err
			}
		}
	}
	for _, p := range i.Addresses {
		if i.FacesInternet(header.FamilyOf(p.Addr())) {
			if err := n.route(way{to: p.Masked(), out: end, source: l.stranger(p.Addr())}); err != nil {
				return err
			}
		}
	}
	return nil
}

// stranger returns the address that the internet sends from to somebody where nobody says another.
func (l *Lab) stranger(to netip.Addr) netip.Addr {
	a, _ := l.engine.Stranger(header.FamilyOf(to))
	return a
}

// prefixesOf returns the prefixes that a set of addresses is made of.
func prefixesOf(set header.Addresses) (list []netip.Prefix) {
	for _, r := range set.Ranges() {
		for first := r.First; first.IsValid() && !r.Last.Less(first); {
			best := netip.PrefixFrom(first, first.BitLen())
			for bits := first.BitLen() - 1; bits >= 0; bits-- {
				p := netip.PrefixFrom(first, bits)
				if p.Masked().Addr() != first || r.Last.Less(header.RangeOf(p).Last) {
					break
				}
				best = p
			}
			list = append(list, best)
			first = header.RangeOf(best).Last.Next()
		}
	}
	return list
}

// placeHosts makes the hosts, on their segments, with the VPN clients or on the internet.
func (l *Lab) placeHosts() error {
	for number, h := range l.engine.Network().Hosts {
		n, err := l.node(h.Name)
		if err != nil {
			return err
		}
		l.hosts[h.Name] = n
		on := map[*network.Segment]*link{}
		for k, a := range h.Addresses {
			s, by := h.Segment(a), h.Clients(a)
			switch {
			case s != nil:
				end := on[s]
				if end == nil {
					if end, err = l.join(n, s, fmt.Sprintf("eth%d", len(on)), ""); err != nil {
						return err
					}
					on[s] = end
				}
				if err := end.settle(a, s.PrefixOf(a)); err != nil {
					return err
				}
			case by != nil:
				if !by.IsUp() || by.Segment == nil {
					continue
				}
				end, err := l.join(n, by.Segment, fmt.Sprintf("vpn%d", k), "")
				if err != nil {
					return err
				}
				if err := end.address(a); err != nil {
					return err
				}
				if via, has := by.Address(header.FamilyOf(a)); has {
					if err := n.answersBy(a, end, via, 100+k); err != nil {
						return err
					}
				}
			default:
				if err := l.settleAbroad(n, number, k, a); err != nil {
					return err
				}
			}
		}
		for s, end := range on {
			for _, family := range header.Families {
				if err := l.routeMachine(on, end, network.Place{Host: h, Segment: s}, family); err != nil {
					return err
				}
			}
		}
		if err := l.station(n, 1+len(h.Relays), h); err != nil {
			return err
		}
		if err := l.answersRaw(n, h, rawProtocols()); err != nil {
			return err
		}
		if err := l.put(n, kernel.CompileHost(h)); err != nil {
			return err
		}
	}
	return nil
}

// settle gives a machine on a segment an address, and the prefix that it takes for its segment.
func (end *link) settle(a netip.Addr, prefix netip.Prefix) error {
	if err := end.address(a); err != nil {
		return err
	}
	if !prefix.IsValid() {
		return nil
	}
	return end.node.route(way{to: prefix.Masked(), out: end})
}

// routeMachine gives a machine its default gateway, by the end on the segment where that is.
func (l *Lab) routeMachine(on map[*network.Segment]*link, end *link, at network.Place, family header.Family) error {
	i, router, abroad := l.engine.DefaultGateway(at, family)
	var via netip.Addr
	switch {
	case router != nil:
		via, end = routers[family], on[router]
	case abroad:
		segment := at.Segment
		if at.Host != nil && at.Host.Upstream != nil {
			segment = at.Host.Upstream
		}
		for _, up := range segment.Interfaces {
			for _, r := range up.Gateway.Upstreams() {
				if r.Out == up && header.FamilyOf(r.To.Addr()) == family && !via.IsValid() {
					via = l.hop(engine.Way{To: r.To, Out: up, Via: r.Via})
				}
			}
		}
		if on[segment] != nil {
			end = on[segment]
		}
	case i != nil:
		via, _ = i.Address(family)
		if on[i.Segment] != nil {
			end = on[i.Segment]
		}
	}
	if !via.IsValid() {
		return nil
	}
	return end.node.route(way{to: family.Prefix(), out: end, via: via})
}

func (l *Lab) routeClient(end *link, by *network.Interface, family header.Family) error {
	via, has := by.Address(family)
	if !has {
		return nil
	}
	return end.node.route(way{to: family.Prefix(), out: end, via: via})
}

// settleAbroad gives a host on the internet an address there.
func (l *Lab) settleAbroad(n *node, number, k int, a netip.Addr) error {
	end, other, err := connect(n, l.internet, fmt.Sprintf("net%d", k), fmt.Sprintf("host%d-%d", number, k), "")
	if err != nil {
		return err
	}
	if err := end.address(a); err != nil {
		return err
	}
	router := routers[header.FamilyOf(a)]
	if err := other.address(router); err != nil {
		return err
	}
	if !network.NotCarried().Contains(a) {
		if err := l.internet.route(way{to: netip.PrefixFrom(a, a.BitLen()), out: other}); err != nil {
			return err
		}
	}
	return n.answersBy(a, end, router, 100+k)
}

// placeClients makes the VPN clients of each interface: one machine that has all of their
// addresses that no host has.
func (l *Lab) placeClients() error {
	for _, g := range l.engine.Network().Gateways {
		for _, i := range g.Interfaces {
			if len(i.Clients) == 0 || !i.IsUp() || i.Segment == nil {
				continue
			}
			n, err := l.node(clientsOf(i))
			if err != nil {
				return err
			}
			l.clients[i.String()] = n
			end, err := l.join(n, i.Segment, "vpn", "")
			if err != nil {
				return err
			}
			for _, p := range i.Clients {
				if err := n.route(way{to: p, kind: unix.RTN_LOCAL}); err != nil {
					return err
				}
				if err := l.routeClient(end, i, header.FamilyOf(p.Addr())); err != nil {
					return err
				}
			}
			for _, h := range l.engine.Network().Hosts {
				for _, a := range h.Addresses {
					if h.Clients(a) == i {
						if err := n.route(way{to: netip.PrefixFrom(a, a.BitLen()), kind: unix.RTN_UNREACHABLE}); err != nil {
							return err
						}
					}
				}
			}
			if err := l.station(n, 1, nil); err != nil {
				return err
			}
			if err := l.answersRaw(n, nil, rawProtocols()); err != nil {
				return err
			}
			if err := l.put(n, kernel.CompileInternet(nil, DeviceOf, nil)); err != nil {
				return err
			}
		}
	}
	return nil
}

// program puts the gateways' programs and outside addresses on their nodes, as a gateway that runs does, and that of the internet.
func (l *Lab) program() error {
	for _, g := range l.engine.Network().Gateways {
		p, unable, err := kernel.Compile(l.engine.Gateway(g), kernel.Options{At: &l.at, Device: DeviceOf, LeaveOut: true})
		if err != nil {
			return err
		}
		l.Unable = append(l.Unable, unable...)
		if err := l.put(l.gateways[g], p); err != nil {
			return fmt.Errorf("%s: %w", g.Name, err)
		}
		held, unheld := kernel.Outside(l.engine, l.engine.Gateway(g), l.at, DeviceOf)
		for _, text := range unheld {
			l.Notes = append(l.Notes, g.Name+": "+text)
		}
		if err := l.gateways[g].holds(held); err != nil {
			return fmt.Errorf("%s: %w", g.Name, err)
		}
	}
	sender := func(i *network.Interface) net.HardwareAddr {
		if owner := l.owners[i]; owner != nil {
			return owner.mac
		}
		return nil
	}
	return l.put(l.internet, kernel.CompileInternet(l.uplinks(), upDevice, sender))
}

// Unprogram takes the rules and outside addresses of a gateway away, for a service that puts its own there.
func (l *Lab) Unprogram(gateway string) error {
	n := l.gateways[l.engine.Network().Gateway(gateway)]
	m, err := kernel.OpenMachine(n.space)
	if err != nil {
		return err
	}
	defer m.Close()
	addresses, err := kernel.OpenAddresses(n.space)
	if err != nil {
		return err
	}
	defer addresses.Close()
	_, held, err := addresses.Compare(nil)
	if err != nil {
		return err
	}
	return errors.Join(m.Clear(), addresses.Give(held))
}

// Refresh ends all sessions everywhere, and forgets what was seen.
func (l *Lab) Refresh() error {
	for _, n := range l.nodes {
		if n == l.wires {
			continue
		}
		if n.machine == nil {
			var err error
			if n.machine, err = kernel.OpenMachine(n.space); err != nil {
				return err
			}
		}
		if err := n.machine.EndSessions(); err != nil {
			return fmt.Errorf("%s: %w", n.name, err)
		}
	}
	l.seen.Lock()
	defer l.seen.Unlock()
	l.seen.all = l.seen.all[:0]
	return nil
}

func (l *Lab) put(n *node, p *kernel.Program) error {
	m, err := kernel.OpenMachine(n.space)
	if err != nil {
		return err
	}
	defer m.Close()
	return m.Apply(p)
}

// Watch begins to look at what passes every machine, for Send and Seen. It is no error to watch
// already.
func (l *Lab) Watch() error {
	l.placing.Lock()
	defer l.placing.Unlock()
	if l.watches {
		return nil
	}
	l.watches = true
	for _, n := range l.nodes {
		if n == l.wires {
			continue
		}
		if err := l.watchNode(n); err != nil {
			return err
		}
	}
	return nil
}

func clientsOf(i *network.Interface) string { return "clients of " + i.String() }

// segmentOf returns the lab's own segment of a name, or nil: a connection may be of another
// network than the one that was built.
func (l *Lab) segmentOf(s *network.Segment) *network.Segment {
	for _, own := range l.engine.Network().Segments {
		if own.Name == s.Name {
			return own
		}
	}
	return nil
}

// nodeAt returns the node of a machine that sends from an address.
func (l *Lab) nodeAt(p network.Place, a netip.Addr) (*node, error) {
	switch {
	case p.Host != nil:
		return l.hosts[p.Host.Name], nil
	case p.Clients != nil:
		return l.clients[p.Clients.String()], nil
	case p.Internet:
		return l.internet, nil
	}
	if p.Segment = l.segmentOf(p.Segment); p.Segment == nil {
		return nil, nil
	}
	l.placing.Lock()
	defer l.placing.Unlock()
	key := machinesOf{p.Segment, p.Segment.PrefixOf(a)}
	if l.isRouter(p.Segment, a) {
		return l.internet, nil
	}
	n := l.machines[key]
	if n == nil {
		var err error
		if n, err = l.node("a machine on " + p.Segment.Name); err != nil {
			return nil, err
		}
		l.machines[key] = n
		if _, err := l.join(n, p.Segment, "eth0", ""); err != nil {
			return nil, err
		}
		if l.watches {
			if err := l.watchNode(n); err != nil {
				return nil, err
			}
		}
	}
	end := n.links[0]
	if err := end.settle(a, key.prefix); err != nil {
		return nil, err
	}
	return n, l.routeMachine(map[*network.Segment]*link{p.Segment: end}, end, network.Place{Segment: p.Segment}, header.FamilyOf(a))
}

// isRouter reports whether an address on a segment is that of a provider's router, and so the
// internet's.
func (l *Lab) isRouter(s *network.Segment, a netip.Addr) bool {
	for _, i := range s.Interfaces {
		if slices.ContainsFunc(i.Gateway.Upstreams(), func(r network.Route) bool { return r.Out == i && r.Via == a }) {
			return true
		}
	}
	return false
}

// Name returns what the lab calls the machine of a place that has an address.
func (l *Lab) Name(p network.Place, a netip.Addr) string {
	switch {
	case p.Host != nil:
		return p.Host.Name
	case p.Clients != nil:
		return clientsOf(p.Clients)
	case p.Internet:
		return l.internet.name
	}
	if l.isRouter(p.Segment, a) {
		return l.internet.name
	}
	return "a machine on " + p.Segment.Name
}

// Internet is what the lab calls the machine that everybody is on the internet who has no name.
const Internet = "the internet"

// Space returns the file descriptor of the network namespace of a gateway; it is the lab's.
func (l *Lab) Space(gateway string) int { return l.gateways[l.engine.Network().Gateway(gateway)].space }

// Within does something in the network of a machine.
func (l *Lab) Within(machine string, do func() error) error {
	n, err := l.machine(machine)
	if err != nil {
		return err
	}
	return n.do(do)
}

// InternetName is what a person writes for the internet.
const InternetName = "internet"

// Start starts a command in the network of a machine.
func (l *Lab) Start(machine string, command *exec.Cmd) error {
	return l.Within(machine, command.Start)
}

// machine returns the node of a gateway, a host or the internet.
func (l *Lab) machine(name string) (*node, error) {
	n := l.hosts[name]
	if g := l.engine.Network().Gateway(name); g != nil {
		n = l.gateways[g]
	}
	if name == InternetName {
		n = l.internet
	}
	if n == nil {
		return nil, fmt.Errorf("%s: there is no such machine", name)
	}
	return n, nil
}

// PassesOn reports whether a machine of the lab is a gateway, or an inside router.
func (l *Lab) PassesOn(name string) bool {
	isRouter := func(s *network.Segment) bool { return s.Behind != nil && nameOfRouter(s) == name }
	return l.engine.Network().Gateway(name) != nil || slices.ContainsFunc(l.engine.Network().Segments, isRouter)
}

func nameOfRouter(behind *network.Segment) string { return "the router at " + behind.Router.String() }
