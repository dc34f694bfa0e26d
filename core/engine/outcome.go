package engine

import (
	"fmt"
	"slices"
)

// An Outcome is how a trace ends.
type Outcome uint8

// The outcomes. Reached is the only good one.
const (
	Reached Outcome = iota
	Dropped
	Rejected
	Itself
	Unrouted
	Absent
	Refused
	HostFirewall
	UpstreamBlocks
	Exhausted
	Unanswered
	Loop
)

// A logged says how a gateway writes an outcome to its log.
type logged uint8

const (
	nowhere   logged = iota // it knows nothing of it, or only that the packet went through
	asMeant                 // a rule or its habit wants it so
	asUnmeant               // nobody wants it so
)

type outcome struct {
	name, meaning, remedy string
	logged                logged
}

// outcomes is all that is to be known of each, but for the step that ends a packet by it and what a client meets then.
var outcomes = [...]outcome{
	Reached: {"reached", "it gets there, and the answer gets back", "", nowhere},
	Dropped: {"dropped", "thrown away without a word",
		"If it should get through, add a filter rule that allows it, or change or move the one that stopped it.", asMeant},
	Rejected: {"rejected", "a gateway refuses it",
		"If it should get through, change the rule that refused it, or put one that allows it before it.", asMeant},
	Itself: {"itself", "nothing redirects it, and the gateway does not serve it there",
		"Add a port-forward for it, or correct the one that was meant.", asMeant},
	Unrouted: {"unrouted", "there is no way to the destination",
		"Mend the route or the interface that is named here.", asUnmeant},
	Absent: {"absent", "no host has the address",
		"Correct the address of the host, or where the forward leads.", nowhere},
	Refused: {"refused", "the host is up, but nothing serves that port",
		"Lead the forward to the port the service listens on, or start the service.", nowhere},
	HostFirewall: {"host-firewall", "the host's own firewall stops it",
		"Let this source in at the host's own firewall; it sees the source as it is after translation.", nowhere},
	UpstreamBlocks: {"upstream", "stopped by the network on the other side of the uplink",
		"Use another port or another uplink, or ask the provider.", nowhere},
	Exhausted: {"exhausted", "no address, port or session is left for it",
		"Give the rule more addresses or more ports, or the gateway room for more sessions.", asUnmeant},
	Unanswered: {"unanswered", "it is delivered, but the answer is lost",
		"Make the answer go the way the connection came: by the host's gateway, its routes, or a source rule.", nowhere},
	Loop: {"loop", "it goes round until it is thrown away",
		"Mend the routes, or the relays, that lead back.", nowhere},
}

// LoggedOutcomes returns the outcomes that gateways write to their log.
func LoggedOutcomes() (list []Outcome) {
	for o := range outcomes {
		if outcomes[o].logged != nowhere {
			list = append(list, Outcome(o))
		}
	}
	return list
}

// IsUnmeant reports whether it is the word of an outcome that a gateway logs and nobody wants, as where no route or no port is left.
func IsUnmeant(word string) bool {
	return slices.ContainsFunc(outcomes[:], func(o outcome) bool { return o.name == word && o.logged == asUnmeant })
}

// String returns the outcome's word.
func (o Outcome) String() string { return outcomes[o].name }

// Meaning returns what the outcome means, in a few words.
func (o Outcome) Meaning() string { return outcomes[o].meaning }

// Remedy returns what an administrator can do about the outcome, as a sentence.
func (o Outcome) Remedy() string { return outcomes[o].remedy }

// dropRemedies are what can be done about a packet that a gateway drops at another step than its
// filter.
var dropRemedies = map[StepKind]string{
	StepArrive:      "Nothing, if it is forged. If its sender is really there, correct the prefix or the route that says where else its address is.",
	StepSession:     "Make the answer go the way the connection came: by the host's gateway, its routes, or a source rule; or let the gateway take what it saw no beginning of (tcp-state: loose, icmp: untracked).",
	StepDestination: "Use an address that the prefixes can translate there and back.",
	StepTurnBack:    "Let the gateway turn packets back (handling: turn-back: allow), or use an address by which they need not turn.",
	StepSource:      "Use an address that the prefixes can translate there and back.",
}

// Remedy returns what an administrator can do about what became of a traced connection, as a
// sentence; it asks for nothing that is there.
func (t *Trace) Remedy() string {
	if t.Outcome == Dropped {
		if text, other := dropRemedies[t.Step]; other {
			return text
		}
	}
	near := len(t.Near) > 0 && slices.Contains(meant, t.Near[0].Differs)
	switch {
	case near && t.Outcome == Itself:
		return fmt.Sprintf("If %s is meant for it, correct that; else add a port-forward.", t.Near[0].Rule.Name)
	case near && (t.Outcome == Dropped || t.Outcome == Rejected):
		return fmt.Sprintf("If it should get through, and %s is meant for it, correct that; else add a filter rule that allows it%s.", t.Near[0].Rule.Name, inFront(t))
	case t.Outcome == UpstreamBlocks && t.Unsent:
		return "If the provider sends it here, only the file does not say so: name the prefix in upstream: routes of the uplink."
	case t.Outcome == Dropped && t.Rule == nil:
		return "If it should get through, add a filter rule that allows it."
	}
	return t.Outcome.Remedy()
}

// meant are the fields in which a rule differs that was probably meant for the packet.
var meant = []Mismatch{MismatchSide, MismatchOrder, MismatchDisabled, MismatchUntil, MismatchTime, MismatchInterface}

func inFront(t *Trace) string {
	if t.Rule == nil {
		return ""
	}
	return ", in front of " + t.Rule.Name
}

// Outcomes returns all outcomes.
func Outcomes() []Outcome {
	list := make([]Outcome, len(outcomes))
	for i := range outcomes {
		list[i] = Outcome(i)
	}
	return list
}
