package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/gateway"
)

var sendCommand = &command{
	name: "send", arguments: "FROM TO SERVICE",
	summary: "sends connections through the running gateways: simulated ones, or those of a lab",
	help: `Sends connections through simulated gateways: each gateway on the way decides about each packet,
remembers sessions, counts and writes down, there and back. FROM, TO and SERVICE are as in trace,
but from internet comes with another address each time. Where several are sent, their source ports
count up from -sport.

-bytes is how much each carries, half of it back. -hold keeps the connections open until ^C; else
they end when they are done. What hosts are there and what they answer stands in the network file.
Only the gateways on the way have to run.

Gateways on the kernel decide about real packets: inside lab, send makes the lab send those, from
whatever machine FROM is, and says what the clients meet. There the machine that answers sends
back what comes.

Exit status: 0 all reached, 1 some not, 2 the call, the file or a gateway is wrong.`,
	begin: func(c *call) task { return &sendCall{call: c} },
}

// A sendCall is a call of send.
type sendCall struct {
	*call
	options struct {
		questionOptions
		count, bytes, rate int
		hold               bool
	}
}

func (c *sendCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	c.options.questionOptions.flags(c.call, set)
	set.IntVar(&c.options.count, "count", 1, "how `MANY` connections")
	set.IntVar(&c.options.bytes, "bytes", 0, "how many `BYTES` each carries")
	set.IntVar(&c.options.rate, "rate", 0, "how many connections to begin in a `SECOND`; 0 is as fast as it goes")
	set.BoolVar(&c.options.hold, "hold", false, "keep them open until ^C")
}

const (
	mostSent      = 10_000_000
	mostHeld      = 100_000
	mostCarried   = 1 << 30
	sendersAtOnce = 8
	segmentSize   = 1400 // bytes in one packet
	headersSize   = 40   // of TCP over IPv4; what carries nothing is that long
)

func (c *sendCall) run() int {
	o := &c.options
	switch {
	case len(c.args) != 3:
		return c.misused("it needs FROM, TO and SERVICE")
	case o.count < 1 || o.count > mostSent:
		return c.misused("-count %d: 1 to %d", o.count, mostSent)
	case o.hold && o.count > mostHeld:
		return c.misused("-count %d: at most %d are held", o.count, mostHeld)
	case o.bytes < 0 || o.bytes > mostCarried:
		return c.misused("-bytes %d: 0 to %d", o.bytes, mostCarried)
	case o.rate < 0:
		return c.misused("-rate %d: at least 1", o.rate)
	}
	q, ok := c.options.question(c.call)
	if !ok {
		return wrong
	}
	n := c.network()
	if n == nil {
		return wrong
	}
	e := walk.Compile(n, nil)
	first, err := q.connection(e)
	if err != nil {
		return c.failed(err)
	}
	list, wrongs, err := c.askable(n)
	switch {
	case err != nil:
		return c.failed(err)
	case len(list) == 0:
		return c.failed(errors.New(joined(wrongs)))
	}
	ctx, stop := untilInterrupt()
	defer stop()
	s := &sending{sendCall: c, engine: e, first: first, stranger: q.from == "internet", clients: map[string]*gateway.Client{}, outcomes: map[string]int{}}
	for _, client := range list {
		s.clients[client.Gateway] = client
	}
	begun := time.Now()
	send := s.run
	if name, kernel := onKernel(list); kernel {
		client, ok := inLab()
		switch {
		case !ok:
			return c.failed(fmt.Errorf("%s runs on the kernel, which decides about real packets: send them from a real machine, or in hollowbridge lab", name))
		case o.hold && o.count > mostHeldInLab:
			return c.misused("-count %d: at most %d are held in a lab", o.count, mostHeldInLab)
		}
		send = func(ctx context.Context) error { return s.sendInLab(ctx, client) }
	}
	if err := send(ctx); err != nil {
		var unasked gateway.Unasked
		if errors.As(err, &unasked) && wrongs[unasked.Gateway] != nil {
			err = wrongs[unasked.Gateway]
		}
		return c.failed(err)
	}
	took := time.Since(begun)
	if o.hold && ctx.Err() == nil {
		fmt.Fprintf(c.Out, "%s open; ^C ends them\n", plural(s.open, "connection is", "connections are"))
		c.flush()
		<-ctx.Done()
	}
	s.release()
	return s.report(took)
}

// A sending is connections that are sent.
type sending struct {
	*sendCall
	engine   *walk.Engine
	first    walk.Connection
	stranger bool
	clients  map[string]*gateway.Client

	mutex    sync.Mutex
	outcomes map[string]int // by what is said of them
	reached  int
	example  *words.Trace
	held     []*walk.Walk
	open     int         // of those that are held
	holding  []io.Closer // what a lab holds connections for
	failure  error
}

// run sends all connections, several at a time.
func (s *sending) run(ctx context.Context) error {
	numbers := make(chan int)
	var working sync.WaitGroup
	for range min(sendersAtOnce, s.options.count) {
		working.Go(func() {
			way := s.walk()
			for number := range numbers {
				if s.one(way, number) && s.options.hold {
					way = s.walk()
				}
			}
		})
	}
	s.feed(ctx, numbers)
	close(numbers)
	working.Wait()
	return s.failure
}

