package gateway

import (
	"fmt"
	"net/netip"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/sessions"
)

// A Packet is header.Packet as it goes over the control API and into the state.
type Packet struct {
	Protocol        string     `json:"protocol"`
	Source          netip.Addr `json:"source"`
	SourcePort      uint16     `json:"source-port"` // of ICMP, the identifier
	Destination     netip.Addr `json:"destination"`
	DestinationPort uint16     `json:"destination-port"`
}

// PacketOf returns a packet for the wire.
func PacketOf(p header.Packet) Packet {
	return Packet{p.Protocol.String(), p.Source, p.SourcePort, p.Destination, p.DestinationPort}
}

// Header returns the packet, or what is wrong with it.
func (p Packet) Header() (header.Packet, error) {
	protocol, ok := header.ParseProtocol(p.Protocol)
	switch {
	case !ok || protocol == header.AnyProtocol:
		return header.Packet{}, fmt.Errorf("%q: no protocol of a packet", p.Protocol)
	case !p.Source.IsValid() || !p.Destination.IsValid() || p.Source.Is4() != p.Destination.Is4() || p.Source.Is4In6() || p.Destination.Is4In6() || p.Source.Zone()+p.Destination.Zone() != "":
		return header.Packet{}, fmt.Errorf("a packet goes between two addresses of one family")
	}
	return header.Packet{Source: p.Source, Destination: p.Destination, SourcePort: p.SourcePort, DestinationPort: p.DestinationPort, Protocol: protocol}, nil
}

// A Status is what a gateway says of itself.
type Status struct {
	Gateway   string     `json:"gateway"`
	On        string     `json:"on"` // kernel or simulated
	Program   string     `json:"program"`
	Since     time.Time  `json:"since"`    // when it was started
	Revision  *Revision  `json:"revision"` // in force, without its text; null where there is none
	Pending   *Pending   `json:"pending"`  // null where nothing goes back by itself
	Sessions  int        `json:"sessions"`
	Limit     int        `json:"limit"`     // how many sessions there is room for; 0 is no limit
	Differs   []string   `json:"differs"`   // what the machine has otherwise than the network in force
	Scarce    []string   `json:"scarce"`    // source-nat rules of whose ports four fifths are taken
	Working   string     `json:"working"`   // what it does that takes its time; empty where it waits
	Lost      int64      `json:"lost"`      // events that there was no room for
	Collector *Collector `json:"collector"` // null where events are sent nowhere
	Before    string     `json:"before"`    // where nothing is in force: open (it forwards everything), or other (somebody else's rules)
	Table     *Table     `json:"table"`     // of the kernel; null on a simulated gateway
	Outside   *Outside   `json:"outside"`   // addresses that it answers for; likewise
}

// A Collector says how events fare that are sent away.
type Collector struct {
	Address string `json:"address"`
	Sent    int64  `json:"sent"`
	Lost    int64  `json:"lost"`
	Trouble string `json:"trouble"` // empty where there is none
}

// A Pending revision goes back by itself unless it is kept in time.
type Pending struct {
	Until time.Time `json:"until"`
	Back  int       `json:"back"` // to this revision; 0 is none

	boot     string        // of the machine, in which
	deadline time.Duration // since it started it goes back
	lease    *lease        // where it waits for the other gateways of an apply; nil where it is a trial
}

// A Revision is one applied state of a gateway. Without a bundle nothing is in force.
type Revision struct {
	Number  int             `json:"number"`
	Time    time.Time       `json:"time"`
	Author  string          `json:"author"`
	Note    string          `json:"note"`
	Added   int             `json:"added"`   // lines of the file and its lists
	Removed int             `json:"removed"` // likewise
	Empty   bool            `json:"empty"`   // nothing is in force
	Fate    string          `json:"fate"`    // of one that was to go back by itself: trial, kept, or gone back; of others empty
	Applied *Applied        `json:"applied"` // of which apply it is; null of one that nobody applied
	Bundle  *netfile.Bundle `json:"bundle,omitempty"`
}

