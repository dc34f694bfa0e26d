package engine

import (
	"iter"
	"net/netip"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// A Match is what a packet must meet for a rule, in one direction through a gateway: its
// source, its destination, and one of the services and of the source ports, where there are
// any. It is for whoever makes other tables of the same lists.
type Match struct {
	Rule        *network.Rule
	NAT         *network.NATRule // of a rule in the nat list
	Verb        network.Verb     // of a rule in the filter
	From, To    header.Addresses // all addresses where the rule names none
	Services    header.Services  // empty: every service
	SourcePorts []header.Ports   // empty: every port
	Redirected  bool             // only what a rule, or a mapping, redirected
}

// Destinations returns the rules that translate the destination of what arrives by an
// interface, in the order in which they are tried; not those that are disabled.
func (g *Gateway) Destinations(in *network.Interface) iter.Seq[Match] {
	return g.matches(g.destinations[in.Index].Table, in, in, g.NAT)
}

// Sources returns the rules that translate the source of what goes from one interface to
// another, in the order in which they are tried; not those that are disabled.
func (g *Gateway) Sources(in, out *network.Interface) iter.Seq[Match] {
	return g.matches(g.sources[out.Index].Table, in, out, g.NAT)
}

// Permissions returns the filter rules for what goes from one interface to another, in order;
// not those that are disabled.
func (g *Gateway) Permissions(in, out *network.Interface) iter.Seq[Match] {
	return g.matches(g.filter, in, out, nil)
}

// matches returns those of a table that can be met between two interfaces.
func (g *Gateway) matches(t *table.Table, in, out *network.Interface, nat []*network.NATRule) iter.Seq[Match] {
	return func(yield func(Match) bool) {
		for n, c := range t.Ordered() {
			from, to := c.From.In(g.zones[in.Index]), c.To.In(g.zones[out.Index])
			if c.Rule.Off() || from.Empty() || to.Empty() {
				continue
			}
			m := Match{Rule: t.Rule(n), Verb: c.Verb, From: *from, To: *to, Services: c.Services, SourcePorts: c.SourcePorts, Redirected: c.Redirected}
			if nat != nil {
				m.NAT = nat[t.Index(n)]
			}
			if !yield(m) {
				return
			}
		}
	}
}

// Forged returns the sources that cannot arrive by an interface.
func (g *Gateway) Forged(in *network.Interface) header.Addresses { return g.forged[in.Index].Addresses }

// Own returns the gateway's own addresses.
func (g *Gateway) Own() header.Addresses { return g.ownSet.Addresses }

// Claimed returns the outside addresses of rules for which packets come to the gateway, at a
// moment.
func (g *Gateway) Claimed(at network.Moment) header.Addresses {
	return g.claims.At(at)
}

// ClaimedEver returns the outside addresses of rules for which packets come to the gateway at some moment.
func (g *Gateway) ClaimedEver() header.Addresses { return g.claims.Ever() }

// Pool returns the addresses of a family behind which a source-nat rule hides what leaves by
// an interface.
func (g *Gateway) Pool(r *network.NATRule, out *network.Interface, family header.Family) header.Addresses {
	return g.poolsOf(r, out)[family]
}

// Trusts reports whether what no filter rule matches may go from one interface to another.
func (g *Gateway) Trusts(in, out *network.Interface) bool {
	return g.Handling.UnmatchedByTrust && g.trust[in.Index] < g.trust[out.Index]
}

// OutTo returns the interface by which the gateway sends to an address, or nil.
func (g *Gateway) OutTo(a netip.Addr) *network.Interface {
	if r := g.routes.Lookup(a); r != nil {
		return r.Out
	}
	return nil
}

// RoutedBy returns the addresses to which the gateway sends by an interface.
func (g *Gateway) RoutedBy(out *network.Interface) header.Addresses {
	var ranges []header.Range
	for addresses, r := range g.routes.Stretches() {
		if r.Out == out {
			ranges = append(ranges, addresses)
		}
	}
	return header.AddressesOf(ranges...)
}

// A Way is a route that wins for some addresses: where packets to its prefix go.
type Way struct {
	To        netip.Prefix
	Out       *network.Interface // nil for a blackhole
	Via       netip.Addr         // the next hop; invalid where the destination itself is on the segment
	Blackhole bool
	Clients   bool // the destination is a VPN client of Out
}

// Ways returns the gateway's routes, one for each prefix: connected ones, those to VPN clients
// and static ones, of several to one prefix the one that wins.
func (g *Gateway) Ways() []Way {
	var ways []Way
	for _, r := range g.routes.All() {
		ways = append(ways, Way{r.Prefix, r.Out, r.Via, r.Blackhole, r.Clients})
	}
	return ways
}

// Stays returns the interfaces by which what came in by them is answered, where the routes may prefer others: the uplinks, of
// several, and those of VPN clients to some of whom a longer route leads.
func (g *Gateway) Stays() (list []*network.Interface) {
	var uplinks int
	for _, i := range g.Interfaces {
		if i.IsUplink() && i.IsUp() {
			uplinks++
		}
	}
	for _, i := range g.Interfaces {
		if i.IsUp() && (uplinks > 1 && i.IsUplink() || !g.leadsTo(g.clients[i.Index].Addresses, i)) {
			list = append(list, i)
		}
	}
	return list
}

// leadsTo reports whether the routes lead to all of some VPN clients of an interface.
func (g *Gateway) leadsTo(clients header.Addresses, i *network.Interface) bool {
	for addresses, r := range g.routes.Stretches() {
		if r.Out == i && r.Clients {
			clients = clients.Minus(header.AddressesOf(addresses))
		}
	}
	return clients.Empty()
}

// DestinationTable returns the rules that translate the destination of what arrives by an interface, SourceTable those that
// translate the source of what leaves by one, and FilterTable those of the filter, to be asked about packets and sets.
func (g *Gateway) DestinationTable(in *network.Interface) *table.Table {
	return g.destinations[in.Index].Table
}

func (g *Gateway) SourceTable(out *network.Interface) *table.Table { return g.sources[out.Index].Table }

func (g *Gateway) FilterTable() *table.Table { return g.filter }

// ConditionAt returns what a packet that arrives by an interface must meet for a rule to translate its destination, or
// false where it never does.
func (g *Gateway) ConditionAt(r *network.NATRule, in *network.Interface) (table.Condition, bool) {
	return destinationCondition(r, in, g.zoneNames())
}

// Claims returns the outside addresses of rules for which packets come to the gateway.
func (g *Gateway) Claims() *table.Claims { return g.claims }

// Owner returns the interface that has an address, or nil.
func (g *Gateway) Owner(a netip.Addr) *network.Interface { return g.own.Of(a) }

// PrefixesOf returns the addresses of an interface's prefixes.
func (g *Gateway) PrefixesOf(i *network.Interface) *table.AddressSet { return &g.prefixes[i.Index] }

// Unsent returns the outside addresses of its rules that nobody sends here.
func (g *Gateway) Unsent() header.Addresses { return g.unsent }
