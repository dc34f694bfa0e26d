package engine_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"
)

var comparedNetworks = flag.Uint64("compare", 1000, "how many random networks to compare with the reference; .ci/run takes 4,000")

// What is compared; -short takes fewer networks.
const (
	comparedInShortMode = 40
	enoughForRarities   = 10_000 // networks, of which all that is rare comes up
	connectionsOfEach   = 16
	rememberedOfEach    = 8 // the first ones leave their sessions behind
)

// The engine and the plain reference agree on every connection: same outcome, same
// place, same rule, same addresses delivered and answered.
func TestEngineAgreesWithReference(t *testing.T) {
	networks := netfiletest.Asked(*comparedNetworks, comparedInShortMode)
	const shards = 2
	var met [shards][16]int
	rare := [shards]map[string]int{{}, {}}
	t.Run("networks", func(t *testing.T) {
		for shard := range uint64(shards) {
			t.Run(fmt.Sprint(shard), func(t *testing.T) {
				t.Parallel()
				for seed := shard; seed < networks; seed += shards {
					text := gen.Mixed(seed)
					n := netfiletest.Parse(t, text)
					if !compareNetwork(t, seed, n, &met[shard], rare[shard]) {
						t.Fatalf("network of seed %d:\n%s", seed, text)
					}
				}
			})
		}
	})
	for _, o := range engine.Outcomes() {
		t.Logf("%-14s %7d", o, met[0][o]+met[1][o])
		if met[0][o]+met[1][o] == 0 && !testing.Short() {
			t.Errorf("no connection was %s, so it was not compared", o)
		}
	}
	for _, what := range rarities {
		t.Logf("%-40s %7d", what, rare[0][what]+rare[1][what])
		if rare[0][what]+rare[1][what] == 0 && networks >= enoughForRarities {
			t.Errorf("%s did not come up, so it was not compared", what)
		}
	}
}

// rarities are what the reference counts, and what has to come up.
var rarities = []string{
	"third packet dropped", "stray ICMP", "loose TCP", "told apart by the port", "not told apart", "answer to an earlier connection",
	"a relay's own connection stopped", "not sent here", "a private uplink", "told unreachable", "behind an inside router", "told by an inside router", "a default gateway named by its address", "a default gateway that is not in the file", "a next hop that a rule claims",
	"a named VPN client", "a client beside a longer route", "a next hop that is the destination", "a segment of several prefixes", "prefix-nat", "no place on the other side", "another mapping behavior", "twins", "no room for a session",
	"a mapping", "a source with a mapping",
}

func compareNetwork(t *testing.T, seed uint64, n *network.Network, outcomes *[16]int, rare map[string]int) bool {
	random := rand.New(rand.NewPCG(seed, 1))
	netfiletest.OpenSome(rand.New(rand.NewPCG(seed, 2)), n)
	e := engine.Compile(n, nil)
	walk, slow := e.NewWalk(), &reference{n: n, met: rare}
	var earlier []engine.Connection
	for i := range connectionsOfEach {
		c, ok := randomConnection(random, e, n)
		if len(earlier) > 0 && random.IntN(4) == 0 {
			c, ok = related(random, e, earlier[random.IntN(len(earlier))]), true
		}
		if !ok {
			continue
		}
		if _, err := e.Locate(c.Packet.Source); err != nil && c.From.Through == nil {
			rare["twins"]++
		}
		remember := i < rememberedOfEach
		want := slow.run(c, remember)
		got := walk.Verdict(c)
		if remember {
			got = walk.Remember(c)
			earlier = append(earlier, c)
			if got.Outcome == engine.Reached && got.Answered.Source.IsValid() { // what answers it, and what might
				if back, err := e.Locate(got.Answered.Source); err == nil {
					earlier = append(earlier, engine.Connection{Packet: got.Answered, From: back, Moment: c.Moment})
				}
				back := got.Delivered.Answer()
				if at, err := e.Locate(back.Source); err == nil {
					earlier = append(earlier, engine.Connection{Packet: back, From: at, Moment: c.Moment})
				}
			}
		}
		outcomes[got.Outcome]++
		if describe(got) != describeReference(want) {
			trace := engine.TraceOf(e.NewWalk(), c)
			t.Errorf("seed %d, connection %d: %s -> %s %s from %s\n engine    %s\n reference %s\n%s", seed, i, c.Packet.From(), c.Packet.To(), c.Packet.Protocol, c.From.Name(), describe(got), describeReference(want), stepsText(trace))
			return false
		}
	}
	return true
}

// related returns a connection that has much in common with an earlier one.
func related(random *rand.Rand, e *engine.Engine, c engine.Connection) engine.Connection {
	p := &c.Packet
	switch random.IntN(4) {
	case 0:
		if p.DestinationPort != 0 {
			p.DestinationPort = []uint16{443, 80, 22, 53, 8085}[random.IntN(5)]
		}
	case 1:
		if p.Destination.Is4() {
			p.Destination = netip.MustParseAddr([]string{"198.51.100.2", "198.51.100.3", "198.51.100.4", "203.0.113.4"}[random.IntN(4)])
		}
	case 2:
		if next := p.Source.Next(); c.From.Host == nil && c.From.Segment != nil && c.From.Segment.Contains(next) {
			c.From, p.Source = e.On(c.From.Segment, next), next
		}
	}
	return c
}

func describe(v engine.Verdict) string {
	return describeReference(refVerdict{v.Outcome, v.At.Name(), v.To.Name(), v.Rule, v.Delivered, v.Answered, v.Told, v.Handed})
}

func describeReference(v refVerdict) string {
	rule := ""
	if v.Rule != nil {
		rule = v.Rule.Name
	}
	return fmt.Sprintf("%s at %s by %q, host %q, delivered %s, answered %s, told %v, handed %d", v.Outcome, v.At, rule, v.Host, packetText(v.Delivered), packetText(v.Answered), v.Told, v.Handed)
}

func packetText(p header.Packet) string {
	if p == (header.Packet{}) {
		return "-"
	}
	return fmt.Sprintf("%s#%d->%s#%d", p.From(), p.SourcePort, p.To(), p.DestinationPort)
}

func stepsText(t *engine.Trace) string {
	var b strings.Builder
	for _, s := range t.Steps {
		fmt.Fprintf(&b, "   %-8s %-10s %-8s %s\n", s.At, s.Label, s.Rule, s.Text)
	}
	return b.String() + "   " + strings.Join(t.Why, " ")
}

func randomConnection(random *rand.Rand, e *engine.Engine, n *network.Network) (engine.Connection, bool) {
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
	var c engine.Connection
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
	c.Moment = someMoment(random, n)
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
