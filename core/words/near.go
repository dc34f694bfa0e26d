package words

import (
	"fmt"
	"slices"
	"strings"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
	"hollowbridge/core/walk"
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
func nearOf(v *walk.Verdict, s *engine.Stand) []Near {
	var found []Near
	switch {
	case s == nil || !v.EndedAt(s.Gateway.Gateway):
		return nil
	case v.Outcome == engine.Itself:
		found = nearForwards(s)
	case v.Outcome == engine.Dropped && v.Step == engine.StepFilter, v.Outcome == engine.Rejected:
		found = nearFilterRules(s, v.Rule)
	}
	slices.SortStableFunc(found, func(a, b Near) int {
		return slices.Index(nearest, a.Differs) - slices.Index(nearest, b.Differs)
	})
	return found[:min(len(found), mostNear)]
}

func nearForwards(s *engine.Stand) []Near {
	var found []Near
	for _, r := range s.Gateway.NAT {
		if !r.Does.RewritesDestination() {
			continue
		}
		q := table.NewQuery(&s.Before, s.Gateway.Between(s.In, s.In, s.Moment))
		if c, listens := s.Gateway.ConditionAt(r, s.In); listens {
			_, sameFamily := c.To.All.FirstOf(header.FamilyOf(s.Before.Destination))
			if differs := c.Unmet(&q, table.AllAspects, 2); differs.One() && sameFamily {
				found = append(found, nearBy(&c, differs, &r.Rule, &s.Before, s.Moment, r.From.Text, c.To.All.String()))
			}
			continue
		}
		moved := *r // as it would be here, for the packet or for the address it has there
		for _, on := range [][]*network.Interface{{s.In}, r.On} {
			if moved.On = on; len(on) == 0 {
				continue
			}
			if c, listens := s.Gateway.ConditionAt(&moved, on[0]); listens && c.Meets(&q, table.AllAspects) {
				found = append(found, Near{&r.Rule, MismatchInterface, fmt.Sprintf("%s, not %s", strings.Join(network.InterfaceNames(r.On), ", "), s.In.Name)})
				break
			}
		}
	}
	return found
}

// nearFilterRules returns the rules that nearly let a packet through, which one decided about, or none.
func nearFilterRules(s *engine.Stand, decided *network.Rule) []Near {
	var found []Near
	seen, other := s.Seen(), otherSide(s)
	q, asked := s.AsksFilter(&seen), s.AsksFilter(&other)
	filter := s.Gateway.FilterTable()
	for n, c := range filter.Ordered() {
		r := s.Gateway.Filter[filter.Index(n)]
		if r.Verb != network.Allow {
			continue
		}
		switch differs := c.Unmet(&q, table.AllAspects, 2); {
		case differs == 0 && decided != nil:
			found = append(found, Near{&r.Rule, MismatchOrder, "it stands behind " + decided.Name + ", which decided first"})
		case differs != 0 && s.Before != s.After && c.Meets(&asked, table.AllAspects):
			found = append(found, Near{&r.Rule, MismatchSide, sideText(s)})
		case differs.One():
			found = append(found, nearBy(c, differs, &r.Rule, &seen, s.Moment, r.From.Text, r.To.Text))
		}
	}
	return found
}

// WrongSide walks a connection and, where the filter of its last gateway stops it because
// no rule lets it through, returns the rule that would if it named the other side of the
// translation, or nil.
func WrongSide(w *walk.Walk, c walk.Connection) (walk.Verdict, *Near) {
	var s *engine.Stand
	v := w.Watched(c, func(at *engine.Stand) { s = at })
	if s == nil || !v.EndedAt(s.Gateway.Gateway) || v.Step != engine.StepFilter || s.Before == s.After {
		return v, nil
	}
	seen, other := s.Seen(), otherSide(s)
	q, asked := s.AsksFilter(&seen), s.AsksFilter(&other)
	filter := s.Gateway.FilterTable()
	found := filter.Find(&asked)
	if found == table.NoMatch || filter.Condition(found).Verb != network.Allow || filter.Condition(found).Meets(&q, table.AllAspects) {
		return v, nil
	}
	return v, &Near{filter.Rule(found), MismatchSide, sideText(s)}
}

// otherSide returns what the filter would see if it saw the other side of the translation.
func otherSide(s *engine.Stand) header.Packet {
	other := s.After
	if !s.Gateway.Handling.FilterSeesOriginal {
		other.Destination, other.DestinationPort = s.Before.Destination, s.Before.DestinationPort
	}
	return other
}

func sideText(s *engine.Stand) string {
	if s.Gateway.Handling.FilterSeesOriginal {
		return fmt.Sprintf("%s, but this filter sees the destination as it came in, %s", s.After.To(), s.Before.To())
	}
	return fmt.Sprintf("%s, but this filter sees the destination as translated, %s", s.Before.To(), s.After.To())
}

// nearBy says how a packet differs from a condition in the one aspect that it does not meet.
func nearBy(c *table.Condition, unmet table.Aspects, rule *network.Rule, p *header.Packet, at network.Moment, fromText, toText string) Near {
	say := func(field Mismatch, format string, args ...any) Near {
		return Near{rule, field, fmt.Sprintf(format, args...)}
	}
	switch unmet {
	case table.ServiceAspect.Bit():
		if slices.ContainsFunc(c.Services, func(s header.Service) bool { return s.Protocol == p.Protocol }) {
			return say(MismatchPort, "%s, not %d", c.Services, p.DestinationPort)
		}
		return say(MismatchProtocol, "%s, not %s", c.Services, p.Protocol)
	case table.SourceAspect.Bit():
		return say(MismatchFrom, "%s, not %s", textOr(fromText, "any"), p.Source)
	case table.RedirectedAspect.Bit():
		return say(MismatchRedirected, "it is for what a NAT rule led here")
	case table.DestinationAspect.Bit():
		return say(MismatchTo, "%s, not %s", textOr(toText, "any"), p.Destination)
	case table.SourcePortAspect.Bit():
		return say(MismatchSourcePort, "not %d", p.SourcePort)
	}
	if c.Rule.Disabled {
		return say(MismatchDisabled, "it is disabled")
	}
	if c.Rule.When == nil || c.Rule.Until.IsOver(at) {
		return say(MismatchUntil, "it was for the time until %s", c.Rule.Until)
	}
	return say(MismatchTime, "it is active only %s", c.Rule.When.Text)
}

func textOr(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}
