package explore_test

import (
	"flag"
	"math/rand/v2"
	"slices"
	"testing"

	"hollowbridge/core/engine"
	"hollowbridge/core/explore"
	"hollowbridge/core/flow"
	"hollowbridge/core/flowset"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"
)

var exploredNetworks = flag.Uint64("explore", 15, "how many random networks to explore")

// Every region of a network is what walks of its members say: regions are
// disjoint, together all there is, and members taken at random, often at borders,
// go the way the region says.
func TestRegionsAgreeWithWalks(t *testing.T) {
	var looked samples
	for seed := range netfiletest.Asked(*exploredNetworks, 3) {
		text := gen.Mixed(seed)
		n := netfiletest.Parse(t, text)
		netfiletest.OpenSome(rand.New(rand.NewPCG(seed, 3)), n)
		if !exploreNetwork(t, seed, n, &looked) {
			t.Fatalf("network of seed %d:\n%s", seed, text)
		}
	}
	t.Logf("%+v", looked)
	if looked.claimed < 1000 || looked.unclaimed > looked.claimed/50 || looked.timed < looked.claimed/10 {
		t.Errorf("of the members looked at too few are claimed: %+v", looked)
	}
}

// Machines beside many uplinks are explored together where they send to providers' routers: with as many kinds of
// connections as the internet has, and not with those of each.
func TestMachinesBesideUplinksAreExploredTogether(t *testing.T) {
	shapes := gen.Shapes()
	many := shapes[slices.IndexFunc(shapes, func(s gen.Shape) bool { return s.Name == "101 gateways" })]
	n := netfiletest.Parse(t, many.Network(101))
	explorer := explore.New(walk.Compile(n, nil), network.EveryMoment(n), 20_000_000)
	kinds := map[string]int{}
	for _, b := range explorer.Beginnings(nil) {
		for _, err := range explorer.Explore(b.From, b.Set) {
			if err != nil {
				t.Fatal(err)
			}
			if b.From.Beside || b.From.Internet {
				kinds[b.From.Name()]++
			}
		}
	}
	if beside, abroad := kinds["a machine beside an uplink"], kinds["the internet"]; beside == 0 || beside > 2*abroad {
		t.Errorf("%d kinds of connections from beside uplinks, %d from the internet", beside, abroad)
	}
	if !exploreNetwork(t, 1, n, &samples{}) {
		t.Fatal("with 101 gateways")
	}
}

// Machines beside an uplink that are not like the others there: one whose address a gateway answers for,
// those of a prefix that no uplink has, or that another one has too.
func TestSomeMachinesBesideUplinksAreExploredAlone(t *testing.T) {
	const text = `network: exchange
hosts:
  archive: {address: 10.1.0.5, serves: [tcp]}
gateways:
  keep:
    interfaces:
      fibre: {address: 198.51.100.2/29, zone: outside, segment: exchange}
    routes: [{to: default, via: 198.51.100.1}]
  rim:
    interfaces:
      fibre: {address: 203.0.113.66/29, zone: outside, segment: exchange, upstream: {routes: [198.51.100.4]}}
      yard: {address: 10.3.0.1/24, zone: yard}
    routes: [{to: default, via: 203.0.113.65}]
    nat:
      - {port-forward: early, on: fibre, at: 198.51.100.4, service: tcp/22, to: 10.3.0.9, when: {hours: 08:00-18:00}}
  mill:
    interfaces:
      fibre: {address: 198.51.100.34/29, zone: outside, upstream: {routes: [192.0.2.200]}}
      side: {address: 203.0.113.18/29, zone: visitors, segment: exchange}
      yard: {address: 10.1.0.1/24, zone: yard}
    routes: [{to: default, via: 198.51.100.33}]
    nat:
      - {port-forward: web, on: fibre, at: 192.0.2.200, service: tcp, to: archive}
    filter:
      - {allow: web, from: any, to: archive}
`
	n := netfiletest.Parse(t, text)
	for seed := range uint64(30) {
		if !exploreNetwork(t, seed, n, &samples{}) {
			t.FailNow()
		}
	}
	for _, seed := range []uint64{1, 52} { // a prefix in another uplink's, and answers from elsewhere
		n := netfiletest.Parse(t, gen.Sites(seed))
		netfiletest.OpenSome(rand.New(rand.NewPCG(seed, 3)), n)
		if !exploreNetwork(t, seed, n, &samples{}) {
			t.FailNow()
		}
	}
}

