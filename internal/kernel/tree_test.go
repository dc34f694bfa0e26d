package kernel

import (
	"bytes"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
)

// Each stretch of a field has just the rules that can match there, in their order, and all of
// the field's values that a rule can match are in a stretch.
func TestStretchesHaveTheRulesThatCanMatchThere(t *testing.T) {
	c := &compiler{Program: newProgram("rim")}
	cuts := 0
	for seed := range uint64(400) {
		random := rand.New(rand.NewPCG(seed, 3))
		address := func() netip.Addr {
			return netip.AddrFrom4([4]byte{10, 0, byte(random.IntN(2)), byte(random.IntN(256))})
		}
		set := func() header.Addresses {
			var ranges []header.Range
			for range 1 + random.IntN(2) {
				a, b := address(), address()
				if random.IntN(3) > 0 {
					b = a
				}
				if b.Less(a) {
					a, b = b, a
				}
				ranges = append(ranges, header.Range{First: a, Last: b})
			}
			return header.AddressesOf(ranges...)
		}
		var list []engine.Match
		for range 1 + random.IntN(40) {
			first := uint16(1 + random.IntN(300))
			ports := header.Ports{First: first, Last: first + uint16(random.IntN(2)*random.IntN(100))}
			list = append(list, engine.Match{From: set(), To: set(), Services: header.Services{{Protocol: header.TCP, Ports: ports}}})
		}
		for _, f := range c.fieldsOf(destination, header.IPv4)[:3] {
			cut, total, ok := cutBy(list, f, 1<<20)
			if !ok {
				continue
			}
			cuts++
			for i := 1; i < len(cut); i++ {
				if !bytes.Equal(cut[i-1].end, cut[i].first) {
					t.Fatalf("seed %d, %s: a gap behind %x", seed, f.name, cut[i-1].first)
				}
			}
			count := 0
			for n, m := range list {
				for _, r := range f.ranges(m) {
					for _, s := range cut {
						inside := bytes.Compare(r.key, s.first) <= 0 && (r.end == nil || s.end != nil && bytes.Compare(s.end, r.end) <= 0)
						touches := (s.end == nil || bytes.Compare(r.key, s.end) < 0) && (r.end == nil || bytes.Compare(s.first, r.end) < 0)
						if inside != touches {
							t.Fatalf("seed %d, %s: the stretch from %x goes over a border of rule %d", seed, f.name, s.first, n)
						}
						if inside && !slices.Contains(s.rules, n) {
							t.Fatalf("seed %d, %s: rule %d is not in the stretch from %x", seed, f.name, n, s.first)
						}
					}
				}
			}
			for _, s := range cut {
				count += len(s.rules)
				if !slices.IsSorted(s.rules) {
					t.Fatalf("seed %d: the rules of a stretch are out of order", seed)
				}
			}
			if count != total {
				t.Fatalf("seed %d: %d rules in stretches, not %d", seed, count, total)
			}
		}
	}
	if cuts < 200 {
		t.Fatalf("only %d lists could be cut", cuts)
	}
}

func TestBeforeIsTheOppositeOfAfter(t *testing.T) {
	for _, value := range [][]byte{{0, 0}, {0, 255}, {1, 255}, {255, 254}, {255, 255}, {10, 0, 0, 255}} {
		if got := before(after(value), len(value)); !bytes.Equal(got, value) {
			t.Errorf("%x: %x", value, got)
		}
	}
}
