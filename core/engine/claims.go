package engine

import (
	"net/netip"
	"slices"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// Claims are the outside addresses that a gateway answers for because of its rules.
type claims struct {
	always addressSet   // of rules that take part at all times
	hourly []hourly     // of those that do not, by first address
	upTo   []netip.Addr // the greatest last address of the first one of these, the first two, and so on
}

// An hourly range is outside addresses of a rule with hours, or with a deadline.
type hourly struct {
	header.Range
	rule *network.Rule
}

func newClaims(always []header.Range, list []hourly) *claims {
	c := &claims{always: newAddressSet(header.AddressesOf(always...)), hourly: list}
	slices.SortStableFunc(list, func(a, b hourly) int { return a.First.Compare(b.First) })
	for i, one := range list {
		last := one.Last
		if i > 0 && last.Less(c.upTo[i-1]) {
			last = c.upTo[i-1]
		}
		c.upTo = append(c.upTo, last)
	}
	return c
}

// hold reports whether an address is claimed at a moment.
func (c *claims) hold(a netip.Addr, at network.Moment) bool {
	if c.always.Contains(a) {
		return true
	}
	if len(c.hourly) == 0 {
		return false
	}
	i, _ := slices.BinarySearchFunc(c.hourly, a, func(one hourly, a netip.Addr) int {
		if a.Less(one.First) {
			return 1
		}
		return -1
	})
	for i--; i >= 0 && !c.upTo[i].Less(a); i-- {
		if one := &c.hourly[i]; !one.Last.Less(a) && one.rule.Active(at) {
			return true
		}
	}
	return false
}

// at returns all addresses that are claimed at a moment.
func (c *claims) at(moment network.Moment) header.Addresses {
	return c.by(func(r *network.Rule) bool { return r.Active(moment) })
}

// ever returns all addresses that are claimed at any time.
func (c *claims) ever() header.Addresses {
	return c.by(func(*network.Rule) bool { return true })
}

// by returns all addresses that are claimed where some of the rules that are timed are active.
func (c *claims) by(active func(*network.Rule) bool) header.Addresses {
	all := slices.Clone(c.always.Ranges())
	for _, one := range c.hourly {
		if active(one.rule) {
			all = append(all, one.Range)
		}
	}
	return header.AddressesOf(all...)
}

// equal reports whether the same is claimed at the same times.
func (c *claims) equal(other *claims) bool {
	return c.always.Addresses.Equal(other.always.Addresses) && slices.EqualFunc(c.hourly, other.hourly, func(a, b hourly) bool {
		return a.Range == b.Range && a.rule.Off() == b.rule.Off() && a.rule.Hours() == b.rule.Hours()
	})
}
