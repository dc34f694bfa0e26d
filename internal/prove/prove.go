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
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/lab"
)

// A Case is one connection: what the trace says, and what happened.
type Case struct {
	Trace    *words.Trace
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
	Engine *walk.Engine
	Able   *walk.Engine        // of the network without the rules that the lab left out, or nil where there are none
	Watch  func(done, all int) // is told of the progress, or nil

	told map[toldBy]bool // who was told that there is no route
}

// settling is how long it takes until what was seen is written down.
const settling = 60 * time.Millisecond

// Run sends connections, many at a time, and returns how each fared, in order. Cases that
// disagree are tried again, some of them alone.
func (p *Prover) Run(connections []walk.Connection) ([]Case, error) {
	cases := make([]Case, len(connections))
	p.told = map[toldBy]bool{}
	if err := p.Lab.Watch(); err != nil {
		return nil, err
	}
	way := p.Engine.NewWalk()
	for i, c := range connections {
		cases[i].Trace = words.TraceOf(way, c)
	}
	all := make([]int, len(cases))
	for i := range all {
		all[i] = i
	}
	if err := p.send(cases, all, p.Watch); err != nil {
		return nil, err
	}
	for range mostTries { // a machine with much to do may answer late
		if err := p.send(cases, unexplained(cases), nil); err != nil {
			return nil, err
		}
	}
	for _, i := range first(unexplained(cases), mostAlone) {
		for try := 0; try < mostTries && len(cases[i].Differs) > 0 && cases[i].Known == ""; try++ {
			if err := p.again(&cases[i]); err != nil {
				return nil, err
			}
		}
	}
	return cases, nil
}

// unexplained returns the numbers of the cases that differ, nobody knows why.
func unexplained(cases []Case) (list []int) {
	for i := range cases {
		if len(cases[i].Differs) > 0 && cases[i].Known == "" {
			list = append(list, i)
		}
	}
	return list
}

func first(list []int, most int) []int { return list[:min(len(list), most)] }

// send sends the connections of some cases, many at a time, and compares what becomes of them.
func (p *Prover) send(cases []Case, which []int, watch func(done, all int)) error {
	done := 0
	for _, batch := range batches(cases, which) {
		if err := p.Lab.Refresh(); err != nil {
			return err
		}
		var wait sync.WaitGroup
		numbers := batch.numbers(cases)
		for k, i := range batch {
			wait.Go(func() {
				cases[i].Result = p.Lab.Send(cases[i].Trace.Connection, numbers[k], Patience)
			})
		}
		wait.Wait()
		time.Sleep(settling)
		for k, i := range batch {
			c := &cases[i]
			*c = Case{Trace: c.Trace, Result: c.Result, Seen: p.Lab.Seen(c.Trace.Connection.Packet.Protocol, numbers[k])}
			p.compare(c)
		}
		if done += len(batch); watch != nil {
			watch(done, len(which))
		}
	}
	return nil
}

// How often those that disagree are tried again, together, and then how often some of them alone, and how many: where many do,
// they are no longer those that came late.
const (
	mostTries = 2
	mostAlone = 12
)

// again sends the connection of a case alone.
func (p *Prover) again(c *Case) error {
	if err := p.Lab.Refresh(); err != nil {
		return err
	}
	connection := c.Trace.Connection
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
func batches(cases []Case, which []int) (list []batch) {
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
	for _, i := range which {
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
	if c.Result.Answer == lab.Unsent {
		c.Differs = []string{fmt.Sprintf("it was not sent: %v", c.Result.Err)}
		return
	}
	answer, delivery := p.differs(c, c.Trace)
	if answer+delivery == "" {
		if tells(c.Trace) {
			p.told[tellerOf(c.Trace)] = true
		}
		return
	}
	if t := p.retraced(c); t != nil {
		if answer, delivery := p.differs(c, t); answer+delivery == "" {
			c.Accepted = append(c.Accepted, tookText(c.Trace, t))
			return
		}
	}
	for _, text := range []string{answer, delivery} {
		if text != "" {
			c.Differs = append(c.Differs, text)
		}
	}
	if c.Known = p.known(c, delivery); c.Known == "" && p.Able != nil {
		c.Known = p.knownWithout(c)
	}
}

// differs says in what that is seen of a case is otherwise than a trace: what the client meets, and where it is delivered.
func (p *Prover) differs(c *Case, t *words.Trace) (answer, delivery string) {
	if want := expected(t); !slices.Contains(want, c.Result.Answer) {
		answer = fmt.Sprintf("the client meets %s, not %s", c.Result.Answer.Meets(), want[0].Meets())
	}
	return answer, p.compareDelivery(c, t)
}

// expected returns what the client meets by a trace; the first is the usual one.
func expected(t *words.Trace) []lab.Answer {
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

// compareDelivery compares what the machine saw that it was delivered to by a trace.
func (p *Prover) compareDelivery(c *Case, t *words.Trace) string {
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
	case machine == (network.Place{}) || !want.Source.IsValid():
		if len(came) > 0 && t.Outcome != engine.Refused && t.Outcome != engine.HostFirewall {
			return fmt.Sprintf("%s sees it, as %s -> %s", came[0].Node, came[0].Packet.From(), came[0].Packet.To())
		}
		return ""
	case t.Handed > 0 && t.Outcome == engine.Reached && c.Result.Served != "":
		name := t.To.Name()
		if machine != (network.Place{}) {
			name = p.Lab.Name(machine, want.Destination)
		}
		if who := fmt.Sprintf("%s port %d", name, want.DestinationPort); c.Result.Served != who {
			return fmt.Sprintf("behind the relay %s answers, not %s", c.Result.Served, who)
		}
		return ""
	case t.Handed > 0 || want.Destination.IsLoopback() || slices.ContainsFunc(came, func(s lab.Sighting) bool { return relayed(machine.Host, s.Packet) }):
		return "" // what a relay sends on is another connection, which only who answers tells of
	}
	name := p.Lab.Name(machine, want.Destination)
	switch {
	case slices.ContainsFunc(came, func(s lab.Sighting) bool { return s.Node == name && s.Packet == want }):
		return ""
	case len(came) == 0:
		return fmt.Sprintf("%s does not see it; it should as %s -> %s", name, want.From(), want.To())
	}
	return fmt.Sprintf("%s sees it as %s -> %s, not %s as %s -> %s", came[0].Node, came[0].Packet.From(), came[0].Packet.To(), name, want.From(), want.To())
}
