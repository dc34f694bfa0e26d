package engine

import (
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// Compared are the tables of another network that differs from the explorer's only in rules. While sets are
// explored, each table is looked at together with the one at its place there: so connections of
// which everything is decided by the same rules in both are told from others, and need not be
// explored there too.
type compared map[*table]*counterpart

// A counterpart is a table at the place of another, and for each of its conditions, by its number, what it
// means there: the value of the condition of the same rule, or flowset.Unlike.
type counterpart struct {
	table  *table
	values []int
}

// CompareWith makes the explorer tell which regions fare alike in another network, see Region.Unlike. It returns
// false, and does not, where the networks differ in more than the rules of their gateways, or so in these that
// gateways answer for other addresses.
func (x *Explorer) CompareWith(other *Engine) bool {
	e := x.engine
	if !network.AlikeButForRules(e.net, other.net) {
		return false
	}
	for i, g := range e.gateways {
		if !sameClaims(g, other.gateways[i]) {
			return false
		}
	}
	ours, theirs := e.net.DigestsOf(), other.net.DigestsOf()
	x.compared = compared{}
	for i, g := range e.gateways {
		h := other.gateways[i]
		nat := [2][]network.Digest{ours.Gateways[i].NAT, theirs.Gateways[i].NAT}
		for k := range g.destinations {
			x.compared.add(g.destinations[k], h.destinations[k], nat)
			x.compared.add(g.sources[k], h.sources[k], nat)
		}
		x.compared.add(g.filter, h.filter, [2][]network.Digest{ours.Gateways[i].Filter, theirs.Gateways[i].Filter})
	}
	return true
}

func sameClaims(g, h *Gateway) bool {
	return g.unsent.Equal(h.unsent) && slices.EqualFunc(g.claims, h.claims, func(a, b claim) bool {
		switch {
		case !a.set.Addresses.Equal(b.set.Addresses) || (a.rule == nil) != (b.rule == nil):
			return false
		case a.rule == nil:
			return true
		}
		return a.rule.Off() == b.rule.Off() && a.rule.When.Text == b.rule.When.Text
	})
}

// A ruleKey is a condition of a rule, by the rule's digest and which of its conditions it is.
type ruleKey struct {
	digest network.Digest
	number int
}

// keys returns the keys of a table's conditions, by their numbers.
func (t *table) keys(digests []network.Digest) map[int32]ruleKey {
	keys, earlier := map[int32]ruleKey{}, map[int]int{}
	for n := range t.ordered() {
		index := t.index(n)
		keys[n] = ruleKey{digests[index], earlier[index]}
		earlier[index]++
	}
	return keys
}

func (c compared) add(ours, theirs *table, digests [2][]network.Digest) {
	first := map[ruleKey]int32{}
	keys := ours.keys(digests[0])
	for n := range ours.ordered() {
		if _, ok := first[keys[n]]; !ok {
			first[keys[n]] = n
		}
	}
	other := &counterpart{table: theirs}
	keys = theirs.keys(digests[1])
	for n := range theirs.ordered() {
		for int(n) >= len(other.values) {
			other.values = append(other.values, flowset.Unlike)
		}
		if same, ok := first[keys[n]]; ok {
			other.values[n] = valueOf(same)
		}
	}
	c[ours] = other
}

// valueOf is what a set of a table gives the packets for which a condition is the first that they meet;
// valueOf(noMatch) is 0.
func valueOf(n int32) int {
	if n == noMatch {
		return 0
	}
	return int(n) + 1
}

// value returns what the other table decides about a packet.
func (c *counterpart) value(p *header.Packet, in scope) int {
	q := newQuery(p, in)
	if n := c.table.find(&q); n != noMatch {
		return c.values[n]
	}
	return 0
}
