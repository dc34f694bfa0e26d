package words

import (
	"fmt"
	"slices"

	"hollowbridge/core/engine"
)

// dropRemedies are what can be done about a packet that a gateway drops at another step than its
// filter.
var dropRemedies = map[engine.StepKind]string{
	engine.StepArrive:      "Nothing, if it is forged. If its sender is really there, correct the prefix or the route that says where else its address is.",
	engine.StepSession:     "Make the answer go the way the connection came: by the host's gateway, its routes, or a source rule; or let the gateway take what it saw no beginning of (tcp-state: loose, icmp: untracked).",
	engine.StepDestination: "Use an address that the prefixes can translate there and back.",
	engine.StepTurnBack:    "Let the gateway turn packets back (handling: turn-back: allow), or use an address by which they need not turn.",
	engine.StepSource:      "Use an address that the prefixes can translate there and back.",
}

// Remedy returns what an administrator can do about what became of a traced connection, as a
// sentence; it asks for nothing that is there.
func (t *Trace) Remedy() string {
	if t.Outcome == engine.Dropped {
		if text, other := dropRemedies[t.Step]; other {
			return text
		}
	}
	near := len(t.Near) > 0 && slices.Contains(meant, t.Near[0].Differs)
	switch {
	case near && t.Outcome == engine.Itself:
		return fmt.Sprintf("If %s is meant for it, correct that; else add a port-forward.", t.Near[0].Rule.Name)
	case near && (t.Outcome == engine.Dropped || t.Outcome == engine.Rejected):
		return fmt.Sprintf("If it should get through, and %s is meant for it, correct that; else add a filter rule that allows it%s.", t.Near[0].Rule.Name, inFront(t))
	case t.Outcome == engine.UpstreamBlocks && t.Unsent:
		return "If the provider sends it here, only the file does not say so: name the prefix in upstream: routes of the uplink."
	case t.Outcome == engine.Dropped && t.Rule == nil:
		return "If it should get through, add a filter rule that allows it."
	}
	return t.Outcome.Remedy()
}

// meant are the fields in which a rule differs that was probably meant for the packet.
var meant = []Mismatch{MismatchSide, MismatchOrder, MismatchDisabled, MismatchUntil, MismatchTime, MismatchInterface}

// inFront says that a rule has to stand in front of the one that stopped a connection.
func inFront(t *Trace) string {
	if t.Rule == nil {
		return ""
	}
	return ", in front of " + t.Rule.Name
}
