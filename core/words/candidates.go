package words

import (
	"fmt"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
	"hollowbridge/core/walk"
)

// A Candidate is a rule that the packet meets at a step of a gateway, whether it comes to the rule
// or not.
type Candidate struct {
	At   *network.Gateway
	Step engine.StepKind
	Rule *network.Rule
	Wins bool   // it is the one that is followed
	Text string // why it is, or why not
}

// TraceAll is TraceOf, with every rule that the packet meets on the way in, in the order in which
// they are tried.
func TraceAll(w *walk.Walk, c walk.Connection) *Trace {
	var candidates []Candidate
	t := traceOf(w, c, func(s *engine.Stand) { candidates = append(candidates, candidatesAt(s)...) })
	t.Candidates = candidates
	return t
}

// candidatesAt returns the candidates of a gateway that a packet has been through.
func candidatesAt(s *engine.Stand) (found []Candidate) {
	if s.Stray {
		return nil
	}
	g := s.Gateway
	add := func(step engine.StepKind, t *table.Table, q table.Query, won *network.Rule, nat bool) {
		for n, c := range t.Ordered() {
			if c.Rule.Off() || !c.Meets(&q, table.AllAspects) {
				continue
			}
			one := Candidate{At: g.Gateway, Step: step, Rule: t.Rule(n)}
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
	add(engine.StepDestination, g.DestinationTable(s.In), table.NewQuery(&s.Before, g.Between(s.In, s.In, s.Moment)), redirects, true)
	if s.Out == nil {
		return found
	}
	seen := s.Seen()
	decided := s.Permit
	if s.StoppedAt == engine.StepFilter {
		decided = s.StoppedBy
	}
	add(engine.StepFilter, g.FilterTable(), s.AsksFilter(&seen), decided, false)
	if s.StoppedAt == engine.StepFilter || s.StoppedAt == engine.StepTurnBack {
		return found
	}
	add(engine.StepSource, g.SourceTable(s.Out), table.NewQuery(&s.After, g.Between(s.In, s.Out, s.Moment)), s.Source, true)
	return found
}
