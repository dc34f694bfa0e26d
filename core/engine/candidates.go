package engine

import (
	"fmt"

	"hollowbridge/core/network"
)

// A Candidate is a rule that the packet meets at a step of a gateway, whether it comes to the rule
// or not.
type Candidate struct {
	At   *network.Gateway
	Step StepKind
	Rule *network.Rule
	Wins bool   // it is the one that is followed
	Text string // why it is, or why not
}

// TraceAll is TraceOf, with every rule that the packet meets on the way in, in the order in which
// they are tried.
func TraceAll(w *Walk, c Connection) *Trace {
	var candidates []Candidate
	t := traceOf(w, c, func(s *Stand) { candidates = append(candidates, candidatesAt(s)...) })
	t.Candidates = candidates
	return t
}

// candidatesAt returns the candidates of a gateway that a packet has been through.
func candidatesAt(s *Stand) (found []Candidate) {
	if s.Stray {
		return nil
	}
	g := s.Gateway
	add := func(step StepKind, t *table, q query, won *network.Rule, nat bool) {
		for n, c := range t.ordered() {
			if c.rule.Off() || !c.meets(&q, allAspects) {
				continue
			}
			one := Candidate{At: g.Gateway, Step: step, Rule: t.rule(n)}
			switch one.Wins = one.Rule == won; {
			case one.Wins:
				one.Text = "is followed"
			case won == nil:
				one.Text = fmt.Sprintf("is not asked: %s brings its own permission", s.Forward.Name)
			case nat && g.Handling.SpecificFirst:
				one.Text = fmt.Sprintf("%s goes before it: specific rules are tried first", won.Name)
			default:
				one.Text = fmt.Sprintf("stands behind %s", won.Name)
			}
			found = append(found, one)
		}
	}
	var redirects *network.Rule
	if s.Forward != nil {
		redirects = &s.Forward.Rule
	}
	add(StepDestination, g.DestinationTable(s.In), newQuery(&s.Before, g.between(s.In, s.In, s.Moment)), redirects, true)
	if s.Out == nil {
		return found
	}
	seen := s.Seen()
	decided := s.Permit
	if s.StoppedAt == StepFilter {
		decided = s.StoppedBy
	}
	add(StepFilter, g.FilterTable(), s.AsksFilter(&seen), decided, false)
	if s.StoppedAt == StepFilter || s.StoppedAt == StepTurnBack {
		return found
	}
	add(StepSource, g.SourceTable(s.Out), newQuery(&s.After, g.between(s.In, s.Out, s.Moment)), s.Source, true)
	return found
}
