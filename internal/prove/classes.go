// Package prove sends real packets through a lab and compares what becomes of them with the
// traces: one connection of every class that fares alike, and those right outside its borders.
package prove

import (
	"net/netip"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/explore"
	"hollowbridge/core/flow"
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
)

// A Plan is the connections that prove a network.
type Plan struct {
	Connections []walk.Connection
	Classes     int            // of connections that fare alike
	Borders     int            // how many of the connections are right outside a class
	Unsent      map[string]int // classes of which none is sent, by the reason
	Expected    [][]int        // of each expectation of the file, which of the connections it is about
}

// mostBorders is how many borders of a class are tried in each of its fields.
const mostBorders = 4

// Classes plans to send one member of every class of connections, and one right outside each
// border of its first part. Pieces bounds the sets that may be needed, as in reach.
func Classes(e *walk.Engine, at network.Moment, pieces int) (*Plan, error) {
	p := &planner{
		Plan: Plan{Unsent: map[string]int{}}, engine: e, at: at, explorer: explore.New(e, network.At(at), pieces), walk: e.NewWalk(),
		known: map[walk.Connection]bool{},
	}
	p.plain = p.withoutRouters()
	for _, b := range p.explorer.Beginnings(nil) {
		for region, err := range p.explorer.Explore(b.From, b.Set) {
			if err != nil {
				return nil, err
			}
			p.class(b, region)
		}
	}
	var about [][]walk.Connection // of each expectation
	for _, x := range e.Network().Expect {
		list, err := reach.About(e, x, at)
		if err != nil {
			return nil, err
		}
		about = append(about, list)
		for _, c := range list {
			p.add(c.From, c.Packet)
		}
	}
	p.keepApart()
	p.findExpected(about)
	return &p.Plan, nil
}

// findExpected finds which of the connections the expectations are about.
func (p *planner) findExpected(about [][]walk.Connection) {
	numbers := map[walk.Connection]int{}
	for n, c := range p.Connections {
		numbers[c] = n
	}
	for _, connections := range about {
		var list []int
		for _, c := range connections {
			if n, planned := numbers[p.from(c.From, c.Packet)]; planned {
				list = append(list, n)
			}
		}
		p.Expected = append(p.Expected, list)
	}
}

// from returns the connection of a packet that begins at a place.
func (p *planner) from(place network.Place, packet header.Packet) walk.Connection {
	if !packet.Protocol.HasPorts() {
		packet.DestinationPort = 0
	}
	if !packet.Protocol.Numbered() {
		packet.SourcePort = 0
	}
	place.Host = p.hostAt(place, packet.Source)
	return walk.Connection{Packet: packet, From: place, Moment: p.at}
}

type planner struct {
	Plan
	engine   *walk.Engine
	at       network.Moment
	explorer *explore.Explorer
	walk     *walk.Walk
	known    map[walk.Connection]bool
	plain    flowset.Set // neither end is a router that the file does not name
}

func (p *planner) class(b explore.Beginning, r *explore.Region) {
	p.Classes++
	set := p.explorer.Space.Restrict(r.Set, p.plain)
	if set == flowset.Nothing {
		set = r.Set
	}
	example, ok := p.explorer.Space.Usual(set)
	if !ok || example.Source == example.Destination || !flow.Claims(r.Meetings, example.Packet) {
		example.Packet = r.Example
	}
	if reason := p.add(p.engine.PlaceOf(b.From, example.Source), example.Packet); reason != "" && reason != alike {
		p.Unsent[reason]++
	}
	for _, near := range p.borders(r, example.Packet) {
		if b.Sources.Contains(near.Source) && p.add(p.engine.PlaceOf(b.From, near.Source), near) == "" {
			p.Borders++
		}
	}
}

const oneMachine = "both ends are one machine of the lab"

// alike is the reason not to plan a connection that is planned.
const alike = "it is sent already"

// add plans a connection, or says why not.
func (p *planner) add(from network.Place, packet header.Packet) (reason string) {
	c := p.from(from, packet)
	if reason := p.unsendable(c.From, packet); reason != "" {
		return reason
	}
	if p.known[c] {
		return alike
	}
	t := words.TraceOf(p.walk, c)
	to := t.To.Machine
	switch {
	case len(t.Passed) == 0:
		return "no gateway is on its way"
	case t.Outcome == engine.Exhausted && t.Step == engine.StepSession:
		return "a gateway has no room for its sessions"
	case c.From.Host == nil && to.Host == nil && ((from.Internet || p.isRouter(packet.Source)) && to.Internet || from.Clients != nil && from.Clients == to.Clients):
		return oneMachine
	}
	if s := c.From.Segment; s != nil && s.IsUplink(header.FamilyOf(packet.Source)) && !network.Carried(packet.Source) && !s.Contains(packet.Destination) && (c.From.Through == nil || to.Internet) {
		return "a provider would have to translate its private source"
	}
	p.known[c] = true
	p.Connections = append(p.Connections, c)
	return ""
}

// hostAt returns the host that an address of a place belongs to.
func (p *planner) hostAt(from network.Place, a netip.Addr) *network.Host {
	if from.Host != nil {
		return from.Host
	}
	for _, h := range p.engine.Network().Hosts {
		for _, own := range h.Addresses {
			if own == a && network.PlaceOf(h, a) == (network.Place{Host: h, Segment: from.Segment, Clients: from.Clients, Internet: from.Internet}) {
				return h
			}
		}
	}
	return nil
}

