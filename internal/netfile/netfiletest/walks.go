package netfiletest

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/gen"
)

// SomeMoment returns one of the moments that rules of a network tell apart, or one of the hundred days from today on.
func SomeMoment(random *rand.Rand, n *network.Network) network.Moment {
	if times := network.EveryMoment(n); random.IntN(2) == 0 {
		return times.Moment(random.IntN(times.Count()))
	}
	return n.Today.Begins() + network.Moment(random.IntN(100*24*60))
}

// AnyConnection returns a random connection in a network of package gen, from any place; false where its source is nowhere.
func AnyConnection(random *rand.Rand, e *walk.Engine, n *network.Network) (walk.Connection, bool) {
	pick := func(list []string) string { return list[random.IntN(len(list))] }
	sources := []string{
		"203.0.113.4", "203.0.113.9", "192.0.2.7", "192.0.2.77", "10.1.0.9", "10.1.1.3", "10.1.2.5", "10.64.0.7", "198.51.100.5", "198.51.100.6",
		"2001:db8:f::4", "2001:db8:f::9", "fd00:1:1::7", "fd00:1:0::9", "10.2.1.5", "10.64.0.9", "10.3.0.4", "10.3.1.5", "10.1.0.4",
		"fd00:1:0::ffff:ffff:ffff:ffff", "fe80::77", "fe80::77", "10.5.0.77", "10.5.0.177", "10.5.1.9", "10.5.0.9", "fd00:5:0::77",
	}
	targets := []string{
		"198.51.100.2", "198.51.100.2", "198.51.100.2", "198.51.100.3", "198.51.100.4", "198.51.100.5", "192.0.2.99", "192.0.2.7", "203.0.113.4",
		"203.0.113.66", "100.64.7.2", "10.1.0.1", "10.1.0.4", "10.1.1.5", "10.2.1.2", "2001:db8:1::2", "2001:db8:a2:1::4", "fd00:1:0::4",
		"fd00:1:1::5", "2001:db8:f::4", "10.64.0.7", "203.0.113.12", "10.64.0.9", "10.3.0.4", "10.3.1.6", "192.168.7.2", "203.0.113.9",
		"2001:db8:a1::ffff:ffff:ffff:ffff", "2001:db8:a3::", "10.5.0.77", "10.5.0.177", "10.5.1.9", "fd00:5:0::77",
	}
	for _, h := range n.Hosts {
		for _, a := range h.Addresses {
			sources, targets = append(sources, a.String()), append(targets, a.String(), a.String())
		}
	}
	var c walk.Connection
	p := &c.Packet
	p.Source, p.Destination = netip.MustParseAddr(pick(sources)), netip.MustParseAddr(pick(targets))
	if p.Source.Is6() != p.Destination.Is6() || p.Source == p.Destination {
		return c, false
	}
	services := []header.Service{{Protocol: header.TCP, Ports: header.Ports{First: 443}}, {Protocol: header.TCP, Ports: header.Ports{First: 80}}, {Protocol: header.TCP, Ports: header.Ports{First: 22}},
		{Protocol: header.TCP, Ports: header.Ports{First: 8085}}, {Protocol: header.UDP, Ports: header.Ports{First: 53}}, {Protocol: header.UDP, Ports: header.Ports{First: 5003}},
		{Protocol: header.ICMP}, {Protocol: header.UDP, Ports: header.Ports{First: 37020}}, {Protocol: header.GRE}, {Protocol: header.GRE}}
	s := services[random.IntN(len(services))]
	p.Protocol, p.DestinationPort = s.Protocol, s.Ports.First
	if p.Protocol != header.GRE {
		p.SourcePort = []uint16{40000, 40000, 40001, 500}[random.IntN(4)]
	}
	c.Moment = SomeMoment(random, n)
	if random.IntN(12) == 0 {
		g := n.Gateways[random.IntN(len(n.Gateways))]
		c.From = e.Behind(g.Interfaces[random.IntN(len(g.Interfaces))], p.Source)
		return c, true
	}
	var err error
	if c.From, err = e.Locate(p.Source); err == nil {
		return c, true
	}
	for _, s := range n.Segments { // one of the segments that have it
		if s.Contains(p.Source) && s.OwnerOn(p.Source) == nil && (err != nil || random.IntN(2) == 0) {
			c.From, err = e.On(s, p.Source), nil
		}
	}
	return c, err == nil
}

// LargeConnections are connections to the forwards of a large network, from all over.
func LargeConnections(rules int) []walk.Connection {
	random := rand.New(rand.NewPCG(7, 7))
	list := make([]walk.Connection, 4096)
	for i := range list {
		forward := random.IntN(rules)
		list[i] = walk.Connection{
			Packet: header.Packet{
				Source:          netip.AddrFrom4([4]byte{203, byte(random.IntN(100)), byte(random.IntN(256)), byte(random.IntN(256))}),
				Destination:     netip.MustParseAddr(gen.LargeOutside(forward)),
				SourcePort:      40000,
				DestinationPort: uint16(gen.LargePort(forward)), Protocol: header.TCP,
			},
			From: network.Place{Internet: true},
		}
	}
	return list
}

// Describe says all that a verdict is compared by.
func Describe(v walk.Verdict) string {
	return Described(v.Outcome, v.At.Name(), v.To.Name(), v.Rule, v.Delivered, v.Answered, v.Told, v.Handed)
}

// Described is Describe of what else came to a verdict.
func Described(outcome engine.Outcome, at, host string, by *network.Rule, delivered, answered header.Packet, told bool, handed int) string {
	rule := ""
	if by != nil {
		rule = by.Name
	}
	return fmt.Sprintf("%s at %s by %q, host %q, delivered %s, answered %s, told %v, handed %d", outcome, at, rule, host, PacketText(delivered), PacketText(answered), told, handed)
}

// PacketText writes the addresses and ports of a packet.
func PacketText(p header.Packet) string {
	if p == (header.Packet{}) {
		return "-"
	}
	return fmt.Sprintf("%s#%d->%s#%d", p.From(), p.SourcePort, p.To(), p.DestinationPort)
}

// StepsText writes the steps of a trace, and why it ended.
func StepsText(t *words.Trace) string {
	var b strings.Builder
	for _, s := range t.Steps {
		fmt.Fprintf(&b, "   %-8s %-10s %-8s %s\n", s.At, s.Label, s.Rule, s.Text)
	}
	return b.String() + "   " + strings.Join(t.Why, " ")
}
