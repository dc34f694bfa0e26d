package words_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
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
	e := walk.Compile(n, nil)
	way, slow := e.NewWalk(), &reference{n: n, met: rare}
	var earlier []walk.Connection
	for i := range connectionsOfEach {
		c, ok := netfiletest.AnyConnection(random, e, n)
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
		got := way.Verdict(c)
		if remember {
			got = way.Remember(c)
			earlier = append(earlier, c)
			if got.Outcome == engine.Reached && got.Answered.Source.IsValid() { // what answers it, and what might
				if back, err := e.Locate(got.Answered.Source); err == nil {
					earlier = append(earlier, walk.Connection{Packet: got.Answered, From: back, Moment: c.Moment})
				}
				back := got.Delivered.Answer()
				if at, err := e.Locate(back.Source); err == nil {
					earlier = append(earlier, walk.Connection{Packet: back, From: at, Moment: c.Moment})
				}
			}
		}
		outcomes[got.Outcome]++
		if netfiletest.Describe(got) != describeReference(want) {
			trace := words.TraceOf(e.NewWalk(), c)
			t.Errorf("seed %d, connection %d: %s -> %s %s from %s\n engine    %s\n reference %s\n%s", seed, i, c.Packet.From(), c.Packet.To(), c.Packet.Protocol, c.From.Name(), netfiletest.Describe(got), describeReference(want), netfiletest.StepsText(trace))
			return false
		}
	}
	return true
}

// related returns a connection that has much in common with an earlier one.
func related(random *rand.Rand, e *walk.Engine, c walk.Connection) walk.Connection {
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

func describeReference(v refVerdict) string {
	return netfiletest.Described(v.Outcome, v.At, v.Host, v.Rule, v.Delivered, v.Answered, v.Told, v.Handed)
}

func TestLargeNetworkAgreesWithReference(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many networks")
	}
	n := netfiletest.Parse(t, gen.Large(3, 400))
	way, slow := walk.Compile(n, nil).NewWalk(), &reference{n: n, met: map[string]int{}}
	for i, c := range netfiletest.LargeConnections(400)[:netfiletest.Few(2000, 300)] {
		if got, want := netfiletest.Describe(way.Verdict(c)), describeReference(slow.run(c, false)); got != want {
			t.Fatalf("connection %d, %s -> %s:\n engine    %s\n reference %s", i, c.Packet.From(), c.Packet.To(), got, want)
		}
	}
}

// The same questions put to the plain reference, which tries one rule after the other.
func BenchmarkLinearScan(b *testing.B) {
	slow, connections := &reference{n: netfiletest.Parse(b, gen.Large(1, 10000)), met: map[string]int{}}, netfiletest.LargeConnections(10000)
	i := 0
	for b.Loop() {
		slow.run(connections[i%len(connections)], false)
		i++
	}
}
