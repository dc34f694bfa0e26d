package explore_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"hollowbridge/core/explore"
	"hollowbridge/core/flowset"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

func sealed(tb testing.TB, text string) *network.Network {
	n := netfiletest.Parse(tb, text)
	n.Seal()
	return n
}

// edited returns a network file with one of its rules changed, removed, moved or doubled, or
// one of its hosts.
func edited(random *rand.Rand, text string) string {
	lines := strings.Split(text, "\n")
	var rules [][2]int // from, to
	for i := range lines {
		if strings.HasPrefix(lines[i], "      - ") && strings.Contains(lines[i], ": ") && !strings.Contains(lines[i], "{") {
			end := i + 1
			for end < len(lines) && strings.HasPrefix(lines[end], "        ") {
				end++
			}
			rules = append(rules, [2]int{i, end})
		}
	}
	if len(rules) == 0 {
		return text
	}
	r := rules[random.IntN(len(rules))]
	body := slices.Clone(lines[r[0]:r[1]])
	switch random.IntN(5) {
	case 0: // removed
		lines = slices.Delete(lines, r[0], r[1])
	case 1: // switched off, or on again
		if at := slices.Index(body, "        disabled: true"); at >= 0 {
			lines = slices.Delete(lines, r[0]+at, r[0]+at+1)
		} else {
			lines = slices.Insert(lines, r[1], "        disabled: true")
		}
	case 2: // another one like it in front
		kind, _, _ := strings.Cut(body[0], ":")
		body[0] = fmt.Sprintf("%s: new%d", kind, random.IntN(1<<30))
		lines = slices.Insert(lines, r[0], body...)
	case 3: // a note, which changes nothing
		lines = slices.Insert(lines, r[1], "        note: nothing")
	case 4: // a host's address
		return strings.Replace(text, "10.1.0.4'", fmt.Sprintf("10.1.0.%d'", 11+random.IntN(3)), 1)
	}
	return strings.Join(lines, "\n")
}

// What was compiled after an earlier revision decides as what was compiled as a whole: every
// verdict, and every set.
func TestRevisionsDecideAsWholeNetworks(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many networks")
	}
	revised := 0
	for seed := range netfiletest.Few(uint64(300), 20) {
		random := rand.New(rand.NewPCG(seed, 31))
		text := gen.Small(seed)
		e := walk.Compile(sealed(t, text), nil)
		for range 6 {
			next := edited(random, text)
			n, err := netfile.Parse("test.yaml", []byte(next))
			if err != nil {
				continue // what a removed rule was needed for
			}
			n.On(network.MomentAt(netfiletest.Now))
			n.Seal()
			text = next
			e = walk.Compile(n, e)
			revised++
			whole := walk.Compile(n, nil)
			way, plain := e.NewWalk(), whole.NewWalk()
			for range 60 {
				c, ok := netfiletest.AnyConnection(random, e, n)
				if !ok {
					continue
				}
				if got, want := netfiletest.Describe(way.Verdict(c)), netfiletest.Describe(plain.Verdict(c)); got != want {
					t.Fatalf("seed %d, %s -> %s %s:\n revised %s\n whole   %s\n%s", seed, c.Packet.From(), c.Packet.To(), c.Packet.Protocol, got, want, text)
				}
				if got, want := way.Verdict(c), plain.Verdict(c); got.Rule != want.Rule || got.At != want.At || got.To != want.To {
					t.Fatalf("seed %d: the rules or places are of another revision: %+v %+v", seed, got, want)
				}
			}
		}
		times := network.EveryMoment(e.Network())
		space := flowset.NewSpace(5_000_000, times.Count())
		a, b := explore.NewIn(e, space, times), explore.NewIn(walk.Compile(e.Network(), nil), space, times)
		if seed%20 < 10 {
			a.SplitFrom = 0
		}
		for _, begin := range a.Beginnings(nil) {
			for region, err := range a.Explore(begin.From, begin.Set) {
				if err != nil {
					t.Fatal(err)
				}
				kept := region.Kept()
				for other, err := range b.Explore(begin.From, kept.Set) {
					if err != nil || other.Verdict.Outcome != kept.Verdict.Outcome || other.Verdict.Rule != kept.Verdict.Rule || other.Verdict.At != kept.Verdict.At {
						t.Fatalf("seed %d: %v %+v %+v", seed, err, other.Verdict, kept.Verdict)
					}
				}
			}
			if seed%10 > 0 {
				break
			}
		}
	}
	if revised < 100 {
		t.Errorf("only %d revisions", revised)
	}
}

// One changed rule of ten thousand and ten thousand.
func BenchmarkRevise(b *testing.B) {
	text := gen.Large(1, 10000)
	before := walk.Compile(sealed(b, text), nil)
	for what, head := range map[string][3]string{
		"a filter rule": {": r5003", "10.1.19.", "10.1.20."}, "where a forward leads": {"- port-forward: f5003", "10.1.19.", "10.1.20."},
		"an outside address": {"- port-forward: f5003", "at: 198.18.2.", "at: 198.18.90."},
	} {
		at := strings.Index(text, head[0]+"\n")
		old, new := head[1], head[2]
		if !strings.Contains(text[at:], old) {
			b.Fatal(what)
		}
		n := sealed(b, text[:at]+strings.Replace(text[at:], old, new, 1))
		b.Run(what, func(b *testing.B) {
			for b.Loop() {
				walk.Compile(n, before)
			}
		})
	}
	b.Run("whole", func(b *testing.B) {
		for b.Loop() {
			walk.Compile(before.Network(), nil)
		}
	})
}
