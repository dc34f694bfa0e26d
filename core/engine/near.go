package engine

import (
	"fmt"
	"slices"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Near is a rule that would have mattered if one field of it, or of the
// connection, were different.
type Near struct {
	Rule    *network.Rule
	Differs Mismatch // the one field
	Text    string   // how it differs
}

// A Mismatch is the field in which a near rule differs.
type Mismatch string

// The mismatches, those first that are likeliest a mistake.
const (
	MismatchSide       Mismatch = "side of the translation"
	MismatchOrder      Mismatch = "order"
	MismatchDisabled   Mismatch = "disabled"
	MismatchUntil      Mismatch = "until"
	MismatchTime       Mismatch = "time"
	MismatchInterface  Mismatch = "interface"
	MismatchFrom       Mismatch = "from"
	MismatchSourcePort Mismatch = "source port"
	MismatchPort       Mismatch = "port"
	MismatchTo         Mismatch = "to"
	MismatchRedirected Mismatch = "redirected"
	MismatchProtocol   Mismatch = "protocol"
)

// nearest are the mismatches in that order.
var nearest = []Mismatch{MismatchSide, MismatchOrder, MismatchDisabled, MismatchUntil, MismatchTime, MismatchInterface, MismatchFrom, MismatchSourcePort, MismatchPort, MismatchTo, MismatchRedirected, MismatchProtocol}

// IsAboutTheRule reports whether it is no value of the packet that the rule does not meet: then the text says all.
func (m Mismatch) IsAboutTheRule() bool {
	switch m {
	case MismatchOrder, MismatchDisabled, MismatchUntil, MismatchTime, MismatchRedirected:
		return true
	}
	return false
}

// mostNear is how many near rules a trace names.
const mostNear = 5

// A halt is how a packet stood at the gateway where it ended.
type halt struct {
	gateway *Gateway
	in, out *network.Interface // out is nil before the route is known
	forward *network.NATRule   // what redirected it, or nil
	before  image              // as it came,
	after   header.Packet      // and after the third step
}

// seen returns the packet as the gateway's filter sees it.
func (s *halt) seen() header.Packet {
	seen := flow{packet: s.after}
	s.gateway.seenByFilter(&seen, &image{Packet: s.before.Packet})
	return seen.now()
}

// query is what the gateway's filter is asked about a packet.
func (s *halt) query(p *header.Packet, at network.Moment) query {
	in := s.gateway.between(s.in, s.out, at)
	in.redirected = s.forward != nil
	return newQuery(p, in)
}

// near returns the rules that nearly matched where the walk ended: forwards where
// nothing redirected the packet, filter rules where none let it through.
func (w *Walk) near() []Near {
	s := w.stood
	var found []Near
	switch {
	case s.gateway == nil || !w.verdict.EndedAt(s.gateway.Gateway):
		return nil
	case w.verdict.Outcome == Itself:
		found = w.nearForwards(s)
	case w.verdict.Outcome == Dropped && w.verdict.Step == StepFilter, w.verdict.Outcome == Rejected:
		found = w.nearFilterRules(s)
	}
	slices.SortStableFunc(found, func(a, b Near) int {
		return slices.Index(nearest, a.Differs) - slices.Index(nearest, b.Differs)
	})
	return found[:min(len(found), mostNear)]
}

func (w *Walk) nearForwards(s halt) []Near {
	var found []Near
	zones := s.gateway.zoneNames()
	for _, r := range s.gateway.NAT {
		if !r.Does.RewritesDestination() {
			continue
		}
		q := newQuery(&s.before.Packet, s.gateway.between(s.in, s.in, w.moment))
		if c, listens := destinationCondition(r, s.in, zones); listens {
			_, sameFamily := c.to.all.FirstOf(header.FamilyOf(q.packet.Destination))
			if differs := c.unmet(&q, allAspects, 2); differs.one() && sameFamily {
				found = append(found, c.near(differs, &r.Rule, &q, r.From.Text, c.to.all.String()))
			}
			continue
		}
		moved := *r // as it would be here, for the packet or for the address it has there
		for _, on := range [][]*network.Interface{{s.in}, r.On} {
			if moved.On = on; len(on) == 0 {
				continue
			}
			if c, listens := destinationCondition(&moved, on[0], zones); listens && c.meets(&q, allAspects) {
				found = append(found, Near{&r.Rule, MismatchInterface, fmt.Sprintf("%s, not %s", strings.Join(network.InterfaceNames(r.On), ", "), s.in.Name)})
				break
			}
		}
	}
	return found
}

func (w *Walk) nearFilterRules(s halt) []Near {
	var found []Near
	seen, other := s.seen(), s.otherSide()
	q, otherSide := s.query(&seen, w.moment), s.query(&other, w.moment)
	for n, c := range s.gateway.filter.ordered() {
		r := s.gateway.Filter[s.gateway.filter.index(n)]
		if r.Verb != network.Allow {
			continue
		}
		switch differs := c.unmet(&q, allAspects, 2); {
		case differs == 0 && w.verdict.Rule != nil:
			found = append(found, Near{&r.Rule, MismatchOrder, "it stands behind " + w.verdict.Rule.Name + ", which decided first"})
		case differs != 0 && s.before.Packet != s.after && c.meets(&otherSide, allAspects):
			found = append(found, Near{&r.Rule, MismatchSide, sideText(s)})
		case differs.one():
			found = append(found, c.near(differs, &r.Rule, &q, r.From.Text, r.To.Text))
		}
	}
	return found
}

// WrongSide walks a connection and, where the filter of its last gateway stops it because
// no rule lets it through, returns the rule that would if it named the other side of the
// translation, or nil.
func (w *Walk) WrongSide(c Connection) (Verdict, *Near) {
	w.stands = true
	w.Verdict(c)
	w.stands = false
	s, v := w.stood, w.verdict
	if s.gateway == nil || !v.EndedAt(s.gateway.Gateway) || v.Step != StepFilter || s.before.Packet == s.after {
		return v, nil
	}
	seen, other := s.seen(), s.otherSide()
	q, otherSide := s.query(&seen, w.moment), s.query(&other, w.moment)
	found := s.gateway.filter.find(&otherSide)
	if found == noMatch || s.gateway.filter.condition(found).verb != network.Allow || s.gateway.filter.condition(found).meets(&q, allAspects) {
		return v, nil
	}
	return v, &Near{s.gateway.filter.rule(found), MismatchSide, sideText(s)}
}

// otherSide returns what the filter would see if it saw the other side of the translation.
func (s *halt) otherSide() header.Packet {
	other := s.after
	if !s.gateway.Handling.FilterSeesOriginal {
		other.Destination, other.DestinationPort = s.before.Destination, s.before.DestinationPort
	}
	return other
}

func sideText(s halt) string {
	if s.gateway.Handling.FilterSeesOriginal {
		return fmt.Sprintf("%s, but this filter sees the destination as it came in, %s", s.after.To(), s.before.To())
	}
	return fmt.Sprintf("%s, but this filter sees the destination as translated, %s", s.before.To(), s.after.To())
}

// near says how a packet differs from a condition in the one aspect that it does not meet.
func (c *condition) near(unmet aspects, rule *network.Rule, q *query, fromText, toText string) Near {
	say := func(field Mismatch, format string, args ...any) Near {
		return Near{rule, field, fmt.Sprintf(format, args...)}
	}
	switch unmet {
	case serviceAspect.bit():
		if slices.ContainsFunc(c.services, func(s header.Service) bool { return s.Protocol == q.packet.Protocol }) {
			return say(MismatchPort, "%s, not %d", c.services, q.packet.DestinationPort)
		}
		return say(MismatchProtocol, "%s, not %s", c.services, q.packet.Protocol)
	case sourceAspect.bit():
		return say(MismatchFrom, "%s, not %s", textOr(fromText, "any"), q.packet.Source)
	case redirectedAspect.bit():
		return say(MismatchRedirected, "it is for what a NAT rule led here")
	case destinationAspect.bit():
		return say(MismatchTo, "%s, not %s", textOr(toText, "any"), q.packet.Destination)
	case sourcePortAspect.bit():
		return say(MismatchSourcePort, "not %d", q.packet.SourcePort)
	}
	if c.rule.Disabled {
		return say(MismatchDisabled, "it is disabled")
	}
	if c.rule.When == nil || c.rule.Until.IsOver(q.moment) {
		return say(MismatchUntil, "it was for the time until %s", c.rule.Until)
	}
	return say(MismatchTime, "it is active only %s", c.rule.When.Text)
}

func textOr(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}