// Fates of a revision that was to go back by itself.
const (
	OnTrial  = "trial"
	Kept     = "kept"
	GoneBack = "gone back"
)

// An Apply is one network put on several gateways, all of them or none.
type Apply struct {
	ID       string   `json:"id"`       // that no other has
	Gateways []string `json:"gateways"` // all of them
}

// An Applied revision is a gateway's part of an apply.
type Applied struct {
	Apply
	State string `json:"state"`
}

// How far an apply is, as one of its gateways knows it.
const (
	Leased    = "leased"    // this gateway has it for a minute, and goes back unless it hears that all have it
	Confirmed = "confirmed" // all have it, so it stays here
	Whole     = "whole"     // and it stays everywhere
)

// A Confirm says that all gateways have what was applied or, with Whole, that it stays everywhere.
type Confirm struct {
	ID    string `json:"id"`
	Whole bool   `json:"whole"`
}

// A Proposal is a network that is to be put into force.
type Proposal struct {
	Bundle *netfile.Bundle `json:"bundle"`
	Base   int             `json:"base"` // the revision that it was compared with
}

// A Prepared proposal waits for its commit.
type Prepared struct {
	Token   string    `json:"token"`
	Notes   []string  `json:"notes"`   // what the administrator should know
	Ends    bool      `json:"ends"`    // all sessions end
	Changed int       `json:"changed"` // sessions that the new rules would not have made so
	First   []Session `json:"first"`   // of those
}

// A Commit puts a prepared proposal into force.
type Commit struct {
	Token  string  `json:"token"`
	Author string  `json:"author"`
	Note   string  `json:"note"`
	For    float64 `json:"for"`   // seconds until it goes back by itself; 0 is never
	Clear  bool    `json:"clear"` // end the sessions that have changed
	Apply  *Apply  `json:"apply"` // of several gateways it goes back within a minute unless it is confirmed; null is like one of this gateway alone
}

// A Committed proposal is in force.
type Committed struct {
	Revision Revision `json:"revision"`
	Ended    int      `json:"ended"` // sessions
	Cuts     int      `json:"cuts"`  // connections that went through before anything was in force, and that the rules do not let go on
	Cut      []string `json:"cut"`   // of those, as "203.0.113.9:4433 tcp 10.61.24.5:22"
}

// A Conflict says that somebody else was faster.
type Conflict struct {
	Error    string    `json:"error"`
	Revision *Revision `json:"revision"`
}

// A Count is packets and their bytes.
type Count struct {
	Packets int64 `json:"packets"`
	Bytes   int64 `json:"bytes"`
}

// Plus returns the sum of two counts.
func (c Count) Plus(d Count) Count { return Count{c.Packets + d.Packets, c.Bytes + d.Bytes} }

// Minus returns what is more in c than in d.
func (c Count) Minus(d Count) Count { return Count{c.Packets - d.Packets, c.Bytes - d.Bytes} }

func countOf(c sessions.Count) Count { return Count{c.Packets, c.Bytes} }

// A Session is one of a gateway's. Before is its first packet as it came, After as it left;
// the answers are the opposite of these.
type Session struct {
	Gateway string `json:"gateway"`
	Number  uint64 `json:"number"`
	Before  Packet `json:"before"`
	After   Packet `json:"after"`
	In      string `json:"in"`
	Out     string `json:"out"` // empty where the gateway itself answers
	InZone  string `json:"in-zone"`
	OutZone string `json:"out-zone"`
	Own     bool   `json:"own"` // the gateway has begun it itself: no rule is about it

	Redirect string  `json:"redirect"` // rules, empty where there is none
	Permit   string  `json:"permit"`
	Source   string  `json:"source"`
	Mapping  *Origin `json:"mapping"` // where Redirect is one that a program asked for and has still; else null

	State string  `json:"state"`
	Age   float64 `json:"age"`  // seconds; negative where the machine does not know
	Idle  float64 `json:"idle"` // seconds; negative likewise
	Left  float64 `json:"left"` // seconds
	Forth Count   `json:"forth"`
	Back  Count   `json:"back"`
}

