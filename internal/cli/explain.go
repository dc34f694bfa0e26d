package cli

import (
	"cmp"
	"fmt"
	"strings"

	"hollowbridge/core/engine"
	"hollowbridge/core/words"
)

// printExplained says each step of a trace in a sentence, for whoever does not know the trade.
func (c *call) printExplained(t *words.Trace, d detail) {
	if !d.explained || len(t.Steps) == 0 {
		return
	}
	fmt.Fprintln(c.Out, "in words")
	for i, s := range t.Steps {
		text := explained(&s, t)
		head := fmt.Sprintf("  %2d. ", i+1)
		fmt.Fprintf(c.Out, "%s%s\n", head, strings.Join(wrap(text, c.Width-len(head)), "\n"+strings.Repeat(" ", len(head))))
	}
	fmt.Fprintln(c.Out)
}

// explained says what happens at a step.
func explained(s *words.Step, t *words.Trace) string {
	changed, rule := s.Before != s.After, ""
	if s.Rule != "" {
		rule = " " + s.Rule
	}
	if s.Back {
		switch {
		case changed && s.Before.Source != s.After.Source, changed && s.Before.SourcePort != s.After.SourcePort:
			return fmt.Sprintf("On the way back %s knows the connection: it makes the answer come from %s again, where the client sent to, in place of %s.", s.At, s.After.From(), s.Before.From())
		case changed:
			return fmt.Sprintf("On the way back %s knows the connection: the answer to %s is really for %s, and is sent there.", s.At, s.Before.To(), s.After.To())
		case s.Kind == engine.StepSession:
			return fmt.Sprintf("On the way back %s knows the connection, so it asks no rule again: the answer passes as it is.", s.At)
		}
		return fmt.Sprintf("On the way back, %s: %s", s.At, sentence(s.Label+" "+s.Text))
	}
	switch s.Kind {
	case engine.StepArrive:
		return fmt.Sprintf("The first packet of the connection arrives at the gateway %s, %s: by that it knows from which side it comes.", s.At, s.Text)
	case engine.StepSession:
		return fmt.Sprintf("%s remembers the connection, and does what it did before: %s", s.At, sentence(s.Text))
	case engine.StepDestination:
		if changed {
			return fmt.Sprintf("The client asked for %s. By the rule%s, %s writes %s in its place: there the service really is. The client does not notice.", s.Before.To(), rule, s.At, s.After.To())
		}
		return fmt.Sprintf("No place is there for it: %s", sentence(s.Text))
	case engine.StepItself:
		return fmt.Sprintf("Now it is for %s itself, and goes no further: %s", s.At, sentence(s.Label+" "+s.Text))
	case engine.StepRoute:
		return fmt.Sprintf("%s looks up where the destination lies. The longest prefix that it is in is %s: %s", s.At, s.Route, sentence(s.Text))
	case engine.StepFilter:
		return filterSentence(s)
	case engine.StepTurnBack:
		return fmt.Sprintf("It would leave by the side that it came from; %s: %s", s.At, sentence(s.Label+" "+s.Text))
	case engine.StepSource:
		switch {
		case changed:
			return fmt.Sprintf("%s writes its sender anew, %s in place of %s (rule%s): the answer comes to that address, and so back to the gateway, which knows whose it is.", s.At, s.After.From(), s.Before.From(), cmp.Or(rule, ": none, it has to"))
		case s.Rule != "" && strings.HasPrefix(s.Text, "none"):
			return fmt.Sprintf("The rule%s gives the sender another address or port, but %s.", rule, s.Text)
		}
		return "The sender stays as it is, so whoever is asked sees who asks."
	case engine.StepHost:
		if s.Label == "takes it" {
			return fmt.Sprintf("%s gets the packet; %s.", s.At, s.Text)
		}
		if t.Outcome == engine.Reached {
			return fmt.Sprintf("%s gets the packet: it %s %s, so it answers.", s.At, s.Label, s.Text)
		}
		return fmt.Sprintf("%s gets the packet: %s", s.At, sentence(s.Label+" "+s.Text))
	}
	return fmt.Sprintf("%s: %s", s.At, sentence(s.Label+" "+s.Text))
}

// filterSentence says what the filter did.
func filterSentence(s *words.Step) string {
	does := map[string]string{"allow": "it may pass", "drop": "it is thrown away, and nobody is told", "reject": "it is refused, and the client is told"}[s.Label]
	if does == "" {
		does = s.Label
	}
	if s.Rule == "" {
		return fmt.Sprintf("The filter of %s decides whether it may pass: %s; so %s.", s.At, s.Text, does)
	}
	return fmt.Sprintf("The filter of %s goes through its rules until one is about this connection. That is %s: %s.", s.At, s.Rule, does)
}

// sentence ends a text as a sentence does.
func sentence(text string) string {
	text = strings.TrimSpace(text)
	if strings.HasSuffix(text, ".") {
		return text
	}
	return text + "."
}
