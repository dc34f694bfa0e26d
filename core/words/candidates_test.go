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

// group returns the candidates of a gateway's step.
func group(list []words.Candidate, gateway string, step engine.StepKind) (found []words.Candidate) {
	for _, k := range list {
		if k.At.Name == gateway && k.Step == step {
			found = append(found, k)
		}
	}
	return found
}

// claims reports whether an address is an outside one of a gateway's NAT rule.
func claims(g *network.Gateway, rule string, a netip.Addr) bool {
	return slices.ContainsFunc(g.NAT, func(r *network.NATRule) bool { return r.Name == rule && r.Claims().Contains(a) })
}

// Without the rule that is followed at a step the next candidate is followed there, until none is
// left: so the list holds all rules that match, and no others, in their order.
func TestWithoutTheFirstCandidateTheNextIsFollowed(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many networks")
	}
	followed, several := 0, 0
	for seed := range netfiletest.Few(uint64(400), 260) {
		text := gen.Small(seed)
		e := walk.Compile(netfiletest.Parse(t, text), nil)
		random := rand.New(rand.NewPCG(seed, 71))
		known := talkedOf(e.Network())
		for range 12 {
			c := walk.Connection{Packet: header.Packet{Source: known[random.IntN(len(known))], Destination: known[random.IntN(len(known))], SourcePort: 40000,
				DestinationPort: []uint16{22, 53, 80, 443, 8080, 37020}[random.IntN(6)], Protocol: header.TCP}}
			var err error
			if c.From, err = e.Locate(c.Packet.Source); err != nil || header.FamilyOf(c.Packet.Source) != header.FamilyOf(c.Packet.Destination) {
				continue
			}
			all := words.TraceAll(e.NewWalk(), c)
			if all.Handed > 0 || len(all.Candidates) == 0 {
				continue // a relay's own connection passes gateways again
			}
			k := all.Candidates[random.IntN(len(all.Candidates))]
			list := group(all.Candidates, k.At.Name, k.Step)
			if len(list) > 1 {
				several++
			}
			without := netfiletest.Parse(t, text)
			for i := range list {
				if want := i == 0; list[i].Wins != want && all.Passed[0] == k.At && list[0].Wins {
					t.Fatalf("seed %d: %s at %s is said to win: %t", seed, list[i].Rule.Name, k.At.Name, list[i].Wins)
				}
				for r := range without.Gateway(k.At.Name).Rules() {
					r.Disabled = r.Disabled || r.List() == list[i].Rule.List() && r.Name == list[i].Rule.Name
				}
				if !list[i].Wins && i == 0 {
					break // a forward's own permission goes before the filter
				}
				less := walk.Compile(without, nil)
				c.From, _ = less.Locate(c.Packet.Source)
				left := group(words.TraceAll(less.NewWalk(), c).Candidates, k.At.Name, k.Step)
				if len(left) != len(list)-i-1 || len(left) > 0 && (!left[0].Wins || left[0].Rule.Name != list[i+1].Rule.Name) {
					if k.Step != engine.StepSource && !claims(k.At, list[i].Rule.Name, c.Packet.Destination) { // without a rule its outside addresses are nobody's, and packets to them go elsewhere
						t.Fatalf("seed %d: %s -> %s at %s, %s: without %s there are %d candidates, of %d\n%s", seed, c.Packet.From(), c.Packet.To(), k.At.Name, k.Step, list[i].Rule.Name, len(left), len(list), text)
					}
					break
				}
				followed++
			}
		}
	}
	if followed < 300 || several < 60 {
		t.Errorf("%d candidates were followed, %d lists had several", followed, several)
	}
}