// borders returns connections right outside the first box of a class that holds an example.
func (p *planner) borders(r *explore.Region, example header.Packet) (near []header.Packet) {
	for _, f := range []flowset.Field{flowset.Port, flowset.Destination, flowset.Source, flowset.SourcePort} {
		beside := p.explorer.Space.Beside(r.Set, flowset.Member{Packet: example}, f)
		for _, m := range beside[:min(len(beside), mostBorders)] {
			packet := m.Packet
			if header.FamilyOf(packet.Source) == header.FamilyOf(packet.Destination) && packet.Source != packet.Destination {
				near = append(near, packet)
			}
		}
	}
	return near
}

// unsendable says why the lab can't send a connection, or nothing.
func (p *planner) unsendable(from network.Place, packet header.Packet) string {
	switch {
	case packet.Protocol.HasPorts() && (packet.SourcePort == 0 || packet.DestinationPort == 0):
		return "nobody sends from or to port 0"
	case from.Through == nil && p.isRouter(packet.Source) || p.isRouter(packet.Destination):
		return "one end is a router that the file does not name"
	case from.Through != nil && from.Internet && from.Host != nil:
		return "its sender's address is a host's, which sends for itself"
	case from.Clients != nil && from.Clients.IsClient(packet.Destination):
		return oneMachine
	case from.Host != nil && from.Host.Has(packet.Destination):
		return "both ends are one host"
	case from.Host == nil && from.Segment != nil && p.isClaimed(from.Segment, packet.Source):
		return "a gateway answers for its sender's address"
	case from.Through == nil && from.Host == nil && from.Segment != nil && p.isHop(packet.Source):
		return "its sender's address is a next hop that nobody has"
	case isAnycast(packet.Source) || isAnycast(packet.Destination):
		return "one end is all routers of a prefix (RFC 4291, 2.6.1)"
	case notASender.Contains(packet.Destination):
		return "the destination is no machine's: loopback, multicast, broadcast or link-local"
	case notASender.Contains(packet.Source):
		return "the source is no machine's: loopback, multicast, broadcast or link-local"
	}
	return ""
}

// isClaimed reports whether a gateway on a segment answers for an address.
func (p *planner) isClaimed(s *network.Segment, a netip.Addr) bool {
	return slices.ContainsFunc(s.Interfaces, func(i *network.Interface) bool { return p.engine.Gateway(i.Gateway).Claimed(p.at).Contains(a) })
}

// isHop reports whether a route leads to an address.
func (p *planner) isHop(a netip.Addr) bool {
	return slices.ContainsFunc(p.engine.Network().Gateways, func(g *network.Gateway) bool {
		return slices.ContainsFunc(g.Routes, func(r network.Route) bool { return r.Via == a })
	})
}

func (p *planner) isRouter(a netip.Addr) bool { return slices.Contains(p.routers(), a) }

// routers returns the addresses of those that the file does not name: providers', and inside ones.
func (p *planner) routers() (list []netip.Addr) {
	for _, s := range p.engine.Network().Segments {
		if s.Behind != nil {
			list = append(list, s.Router)
		}
	}
	for _, g := range p.engine.Network().Gateways {
		for _, r := range g.Upstreams() {
			if r.Via.IsValid() {
				list = append(list, r.Via)
			}
		}
	}
	return list
}

// withoutRouters returns the connections of which neither end is such a router.
func (p *planner) withoutRouters() flowset.Set {
	var ranges []header.Range
	for _, a := range p.routers() {
		ranges = append(ranges, header.Range{First: a, Last: a})
	}
	spans := flowset.AddressSpans(header.AllAddresses().Minus(header.AddressesOf(ranges...)))
	return p.explorer.Space.Where(flowset.Source, spans, p.explorer.Space.Where(flowset.Destination, spans, flowset.Everything))
}

// isAnycast reports whether an IPv6 address is the first of its prefix of 64 bits.
func isAnycast(a netip.Addr) bool {
	b := a.As16()
	return a.Is6() && [8]byte(b[8:]) == [8]byte{}
}

// notASender are the addresses that machines have for themselves, for their segment only, or
// for many at once.
var notASender = header.AddressesOfPrefixes(
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("169.254.0.0/16"), netip.MustParsePrefix("224.0.0.0/3"),
	netip.MustParsePrefix("::/96"), netip.MustParsePrefix("::ffff:0:0/96"), netip.MustParsePrefix("fe80::/10"), netip.MustParsePrefix("ff00::/8"))

// keepApart takes out connections to addresses that a machine of the lab has only because
// another connection begins there.
func (p *planner) keepApart() {
	senders := map[netip.Addr]bool{}
	for _, c := range p.Connections {
		if c.From.Host == nil && c.From.Segment != nil {
			senders[c.Packet.Source] = true
		}
	}
	p.Connections = slices.DeleteFunc(p.Connections, func(c walk.Connection) bool {
		t := words.TraceOf(p.walk, c)
		return senders[c.Packet.Destination] || t.To.Machine.Host == nil && senders[t.Ended.Destination]
	})
}
