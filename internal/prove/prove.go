package prove

import (
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/lab"
)

// A Case is one connection: what the trace says, and what happened.
type Case struct {
	Trace    *engine.Trace
	Result   lab.Result
	Seen     []lab.Sighting // its packets
	Differs  []string       // in what they disagree; none where they agree
	Known    string         // why the kernel does otherwise, where that is known; see docs/kernel.md
	Accepted []string       // what the kernel chose freely
}

// Patience is how long a connection that is not answered is waited for.
const Patience = 450 * time.Millisecond

// A Prover sends connections through a lab.
type Prover struct {
	Lab    *lab.Lab
	Engine *engine.Engine
	Watch  func(done, all int) // is told of the progress, or nil

	told map[netip.Addr]int // how often clients have been tried again that are told of no route
}

// settling is how long it takes until what was seen is written down.
const settling = 60 * time.Millisecond

// Run sends connections, many at a time, and returns how each fared, in order. Cases that
// disagree are tried again, alone.
func (p *Prover) Run(connections []engine.Connection) ([]Case, error) {
	cases := make([]Case, len(connections))
	p.told = map[netip.Addr]int{}
	if err := p.Lab.Watch(); err != nil {
		return nil, err
	}
	walk := p.Engine.NewWalk()
	for i, c := range connections {
		cases[i].Trace = walk.Trace(c)
	}
	done := 0
	for _, batch := range batches(cases) {
		if err := p.Lab.Refresh(); err != nil {
			return nil, err
		}
		var wait sync.WaitGroup
		numbers := batch.numbers(cases)
		for k, i := range batch {
			wait.Go(func() {
				cases[i].Result = p.Lab.Send(connections[i], numbers[k], Patience)
			})
		}
		wait.Wait()
		time.Sleep(settling)
		for k, i := range batch {
			cases[i].Seen = p.Lab.Seen(connections[i].Packet.Protocol, numbers[k])
			p.compare(&cases[i])
		}
		if done += len(batch); p.Watch != nil {
			p.Watch(done, len(connections))
		}
	}
	for i := range cases {
		for try := 0; try < mostTries && len(cases[i].Differs) > 0 && cases[i].Known == ""; try++ {
			if err := p.again(&cases[i]); err != nil {
				return nil, err
			}
		}
	}
	return cases, nil
}

// mostTries is how often a case that disagrees is tried again, alone: a machine with much to do
// may answer late.
const mostTries = 3

// toldAtOnce is how often a kernel tells a client at once that there is no route; then it does
// so once a second.
const toldAtOnce = 5

// again sends the connection of a case alone.
func (p *Prover) again(c *Case) error {
	if err := p.Lab.Refresh(); err != nil {
		return err
	}
	connection := c.Trace.Connection
	if c.Trace.Told && c.Trace.Outcome == engine.Unrouted {
		if p.told[connection.Packet.Source]++; p.told[connection.Packet.Source] > toldAtOnce {
			time.Sleep(time.Second)
		}
	}
	*c = Case{Trace: c.Trace, Result: p.Lab.Send(connection, 1, 3*Patience)}
	time.Sleep(settling)
	c.Seen = p.Lab.Seen(connection.Packet.Protocol, 1)
	p.compare(c)
	return nil
}

// A batch is connections that are on their way at the same time, by number.
type batch []int

// numbers returns what the packets of each are known by: those of one protocol by others.
func (b batch) numbers(cases []Case) []int {
	next := map[header.Protocol]int{}
	numbers := make([]int, len(b))
	for k, i := range b {
		p := cases[i].Trace.Connection.Packet.Protocol
		next[p]++
		numbers[k] = next[p]
	}
	return numbers
}

// mostTogether is how many connections are on their way at a time: more keep a machine with two
// cores so busy that answers come late.
const mostTogether = 120

// batches puts connections together that can be on their way at the same time: none is like
// the answer of another, and none has the ends of another.
func batches(cases []Case) (list []batch) {
	type twoEnds struct {
		protocol header.Protocol
		a, b     netip.AddrPort
	}
	var used []map[twoEnds]bool
	var counts []map[header.Protocol]int
	first := map[header.Protocol]int{} // the first batch that has room
	keyOf := func(p header.Packet) twoEnds {
		a, b := netip.AddrPortFrom(p.Source, p.SourcePort), netip.AddrPortFrom(p.Destination, p.DestinationPort)
		if b.Addr().Less(a.Addr()) {
			a, b = b, a
		}
		return twoEnds{p.Protocol, a, b}
	}
	for i := range cases {
		protocol := cases[i].Trace.Connection.Packet.Protocol
		keys := []twoEnds{keyOf(cases[i].Trace.Connection.Packet), keyOf(cases[i].Trace.Delivered)}
		at := first[protocol]
		for at < len(list) && (len(list[at]) == mostTogether || counts[at][protocol] == lab.MostNumbers || used[at][keys[0]] || used[at][keys[1]]) {
			at++
		}
		if at == len(list) {
			list, used, counts = append(list, nil), append(used, map[twoEnds]bool{}), append(counts, map[header.Protocol]int{})
		}
		list[at] = append(list[at], i)
		counts[at][protocol]++
		for _, k := range keys {
			used[at][k] = k.a.IsValid()
		}
		for n := first[protocol]; n < len(list) && (len(list[n]) == mostTogether || counts[n][protocol] == lab.MostNumbers); n++ {
			first[protocol]++
		}
	}
	return list
}

