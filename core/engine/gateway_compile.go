package engine

import (
	"cmp"
	"slices"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// Compile compiles a gateway of a network. Of a previous revision, which may be nil, it takes over the tables of rules but for
// a few that differ; digests are those of its rules, or nil.
func compileGateway(n *network.Network, g *network.Gateway, before *Gateway, digests *network.GatewayDigests) *Gateway {
	c := &Gateway{
		Gateway: g, location: n.Location(), routes: newRouteTable(g),
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
