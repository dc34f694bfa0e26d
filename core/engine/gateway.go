// Package engine is a gateway, compiled, and what it decides about a packet or a set: the nine steps, a file each, with what it
// remembers (state.go) and what happens (event.go). Read Visit.Decide first (visit.go): a Visit arrives, asks its flow at each step,
// and leaves as a Decision.
package engine

import (
	"net/netip"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// A Gateway is one gateway, compiled: what decides about the packets that come to it. It is
// never changed, and may be asked by many goroutines at once, each with a State that may be.
type Gateway struct {
	*network.Gateway
	own          table.ByAddress[network.Interface]
	ownSet       table.AddressSet
	claims       *table.Claims
	claimed      []claimed          // by which rules
	forged       []table.AddressSet // for each interface, the sources that cannot arrive by it
	clients      []table.AddressSet // of each interface, the addresses of its VPN clients
	prefixes     []table.AddressSet // of each interface
	routes       *table.Routes
	zones        []int // of each interface, its number in the matchers' sets
	trust        []int // of each interface
	destinations []natTable[redirect]
	sources      []natTable[pools]
	openings     []*table.Table // of mappings, where the network has some
	mapped       []*Mapping     // those
	holdings     []holding      // ports that they keep
	filter       *table.Table
	ways         []ownRoutes      // of each interface
	addresses    []pools          // of each interface, the first one of each family
	unsent       header.Addresses // outside addresses of rules that nobody sends here
	digests      *network.GatewayDigests
	madeOf       network.GatewayDigests // of the lists that the tables were made of
	location     *time.Location
}

// Renamed returns what rules of an earlier revision of the gateway are called in this one, see network.RenamedRules; nothing where a
// network was not sealed.
func (g *Gateway) Renamed(before *Gateway) map[network.RuleID]network.RuleID {
	if g.digests == nil || before.digests == nil {
		return nil
	}
	return network.RenamedRules(before.Gateway, g.Gateway, before.digests, g.digests)
}

// Location returns where the hours of the gateway's rules are.
func (g *Gateway) Location() *time.Location { return g.location }

// MomentAt returns the moment of a time, where the hours of the gateway's rules are.
func (g *Gateway) MomentAt(t time.Time) network.Moment { return network.MomentAt(t.In(g.location)) }

// ownRoutes are the ways out by an interface, for sessions that must stay on it.
type ownRoutes struct{ beside, upstream, clients table.Route }

// An Arrival is a packet that comes to a gateway.
type Arrival struct {
	In     *network.Interface
	Packet header.Packet
	Part   header.Part
	Sender netip.Addr // of an ICMP error, who sent it; the packet is the answer to the quoted one
	Size   int        // in bytes, to be counted; 0 where nobody counts
	At     network.Moment
}

// An Action is what a gateway does with a packet.
type Action uint8

// The actions.
const (
	Forwards Action = iota // it leaves by an interface
	Takes                  // the gateway itself takes it
	Stops                  // it ends here
)

// A Message is what tells a client that its packet was stopped.
type Message uint8

// The messages.
const (
	NoMessage    Message = iota
	ResetMessage         // a TCP reset (RFC 9293)
	ErrorMessage         // an ICMP error, which quotes the packet (RFC 792, RFC 4443)
)

// RefusedBy returns how a port that nobody listens on, or a reject rule, is told.
func RefusedBy(protocol header.Protocol) Message {
	if protocol == header.TCP {
		return ResetMessage
	}
	return ErrorMessage
}

// A Decision is what a gateway does with a packet, and why.
type Decision struct {
	Action  Action
	Outcome Outcome // where it Stops
	Step    StepKind
	Rule    *network.Rule      // that stopped it
	Packet  header.Packet      // as it leaves, or as the gateway takes it
	Sender  netip.Addr         // as in Arrival; invalid once a translation has given the message the packet's own
	Out     *network.Interface // by which it leaves
	Via     netip.Addr         // the next hop; invalid where the destination itself is on the segment
	Tells   Message            // what its sender is told where it Stops

	Follows  bool          // it belongs to a session that was there before
	Redirect *network.Rule // that translates its destination, or nil
	Permit   *network.Rule // the filter rule that lets it through, or nil
	Source   *network.Rule // that translates its source, or nil

	way *table.Route
}

// Route returns the route by which a packet leaves.
func (d *Decision) Route() *table.Route { return d.way }

// Between returns what conditions are compared in for packets from one interface to another.
func (g *Gateway) Between(in, out *network.Interface, at network.Moment) table.Scope {
	return table.Scope{FromZone: g.zones[in.Index], ToZone: g.zones[out.Index], Moment: at}
}
