package words_test

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"
)

// What a gateway tells of its lists and routes is what it decides by.
func TestListsAndRoutesAreThoseThatDecide(t *testing.T) {
	permitted, routed := 0, 0
	for seed := range netfiletest.Few(uint64(200), 100) {
		e := walk.Compile(netfiletest.Parse(t, gen.Small(seed)), nil)
		random := rand.New(rand.NewPCG(seed, 41))
		sources, way := talkedOf(e.Network()), e.NewWalk()
		for range 60 {
			p := header.Packet{Source: sources[random.IntN(len(sources))], Destination: sources[random.IntN(len(sources))], SourcePort: 40000, DestinationPort: uint16(1 + random.IntN(500)), Protocol: header.TCP}
			if header.FamilyOf(p.Source) != header.FamilyOf(p.Destination) {
				continue
			}
			from, err := e.Locate(p.Source)
			if err != nil {
				continue
			}
			trace := words.TraceOf(way, walk.Connection{Packet: p, From: from})
			s := trace.Stood
			if s.Gateway == nil || s.Out == nil {
				continue
			}
			g := e.Gateway(s.Gateway)
			if g.OutTo(s.After.Destination) != s.Out || !g.RoutedBy(s.Out).Contains(s.After.Destination) {
				t.Fatalf("seed %d: %s goes to %s by %s, not by %v", seed, s.Gateway.Name, s.After.Destination, s.Out, g.OutTo(s.After.Destination))
			}
			routed++
			if trace.Step != engine.StepFilter || trace.Rule == nil || trace.At.Gateway != s.Gateway {
				continue
			}
			list := slices.Collect(g.Permissions(s.In, s.Out))
			k := slices.IndexFunc(list, func(m engine.Match) bool {
				return m.Rule.Active(0) && (!m.Redirected || s.Forward != nil) && m.From.Contains(s.Seen.Source) && m.To.Contains(s.Seen.Destination) && (len(m.Services) == 0 || m.Services.Matches(s.Seen.Protocol, s.Seen.DestinationPort)) &&
					(len(m.SourcePorts) == 0 || slices.ContainsFunc(m.SourcePorts, func(r header.Ports) bool { return r.Contains(s.Seen.SourcePort) }))
			})
			if k < 0 || list[k].Rule != trace.Rule {
				t.Fatalf("seed %d: %s stops %+v by %s, its list does not", seed, s.Gateway.Name, s.Seen, trace.Rule.Name)
			}
			permitted++
		}
		for _, n := range e.Network().Gateways {
			checkWays(t, e.Gateway(n))
		}
	}
	if routed < 200 || permitted < 10 {
		t.Errorf("%d packets were routed, %d stopped by a rule", routed, permitted)
	}
}

// talkedOf are addresses that a network says something of, and neighbours of them.
func talkedOf(n *network.Network) (list []netip.Addr) {
	add := func(a netip.Addr) {
		if a.IsValid() {
			list = append(list, a, a.Next())
		}
	}
	for _, h := range n.Hosts {
		for _, a := range h.Addresses {
			add(a)
		}
	}
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			for _, p := range i.Addresses {
				add(p.Addr())
			}
		}
		for _, r := range g.NAT {
			add(r.Outside.First)
			add(r.Target.V4)
		}
	}
	return append(list, netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("2001:db8:ffff::1"))
}

// checkWays compares the routes of a gateway with where it sends their first address.
func checkWays(t *testing.T, g *engine.Gateway) {
	t.Helper()
	ways := g.Ways()
	for _, w := range ways {
		longer := slices.ContainsFunc(ways, func(v engine.Way) bool { return v.To.Bits() > w.To.Bits() && v.To.Contains(w.To.Addr()) })
		if out := g.OutTo(w.To.Addr()); !longer && out != w.Out {
			t.Errorf("%s: the way to %s leads to %v, it sends by %v", g.Name, w.To, w.Out, out)
		}
	}
}

// Where connections can begin is where the addresses are that they begin at.
func TestThePlacesHaveTheirSources(t *testing.T) {
	for seed := range netfiletest.Few(uint64(60), 10) {
		e := walk.Compile(netfiletest.Parse(t, gen.Small(seed)), nil)
		for _, w := range e.Places() {
			for _, r := range w.Sources.Ranges() {
				at, err := e.Locate(r.First)
				if _, several := err.(walk.Several); err != nil && !several {
					t.Errorf("seed %d: %s of %s: %v", seed, r.First, w.Place.Name(), err)
				} else if err == nil && at.Internet != w.Place.Internet {
					t.Errorf("seed %d: %s is at %s, not at %s", seed, r.First, at.Name(), w.Place.Name())
				}
			}
		}
	}
}

// An interface holds the outside addresses that are handed over to it on its segment.
func TestHeldAreThoseThatAreHandedOver(t *testing.T) {
	held, others := 0, 0
	for seed := range netfiletest.Few(uint64(600), 150) {
		n := netfiletest.Parse(t, gen.Mixed(seed))
		e := walk.Compile(n, nil)
		random := rand.New(rand.NewPCG(seed, 43))
		addresses := talkedOf(n)
		for range 4 {
			r := &reference{n: n, moment: network.MomentOf(random.IntN(7), random.IntN(1440)), met: map[string]int{}}
			for _, s := range n.Segments {
				for _, a := range addresses {
					if !header.AddressesOfPrefixes(s.Prefixes...).Contains(a) {
						continue
					}
					want := s.Interfaces[:0:0]
					if !slices.ContainsFunc(s.Interfaces, func(i *network.Interface) bool { return i.Own().Contains(a) }) &&
						!slices.ContainsFunc(n.Hosts, func(h *network.Host) bool { return slices.Contains(h.Addresses, a) && h.Segment(a) == s }) {
						if k := slices.IndexFunc(s.Interfaces, func(i *network.Interface) bool { return r.claims(i.Gateway, a) }); k >= 0 {
							want = s.Interfaces[k : k+1]
						}
					}
					for _, i := range s.Interfaces {
						is := slices.Contains(want, i) && i.IsUp()
						if got := e.Held(i, r.moment).Contains(a); got != is {
							t.Fatalf("seed %d: that %s holds %s at %v is %v, want %v", seed, i, a, r.moment, got, is)
						}
						if is {
							held++
						} else {
							others++
						}
					}
				}
			}
		}
	}
	if held < 500 || others < 500 {
		t.Errorf("%d are held, %d not", held, others)
	}
}
