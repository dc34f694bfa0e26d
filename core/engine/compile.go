package engine

import (
	"cmp"
	"slices"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// Compile compiles a gateway of a network. Of a previous revision, which may be nil, it takes over the tables of rules but for
// a few that differ; digests are those of its rules, or nil.
func Compile(n *network.Network, g *network.Gateway, before *Gateway, digests *network.GatewayDigests) *Gateway {
	c := &Gateway{
		Gateway: g, location: n.Location(), routes: table.NewRoutes(g),
		zones: make([]int, len(g.Interfaces)), trust: make([]int, len(g.Interfaces)),
	}
	c.own = table.NewByAddress(g.Interfaces)
	zones := c.zoneNames()
	for i, iface := range g.Interfaces {
		for _, p := range iface.Addresses {
			c.own.Set(p.Addr(), i)
		}
		c.zones[i] = slices.Index(zones, iface.Zone)
		c.ways = append(c.ways, ownRoutes{table.Route{Out: iface}, table.Route{Out: iface, Upstream: true}, table.Route{Out: iface, Clients: true}})
		c.clients = append(c.clients, table.NewAddressSet(n.ClientsOf(iface)))
		c.prefixes = append(c.prefixes, table.SetOfPrefixes(iface.Addresses...))
		var first pools
		for _, family := range header.Families {
			if a, has := iface.Address(family); has {
				first[family] = header.Single(a)
			}
		}
		c.addresses = append(c.addresses, first)
		c.trust[i], _ = g.Handling.TrustRank(iface.Zone)
	}
	c.own.Seal()
	c.ownSet = table.NewAddressSet(c.own.All)
	for _, iface := range g.Interfaces {
		c.forged = append(c.forged, table.NewAddressSet(c.forgedSources(iface)))
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
func destinationCondition(r *network.NATRule, in *network.Interface, zones []string) (table.Condition, bool) {
	to := r.Listens(in)
	if to.Empty() {
		return table.Condition{}, false
	}
	c := table.Condition{Rule: &r.Rule, From: table.NewMatcher(r.From, zones, header.AllAddresses()), To: table.MatcherOf(to)}
	if r.HairpinsAt(in) {
		c.From = table.MatcherOf(header.AllAddresses())
	}
	for _, m := range r.Ports {
		c.Services = append(c.Services, header.Service{Protocol: m.Protocol, Ports: m.Ports})
	}
	return c, true
}

// sourceCondition returns what a packet that leaves by the interface must meet
// for the rule to translate its source, or false where it never does.
func sourceCondition(r *network.NATRule, out *network.Interface, zones []string) (table.Condition, bool) {
	within := r.Hides(out)
	if within.Empty() {
		return table.Condition{}, false
	}
	return table.Condition{Rule: &r.Rule, From: table.NewMatcher(r.From, zones, within), To: table.NewMatcher(r.To, zones, header.AllAddresses()), Services: r.Services}, true
}

func filterCondition(r *network.FilterRule, index int, zones []string) table.Condition {
	return table.Condition{
		Rule: &r.Rule, Verb: r.Verb, Index: index,
		From: table.NewMatcher(r.From, zones, header.AllAddresses()), To: table.NewMatcher(r.To, zones, header.AllAddresses()),
		Services: r.Services, SourcePorts: r.SourcePorts, Redirected: r.Redirected,
	}
}

// sortSpecificFirst puts conditions for fewer destinations first, then those for
// fewer ports, then for fewer sources; else the list's order stays. What a rule does not
// say counts as everything, in the families that it is for.
func (c *Gateway) sortSpecificFirst(conditions []table.Condition) {
	type breadth struct {
		to, from header.Count
		ports    int
	}
	known := make(map[*network.Rule]breadth, len(conditions))
	for i := range conditions {
		k := &conditions[i]
		families := k.From.Families().Intersect(k.To.Families())
		known[k.Rule] = breadth{k.To.Breadth(families), k.From.Breadth(families), portCount(k.Services)}
	}
	slices.SortStableFunc(conditions, func(a, b table.Condition) int {
		x, y := known[a.Rule], known[b.Rule]
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
