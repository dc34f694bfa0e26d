package sessions

import (
	"math/rand/v2"
	"slices"
	"testing"

	"hollowbridge/internal/netfile/netfiletest"
)

// A table has what a plain list has under each hash, whatever is added and removed, and however
// many hashes fall together.
func TestTheTableIsAPlainList(t *testing.T) {
	type pair struct {
		number int32
		hash   uint64
	}
	for seed := range netfiletest.Few(uint64(300), 100) {
		random := rand.New(rand.NewPCG(seed, 53))
		tab := table{arena: new(arena)}
		var plain []pair
		hashes := make([]uint64, 1+random.IntN(40))
		for i := range hashes {
			hashes[i] = uint64(random.IntN(1 << (1 + random.IntN(12)))) // few home slots, at the end of the table too
			if random.IntN(3) == 0 {
				hashes[i] |= 0xffffffc0
			}
		}
		next := int32(0)
		for range 600 {
			if len(plain) > 0 && random.IntN(5) < 2 {
				i := random.IntN(len(plain))
				tab.remove(plain[i].number, plain[i].hash)
				plain = slices.Delete(plain, i, i+1)
			} else {
				p := pair{next, hashes[random.IntN(len(hashes))]}
				tab.add(p.number, p.hash)
				plain = append(plain, p)
				next++
			}
			hash := hashes[random.IntN(len(hashes))]
			var got, want []int32
			for n, c := tab.first(hash); n != none; n = tab.next(&c) {
				got = append(got, n)
			}
			for _, p := range plain {
				if uint32(p.hash) == uint32(hash) {
					want = append(want, p.number)
				}
			}
			slices.Sort(got)
			slices.Sort(want)
			if !slices.Equal(got, want) || tab.count != len(plain) {
				t.Fatalf("seed %d: %v under %x, want %v; %d of %d", seed, got, hash, want, tab.count, len(plain))
			}
		}
	}
}
