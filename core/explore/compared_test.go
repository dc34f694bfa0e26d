package explore_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"hollowbridge/core/explore"
	"hollowbridge/core/flow"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

// Of two networks that differ in their rules, connections of regions that are not unlike fare alike in both, and those of others
// do not always; and who differs in anything else is not compared so.
func TestRegionsThatAreNotUnlikeFareAlike(t *testing.T) {
	alike, unlike, otherwise, compared, not := 0, 0, 0, 0, 0
	for seed := range netfiletest.Few(uint64(80), 40) {
		random := rand.New(rand.NewPCG(seed, 71))
		text := gen.Mixed(seed)
		next := edited(random, edited(random, text))
		other, err := netfile.Parse("test.yaml", []byte(next))
		if err != nil {
			continue // what a removed rule was needed for
		}
		other.On(network.MomentAt(netfiletest.Now))
		a, b := walk.Compile(netfiletest.Parse(t, text), nil), walk.Compile(other, nil)
		times := network.EveryMoment(a.Network(), b.Network())
		if random.IntN(3) == 0 {
			times = network.At(netfiletest.SomeMoment(random, a.Network()))
		}
		explorer := explore.New(a, times, 20_000_000)
		if seed%2 == 1 {
			explorer.SplitFrom = 0
		}
		if !explorer.CompareWith(b) {
			not++
			continue
		}
		compared++
		there := explore.New(b, times, 20_000_000).Beginnings(nil)
		way, second := a.NewWalk(), b.NewWalk()
		for i, begin := range explorer.Beginnings(nil) {
			for r, err := range explorer.Explore(begin.From, begin.Set) {
				if err != nil {
					t.Fatal(err)
				}
				for range 3 {
					p, ok := explorer.Space.Sample(r.Set, random.Uint64)
					if !ok || !flow.Claims(r.Meetings, p.Packet) {
						continue
					}
					moment := times.Moment(p.Moment)
					v, w := way.Verdict(walk.Connection{Packet: p.Packet, From: a.PlaceOf(begin.From, p.Source), Moment: moment}), second.Verdict(walk.Connection{Packet: p.Packet, From: b.PlaceOf(there[i].From, p.Source), Moment: moment})
					same := v.Outcome == w.Outcome && v.At.Name() == w.At.Name() && v.To.Name() == w.To.Name() && v.Delivered == w.Delivered && v.Answered == w.Answered
					switch {
					case !r.Unlike && !same:
						t.Fatalf("seed %d: %s#%d -> %s %s from %s is said to fare alike, but %s and %s\n%s", seed, p.From(), p.SourcePort, p.To(), p.Protocol, begin.From.Name(), netfiletest.Describe(v), netfiletest.Describe(w), text)
					case !r.Unlike:
						alike++
					case same:
						unlike++
					default:
						otherwise++
					}
				}
			}
		}
	}
	t.Logf("%d compared, %d not: %d samples alike, %d unlike, of them %d otherwise", compared, not, alike, unlike+otherwise, otherwise)
	if !testing.Short() && (compared < 20 || alike < 1000 || otherwise < 100) {
		t.Error("too little is compared")
	}
}

// Whatever besides rules differs, two networks are not alike.
func TestAlikeButForRules(t *testing.T) {
	const text = `network: one
groups: {fronts: [203.0.113.7]}
hosts:
  web: {address: 10.0.0.5, serves: [https], firewall: [{allow: https, from: 10.0.0.0/24}], gateway: rim}
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.2/29, zone: outside, upstream: {blocks: [tcp/25]}}
      yard: {address: 10.0.0.1/24, zone: yard}
    routes: [{to: default, via: 198.51.100.1}]
    serves: {ssh: [yard]}
    handling: {turn-back: allow}
    nat:
      - {port-forward: web, on: fibre, service: https, to: web}
    filter:
      - {allow: web, from: fronts, to: web, service: https}
`
	n := netfiletest.Parse(t, text)
	for _, c := range []struct {
		old, new string
		alike    bool
	}{
		{"allow: web, from: fronts", "drop: web, from: any", true},
		{"{port-forward: web, on: fibre, service: https, to: web}", "{port-forward: web, on: fibre, service: ssh, to: 'web:22'}", true},
		{"fronts: [203.0.113.7]", "fronts: [203.0.113.8]", true},
		{"network: one", "# moved down\n\nnetwork: two", true},
		{"serves: [https]", "serves: [https, ssh]", false},
		{"firewall: [{allow: https, from: 10.0.0.0/24}]", "firewall: [{allow: https, from: 10.0.0.0/25}]", false},
		{"blocks: [tcp/25]", "blocks: [tcp/26]", false},
		{"serves: {ssh: [yard]}", "serves: {ssh: [fibre]}", false},
		{"turn-back: allow", "turn-back: refuse", false},
		{"via: 198.51.100.1}", "via: 198.51.100.3}", false},
		{"10.0.0.1/24, zone: yard", "10.0.0.1/24, zone: back", false},
		{", gateway: rim", ", answers-ping: false", false},
	} {
		changed := strings.Replace(text, c.old, c.new, 1)
		if changed == text {
			t.Fatalf("%s is not there", c.old)
		}
		if got := network.AlikeButForRules(n, netfiletest.Parse(t, changed)); got != c.alike {
			t.Errorf("with %s: %v", c.new, got)
		}
	}
	claims := netfiletest.Parse(t, strings.Replace(text, "to: web}\n", "to: web}\n      - {one-to-one: all, on: fibre, outside: 198.51.100.4, inside: web}\n", 1))
	if !network.AlikeButForRules(n, claims) || explore.New(walk.Compile(n, nil), network.EveryMoment(n), 1000).CompareWith(walk.Compile(claims, nil)) {
		t.Error("a gateway that answers for one more address is taken for the same")
	}
}
