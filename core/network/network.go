// Package network is the model of a network file: gateways, interfaces, hosts,
// groups, services and rules, with every name resolved.
package network

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"hollowbridge/core/header"
)

// A Position says where in which file something was written. Line and Column count from 1.
type Position struct {
	File         string
	Line, Column int
}

func (p Position) String() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column) }

// A Draft is what a network is made of: its gateways with their interfaces and routes, and
// its hosts. Their rules, and what is named in them, may come later.
type Draft struct {
	Name     string
	Services []*NamedService
	Zones    []*Zone
	Hosts    []*Host
	Gateways []*Gateway
}

// A Network is everything in one network file. It is made by Draft.Connect.
type Network struct {
	Name     string
	Groups   []*Group
	Services []*NamedService
	Zones    []*Zone
	Hosts    []*Host
	Gateways []*Gateway
	Expect   []*Expectation
	Segments []*Segment     // found by Connect
	Digests  *Digests       // computed by Seal, or nil
	Today    Date           // the day it is the network of, see On
	Now      Moment         // the moment
	Timezone *time.Location // of all hours; nil is UTC

	internet header.Addresses
	hosts    map[string]*Host
}

// A Group is a named set of addresses.
type Group struct {
	Name    string
	Text    string // as written
	Members header.Addresses
	Place   Position
}

// A NamedService is a name the file gives to protocols and ports.
type NamedService struct {
	Name     string
	Text     string // as written
	Services header.Services
	Place    Position
}

// A Zone is a name for one or more interfaces.
type Zone struct {
	Name   string
	Place  Position
	behind header.Addresses
}

// A Segment is one layer-2 network, or what is behind an inside router that the file does not name.
type Segment struct {
	Name       string
	Interfaces []*Interface
	Prefixes   []netip.Prefix // masked

	// Behind a router: the interface on whose segment that is, of the first gateway with a route to it, and the router's
	// address. Such a segment has no interfaces.
	Behind *Interface
	Router netip.Addr
	routed header.Addresses // what static routes lead to: behind the router, or else on the segment without being in its prefixes
}

// Addresses returns those of machines on the segment: of its prefixes, and what static routes lead to.
func (s *Segment) Addresses() header.Addresses {
	if s.Behind != nil {
		return s.routed
	}
	return header.AddressesOfPrefixes(s.Prefixes...).Union(s.routed)
}

// Routed returns the addresses of machines on the segment to which static routes alone lead.
func (s *Segment) Routed() header.Addresses { return s.routed }

// Lead returns the first interface on the segment, or the one that leads to it.
func (s *Segment) Lead() *Interface {
	if s.Behind != nil {
		return s.Behind
	}
	return s.Interfaces[0]
}

// Contains reports whether the address is one of the segment's.
func (s *Segment) Contains(a netip.Addr) bool {
	return s.routed.Contains(a) || s.PrefixOf(a).IsValid()
}

// PrefixOf returns the longest of the segment's prefixes that holds the address: what a
// machine with this address takes for its own segment. It is the zero prefix where none does, and behind a router, where nobody
// knows it.
func (s *Segment) PrefixOf(a netip.Addr) netip.Prefix {
	var best netip.Prefix
	if s.Behind != nil {
		return best
	}
	for _, p := range s.Prefixes {
		if p.Contains(a) && p.Bits() > best.Bits() {
			best = p
		}
	}
	return best
}

// IsUplink reports whether the way to the internet of one family leads over the segment.
func (s *Segment) IsUplink(family header.Family) bool {
	return slices.ContainsFunc(s.Interfaces, func(i *Interface) bool { return i.FacesInternet(family) })
}

// Assignment is how a host got its address.
type Assignment string

// The ways to get an address.
const (
	Fixed    Assignment = "fixed"
	Reserved Assignment = "reserved"
	Dynamic  Assignment = "dynamic"
)

// A Host is a machine with addresses that serves something.
type Host struct {
	Name        string
	Serves      []HostService
	Firewall    *HostFirewall // nil is open
	Relays      []Relay
	AnswersPing bool
	Addresses   []netip.Addr
	Assigned    Assignment
	Gateway     *Gateway   // its default gateway, where the file names it
	By          *Interface // the interface of Gateway it sends to, where the file names that by its address
	Elsewhere   netip.Addr // its default gateway, where that is no gateway in the file: what goes there is lost
	Upstream    *Segment   // the uplink's segment on which its default gateway is the provider's router, where the file names that
	SegmentName string     // where the file names it
	Owner       string     // whose it is
	Until       Deadline   // when it is over
	Place       Position

	locations []location // of each address
}

