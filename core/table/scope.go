package table

import "hollowbridge/core/network"

// A Scope is what conditions are compared in: the zones that a packet comes from and goes
// to, whether a rule redirected it, and when; of a set, that is in the set.
type Scope struct {
	FromZone, ToZone int
	Redirected       bool
	Moment           network.Moment
}

// Asked is what of a scope something asks about: which zones, and whether a rule redirected packets.
type Asked struct{ from, to, led bool }

// And returns what either asks about.
func (a Asked) And(b Asked) Asked {
	return Asked{a.from || b.from, a.to || b.to, a.led || b.led}
}

// In returns a scope without what is not asked about.
func (a Asked) In(s Scope) Scope {
	s.Redirected = s.Redirected && a.led
	if !a.from {
		s.FromZone = 0
	}
	if !a.to {
		s.ToZone = 0
	}
	return s
}

func (c *Condition) Asked() Asked {
	return Asked{len(c.From.Zones) > 0, len(c.To.Zones) > 0, c.Redirected}
}

func (t *Table) Asked() Asked { return Asked{t.asksFrom, t.asksTo, t.asksLed} }
