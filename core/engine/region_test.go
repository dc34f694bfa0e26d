package engine_test

import (
	"flag"
	"math/rand/v2"
	"testing"

	"hollowbridge/core/engine"
	"hollowbridge/core/flowset"
	"hollowbridge/core/network"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"
)

var exploredNetworks = flag.Uint64("explore", 60, "how many random networks to explore")

// Every region of a network is what walks of its members say: regions are
// disjoint, together all there is, and members taken at random, often at borders,
// go the way the region says.
func TestRegionsAgreeWithWalks(t *testing.T) {
	var looked samples
	for seed := range netfiletest.Few(*exploredNetworks, 3) {
		text := gen.Small(seed)
		n := netfiletest.Parse(t, text)
		netfiletest.OpenSome(rand.New(rand.NewPCG(seed, 3)), n)
		if !exploreNetwork(t, seed, n, &looked) {
			t.Fatalf("network of seed %d:\n%s", seed, text)
		}
	}
	t.Logf("%+v", looked)
	if looked.claimed < 1000 || looked.unclaimed > looked.claimed/50 {
		t.Errorf("of the members looked at too few are claimed: %+v", looked)
	}
}

// Samples are members of regions: those that the region claims, which are walked, and those
// that it does not, which are not.
type samples struct{ claimed, unclaimed int }

func exploreNetwork(t *testing.T, seed uint64, n *network.Network, looked *samples) bool {
	random := rand.New(rand.NewPCG(seed, 77))
	e := engine.Compile(n, nil)
	moment := network.MomentOf(random.IntN(7), random.IntN(1440))
	explorer := e.NewExplorer(moment, 20_000_000)
	if seed%2 == 1 {
		explorer.SplitFrom(0)
	}
	walk := e.NewWalk()
	for _, b := range explorer.Beginnings(nil) {
		var regions []engine.Region
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
				if !engine.Claims(r.Meetings, p) {
					looked.unclaimed++
					continue
				}
				looked.claimed++
				v := walk.Verdict(engine.Connection{Packet: p, From: b.From, Moment: moment})
				want := r.Verdict
				if v.Outcome != want.Outcome || v.At != want.At || v.Rule != want.Rule || v.To != want.To {
					t.Errorf("seed %d: %s#%d -> %s %s from %s\n region of %s -> %s#%d: %s\n walk   %s\n%s", seed, p.From(), p.SourcePort, p.To(), p.Protocol, b.From.Name(), r.Example.From(), r.Example.To(), r.Example.SourcePort, describe(want), describe(v),
						stepsText(e.NewWalk().Trace(engine.Connection{Packet: p, From: b.From, Moment: moment})))
					return false
				}
				if v.Outcome == engine.Reached && r.Terms.Apply(p) != v.Delivered {
					t.Errorf("seed %d: %s -> %s: the region delivers %s, the walk %s", seed, p.From(), p.To(), packetText(r.Terms.Apply(p)), packetText(v.Delivered))
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
