package engine

import "hollowbridge/core/network"

// A scope is what conditions are compared in: the zones that a packet comes from and goes
// to, whether a rule redirected it, and when; of a set, that is in the set.
type scope struct {
	fromZone, toZone int
	redirected       bool
	moment           network.Moment
}

// ScopeAsked is what of a scope something asks about: which zones, and whether a rule redirected packets.
type scopeAsked struct{ from, to, led bool }

// and returns what either asks about.
func (a scopeAsked) and(b scopeAsked) scopeAsked {
	return scopeAsked{a.from || b.from, a.to || b.to, a.led || b.led}
}

// in returns a scope without what is not asked about.
func (a scopeAsked) in(s scope) scope {
	s.redirected = s.redirected && a.led
	if !a.from {
		s.fromZone = 0
	}
	if !a.to {
		s.toZone = 0
	}
	return s
}

func (c *condition) asked() scopeAsked {
	return scopeAsked{len(c.from.zones) > 0, len(c.to.zones) > 0, c.redirected}
}

func (t *table) asked() scopeAsked { return scopeAsked{t.asksFrom, t.asksTo, t.asksLed} }
