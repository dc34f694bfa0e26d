// Package engine compiles a network and walks connections through it: the nine
// steps at each gateway, the host, and the way back.
package engine

import (
	"cmp"
	"net/netip"
	"slices"
	"sync"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// An Engine is a compiled network. It is never changed and may be used by many
// walks at once.
type Engine struct {
	Watch func() // where set, called for each region that an explorer finds

	net       *network.Network
	gateways  []*Gateway
	segments  map[*network.Segment]*segment
	abroad    byAddress[network.Host]                        // hosts that live on the internet
	clients   map[*network.Interface]byAddress[network.Host] // hosts that are VPN clients
	nobody    byAddress[network.Host]
	internet  addressSet              // with those of hosts that live there
	uncarried addressSet              // what the internet does not carry
	unsent    addressSet              // outside addresses of NAT rules that nobody sends here
	entries   *routeTable             // by which uplink comes what the internet sends to the network
	uplinks   [2][]*network.Interface // those that face the internet, of each family
	stranger  func() [2]netip.Addr
	places    func() []placed
	beside    func() []besideUplink
	straight  func() []straight
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
		c := compileGateway(n, g, e.before(previous, i), digests)
		c.location = n.Location()
		e.gateways = append(e.gateways, c)
		unsent = unsent.Union(c.unsent)
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
	e.internet = newAddressSet(n.Internet().Union(e.abroad.all))
	e.unsent = newAddressSet(unsent.Minus(e.abroad.all))
	e.uncarried = newAddressSet(e.net.Uncarried())
	return e
}

// before returns a gateway of the previous revision, where its rules mean the same: the
// interfaces are what they were.
func (e *Engine) before(previous *Engine, number int) *Gateway {
	if previous == nil || number >= len(previous.gateways) || e.net.Digests.Gateways[number].Interfaces != previous.net.Digests.Gateways[number].Interfaces {
		return nil
	}
	return previous.gateways[number]
}

// placeHosts finds who has which address where.
func (e *Engine) placeHosts(previous *Engine) {
	n := e.net
	for _, s := range n.Segments {
		c := &segment{Segment: s, owners: newByAddress(s.Interfaces), hosts: newByAddress(n.Hosts)}
		for number, i := range s.Interfaces {
			for _, p := range i.Addresses {
				c.owners.set(p.Addr(), number)
			}
		}
		c.owners.seal()
		if s.Behind != nil {
			c.held = newAddressSet(s.Addresses())
			if p := s.Behind.Segment.PrefixOf(s.Router); p.IsValid() { // a link-local address is in none
				c.near = setOfPrefixes(p)
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
	e.clients = map[*network.Interface]byAddress[network.Host]{}
	e.abroad, e.nobody = newByAddress(n.Hosts), newByAddress(n.Hosts)
	shared := previous != nil && n.Digests.Hosts == previous.net.Digests.Hosts && sameInterfaces(n, previous.net)
	if shared {
		for k, s := range n.Segments {
			before := previous.segments[previous.net.Segments[k]]
			e.segments[s].hosts = before.hosts.with(n.Hosts)
		}
		for i, hosts := range previous.clients {
			e.clients[n.Gateways[i.Gateway.Index].Interfaces[i.Index]] = hosts.with(n.Hosts)
		}
		e.abroad = previous.abroad.with(n.Hosts)
		return
	}
	for number, h := range n.Hosts {
		for _, a := range h.Addresses {
			if s, i := h.Segment(a), h.Clients(a); s != nil {
				e.segments[s].hosts.set(a, number)
			} else if i != nil {
				if _, known := e.clients[i]; !known {
					e.clients[i] = newByAddress(n.Hosts)
				}
				hosts := e.clients[i]
				hosts.set(a, number)
			} else {
				e.abroad.set(a, number)
			}
		}
	}
	for _, s := range e.segments {
		s.hosts.seal()
	}
	for _, hosts := range e.clients {
		hosts.seal()
	}
	e.abroad.seal()
}

// sameInterfaces reports whether the interfaces of two networks are the same, and so the
// segments too.
func sameInterfaces(n, m *network.Network) bool {
	return slices.EqualFunc(n.Digests.Gateways, m.Digests.Gateways, func(a, b network.GatewayDigests) bool { return a.Interfaces == b.Interfaces }) &&
		len(n.Segments) == len(m.Segments)
}

func newLink(s *network.Segment, p netip.Prefix) link {
	return link{s, p.Bits(), setOfPrefixes(p)}
}

// Gateway returns a gateway of the network, compiled.
func (e *Engine) Gateway(g *network.Gateway) *Gateway { return e.gateways[g.Index] }

// Network returns the network the engine was compiled from.
func (e *Engine) Network() *network.Network { return e.net }

func compileGateway(n *network.Network, g *network.Gateway, before *Gateway, digests *network.GatewayDigests) *Gateway {
	c := &Gateway{
		Gateway: g, routes: newRouteTable(g),
		zones: make([]int, len(g.Interfaces)), trust: make([]int, len(g.Interfaces)),
	}
	c.own = newByAddress(g.Interfaces)
	zones := c.zoneNames()
	for i, iface := range g.Interfaces {
		for _, p := range iface.Addresses {
			c.own.set(p.Addr(), i)
		}
		c.zones[i] = slices.Index(zones, iface.Zone)
		c.ways = append(c.ways, ownRoutes{route{out: iface}, route{out: iface, upstream: true}, route{out: iface, clients: true}})
		c.clients = append(c.clients, newAddressSet(n.ClientsOf(iface)))
		c.prefixes = append(c.prefixes, setOfPrefixes(iface.Addresses...))
		var first pools
		for _, family := range header.Families {
			if a, has := iface.Address(family); has {
				first[family] = header.Single(a)
			}
		}
		c.addresses = append(c.addresses, first)
		c.trust[i], _ = g.Handling.TrustRank(iface.Zone)
	}
	c.own.seal()
	c.ownSet = newAddressSet(c.own.all)
	for _, iface := range g.Interfaces {
		c.forged = append(c.forged, newAddressSet(c.forgedSources(iface)))
	}
	c.compileRules(before, digests, zones)
	c.compileOpened(zones)
	return c
}

// zoneNames returns the zones of the gateway's interfaces, in the order of the
// matchers' sets.
func (c *Gateway) zoneNames() []string {
	var zones []string
	for _, i := range c.Interfaces {
		if !slices.Contains(zones, i.Zone) {
			zones = append(zones, i.Zone)
		}
	}
	return zones
}

// newMatcher compiles an expression for the zones, within a family's addresses.
func newMatcher(e network.Expression, zones []string, within header.Addresses) matcher {
	if e.IsAny() {
		return setMatcher(within)
	}
	limit := func(set header.Addresses) header.Addresses {
		if within.IsAll() {
			return set
		}
		return set.Intersect(within)
	}
	if len(e.Zones()) == 0 {
		return setMatcher(limit(e.Addresses()))
	}
	m := matcher{zones: make([]header.Addresses, len(zones))}
	for i, zone := range zones {
		m.zones[i] = limit(e.In(zone))
	}
	return m
}

func setMatcher(set header.Addresses) matcher {
	return matcher{any: set.IsAll(), all: set}
}

// Pools are the addresses of each family that a rule hides sources behind.
type pools [2]header.Addresses

// poolsOf returns those of what leaves by an interface.
func (c *Gateway) poolsOf(r *network.NATRule, out *network.Interface) (p pools) {
	if r.As.Interface {
		return c.addresses[out.Index]
	}
	for _, family := range header.Families {
		p[family] = r.As.Set.Intersect(family.All())
	}
	return p
}

// destinationCondition returns what a packet that arrives by the interface must
// meet for the rule to translate its destination, or false where it never does.
func destinationCondition(r *network.NATRule, in *network.Interface, zones []string) (condition, bool) {
	to := r.Listens(in)
	if to.Empty() {
		return condition{}, false
	}
	c := condition{rule: &r.Rule, from: newMatcher(r.From, zones, header.AllAddresses()), to: setMatcher(to)}
	if r.HairpinsAt(in) {
		c.from = setMatcher(header.AllAddresses())
	}
	for _, m := range r.Ports {
		c.services = append(c.services, header.Service{Protocol: m.Protocol, Ports: m.Ports})
	}
	return c, true
}

// sourceCondition returns what a packet that leaves by the interface must meet
// for the rule to translate its source, or false where it never does.
func sourceCondition(r *network.NATRule, out *network.Interface, zones []string) (condition, bool) {
	within := r.Hides(out)
	if within.Empty() {
		return condition{}, false
	}
	return condition{rule: &r.Rule, from: newMatcher(r.From, zones, within), to: newMatcher(r.To, zones, header.AllAddresses()), services: r.Services}, true
}

func filterCondition(r *network.FilterRule, index int, zones []string) condition {
	return condition{
		rule: &r.Rule, verb: r.Verb, index: index,
		from: newMatcher(r.From, zones, header.AllAddresses()), to: newMatcher(r.To, zones, header.AllAddresses()),
		services: r.Services, sourcePorts: r.SourcePorts, redirected: r.Redirected,
	}
}

// sortSpecificFirst puts conditions for fewer destinations first, then those for
// fewer ports, then for fewer sources; else the list's order stays. What a rule does not
// say counts as everything, in the families that it is for.
func (c *Gateway) sortSpecificFirst(conditions []condition) {
	type breadth struct {
		to, from header.Count
		ports    int
	}
	known := make(map[*network.Rule]breadth, len(conditions))
	for i := range conditions {
		k := &conditions[i]
		families := k.from.families().Intersect(k.to.families())
		known[k.rule] = breadth{k.to.breadth(families), k.from.breadth(families), portCount(k.services)}
	}
	slices.SortStableFunc(conditions, func(a, b condition) int {
		x, y := known[a.rule], known[b.rule]
		return cmp.Or(x.to.Compare(y.to), cmp.Compare(x.ports, y.ports), x.from.Compare(y.from))
	})
}

// breadth returns how many addresses of some families a matcher holds, in the zone in
// which they are most.
func (m *matcher) breadth(families header.Addresses) (most header.Count) {
	for _, set := range m.sets() {
		if size := set.Intersect(families).Breadth(); size.Compare(most) > 0 {
			most = size
		}
	}
	return most
}

// families returns all addresses of the families of which a matcher holds some.
func (m *matcher) families() header.Addresses {
	var families header.Addresses
	for _, family := range header.Families {
		if slices.ContainsFunc(m.sets(), func(set header.Addresses) bool { _, has := set.FirstOf(family); return has }) {
			families = families.Union(family.All())
		}
	}
	return families
}

// portCount returns how many ports of all protocols services have together; a protocol
// without ports counts as one, and no services as all.
func portCount(services header.Services) int {
	count := 0
	for _, protocol := range header.Protocols() {
		ports, any := services.Of(protocol)
		switch {
		case any && !protocol.HasPorts():
			count++
		case any:
			count += header.AllPorts.Count()
		default:
			for _, p := range ports {
				count += p.Count()
			}
		}
	}
	return count
}
