package network

import "slices"

// Handling is how a gateway treats what gateways treat differently.
// The zero value is the usual way.
type Handling struct {
	FilterSeesOriginal bool // rules are compared with the destination as it came in
	ForwardsPermit     bool // a forward brings its own permission
	UnmatchedByTrust   bool // no rule: a zone may open to one that stands behind it in Trust
	TurnBack           bool // a packet may leave by the interface it came in by
	ICMPUntracked      bool // answers to pings need a rule of their own
	TCPLoose           bool // a TCP packet that belongs to no handshake it saw is let through
	UnreachableSilent  bool // nobody is told that a host or a place can't be reached
	SpecificFirst      bool // NAT rules for less come first
	RestartsOnApply    bool // applying a revision ends all sessions

	Mapping        MappingBehavior
	PortAssignment PortAssignment
	Trust          [][]string // zones, the most trusted first, those of one list alike; with UnmatchedByTrust
}

// OnlySessionsShow returns the keys in which two gateways differ and which a connection shows only where there were others before
// it: sorted as the docs have them.
func OnlySessionsShow(a, b *Gateway) (keys []string) {
	x, y := a.Handling, b.Handling
	for _, k := range []struct {
		name    string
		differs bool
	}{
		{"tcp-state", x.TCPLoose != y.TCPLoose},
		{"mapping", x.Mapping != y.Mapping},
		{"port-assignment", x.PortAssignment != y.PortAssignment},
		{"restarts-on-apply", x.RestartsOnApply != y.RestartsOnApply},
		{"limits.sessions", a.Limits.Sessions != b.Limits.Sessions},
	} {
		if k.differs {
			keys = append(keys, k.name)
		}
	}
	return keys
}

// ToldOtherwise returns the keys in which two gateways differ and which only change what a client is told of a connection that
// does not get there, not what becomes of it.
func ToldOtherwise(a, b *Gateway) (keys []string) {
	if a.Handling.UnreachableSilent != b.Handling.UnreachableSilent {
		keys = append(keys, "unreachable")
	}
	return keys
}

// A MappingBehavior is for whom a translated source port stands (RFC 4787, 4.1).
type MappingBehavior uint8

// The behaviors, by what connections of one inside address and port must share
// to leave by one outside port.
const (
	EndpointIndependent     MappingBehavior = iota // nothing: it is the same for every destination
	AddressDependent                               // the destination's address
	AddressAndPortDependent                        // the destination's address and port
)

// A PortAssignment is how a translated source gets its port.
type PortAssignment uint8

// The ways to choose a port.
const (
	PortPreserving PortAssignment = iota // the source's own where it is free, else the next free one (RFC 4787, 4.2.1)
	PortSequential                       // the first free one, whatever the source's own is
	PortRandom                           // any free one (RFC 6056, 3.3.1)
)

// TrustRank returns where a zone stands in the order of trust, 0 for the most
// trusted; ok is false where it does not stand there.
func (h *Handling) TrustRank(zone string) (rank int, ok bool) {
	rank = slices.IndexFunc(h.Trust, func(alike []string) bool { return slices.Contains(alike, zone) })
	return rank, rank >= 0
}

// A HandlingKey is one key of `handling` that takes one of several words; the first
// is the usual one.
type HandlingKey struct {
	Key     string
	Words   []string
	Meaning string
	Get     func(*Handling) int      // which of the words holds
	Set     func(h *Handling, n int) // makes one hold
}

func eitherKey(key, usual, other, meaning string, field func(*Handling) *bool) HandlingKey {
	return HandlingKey{key, []string{usual, other}, meaning, func(h *Handling) int {
		if *field(h) {
			return 1
		}
		return 0
	}, func(h *Handling, n int) { *field(h) = n == 1 }}
}

// HandlingKeys lists the keys of `handling` but trust.
var HandlingKeys = []HandlingKey{
	eitherKey("filter-sees", "translated", "original",
		"which destination filter rules are compared with",
		func(h *Handling) *bool { return &h.FilterSeesOriginal }),
	eitherKey("forwards", "need-filter", "carry-permission",
		"whether a forward needs a filter rule or brings its own permission",
		func(h *Handling) *bool { return &h.ForwardsPermit }),
	eitherKey("unmatched", "drop", "by-trust",
		"what happens where no filter rule matches",
		func(h *Handling) *bool { return &h.UnmatchedByTrust }),
	eitherKey("turn-back", "refuse", "allow",
		"whether a connection may leave by the interface it came in by",
		func(h *Handling) *bool { return &h.TurnBack }),
	eitherKey("icmp", "tracked", "untracked",
		"whether the answer to a ping belongs to it or needs a rule of its own",
		func(h *Handling) *bool { return &h.ICMPUntracked }),
	eitherKey("tcp-state", "strict", "loose",
		"whether TCP packets that belong to no handshake it saw are dropped or treated as new",
		func(h *Handling) *bool { return &h.TCPLoose }),
	eitherKey("unreachable", "told", "silent",
		"whether a client hears that a host or a place can't be reached",
		func(h *Handling) *bool { return &h.UnreachableSilent }),
	{"mapping", []string{"endpoint-independent", "address-dependent", "address-and-port-dependent"},
		"for which destinations a translated source keeps its port, and others may not have it",
		func(h *Handling) int { return int(h.Mapping) }, func(h *Handling, n int) { h.Mapping = MappingBehavior(n) }},
	{"port-assignment", []string{"preserving", "sequential", "random"},
		"how a translated source gets its port",
		func(h *Handling) int { return int(h.PortAssignment) }, func(h *Handling, n int) { h.PortAssignment = PortAssignment(n) }},
	eitherKey("nat-order", "listed", "specific-first",
		"whether NAT rules are tried as listed or the narrower first",
		func(h *Handling) *bool { return &h.SpecificFirst }),
	eitherKey("restarts-on-apply", "false", "true",
		"whether applying a revision ends all sessions",
		func(h *Handling) *bool { return &h.RestartsOnApply }),
}