// An Origin says whose a mapping is.
type Origin struct {
	By    string     `json:"by"`
	Owner netip.Addr `json:"owner"`
	Left  float64    `json:"left"` // seconds
}

// Sessions are those that match, the ones that carried most first.
type Sessions struct {
	Count    int       `json:"count"` // how many match
	Sessions []Session `json:"sessions"`
}

// A Hit is what a rule did since the counters were reset.
type Hit struct {
	Gateway     string     `json:"gateway"`
	List        string     `json:"list"` // nat or filter
	Rule        string     `json:"rule"`
	Kind        string     `json:"kind"`    // empty where the rule is no more
	Mapping     *Origin    `json:"mapping"` // of one that a program asked for; else null
	Place       int        `json:"place"`   // in its list, counted from 1; 0 where the rule is no more
	Disabled    bool       `json:"disabled"`
	Connections int64      `json:"connections"`
	Open        int64      `json:"open"`
	Stopped     int64      `json:"stopped"`   // by a later step
	Exhausted   int64      `json:"exhausted"` // no outside port was left for them
	Unseen      int64      `json:"unseen"`    // came faster than they were read: whether they were stopped, and what they carried, is not known
	Forth       Count      `json:"forth"`
	Back        Count      `json:"back"`
	Last        *time.Time `json:"last"` // null where it never was hit
	Raw         int64      `json:"-"`    // what the machine itself has counted, which it goes on counting when the service is not there
}

// ID returns what the rule is known by.
func (h *Hit) ID() network.RuleID {
	return network.RuleID{Gateway: h.Gateway, List: h.List, Name: h.Rule}
}

// Hits are those of all rules, in their order; rules that are no more come last.
type Hits struct {
	Since time.Time `json:"since"` // the counters were reset
	Hits  []Hit     `json:"hits"`
}

// An Event is something that happened at a gateway.
type Event struct {
	Number    int64     `json:"number"`
	Time      time.Time `json:"time"`
	Gateway   string    `json:"gateway"`
	What      string    `json:"what"`    // connection, mapping, revision, trial, table or service
	Outcome   string    `json:"outcome"` // of a connection: passes, or how it ended
	Rule      string    `json:"rule"`    // LIST/NAME, or empty
	In        string    `json:"in"`
	Out       string    `json:"out"`
	InDevice  string    `json:"in-device"`
	OutDevice string    `json:"out-device"`
	Before    *Packet   `json:"before"`
	After     *Packet   `json:"after"`
	Text      string    `json:"text"` // of a connection, why; of anything else, what happened
}

// A Trial logs one rule for a while.
type Trial struct {
	Rule string  `json:"rule"`
	For  float64 `json:"for"` // seconds
}

// An Arriving packet is put before a simulated gateway.
type Arriving struct {
	In     string     `json:"in"`
	Packet Packet     `json:"packet"`
	Part   string     `json:"part"`
	Sender netip.Addr `json:"sender"` // of an ICMP error
	Size   int        `json:"size"`
}

// A Decided packet is what a simulated gateway does with one.
type Decided struct {
	Action  string     `json:"action"` // forwards, takes or stops
	Outcome string     `json:"outcome"`
	Step    string     `json:"step"`
	Rule    string     `json:"rule"`
	Packet  Packet     `json:"packet"`
	Sender  netip.Addr `json:"sender"`
	Out     string     `json:"out"`
	Via     netip.Addr `json:"via"`
	Tells   string     `json:"tells"` // nothing, reset or error
}

// An Undo takes a revision back, or a proposal, whatever has become of it: what was not committed is forgotten, and what waits for the other
// gateways of its apply goes back.
type Undo struct {
	Revision int    `json:"revision"` // that is in force, or
	Token    string `json:"token"`    // of the proposal
	Note     string `json:"note"`     // why
}

// A Log is the latest events that match, in their order.
type Log struct {
	Count  int     `json:"count"` // how many match; where it is not counted, how many are listed
	Events []Event `json:"events"`
	Sum    *Sum    `json:"sum,omitempty"`
}
