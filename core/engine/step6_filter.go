package engine

import (
	"hollowbridge/core/flow"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// permits is the sixth step: the first filter rule that matches decides.
func (v *Visit) permits() (goes bool) {
	if v.redirect != nil && v.Handling.ForwardsPermit && v.redirect.does.Permits() && v.redirect.does != network.Mapped {
		v.note(StepFilter, BringsPermit, v.forward)
		return true
	}
	seen := v.flow
	v.seenByFilter(&seen, &v.before)
	if v.part == header.Reports {
		seen = seen.AsReport(v.sender)
	}
	in := v.Between(v.in, v.out, v.moment)
	in.Redirected = v.redirect != nil || v.follows && v.session.Redirect != nil
	found := seen.First(v.filter, in)
	if found == table.NoMatch {
		return v.unmatched(seen.Now())
	}
	verb, rule := v.filter.Condition(found).Verb, v.filter.Rule(found)
	v.flow.TookPart(rule)
	v.note(StepFilter, Decides, rule).Verb = verb
	switch verb {
	case network.Allow:
		v.permit = rule
		return true
	case network.Drop:
		v.stop(Dropped, StepFilter, rule)
	case network.Reject:
		v.stop(Rejected, StepFilter, rule)
		v.decision.Tells = RefusedBy(v.flow.Protocol())
	}
	return false
}

// seenByFilter makes of a copy of a flow what the filter sees of a packet that was before when it came: the
// destination as it is after the third step, or as it came in, and the source as it came in,
// which is translated only behind the filter. Of an ICMP error it sees that, not the packet
// that it quotes.
func (g *Gateway) seenByFilter(f *flow.Flow, before *flow.Image) {
	f.With(before, g.Handling.FilterSeesOriginal)
}

// unmatched judges a packet that no filter rule is for, as the filter saw it.
func (v *Visit) unmatched(seen header.Packet) (goes bool) {
	if v.redirect != nil && v.redirect.does == network.Mapped {
		v.note(StepFilter, MappingPermits, v.forward)
		return true
	}
	if v.Trusts(v.in, v.out) {
		v.note(StepFilter, Trusted, nil)
		return true
	}
	e := v.note(StepFilter, Unmatched, nil)
	e.After, e.Rule, e.ByTrust = seen, v.forward, v.Handling.UnmatchedByTrust
	v.stop(Dropped, StepFilter, nil)
	return false
}