// Samples are members of regions: those that the region claims, which are walked, and those
// that it does not, which are not.
type samples struct{ claimed, unclaimed, timed int }

// someTimes returns the moments that a network is asked about: all of them, or one.
func someTimes(random *rand.Rand, n *network.Network) network.Times {
	if random.IntN(3) > 0 {
		return network.EveryMoment(n)
	}
	return network.At(netfiletest.SomeMoment(random, n))
}

func exploreNetwork(t *testing.T, seed uint64, n *network.Network, looked *samples) bool {
	random := rand.New(rand.NewPCG(seed, 77))
	e := walk.Compile(n, nil)
	times := someTimes(random, n)
	explorer := explore.New(e, times, 20_000_000)
	if seed%2 == 1 {
		explorer.SplitFrom = 0
	}
	way := e.NewWalk()
	beginnings := explorer.Beginnings(nil)
	for i, b := range beginnings {
		for _, other := range beginnings[i+1:] {
			if !(b.Shared && other.Shared) && b.From.Through == nil && other.From.Through == nil && explorer.Space.Restrict(b.Set, other.Set) != flowset.Nothing {
				t.Errorf("seed %d: the same connections begin with %s and %s", seed, b.From.Name(), other.From.Name())
				return false
			}
		}
		var regions []explore.Region
		for r, err := range explorer.Explore(b.From, b.Set) {
			if err != nil {
				t.Errorf("seed %d: %v", seed, err)
				return false
			}
			regions = append(regions, r.Kept())
		}
		whole := flowset.Nothing
		for _, r := range regions {
			if explorer.Space.Restrict(whole, r.Set) != flowset.Nothing {
				t.Errorf("seed %d: regions overlap", seed)
				return false
			}
			whole = explorer.Space.Overlay(whole, r.Set)
			for range 4 {
				p, ok := explorer.Space.Sample(r.Set, random.Uint64)
				if !ok {
					t.Errorf("seed %d: an empty region", seed)
					return false
				}
				if !flow.Claims(r.Meetings, p.Packet) {
					looked.unclaimed++
					continue
				}
				looked.claimed++
				c := walk.Connection{Packet: p.Packet, From: e.PlaceOf(b.From, p.Source), Moment: times.Moment(p.Moment)}
				if !times.IsOne() {
					looked.timed++
				}
				v := way.Verdict(c)
				want := r.Verdict
				if v.Outcome != want.Outcome || v.At != want.At || v.Rule != want.Rule || v.To != want.To {
					t.Errorf("seed %d: %s#%d -> %s %s from %s at %s\n region of %s -> %s#%d: %s\n walk   %s\n%s", seed, p.From(), p.SourcePort, p.To(), p.Protocol, c.From.Name(), c.Moment, r.Example.From(), r.Example.To(), r.Example.SourcePort, netfiletest.Describe(want), netfiletest.Describe(v),
						netfiletest.StepsText(words.TraceOf(e.NewWalk(), c)))
					return false
				}
				if v.Outcome == engine.Reached && r.Terms.Apply(p.Packet) != v.Delivered {
					t.Errorf("seed %d: %s -> %s: the region delivers %s, the walk %s", seed, p.From(), p.To(), netfiletest.PacketText(r.Terms.Apply(p.Packet)), netfiletest.PacketText(v.Delivered))
					return false
				}
			}
		}
		for range 8 {
			if p, ok := explorer.Space.Sample(explorer.Space.Minus(b.Set, whole), random.Uint64); ok && p.Source != p.Destination {
				t.Errorf("seed %d: the regions of %s are not all there is: %s -> %s", seed, b.From.Name(), p.From(), p.To())
				return false
			}
		}
	}
	return true
}
