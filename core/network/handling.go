package network

// Handling is how a gateway treats what gateways treat differently.
// The zero value is the usual way.
type Handling struct {
	FilterSeesOriginal bool // rules are compared with the destination as it came in
	ForwardsPermit     bool // a forward brings its own permission
	UnmatchedByTrust   bool // no rule: a zone of higher trust may open to one of lower
	TurnBack           bool // a packet may leave by the interface it came in by
	ICMPUntracked      bool // answers to pings need a rule of their own
	SpecificFirst      bool // NAT rules for less come first
	RestartsOnApply    bool // applying a revision ends all sessions
}

// A HandlingKey is one key of `handling` with its two words; the first is the usual one.
type HandlingKey struct {
	Key     string
	Words   [2]string
	Meaning string
	Field   func(*Handling) *bool // set for the second word
}

// HandlingKeys lists the keys of `handling`.
var HandlingKeys = []HandlingKey{
	{"filter-sees", [2]string{"translated", "original"},
		"which destination filter rules are compared with",
		func(h *Handling) *bool { return &h.FilterSeesOriginal }},
	{"forwards", [2]string{"need-filter", "carry-permission"},
		"whether a forward needs a filter rule or brings its own permission",
		func(h *Handling) *bool { return &h.ForwardsPermit }},
	{"unmatched", [2]string{"drop", "by-trust"},
		"what happens where no filter rule matches",
		func(h *Handling) *bool { return &h.UnmatchedByTrust }},
	{"turn-back", [2]string{"refuse", "allow"},
		"whether a connection may leave by the interface it came in by",
		func(h *Handling) *bool { return &h.TurnBack }},
	{"icmp", [2]string{"tracked", "untracked"},
		"whether the answer to a ping belongs to it or needs a rule of its own",
		func(h *Handling) *bool { return &h.ICMPUntracked }},
	{"nat-order", [2]string{"listed", "specific-first"},
		"whether NAT rules are tried as listed or the narrower first",
		func(h *Handling) *bool { return &h.SpecificFirst }},
	{"restarts-on-apply", [2]string{"false", "true"},
		"whether applying a revision ends all sessions",
		func(h *Handling) *bool { return &h.RestartsOnApply }},
}