// A location is where one address of a host is: on a segment, with VPN clients, or,
// where both are nil, on the internet.
type location struct {
	segment *Segment
	clients *Interface
}

// Has reports whether the address is one of the host's.
func (h *Host) Has(a netip.Addr) bool {
	for _, own := range h.Addresses {
		if own == a {
			return true
		}
	}
	return false
}

// Segment returns the segment one of the host's addresses is on, or nil.
func (h *Host) Segment(a netip.Addr) *Segment { return h.locationOf(a).segment }

// Clients returns the interface at which one of the host's addresses arrives as a VPN
// client, or nil.
func (h *Host) Clients(a netip.Addr) *Interface { return h.locationOf(a).clients }

// at returns the host's addresses in one place.
func (h *Host) at(where location) header.Addresses {
	var ranges []header.Range
	for i, a := range h.Addresses {
		if h.locations[i] == where {
			ranges = append(ranges, header.Range{First: a, Last: a})
		}
	}
	return header.AddressesOf(ranges...)
}

// IsAbroad reports whether the host lives on the internet: on no segment, and with no
// VPN clients.
func (h *Host) IsAbroad() bool {
	for _, s := range h.locations {
		if s != (location{}) {
			return false
		}
	}
	return true
}

func (h *Host) locationOf(a netip.Addr) location {
	for i, own := range h.Addresses {
		if own == a {
			return h.locations[i]
		}
	}
	return location{}
}

// AddressOf returns the host's first address of one family.
func (h *Host) AddressOf(family header.Family) (netip.Addr, bool) {
	for _, a := range h.Addresses {
		if header.FamilyOf(a) == family {
			return a, true
		}
	}
	return netip.Addr{}, false
}

// A HostService is what a host listens on. At is the zero address where it
// listens on all of the host's addresses; it may be a loopback address.
type HostService struct {
	Services header.Services
	At       netip.Addr
	Text     string
}

// A HostFirewall is a host's own filter: first match decides, no match is dropped.
type HostFirewall struct{ Rules []HostRule }

// A HostRule is one line of a host's own filter.
type HostRule struct {
	Verb     Verb
	Services header.Services
	From     header.Addresses
	Text     string
}

// A Relay is a listener on a host that hands on to another port or machine.
type Relay struct {
	Listen header.Services
	To     netip.Addr
	ToPort uint16 // 0 keeps the port
	Text   string
	Place  Position
}

// A Gateway is an edge router or firewall.
type Gateway struct {
	Name       string
	Formerly   string // its name on its machine, where that is another one; else empty
	Index      int    // in Network.Gateways
	Interfaces []*Interface
	Routes     []Route
	Serves     []GatewayService
	Handling   Handling
	NAT        []*NATRule
	Filter     []*FilterRule
	Logging    Logging
	Limits     Limits
	Mappings   *Mappings    // nil is off
	Opened     []*Mapping   // that programs have now, of a running gateway
	Taken      []PortsTaken // ports of its source-nat rules, of a running gateway
	Control    Control
	Owner      string   // whose it is
	Until      Deadline // when it is over
	Place      Position
}

// Interface returns the interface of that name, or nil.
func (g *Gateway) Interface(name string) *Interface {
	for _, i := range g.Interfaces {
		if i.Name == name {
			return i
		}
	}
	return nil
}

// An Interface is where a gateway meets a segment.
type Interface struct {
	Gateway     *Gateway
	Name        string
	Index       int            // in Gateway.Interfaces
	Addresses   []netip.Prefix // its own addresses, each with the length of its prefix
	Zone        string
	Device      string
	SegmentName string // where the file names it
	Trunk       *Interface
	VLAN        int // 1 to 4094 where Trunk is set
	Down        bool
	Dynamic     bool // the provider gives its IPv4 address: Addresses has one that stands for it
	Upstream    Upstream
	Clients     []netip.Prefix
	Place       Position

	Segment  *Segment // found by Connect; nil for an interface without address
	internet [2]bool  // for each family
}

// Name with the gateway in front, as addresses are written.
func (i *Interface) String() string { return i.Gateway.Name + ":" + i.Name }

// InterfaceNames returns the names of interfaces.
func InterfaceNames(list []*Interface) []string {
	names := make([]string, len(list))
	for i := range list {
		names[i] = list[i].Name
	}
	return names
}

// Address returns the interface's first address of one family.
func (i *Interface) Address(family header.Family) (netip.Addr, bool) {
	for _, p := range i.Addresses {
		if header.FamilyOf(p.Addr()) == family {
			return p.Addr(), true
		}
	}
	return netip.Addr{}, false
}

