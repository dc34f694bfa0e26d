package table

import (
	"net/netip"
	"slices"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// Claims are the outside addresses that a gateway answers for because of its rules.
type Claims struct {
	Always AddressSet   // of rules that take part at all times
	Hourly []Hourly     // of those that do not, by first address
	upTo   []netip.Addr // the greatest last address of the first one of these, the first two, and so on
}

// An Hourly range is outside addresses of a rule with hours, or with a deadline.
type Hourly struct {
	header.Range
	Rule *network.Rule
}

func NewClaims(always []header.Range, list []Hourly) *Claims {
	c := &Claims{Always: NewAddressSet(header.AddressesOf(always...)), Hourly: list}
	slices.SortStableFunc(list, func(a, b Hourly) int { return a.First.Compare(b.First) })
	for i, one := range list {
		last := one.Last
		if i > 0 && last.Less(c.upTo[i-1]) {
			last = c.upTo[i-1]
		}
		c.upTo = append(c.upTo, last)
	}
	return c
}

// Hold reports whether an address is claimed at a moment.
func (c *Claims) Hold(a netip.Addr, at network.Moment) bool {
	if c.Always.Contains(a) {
		return true
	}
	if len(c.Hourly) == 0 {
		return false
	}
	i, _ := slices.BinarySearchFunc(c.Hourly, a, func(one Hourly, a netip.Addr) int {
		if a.Less(one.First) {
			return 1
		}
		return -1
	})
	for i--; i >= 0 && !c.upTo[i].Less(a); i-- {
		if one := &c.Hourly[i]; !one.Last.Less(a) && one.Rule.Active(at) {
			return true
		}
	}
	return false
}

// At returns all addresses that are claimed at a moment.
func (c *Claims) At(moment network.Moment) header.Addresses {
	return c.by(func(r *network.Rule) bool { return r.Active(moment) })
}

// Ever returns all addresses that are claimed at any time.
func (c *Claims) Ever() header.Addresses {
	return c.by(func(*network.Rule) bool { return true })
}

// by returns all addresses that are claimed where some of the rules that are timed are active.
func (c *Claims) by(active func(*network.Rule) bool) header.Addresses {
	all := slices.Clone(c.Always.Ranges())
	for _, one := range c.Hourly {
		if active(one.Rule) {
			all = append(all, one.Range)
		}
	}
	return header.AddressesOf(all...)
}

// Equal reports whether the same is claimed at the same times.
func (c *Claims) Equal(other *Claims) bool {
	return c.Always.Addresses.Equal(other.Always.Addresses) && slices.EqualFunc(c.Hourly, other.Hourly, func(a, b Hourly) bool {
		return a.Range == b.Range && a.Rule.Off() == b.Rule.Off() && a.Rule.Hours() == b.Rule.Hours()
	})
}
