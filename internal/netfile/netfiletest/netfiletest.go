// Package netfiletest makes networks of text for tests.
package netfiletest

import (
	"flag"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile"
)

// Parse returns the network that a text says, or ends the test with what is wrong in it.
func Parse(tb testing.TB, text string) *network.Network {
	tb.Helper()
	n, err := netfile.Parse("test.yaml", []byte(text))
	if err != nil {
		tb.Fatalf("%v\n%s", err, text)
	}
	n.On(network.MomentAt(Now))
	return n
}

// Now is when the networks of tests are asked about: a Wednesday, near deadlines of those of package gen.
var Now = time.Date(2027, 1, 13, 10, 30, 0, 0, time.UTC)

var deep = flag.Bool("deep", false, "take random runs at their full size, as .ci/deep does; else a quarter, or a few with -short")

// Few returns how many of something random a test takes: a quarter of the whole number, all with -deep, and with -short a few.
func Few[N int | uint64](whole, few N) N {
	switch {
	case testing.Short():
		return min(whole, few)
	case *deep:
		return whole
	}
	return max(whole/4, min(whole, few))
}

// Asked returns how many of something random a test takes where a flag says it: with -short a few at most.
func Asked[N int | uint64](number, few N) N {
	if testing.Short() {
		return min(number, few)
	}
	return number
}

// Seeds returns the seeds below a number, and others that found something once.
func Seeds(number uint64, once ...uint64) (list []uint64) {
	for seed := range number {
		list = append(list, seed)
	}
	return append(list, once...)
}

// OpenSome gives the gateways of a network mappings: of the ports that Connection asks for and
// sends from.
func OpenSome(random *rand.Rand, n *network.Network) {
	var hosts []netip.Addr
	for _, h := range n.Hosts {
		hosts = append(hosts, h.Addresses...)
	}
	for _, a := range []string{"10.1.0.9", "10.1.1.3", "10.1.2.5", "10.64.0.7", "fd00:1:0::9"} {
		hosts = append(hosts, netip.MustParseAddr(a))
	}
	ports := []uint16{443, 80, 22, 53, 8085, 500, 40000, 40001}
	for _, g := range n.Gateways {
		known := map[netip.AddrPort]bool{}
		for range random.IntN(24) {
			external := g.Interfaces[random.IntN(len(g.Interfaces))]
			inside := netip.AddrPortFrom(hosts[random.IntN(len(hosts))], ports[random.IntN(len(ports))])
			at, has := external.Address(header.FamilyOf(inside.Addr()))
			if !has {
				continue
			}
			outside := netip.AddrPortFrom(at, ports[random.IntN(len(ports))])
			if at.Is6() {
				outside = inside
			}
			var senders []network.Sender
			for range random.IntN(3) {
				from := []string{"203.0.113.0/24", "192.0.2.7/32", "2001:db8:f::/48"}[random.IntN(3)]
				senders = append(senders, network.Sender{From: netip.MustParsePrefix(from), Port: []uint16{0, 0, 40000}[random.IntN(3)]})
			}
			if !known[outside] {
				known[outside] = true
				g.Opened = append(g.Opened, network.NewMapping(external, []header.Protocol{header.TCP, header.UDP}[random.IntN(2)], outside, inside, senders, network.PCP, inside.Addr()))
			}
		}
	}
}

// Connection returns a connection between machines and addresses that the networks of gen.Small know.
// ok is false where the one that came up can't be sent.
func Connection(random *rand.Rand, e *walk.Engine) (c walk.Connection, ok bool) {
	pick := func(list []string) netip.Addr { return netip.MustParseAddr(list[random.IntN(len(list))]) }
	sources := []string{"203.0.113.4", "203.0.113.9", "192.0.2.7", "10.1.0.9", "10.1.1.3", "10.1.2.5", "10.64.0.7", "2001:db8:f::9", "fd00:1:0::9"}
	targets := []string{"198.51.100.2", "198.51.100.2", "198.51.100.4", "192.0.2.7", "203.0.113.4", "203.0.113.9", "10.1.0.1", "10.1.0.4", "2001:db8:1::2", "2001:db8:f::4"}
	for _, h := range e.Network().Hosts {
		for _, a := range h.Addresses {
			sources, targets = append(sources, a.String()), append(targets, a.String())
		}
	}
	p := &c.Packet
	p.Source, p.Destination = pick(sources), pick(targets)
	if header.FamilyOf(p.Source) != header.FamilyOf(p.Destination) || p.Source == p.Destination {
		return c, false
	}
	p.Protocol = []header.Protocol{header.TCP, header.TCP, header.UDP, header.ICMP, header.GRE}[random.IntN(5)]
	if p.Protocol.HasPorts() {
		p.DestinationPort = []uint16{443, 80, 22, 53, 8085}[random.IntN(5)]
	}
	if p.Protocol.Numbered() {
		p.SourcePort = []uint16{40000, 40000, 40001, 500}[random.IntN(4)]
	}
	var err error
	c.From, err = e.Locate(p.Source)
	return c, err == nil
}
