package explore_test

import (
	"math/rand/v2"
	"slices"
	"testing"

	"hollowbridge/core/engine"
	"hollowbridge/core/explore"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

// decidedBy returns which rule of a gateway's filter decides about a connection on its way; empty
// where none does, or where it comes to the gateway twice.
func decidedBy(e *walk.Engine, c walk.Connection, g *network.Gateway) (rule string) {
	for _, s := range words.TraceOf(e.NewWalk(), c).Steps {
		if s.At == g.Name && s.Kind == engine.StepFilter && !s.Back {
			if rule != "" {
				return ""
			}
			rule = s.Rule
		}
	}
	return rule
}

// A rule in front of another one is said to pass by it what the other would decide about if all
// rules in front of it were switched off: what is said is so, and no sampled connection is missed.
func TestPassingsAreWhatARuleWouldDecideAbout(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many networks")
	}
	passings, sampled := 0, 0
	for seed := range netfiletest.Few(uint64(30), 15) {
		text := gen.Small(seed + 7000)
		n := netfiletest.Parse(t, text)
		e := walk.Compile(n, nil)
		random := rand.New(rand.NewPCG(seed, 8))
		explorer := explore.New(e, network.EveryMoment(n), 20_000_000)
		beginnings := explorer.Beginnings(nil)
		for i, g := range n.Gateways {
			if g.Handling.ForwardsPermit || len(g.Filter) < 2 {
				continue
			}
			last := 1 + random.IntN(len(g.Filter)-1)
			rule := g.Filter[last]
			without := netfiletest.Parse(t, text)
			for _, front := range without.Gateways[i].Filter[:last] {
				front.Disabled = true
			}
			alone := walk.Compile(without, nil)
			places := explore.New(alone, network.EveryMoment(n), 20_000_000).Beginnings(nil)
			for k, b := range beginnings {
				found, err := explorer.Passings(rule, b.From, b.Set)
				if err != nil {
					t.Fatalf("seed %d: %v", seed, err)
				}
				by := func(p header.Packet, at network.Moment) (now, then string) {
					return decidedBy(e, walk.Connection{Packet: p, From: b.From, Moment: at}, g),
						decidedBy(alone, walk.Connection{Packet: p, From: places[k].From, Moment: at}, g)
				}
				for _, p := range found {
					passings++
					if now, then := by(p.Example, p.Moment); now != "" && then != "" && (now != p.Front.Name || then != rule.Name) {
						t.Errorf("seed %d: %s -> %s passes %s of %s by %s: decided by %s, and without those in front by %s", seed, p.Example.From(), p.Example.To(), rule.Name, g.Name, p.Front.Name, now, then)
					}
				}
				for range 12 {
					p, _ := explorer.Space.Sample(b.Set, random.Uint64)
					now, then := by(p.Packet, explorer.Times.Moment(p.Moment))
					ahead := slices.IndexFunc(g.Filter[:last], func(f *network.FilterRule) bool { return f.Name == now })
					if p.Source == p.Destination || then != rule.Name || ahead < 0 {
						continue
					}
					sampled++
					if !slices.ContainsFunc(found, func(p explore.Passing) bool { return p.Front.Name == now }) {
						t.Errorf("seed %d: %s -> %s passes %s of %s by %s, which is not said", seed, p.From(), p.To(), rule.Name, g.Name, now)
					}
				}
			}
		}
	}
	if passings < 50 || sampled < 20 {
		t.Errorf("only %d passings, %d sampled", passings, sampled)
	}
}

