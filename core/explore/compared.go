package explore

import (
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
	"hollowbridge/core/walk"
)

// CompareWith makes the explorer tell which regions fare alike in another network, see Region.Unlike. It returns
// false, and does not, where the networks differ in more than the rules of their gateways, or so in these that
// gateways answer for other addresses.
func (x *Explorer) CompareWith(other *walk.Engine) bool {
	e := x.engine
	if !network.AlikeButForRules(e.Network(), other.Network()) {
		return false
	}
	for i, g := range e.Gateways() {
		if !sameClaims(g, other.Gateways()[i]) {
			return false
		}
	}
	ours, theirs := e.Network().DigestsOf(), other.Network().DigestsOf()
	x.Compared = map[*table.Table]*table.Table{} // while sets are explored, connections that meet none of these are told from others
	x.StopAlike()                                // but those that fare otherwise, which are told apart
	for i, g := range e.Gateways() {
		h := other.Gateways()[i]
		nat := [2][]network.Digest{ours.Gateways[i].NAT, theirs.Gateways[i].NAT}
		for k, on := range g.Interfaces {
			addChanged(x.Compared, g.DestinationTable(on), h.DestinationTable(h.Interfaces[k]), nat)
			addChanged(x.Compared, g.SourceTable(on), h.SourceTable(h.Interfaces[k]), nat)
		}
		addChanged(x.Compared, g.FilterTable(), h.FilterTable(), [2][]network.Digest{ours.Gateways[i].Filter, theirs.Gateways[i].Filter})
	}
	return true
}

func sameClaims(g, h *engine.Gateway) bool {
	return g.Unsent().Equal(h.Unsent()) && g.Claims().Equal(h.Claims())
}

// addChanged notes the conditions that stand in one of two tables only, or at another place among those that are
// in both.
func addChanged(compared map[*table.Table]*table.Table, ours, theirs *table.Table, digests [2][]network.Digest) {
	list, others := keyedOf(ours, digests[0]), keyedOf(theirs, digests[1])
	at := map[conditionKey]int{}
	for i, one := range list {
		at[one.key] = i
	}
	var both, places []int // those of the others that are in both, and where in the list
	for i, other := range others {
		if place, ok := at[other.key]; ok {
			both, places = append(both, i), append(places, place)
		}
	}
	var changed []table.Condition
	kept := [2]map[int]bool{{}, {}}
	for _, k := range increasing(places) {
		kept[0][places[k]], kept[1][both[k]] = true, true
	}
	for side, all := range [][]keyed{list, others} {
		for i := range all {
			if !kept[side][i] {
				changed = append(changed, *all[i].condition)
			}
		}
	}
	if len(changed) > 0 {
		compared[ours] = table.New(changed, nil)
	}
}

// A conditionKey tells a condition of a list from others: by the digest of its rule, and how many with that
// are in front of it.
type conditionKey struct {
	digest  network.Digest
	earlier int
}

type keyed struct {
	key       conditionKey
	condition *table.Condition
}

// keyedOf returns the conditions of a table, in their order.
func keyedOf(t *table.Table, digests []network.Digest) (list []keyed) {
	count := map[network.Digest]int{}
	for n, c := range t.Ordered() {
		digest := digests[t.Index(n)]
		list = append(list, keyed{conditionKey{digest, count[digest]}, c})
		count[digest]++
	}
	return list
}

// increasing returns the indexes of a longest increasing part of a list of different numbers (C. Schensted, Longest
// increasing and decreasing subsequences, 1961), in n log n.
func increasing(list []int) []int {
	var ends []int // of the best part of each length, by index: the one with the lowest last number
	before := make([]int, len(list))
	for i, n := range list {
		length, _ := slices.BinarySearchFunc(ends, n, func(k, n int) int { return list[k] - n })
		before[i] = -1
		if length > 0 {
			before[i] = ends[length-1]
		}
		if length == len(ends) {
			ends = append(ends, i)
		} else {
			ends[length] = i
		}
	}
	var part []int
	if len(ends) > 0 {
		for i := ends[len(ends)-1]; i >= 0; i = before[i] {
			part = append(part, i)
		}
	}
	slices.Reverse(part)
	return part
}
