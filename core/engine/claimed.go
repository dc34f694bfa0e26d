package engine

import (
	"slices"

	"hollowbridge/core/header"
	"hollowbridge/core/table"
)

// A claimed range is outside addresses of one rule.
type claimed struct {
	header.Range
	rule int // by index
}

func compareRule(c claimed, rule int) int { return c.rule - rule }

// findClaims finds the outside addresses of the gateway's rules that packets come to it for,
// and those that nobody sends here.
func (c *Gateway) findClaims() {
	sent := c.Sent()
	var always, unsent []header.Range
	var list []table.Hourly
	for index, r := range c.NAT {
		all := r.Claims()
		for _, one := range all.Ranges() {
			c.claimed = append(c.claimed, claimed{one, index})
		}
		unsent = append(unsent, all.Minus(sent).Ranges()...)
		for _, one := range all.Intersect(sent).Ranges() {
			if !r.Timed() {
				always = append(always, one)
			} else {
				list = append(list, table.Hourly{Range: one, Rule: &r.Rule})
			}
		}
	}
	c.claims = table.NewClaims(always, list)
	c.unsent = header.AddressesOf(unsent...)
}

// reviseClaims finds the same from those of the revision before, where none of its rules with
// outside addresses has hours.
func (c *Gateway) reviseClaims(before *Gateway, ch table.Replacement) {
	if ch.IsNone() {
		c.claims, c.claimed, c.unsent = before.claims, before.claimed, before.unsent
		return
	}
	var old, new []header.Range
	var added []claimed
	hours := len(before.claims.Hourly) > 0
	for _, r := range before.NAT[ch.Old.First:ch.Old.End] {
		old = append(old, r.Claims().Ranges()...)
	}
	for index := ch.New.First; index < ch.New.End; index++ {
		r := c.NAT[index]
		for _, one := range r.Claims().Ranges() {
			new, added = append(new, one), append(added, claimed{one, index})
			hours = hours || r.Timed()
		}
	}
	moved := ch.New.End - ch.Old.End
	first, _ := slices.BinarySearchFunc(before.claimed, ch.Old.First, compareRule)
	behind, _ := slices.BinarySearchFunc(before.claimed, ch.Old.End, compareRule)
	if c.claimed = before.claimed; moved != 0 || !slices.Equal(before.claimed[first:behind], added) {
		c.claimed = slices.Concat(before.claimed[:first], added, before.claimed[behind:])
	}
	for k := first + len(added); moved != 0 && k < len(c.claimed); k++ {
		c.claimed[k].rule += moved
	}
	were, are := header.AddressesOf(old...), header.AddressesOf(new...)
	switch {
	case hours && len(old)+len(new) > 0:
		c.claimed = nil
		c.findClaims()
		return
	case were.Equal(are):
		c.claims, c.unsent = before.claims, before.unsent
		return
	}
	gone := were.Minus(are)
	for _, one := range c.claimed { // by other rules too
		if slices.ContainsFunc(gone.Ranges(), func(g header.Range) bool { return !g.Last.Less(one.First) && !one.Last.Less(g.First) }) {
			gone = gone.Minus(header.AddressesOf(one.Range))
		}
	}
	sent := c.Sent()
	c.claims = &table.Claims{Always: table.NewAddressSet(before.claims.Always.Union(are.Intersect(sent)).Minus(gone))}
	c.unsent = before.unsent.Union(are.Minus(sent)).Minus(gone)
}
