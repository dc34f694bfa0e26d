package engine

import (
	"iter"
	"net/netip"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
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
	return g.matches(g.destinations[in.Index].table, in, in, g.NAT)
}

// Sources returns the rules that translate the source of what goes from one interface to
// another, in the order in which they are tried; not those that are disabled.
func (g *Gateway) Sources(in, out *network.Interface) iter.Seq[Match] {
	return g.matches(g.sources[out.Index].table, in, out, g.NAT)
}

// Permissions returns the filter rules for what goes from one interface to another, in order;
// not those that are disabled.
func (g *Gateway) Permissions(in, out *network.Interface) iter.Seq[Match] {
	return g.matches(g.filter, in, out, nil)
}

// matches returns those of a table that can be met between two interfaces.
func (g *Gateway) matches(t *table, in, out *network.Interface, nat []*network.NATRule) iter.Seq[Match] {
	return func(yield func(Match) bool) {
		for n, c := range t.ordered() {
			from, to := c.from.in(g.zones[in.Index]), c.to.in(g.zones[out.Index])
			if c.rule.Off() || from.Empty() || to.Empty() {
				continue
			}
			m := Match{Rule: t.rule(n), Verb: c.verb, From: *from, To: *to, Services: c.services, SourcePorts: c.sourcePorts, Redirected: c.redirected}
			if nat != nil {
				m.NAT = nat[t.index(n)]
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
	return g.claims.at(at)
}

// ClaimedEver returns the outside addresses of rules for which packets come to the gateway at some moment.
func (g *Gateway) ClaimedEver() header.Addresses { return g.claims.ever() }

// Held returns the outside addresses that an interface answers for on its segment at a moment: of those for which packets come to
// its gateway, the ones in a prefix of the segment that no interface and no host there has, and no gateway that stands before it
// there answers for.
func (e *Engine) Held(i *network.Interface, at network.Moment) header.Addresses {
	if i.Segment == nil || !i.IsUp() {
		return header.Addresses{}
	}
	held := e.Gateway(i.Gateway).Claimed(at).Intersect(header.AddressesOfPrefixes(i.Segment.Prefixes...))
	if held.Empty() {
		return held
	}
	s, isBefore := e.segments[i.Segment], true
	held = held.Minus(s.hosts.all)
	for _, other := range i.Segment.Interfaces {
		held = held.Minus(other.Own())
		if isBefore = isBefore && other != i; isBefore {
			held = held.Minus(e.Gateway(other.Gateway).Claimed(at))
		}
	}
	return held
}

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
	if r := g.routes.lookup(a); r != nil {
		return r.out
	}
	return nil
}

// RoutedBy returns the addresses to which the gateway sends by an interface.
func (g *Gateway) RoutedBy(out *network.Interface) header.Addresses {
	var ranges []header.Range
	for i, first := range g.routes.starts {
		if winner := g.routes.winners[i]; winner != none && g.routes.routes[winner].out == out {
			ranges = append(ranges, header.Range{First: first, Last: g.routes.lastOf(i)})
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
	ways := make([]Way, len(g.routes.routes))
	for i, r := range g.routes.routes {
		ways[i] = Way{r.prefix, r.out, r.via, r.blackhole, r.clients}
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
	for k, first := range g.routes.starts {
		if n := g.routes.winners[k]; n != none && g.routes.routes[n].out == i && g.routes.routes[n].clients {
			clients = clients.Minus(header.AddressesOf(header.Range{First: first, Last: g.routes.lastOf(k)}))
		}
	}
	return clients.Empty()
}

// DefaultGateway returns the interface that a machine sends to what is not on a segment of its
// own, by what inside router it does so, or that it sends it to the provider's router; none where it has no default gateway.
func (e *Engine) DefaultGateway(from Place, family header.Family) (i *network.Interface, router *network.Segment, abroad bool) {
	hop := e.defaultGateway(from, family)
	return hop.in, hop.router, hop.abroad
}

// Unsent returns the outside addresses of rules that the internet does not send to the network.
func (e *Engine) Unsent() header.Addresses { return e.unsent.Addresses }

// A Where is where machines are, and the addresses from which they can begin connections.
type Where struct {
	Place   Place
	Sources header.Addresses
}

// Places returns where connections can begin.
func (e *Engine) Places() []Where {
	var list []Where
	for _, p := range e.places() {
		list = append(list, Where{p.place, p.sources})
	}
	return list
}