// Of the rules that hide another one, none is named without which the others hide it as well, and
// those that are named do: switched off, it is hidden no longer, or by others.
func TestOnlyTheFewestHidingRulesAreNamed(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many networks")
	}
	hidden := 0
	for seed := range netfiletest.Few(uint64(200), 30) {
		text := gen.Small(seed + 9000)
		n := netfiletest.Parse(t, text)
		for _, h := range explore.New(walk.Compile(n, nil), network.EveryMoment(n), 20_000_000).Hidden() {
			if h.Rule.Off() || len(h.By) == 0 {
				continue
			}
			hidden++
			only := netfiletest.Parse(t, text) // the rule and those that are named, and no other
			keep := func(r *network.Rule) {
				named := func(o *network.Rule) bool { return o.Place == r.Place }
				r.Disabled = r.Disabled || r.Place != h.Rule.Place && !slices.ContainsFunc(h.By, named)
			}
			g := only.Gateways[h.Rule.Gateway.Index]
			for _, r := range g.NAT {
				keep(&r.Rule)
			}
			for _, r := range g.Filter {
				keep(&r.Rule)
			}
			still := explore.New(walk.Compile(only, nil), network.EveryMoment(n), 20_000_000).Hidden()
			at := slices.IndexFunc(still, func(s explore.HiddenRule) bool { return s.Rule.Place == h.Rule.Place })
			if at < 0 {
				t.Errorf("seed %d: %s is not hidden by those that are named alone", seed, h.Rule.Name)
			} else if len(still[at].By) != len(h.By) {
				t.Errorf("seed %d: %s is said to be hidden by %d rules, and %d of them do", seed, h.Rule.Name, len(h.By), len(still[at].By))
			}
		}
	}
	if hidden < 10 {
		t.Errorf("only %d hidden rules", hidden)
	}
}

// What is said of rules that hide others, or cross them, does not depend on whether lists are looked at
// as wholes or rule by rule, between the zones that these ask about.
func TestSplitListsHideAndCrossAsWholeOnes(t *testing.T) {
	hidden, crossing := 0, 0
	for seed := range netfiletest.Few(uint64(200), 10) {
		text := gen.Small(seed + 9000)
		if seed%4 == 0 {
			text = gen.Tangled(seed, 12)
		}
		n := netfiletest.Parse(t, text)
		for _, g := range n.Gateways { // rules that repeat earlier ones, or parts of them
			for i := 1; i < len(g.Filter); i += 3 {
				g.Filter[i].From, g.Filter[i].To = g.Filter[i-1].From, g.Filter[i/2].To
			}
		}
		e := walk.Compile(n, nil)
		if seed%2 == 1 { // a list that was made of an earlier one
			random := rand.New(rand.NewPCG(seed, 4))
			if n, err := netfile.Parse("test.yaml", []byte(edited(random, edited(random, text)))); err == nil {
				n.On(network.MomentAt(netfiletest.Now))
				n.Seal()
				e = walk.Compile(n, walk.Compile(sealed(t, text), nil))
			}
		}
		whole, split := explore.New(e, network.EveryMoment(n), 20_000_000), explore.New(e, network.EveryMoment(n), 20_000_000)
		split.SplitFrom = 0
		want, got := whole.Hidden(), split.Hidden()
		for i := range min(len(want), len(got)) {
			if want[i].Rule != got[i].Rule || !slices.Equal(want[i].By, got[i].By) {
				t.Fatalf("seed %d: %s is hidden by %v, split %s by %v\n%s", seed, want[i].Rule.Name, names(want[i].By), got[i].Rule.Name, names(got[i].By), text)
			}
		}
		if len(want) != len(got) {
			t.Fatalf("seed %d: %d rules are hidden, split %d\n%s", seed, len(want), len(got), text)
		}
		hidden += len(want)
		seconds := func(list []explore.Crossing) (names []string) {
			for _, c := range list {
				names = append(names, c.Second.Gateway.Name+" "+c.Second.Name)
			}
			slices.Sort(names)
			return names
		}
		if a, b := seconds(whole.Crossings()), seconds(split.Crossings()); !slices.Equal(a, b) {
			t.Fatalf("seed %d: %q cross others, split %q\n%s", seed, a, b, text)
		} else {
			crossing += len(a)
		}
	}
	if !testing.Short() && (hidden < 50 || crossing < 50) {
		t.Errorf("only %d rules were hidden, %d crossed others", hidden, crossing)
	}
}

// names returns the names of rules.
func names(rules []*network.Rule) (list []string) {
	for _, r := range rules {
		list = append(list, r.Name)
	}
	return list
}
