package engine

import (
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

// Outcomes returns all outcomes.
func Outcomes() []Outcome {
	list := make([]Outcome, len(outcomes))
	for i := range outcomes {
		list[i] = Outcome(i)
	}
	return list
}
