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

// nearOf returns the rules that nearly matched where a walk ended: forwards where
// nothing redirected the packet, filter rules where none let it through.
func nearOf(v *Verdict, s *Stand) []Near {
	var found []Near
	switch {
	case s == nil || !v.EndedAt(s.Gateway.Gateway):
		return nil
	case v.Outcome == Itself:
		found = nearForwards(s)
	case v.Outcome == Dropped && v.Step == StepFilter, v.Outcome == Rejected:
		found = nearFilterRules(s, v.Rule)
	}
	slices.SortStableFunc(found, func(a, b Near) int {
		return slices.Index(nearest, a.Differs) - slices.Index(nearest, b.Differs)
	})
	return found[:min(len(found), mostNear)]
}

func nearForwards(s *Stand) []Near {
	var found []Near
	for _, r := range s.Gateway.NAT {
		if !r.Does.RewritesDestination() {
			continue
		}
		q := newQuery(&s.Before, s.Gateway.between(s.In, s.In, s.Moment))
		if c, listens := s.Gateway.ConditionAt(r, s.In); listens {
			_, sameFamily := c.to.all.FirstOf(header.FamilyOf(s.Before.Destination))
			if differs := c.unmet(&q, allAspects, 2); differs.one() && sameFamily {
				found = append(found, nearBy(&c, differs, &r.Rule, &s.Before, s.Moment, r.From.Text, c.to.all.String()))
			}
			continue
		}
		moved := *r // as it would be here, for the packet or for the address it has there
		for _, on := range [][]*network.Interface{{s.In}, r.On} {
			if moved.On = on; len(on) == 0 {
				continue
			}
			if c, listens := s.Gateway.ConditionAt(&moved, on[0]); listens && c.meets(&q, allAspects) {
				found = append(found, Near{&r.Rule, MismatchInterface, fmt.Sprintf("%s, not %s", strings.Join(network.InterfaceNames(r.On), ", "), s.In.Name)})
				break
			}
		}
	}
	return found
}

// nearFilterRules returns the rules that nearly let a packet through, which one decided about, or none.
func nearFilterRules(s *Stand, decided *network.Rule) []Near {
	var found []Near
	seen, other := s.Seen(), otherSide(s)
	q, asked := s.AsksFilter(&seen), s.AsksFilter(&other)
	filter := s.Gateway.FilterTable()
	for n, c := range filter.ordered() {
		r := s.Gateway.Filter[filter.index(n)]
		if r.Verb != network.Allow {
			continue
		}
		switch differs := c.unmet(&q, allAspects, 2); {
		case differs == 0 && decided != nil:
			found = append(found, Near{&r.Rule, MismatchOrder, "it stands behind " + decided.Name + ", which decided first"})
		case differs != 0 && s.Before != s.After && c.meets(&asked, allAspects):
			found = append(found, Near{&r.Rule, MismatchSide, sideText(s)})
		case differs.one():
			found = append(found, nearBy(c, differs, &r.Rule, &seen, s.Moment, r.From.Text, r.To.Text))
		}
	}
	return found
}

// WrongSide walks a connection and, where the filter of its last gateway stops it because
// no rule lets it through, returns the rule that would if it named the other side of the
// translation, or nil.
func WrongSide(w *Walk, c Connection) (Verdict, *Near) {
	var s *Stand
	v := w.Watched(c, func(at *Stand) { s = at })
	if s == nil || !v.EndedAt(s.Gateway.Gateway) || v.Step != StepFilter || s.Before == s.After {
		return v, nil
	}
	seen, other := s.Seen(), otherSide(s)
	q, asked := s.AsksFilter(&seen), s.AsksFilter(&other)
	filter := s.Gateway.FilterTable()
	found := filter.find(&asked)
	if found == noMatch || filter.condition(found).verb != network.Allow || filter.condition(found).meets(&q, allAspects) {
		return v, nil
	}
	return v, &Near{filter.rule(found), MismatchSide, sideText(s)}
}

// otherSide returns what the filter would see if it saw the other side of the translation.
func otherSide(s *Stand) header.Packet {
	other := s.After
	if !s.Gateway.Handling.FilterSeesOriginal {
		other.Destination, other.DestinationPort = s.Before.Destination, s.Before.DestinationPort
	}
	return other
}

func sideText(s *Stand) string {
	if s.Gateway.Handling.FilterSeesOriginal {
		return fmt.Sprintf("%s, but this filter sees the destination as it came in, %s", s.After.To(), s.Before.To())
	}
	return fmt.Sprintf("%s, but this filter sees the destination as translated, %s", s.Before.To(), s.After.To())
}

// nearBy says how a packet differs from a condition in the one aspect that it does not meet.
func nearBy(c *condition, unmet aspects, rule *network.Rule, p *header.Packet, at network.Moment, fromText, toText string) Near {
	say := func(field Mismatch, format string, args ...any) Near {
		return Near{rule, field, fmt.Sprintf(format, args...)}
	}
	switch unmet {
	case serviceAspect.bit():
		if slices.ContainsFunc(c.services, func(s header.Service) bool { return s.Protocol == p.Protocol }) {
			return say(MismatchPort, "%s, not %d", c.services, p.DestinationPort)
		}
		return say(MismatchProtocol, "%s, not %s", c.services, p.Protocol)
	case sourceAspect.bit():
		return say(MismatchFrom, "%s, not %s", textOr(fromText, "any"), p.Source)
	case redirectedAspect.bit():
		return say(MismatchRedirected, "it is for what a NAT rule led here")
	case destinationAspect.bit():
		return say(MismatchTo, "%s, not %s", textOr(toText, "any"), p.Destination)
	case sourcePortAspect.bit():
		return say(MismatchSourcePort, "not %d", p.SourcePort)
	}
	if c.rule.Disabled {
		return say(MismatchDisabled, "it is disabled")
	}
	if c.rule.When == nil || c.rule.Until.IsOver(at) {
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