func (s *sending) walk() *walk.Walk {
	return s.engine.NewWalkBy(gateway.Decider(context.Background(), s.clients), headersSize)
}

// feed hands out the numbers of connections, at the rate that is asked for.
func (s *sending) feed(ctx context.Context, numbers chan<- int) {
	begun := time.Now()
	for i := range s.options.count {
		if rate := s.options.rate; rate > 0 {
			due := begun.Add(time.Duration(i) * time.Second / time.Duration(rate))
			select {
			case <-ctx.Done():
				return
			case <-time.After(time.Until(due)):
			}
		}
		s.mutex.Lock()
		failed := s.failure != nil
		s.mutex.Unlock()
		if failed {
			return
		}
		select {
		case <-ctx.Done():
			return
		case numbers <- i:
		}
	}
}

// connection returns one of those that are sent: each has a port of its own, and each stranger,
// for each round of ports, an address.
func (s *sending) connection(number int) walk.Connection {
	c := s.first
	if !c.Packet.Protocol.Numbered() {
		return c
	}
	room := 65536 - int(s.first.Packet.SourcePort)
	if s.stranger && s.options.count > 1 {
		room = 256 // then addresses change too, as they do out there
	}
	c.Packet.SourcePort += uint16(number % room)
	if s.stranger {
		for range number / room {
			if next := c.Packet.Source.Next(); next.IsValid() {
				if from, err := s.engine.Locate(next); err == nil && from.Internet && from.Host == nil {
					c.Packet.Source, c.From = next, from
				}
			}
		}
	}
	return c
}

// one sends a connection, and what it carries. It reports whether it is held.
func (s *sending) one(way *walk.Walk, number int) bool {
	c := s.connection(number)
	var trace *words.Trace
	if s.options.count == 1 {
		trace = words.TraceOf(way, c)
	}
	v := walk.Verdict{}
	if trace != nil {
		v = trace.Verdict
	} else {
		v = way.Verdict(c)
	}
	if err := way.Err(); err != nil {
		s.mutex.Lock()
		s.failure = errors.Join(s.failure, err)
		s.mutex.Unlock()
		return false
	}
	reached := v.Outcome == engine.Reached
	if reached {
		s.carry(way, c.Packet.Protocol)
	}
	held := reached && s.options.hold
	if reached && !held {
		finish(way, c.Packet.Protocol)
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	text := "reached " + v.To.Name()
	if !reached {
		text = v.Outcome.String() + " at " + v.At.Name()
		if v.Rule != nil {
			text += " by " + v.Rule.Name
		}
	} else {
		s.reached++
	}
	s.outcomes[text]++
	s.example = trace
	if held {
		s.held = append(s.held, way)
		s.open++
	}
	return held
}

// carry sends what a connection carries, half of it back.
func (s *sending) carry(way *walk.Walk, protocol header.Protocol) {
	part := header.Begins
	if protocol == header.TCP {
		part = header.Continues
	}
	left := [2]int{s.options.bytes - s.options.bytes/2, s.options.bytes / 2}
	for side := 0; left[0]+left[1] > 0; side = 1 - side {
		if size := min(left[side], segmentSize); size > 0 {
			way.Sends(answering(part, side == 1, protocol), side == 1, size+headersSize)
			left[side] -= size
		}
	}
}

// answering returns the part of a packet that goes one way.
func answering(part header.Part, back bool, protocol header.Protocol) header.Part {
	if back && protocol != header.TCP {
		return header.Answers
	}
	return part
}

// finish ends a TCP connection from both sides.
func finish(way *walk.Walk, protocol header.Protocol) {
	if protocol == header.TCP {
		way.Sends(header.Finishes, false, headersSize)
		way.Sends(header.Finishes, true, headersSize)
	}
}

// release ends the connections that were held.
func (s *sending) release() {
	for _, way := range s.held {
		finish(way, s.first.Packet.Protocol)
	}
	for _, h := range s.holding {
		h.Close()
	}
}

// report says what became of them.
func (s *sending) report(took time.Duration) int {
	all := 0
	for _, n := range s.outcomes {
		all += n
	}
	status := yes
	if s.reached < all || all == 0 {
		status = no
	}
	if s.json {
		s.printJSON(sentJSON{Sent: all, Reached: s.reached, Outcomes: s.outcomes, Seconds: took.Seconds()})
		return status
	}
	if s.example != nil {
		s.printTrace(s.example, nil, detail{})
		return status
	}
	for _, text := range slices.SortedFunc(maps.Keys(s.outcomes), func(a, b string) int {
		if s.outcomes[a] != s.outcomes[b] {
			return s.outcomes[b] - s.outcomes[a]
		}
		return strings.Compare(a, b)
	}) {
		fmt.Fprintf(s.Out, "%8d  %s\n", s.outcomes[text], text)
	}
	fmt.Fprintf(s.Out, "\n%s sent in %.1f s\n", count(all, "connection"), took.Seconds())
	return status
}

type sentJSON struct {
	Sent     int            `json:"sent"`
	Reached  int            `json:"reached"`
	Outcomes map[string]int `json:"outcomes"`
	Seconds  float64        `json:"seconds"`
}
