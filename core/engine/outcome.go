package engine

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

var outcomes = [...]struct{ name, meaning string }{
	Reached:        {"reached", "it gets there, and the answer gets back"},
	Dropped:        {"dropped", "thrown away without a word"},
	Rejected:       {"rejected", "a gateway refuses it"},
	Itself:         {"itself", "nothing redirects it, and the gateway does not serve it there"},
	Unrouted:       {"unrouted", "there is no way to the destination"},
	Absent:         {"absent", "no host has the address"},
	Refused:        {"refused", "the host is up, but nothing serves that port"},
	HostFirewall:   {"host-firewall", "the host's own firewall stops it"},
	UpstreamBlocks: {"upstream", "stopped by the network on the other side of the uplink"},
	Exhausted:      {"exhausted", "no address and port is left to hide the source behind"},
	Unanswered:     {"unanswered", "it is delivered, but the answer is lost"},
	Loop:           {"loop", "it goes round until it is thrown away"},
}

// String returns the outcome's word.
func (o Outcome) String() string { return outcomes[o].name }

// Meaning returns what the outcome means, in a few words.
func (o Outcome) Meaning() string { return outcomes[o].meaning }

// Outcomes returns all outcomes.
func Outcomes() []Outcome {
	list := make([]Outcome, len(outcomes))
	for i := range outcomes {
		list[i] = Outcome(i)
	}
	return list
}