// compare says in what a case disagrees.
func (p *Prover) compare(c *Case) {
	t, r := c.Trace, &c.Result
	if r.Answer == lab.Unsent {
		c.Differs = []string{fmt.Sprintf("it was not sent: %v", r.Err)}
		return
	}
	if want := expected(t); !slices.Contains(want, r.Answer) {
		c.Differs = append(c.Differs, fmt.Sprintf("the client meets %s, not %s", r.Answer.Meets(), want[0].Meets()))
	}
	p.compareDelivery(c)
	if len(c.Differs) > 0 {
		c.Known = p.known(c)
	}
}

// expected returns what the client meets by a trace; the first is the usual one.
func expected(t *engine.Trace) []lab.Answer {
	tcp := t.Connection.Packet.Protocol == header.TCP
	switch {
	case t.Outcome == engine.Reached:
		return []lab.Answer{lab.Answered}
	case tcp && t.Handed > 0: // a relay has taken it
		return []lab.Answer{lab.Taken, lab.WasReset}
	case t.Told && tcp && (t.Outcome == engine.Refused || t.Outcome == engine.Rejected || t.Outcome == engine.HostFirewall):
		return []lab.Answer{lab.WasReset}
	case t.Told:
		return []lab.Answer{lab.WasRefused}
	case tcp && t.Outcome == engine.Unanswered && t.Step == engine.StepSession: // the second packet came another way
		return []lab.Answer{lab.Silence, lab.Taken}
	}
	return []lab.Answer{lab.Silence}
}

// compareDelivery compares what the machine saw that it was delivered to.
func (p *Prover) compareDelivery(c *Case) {
	t := c.Trace
	toInternet := t.To.Machine.Internet && t.To.Machine.Host == nil
	var came []lab.Sighting
	for _, s := range c.Seen {
		if s.Node == lab.Internet && !toInternet {
			continue // it passes there
		}
		if !s.Leaves && s.Number > 0 && !p.Lab.PassesOn(s.Node) && s.IsFirst() {
			came = append(came, s)
		}
	}
	want := t.Delivered
	machine := t.To.Machine
	switch {
	case machine == (engine.Place{}) || !want.Source.IsValid():
		if len(came) > 0 && t.Outcome != engine.Refused && t.Outcome != engine.HostFirewall && t.Outcome != engine.UpstreamBlocks && t.Outcome != engine.Unanswered && t.Outcome != engine.Loop {
			c.Differs = append(c.Differs, fmt.Sprintf("%s sees it, as %s -> %s", came[0].Node, came[0].Packet.From(), came[0].Packet.To()))
		}
		return
	case t.Handed > 0 || want.Destination.IsLoopback() || slices.ContainsFunc(came, func(s lab.Sighting) bool { return relayed(machine.Host, s.Packet) }):
		return // what a relay sends on is another connection
	}
	name := p.Lab.Name(machine, want.Destination)
	for _, s := range came {
		if s.Node == name && s.Packet.Destination == want.Destination && s.Packet.DestinationPort == want.DestinationPort {
			if s.Packet == want {
				return
			}
			if free := p.free(t.Connection.Packet, want, s.Packet); free != "" {
				c.Accepted = append(c.Accepted, free)
				return
			}
		}
	}
	if len(came) == 0 {
		c.Differs = append(c.Differs, fmt.Sprintf("%s does not see it; it should as %s -> %s", name, want.From(), want.To()))
		return
	}
	c.Differs = append(c.Differs, fmt.Sprintf("%s sees it as %s -> %s, not %s as %s -> %s", came[0].Node, came[0].Packet.From(), came[0].Packet.To(), name, want.From(), want.To()))
}

// free says what the kernel chose freely of a translated source, or nothing where that is not
// its to choose.
func (p *Prover) free(sent, want, got header.Packet) string {
	if want.Source == sent.Source {
		return ""
	}
	if got.Source != want.Source && !p.samePool(want.Source, got.Source) {
		return ""
	}
	return fmt.Sprintf("the kernel chose %s where the trace says %s", got.From(), want.From())
}

// samePool reports whether a rule hides sources behind both of two addresses.
func (p *Prover) samePool(a, b netip.Addr) bool {
	for _, g := range p.Engine.Network().Gateways {
		for _, r := range g.NAT {
			if r.Does == network.SourceNAT && r.As.Set.Contains(a) && r.As.Set.Contains(b) {
				return true
			}
		}
	}
	return false
}

