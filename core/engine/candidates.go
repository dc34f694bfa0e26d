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

// TraceAll is Trace, with every rule that the packet meets on the way in, in the order in which
// they are tried.
func (w *Walk) TraceAll(c Connection) *Trace {
	w.candidates, w.lists = nil, true
	t := w.Trace(c)
	t.Candidates, w.lists = w.candidates, false
	return t
}

// list adds the candidates of the gateway that a packet has just been through.
func (w *Walk) list(v *visit) {
	if !v.stood || v.stray {
		return
	}
	g := v.Gateway
	add := func(step StepKind, t *table, q query, won *network.Rule, nat bool) {
		for n, c := range t.ordered() {
			if c.rule.Off() || !c.meets(&q, allAspects) {
				continue
			}
			found := Candidate{At: g.Gateway, Step: step, Rule: t.rule(n)}
			switch found.Wins = found.Rule == won; {
			case found.Wins:
				found.Text = "is followed"
			case won == nil:
				found.Text = fmt.Sprintf("is not asked: %s brings its own permission", v.forward.Name)
			case nat && g.Handling.SpecificFirst:
				found.Text = fmt.Sprintf("%s goes before it: specific rules are tried first", won.Name)
			default:
				found.Text = fmt.Sprintf("stands behind %s", won.Name)
			}
			w.candidates = append(w.candidates, found)
		}
	}
	before, after := v.before.Packet, v.after
	add(StepDestination, g.destinations[v.in.Index], newQuery(&before, g.between(v.in, v.in, v.moment)), v.forward, true)
	if v.out == nil {
		return
	}
	s := halt{gateway: g, in: v.in, out: v.out, forward: v.whole, before: v.before, after: v.after}
	seen := s.seen()
	decided := v.permit
	if v.decision.Action == Stops && v.decision.Step == StepFilter {
		decided = v.decision.Rule
	}
	add(StepFilter, g.filter, s.query(&seen, v.moment), decided, false)
	if v.decision.Action == Stops && (v.decision.Step == StepFilter || v.decision.Step == StepTurnBack) {
		return
	}
	add(StepSource, g.sources[v.out.Index], newQuery(&after, g.between(v.in, v.out, v.moment)), v.source, true)
}