// Own returns the interface's own addresses.
func (i *Interface) Own() header.Addresses {
	ranges := make([]header.Range, len(i.Addresses))
	for k, p := range i.Addresses {
		ranges[k] = header.Range{First: p.Addr(), Last: p.Addr()}
	}
	return header.AddressesOf(ranges...)
}

// IsClient reports whether a VPN client that arrives here can have the address.
func (i *Interface) IsClient(a netip.Addr) bool {
	return slices.ContainsFunc(i.Clients, func(p netip.Prefix) bool { return p.Contains(a) })
}

// IsUp reports whether packets pass the interface; one on a trunk needs the trunk up.
func (i *Interface) IsUp() bool { return !i.Down && (i.Trunk == nil || i.Trunk.IsUp()) }

// FacesInternet reports whether the gateway routes default by this interface to
// an upstream that is no gateway in the file, for IPv4 or IPv6.
func (i *Interface) FacesInternet(family header.Family) bool { return i.internet[family] }

// IsUplink reports whether the interface faces the internet, for one family at least.
func (i *Interface) IsUplink() bool { return i.internet != [2]bool{} }

// Upstream is what the network on the other side of an interface does to packets.
type Upstream struct {
	Blocks     header.Services
	BlocksText string
	CarrierNAT bool
	Routes     []netip.Prefix // further prefixes that the provider sends here, masked
	NoBeside   bool           // nobody else is on the segment: no machine hands the gateway packets but as the internet does
}

// A Route is a static route.
type Route struct {
	To        netip.Prefix // masked
	Via       netip.Addr   // next hop; the zero address where the interface alone is named
	Out       *Interface   // the interface that leads there; nil for a blackhole
	Blackhole bool
	Distance  int // 1 to 255
	Place     Position
}

// A GatewayService is what a gateway itself answers, and on which interfaces.
type GatewayService struct {
	Name     string
	Services header.Services
	On       []*Interface
	Mappings bool // it is how programs ask for mappings
	Place    Position
}

// Logging is what a gateway writes down.
type Logging struct {
	Enabled   bool
	Unmatched bool
	Syslog    string // udp://, tcp:// or tls:// address of a syslog receiver, or empty
}

// Forwards returns how many port forwards take part.
func (g *Gateway) Forwards() (count int) {
	for _, r := range g.NAT {
		if r.Does == PortForward && !r.Off() {
			count++
		}
	}
	return count
}

// Limits are what a gateway has room for; 0 is no limit.
type Limits struct{ PortForwards, Sessions int }

// IsOthers reports whether a gateway is another party's: it has an owner, and not all have that one.
func (n *Network) IsOthers(g *Gateway) bool {
	return g != nil && g.Owner != "" && slices.ContainsFunc(n.Gateways, func(other *Gateway) bool { return other.Owner != g.Owner })
}

// Gateway returns the gateway of that name, or nil.
func (n *Network) Gateway(name string) *Gateway {
	for _, g := range n.Gateways {
		if g.Name == name {
			return g
		}
	}
	return nil
}

// Same returns the interface of the gateway that an earlier revision of it had, or nil: by its name, or by that of its device.
func (g *Gateway) Same(i *Interface) *Interface {
	if same := g.Interface(i.Name); same != nil {
		return same
	}
	for _, other := range g.Interfaces {
		if i.Gateway.Interface(other.Name) == nil && cmp.Or(other.Device, other.Name) == cmp.Or(i.Device, i.Name) {
			return other
		}
	}
	return nil
}

// Called returns the gateway that is called so, in the network or still on its machine, or nil.
func (n *Network) Called(name string) *Gateway {
	if g := n.Gateway(name); g != nil || name == "" {
		return g
	}
	for _, g := range n.Gateways {
		if g.Formerly == name {
			return g
		}
	}
	return nil
}

// Host returns the host of that name, or nil.
func (n *Network) Host(name string) *Host { return n.hosts[name] }

// Zone returns the zone of that name, or nil.
func (n *Network) Zone(name string) *Zone {
	for _, z := range n.Zones {
		if z.Name == name {
			return z
		}
	}
	return nil
}

// RuleCount returns how many NAT and filter rules the gateways have together.
func (n *Network) RuleCount() int {
	count := 0
	for _, g := range n.Gateways {
		count += len(g.NAT) + len(g.Filter)
	}
	return count
}

// A Control says where a running gateway is asked and told what to do: on a Unix socket, or by
// TLS at an address, where whoever knows the token is obeyed. The zero Control is a socket in
// the usual place. Files are named from the network file.
type Control struct {
	Socket                  string
	Listen                  netip.AddrPort
	Token, Certificate, Key string
	Place                   Position
}
