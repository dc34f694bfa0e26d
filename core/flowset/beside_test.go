package flowset

import (
	"math/rand/v2"
	"testing"
)

// What is beside a member differs in the one field only and is not in the set, but a neighbour of
// it is; and there is nothing else like that.
func TestBesideIsRightOutsideTheBorder(t *testing.T) {
	found := 0
	for seed := range uint64(1500) {
		random := rand.New(rand.NewPCG(seed, 21))
		space := NewSpace(1<<16, tinyMoments)
		set, _ := randomTiny(space, random)
		p, ok := space.Sample(set, random.Uint64)
		if !ok {
			continue
		}
		for _, f := range []Field{Destination, Port, Source, SourcePort} {
			near := map[Member]bool{}
			for _, q := range space.Beside(set, p, f) {
				near[q] = true
				found++
				values, other := valuesOf(p), valuesOf(q)
				for g := range Fields {
					if g != f && values[g] != other[g] {
						t.Fatalf("seed %d: %v beside %v differs in another field", seed, q, p)
					}
				}
				if space.Contains(set, q) {
					t.Fatalf("seed %d: %v beside %v is in the set", seed, q, p)
				}
			}
			values := valuesOf(p)
			base := number{}
			if f == Destination || f == Source {
				base = numberOf(tinyAddress(0))
			}
			inside := func(k int) bool {
				at := values
				at[f] = base.plus(number{low: uint64(k)})
				return k >= 0 && k < 4 && space.Contains(set, memberOf(at))
			}
			for k := range 4 {
				at := values
				at[f] = base.plus(number{low: uint64(k)})
				if q := memberOf(at); !inside(k) && (inside(k-1) || inside(k+1)) != near[q] {
					t.Fatalf("seed %d: %v is beside the set: %v", seed, q, near[q])
				}
			}
		}
	}
	if found < 2000 {
		t.Errorf("only %d borders", found)
	}
}