// known says why the kernel does otherwise, where that is known.
func (p *Prover) known(c *Case) string {
	t := c.Trace
	for _, u := range p.Lab.Unable {
		if u.Rule != nil && p.concerns(u.Rule, t) {
			return fmt.Sprintf("%s is left out: the kernel can't do it", u.Rule.Name)
		}
	}
	if t.Outcome == engine.Unrouted {
		for _, s := range c.Seen {
			if h := p.Engine.Network().Host(s.Node); h != nil && !s.Leaves && !h.Has(s.Packet.Destination) {
				return "a next hop that is a host takes the packet, and says nothing"
			}
		}
	}
	if t.Told && t.Outcome == engine.Absent && c.Result.Answer == lab.Silence && t.Ended.Source != t.Connection.Packet.Source {
		if last := t.Passed[len(t.Passed)-1]; p.Engine.Gateway(last).OutTo(t.Ended.Source) == nil {
			return "the kernel tells it to the translated source, to which it has no route"
		}
	}
	if own := t.To.Gateway; own != nil && slices.ContainsFunc(own.Interfaces, func(i *network.Interface) bool { return !i.IsUp() && i.Own().Contains(t.Delivered.Destination) }) {
		return "the kernel does not have the address of an interface that is down"
	}
	if own := t.To.Gateway; own != nil && p.Engine.Gateway(p.Engine.Network().Gateways[own.Index]).OutTo(t.Delivered.Source) == nil {
		return "the kernel answers itself only where it has a route"
	}
	if h := t.At.Machine.Host; h != nil && t.Outcome == engine.Refused && slices.ContainsFunc(c.Seen, func(s lab.Sighting) bool { return s.Node == h.Name && relayed(h, s.Packet) }) {
		return "a relay that reaches nobody says nothing"
	}
	if t.Outcome == engine.Unanswered && t.Step == engine.StepFilter && t.Connection.Packet.Protocol == header.ICMP {
		return "an answer that comes by another interface is looked at by that one"
	}
	for _, s := range c.Seen {
		if t.Delivered.Source.IsValid() && s.Packet.Source != t.Delivered.Source && p.samePool(s.Packet.Source, t.Delivered.Source) {
			return "the kernel chose another address of the pool"
		}
	}
	if c.Result.Answer == lab.Silence && t.Ended.Source != t.Connection.Packet.Source && crossedAtOnce(t) {
		return "a gateway that it crosses twice in a row translates the answer once"
	}
	if twice := p.claimedBy(t.Ended.Source); twice > 1 {
		return "several gateways answer for its translated source"
	}
	if g := t.At.Gateway; g != nil && t.Step == engine.StepRoute && slices.ContainsFunc(g.Routes, p.leadsToHost) {
		return "a next hop that is a host takes the packet"
	}
	if t.Told && (t.Outcome == engine.Absent || t.Outcome == engine.Unrouted) && slices.ContainsFunc(c.Seen, func(s lab.Sighting) bool { return s.Node == lab.Internet && !s.Leaves }) {
		return "a provider's router tells it, if anybody"
	}
	if !t.Told && t.Outcome == engine.Absent && slices.ContainsFunc(c.Seen, func(s lab.Sighting) bool {
		return s.Node == lab.Internet && s.Leaves && s.Kind == lab.Unreachable && s.Packet.Source == c.Result.By
	}) {
		return "the last gateway tells nobody, but a provider's router behind it did"
	}
	if t.Outcome == engine.Loop {
		return "what goes round ends with an error that says so"
	}
	return ""
}

// crossedAtOnce reports whether a trace goes through one gateway twice with nothing but the
// internet or a segment between.
func crossedAtOnce(t *engine.Trace) bool {
	for i := 1; i < len(t.Passed); i++ {
		if t.Passed[i] == t.Passed[i-1] {
			return true
		}
	}
	return false
}

// claimedBy returns how many gateways answer for an address.
func (p *Prover) claimedBy(a netip.Addr) (count int) {
	for _, g := range p.Engine.Network().Gateways {
		if p.Engine.Gateway(g).ClaimedEver().Contains(a) {
			count++
		}
	}
	return count
}

// relayed reports whether a relay of a host takes a packet.
func relayed(h *network.Host, p header.Packet) bool {
	return h != nil && slices.ContainsFunc(h.Relays, func(r network.Relay) bool { return r.Listen.Matches(p.Protocol, p.DestinationPort) })
}

// leadsToHost reports whether the next hop of a route is a host.
func (p *Prover) leadsToHost(r network.Route) bool {
	return slices.ContainsFunc(p.Engine.Network().Hosts, func(h *network.Host) bool { return r.Via.IsValid() && h.Has(r.Via) })
}

// concerns reports whether a rule had a part in a trace.
func (p *Prover) concerns(r *network.Rule, t *engine.Trace) bool {
	return t.Rule != nil && t.Rule.ID() == r.ID() || slices.ContainsFunc(t.Steps, func(s engine.Step) bool { return s.Rule == r.Name && s.At == r.Gateway.Name })
}
