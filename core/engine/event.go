package engine

import (
	"net/netip"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A StepKind is one of the steps of a trace.
type StepKind string

// The steps: the nine of a gateway, those outside, and the way back.
const (
	StepUpstream    StepKind = "upstream"
	StepArrive      StepKind = "arrive"
	StepSession     StepKind = "session"
	StepDestination StepKind = "destination"
	StepItself      StepKind = "itself"
	StepRoute       StepKind = "route"
	StepFilter      StepKind = "filter"
	StepTurnBack    StepKind = "turn-back"
	StepSource      StepKind = "source"
	StepLeave       StepKind = "leave"
	StepHost        StepKind = "host"
	StepBack        StepKind = "back"
)

// A What is what happened. What is said of it stands in words.go.
type What uint8

// What can happen, by the step at which it does.
const (
	Sends          What = iota // directly, on a segment
	AnswersBy                  // a host sends its answer by the gateway that it names
	SendsElsewhere             // a machine's default gateway is not in the file
	NoGateway                  // a machine has no gateway of the packet's family
	NotCarried                 // a private or shared address on an uplink: nobody sends to it
	NotSentHere                // an address that no provider sends here
	NoUplink                   // no uplink has the address behind it
	PrivateAnswer              // an answer to a private source that nobody hid
	PrivateTarget              // a private destination on the internet
	CarrierNAT                 // an uplink's carrier translates: nobody can begin a connection
	Blocked                    // by an uplink's network

	Arrives
	InterfaceDown
	Forged
	FollowsSession
	NoHandshake    // a TCP packet of a connection that the gateway did not see begin
	NoPing         // an echo reply without its request
	NoConnection   // an ICMP error about a connection that the gateway does not know
	HalfHandshake  // a gateway saw a TCP connection begin, but not its answer
	Full           // the gateway has no room for another session
	Redirects      // by a rule
	UsesMapping    // by one that a program asked for
	NoPlace        // a prefix translation has no place for the address
	ServesItself   // the gateway does
	EndsItself     // the packet was for the gateway
	AnswerItself   // an answer comes to the gateway, which has no session for it
	TakesRoute     //
	NoRoute        //
	Blackhole      //
	NeverForwards  // its source is link-local
	RoundAgain     // a packet comes to a gateway a second time
	TooFar         // it has passed too many gateways
	BringsPermit   // a forward brings its own permission
	Decides        // a filter rule does
	MappingPermits // no filter rule matches, and it goes by a mapping
	Trusted        // a zone is trusted more than another
	Unmatched      // no filter rule matches
	TurnsBack      //
	MayNotTurn     //
	KeepsSource    //
	KeepsByRule    // no-nat
	HidesSource    // by a rule: another address and port
	ChangesSource  // by a rule, one to one
	OtherPort      // an earlier session leaves just so
	NoneFree       // every address and port is taken
	NotTold        // no port tells the answers of two sessions apart
	HopIsHost      // a route leads to a host
	HopIsItself    // a route leads to the gateway itself
	HopIsNobody    // a route leads to nobody
	NobodyHas      // the destination
	AwaitedAnswer  // a machine waits for the packet
	Beyond         // the machine is outside of the network
	HostDecides    // a rule of a host's own firewall does
	HostUnmatched  // no rule of a host's own firewall allows it
	Relays         //
	RelayNoAddress // a relay's host has no address of the family
	RelaysRound    // relays of one host hand on to each other
	RelaysTooFar   // relays of several hosts hand on to each other
	NoPings        // a host answers none
	AnswersPing    //
	Serves         //
	Refuses        // nothing listens on the port
	OtherSource    // the answer comes from another address than the client asked
	Elsewhere      // the answer comes to a machine where the client is not
	EndsAtGateway  // the answer ends at a gateway itself

	Passes  // a gateway lets it pass, that decides elsewhere
	Stopped // such a gateway stops it
)

// An Event is something that happened to a packet on its way. Which of the fields say
// something depends on What.
type Event struct {
	What          What
	Step          StepKind
	At            network.Site
	Back          bool          // to an answer, or to what tells of a refusal
	Rule          *network.Rule // that did it
	Before, After header.Packet
	In, Out       *network.Interface
	Route         netip.Prefix // that was taken
	Via           netip.Addr   // the next hop, or the address that it is about
	Host          *network.Host
	Mapping       *network.Mapping

	Verb      network.Verb      // Decides: what the filter rule says
	HostRule  *network.HostRule // HostDecides
	Service   string            // Serves, ServesItself: which one answers, as the file has it
	Room      int               // Full, TooFar, RelaysTooFar: how many sessions, gateways or relays there may be
	AsNear    int               // TakesRoute: how many more routes are as near
	ToClients bool              // TakesRoute: it leads to VPN clients
	IsOwn     bool              // EndsItself: for an address of the gateway's own, not just an outside address of a rule
	ByTrust   bool              // Unmatched: by trust it might have passed
	Chosen    Chosen            // HidesSource
}

// Chosen is what a gateway chose for a source where another one may choose otherwise.
type Chosen struct {
	Address bool // of several
	Port    bool // since the source's own is not kept
}

// A Log is the events of packets, in their order. It is reused: Reset empties it. The zero
// Log throws them away. It is of one goroutine: packets are decided about in its memory.
type Log struct {
	Events []Event
	Keeps  bool // events are kept

	unkept Event
	visit  *Visit
}

// Visit returns the memory in which packets are decided about: a state is given pointers into it.
func (l *Log) Visit() *Visit {
	if l.visit == nil {
		l.visit = &Visit{log: l}
	}
	return l.visit
}

// Unkept returns an event that nobody reads.
func (l *Log) Unkept() *Event { return &l.unkept }

// Reset empties the log.
func (l *Log) Reset() { l.Events = l.Events[:0] }

// Add adds an event, for whoever knows it to fill in.
func (l *Log) Add(e Event) *Event {
	l.Events = append(l.Events, e)
	return &l.Events[len(l.Events)-1]
}
