package explore

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// The longest increasing part of a list is increasing, and as long as the plain way of finding it says.
func TestTheLongestIncreasingPart(t *testing.T) {
	for seed := range uint64(500) {
		random := rand.New(rand.NewPCG(seed, 79))
		list := random.Perm(random.IntN(40))
		part := increasing(list)
		longest := make([]int, len(list)) // of the parts that end at each
		most := 0
		for i := range list {
			longest[i] = 1
			for k := range i {
				if list[k] < list[i] {
					longest[i] = max(longest[i], longest[k]+1)
				}
			}
			most = max(most, longest[i])
		}
		if !slices.IsSorted(part) || !slices.IsSortedFunc(part, func(a, b int) int { return list[a] - list[b] }) || len(part) != most {
			t.Fatalf("%v of %v, which has one of %d", part, list, most)
		}
	}
}
