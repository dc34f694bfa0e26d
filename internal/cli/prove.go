package cli

import (
	"cmp"
	"flag"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/internal/lab"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/prove"
)

var proveCommand = &command{
	name: "prove", arguments: "[FROM TO SERVICE]",
	summary: "builds the network on the Linux kernel and checks traces with real packets",
	help: `Builds the network of the file on the Linux kernel of this machine, in namespaces that the program
makes for itself: every gateway, every host with what it serves, and the internet. Then it sends
real packets and compares what becomes of them with the traces: what the client meets, and what
the machine sees that it is delivered to. Nothing outside the namespaces is touched or reached, and
they end with the program. It needs no root.

Without arguments it proves the whole network. The exact analysis knows every class of connections
that fare alike: one member of each is sent, and one right outside each border of its ports and
addresses; so is what the expectations are about. With FROM, TO and SERVICE it sends one connection,
and shows its packets as they are seen at every interface, beside the trace.

What the kernel can't do as the file says is left out, and said. docs/kernel.md says where the
kernel differs, and what it chooses freely. -tap and -junit print what CI systems read.

Exit status: 0 all agree, 1 some do not, 2 the call or the file is wrong, or this machine does not
let the program make namespaces.`,
	examples: []string{
		"hollowbridge prove fronts rim:fibre https", "hollowbridge prove remote-observers rim:fibre tcp/8443 -json",
		"hollowbridge prove 10.61.8.40 192.0.2.10 icmp",
	},
	begin: func(c *call) task { return &proveCall{call: c} },
}

// A proveCall is a call of prove.
type proveCall struct {
	*call
	options struct {
		questionOptions
		against string
	}
}

func (c *proveCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	c.ciFlags(set)
	c.options.questionOptions.flags(c.call, set)
	c.whatIfFlags(set)
	set.StringVar(&c.options.against, "against", "", "build the lab from another `FILE`: where it does otherwise than the traces say")
}

func (c *proveCall) run() int {
	c.quiet = true // it runs itself again
	if len(c.args) != 0 && len(c.args) != 3 {
		return c.misused("it needs FROM, TO and SERVICE, or nothing")
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
	var one []walk.Connection
	if len(c.args) == 3 {
		connection, err := q.connection(e)
		if err != nil {
			return c.failed(err)
		}
		one = append(one, connection)
	}
	if !lab.Inside() {
		status, err := lab.Again(c.all, os.Stdin, os.Stdout, os.Stderr)
		if err != nil {
			return c.failed(err)
		}
		return status
	}
	var other *network.Network // the lab's own
	var err error
	switch {
	case c.options.against != "":
		other, err = netfile.Read(c.options.against)
	case c.path() == netfile.StandardInput: // which can be read once
		other = n
	default:
		other, err = c.readNetwork(c.path())
	}
	if err != nil {
		return c.failed(err)
	}
	var notes []string
	if one == nil {
		notes = prove.MakeRoom(other)
	}
	return c.prove(n, e, walk.Compile(other, nil), notes, q.at.in(n), one)
}

// prove does what runProve is asked, in namespaces of its own.
func (c *proveCall) prove(n *network.Network, e, built *walk.Engine, notes []string, moment network.Moment, one []walk.Connection) int {
	start := time.Now()
	plan := &prove.Plan{Connections: one}
	if one == nil {
		var err error
		if plan, err = prove.Classes(e, moment, reach.MostPieces); err != nil {
			return c.failed(fmt.Errorf("%w; nothing is proved", err))
		}
	}
	l, err := lab.Build(built, moment)
	if err != nil {
		return c.failed(err)
	}
	defer l.Close()
	p := &prove.Prover{Lab: l, Engine: e}
	if len(l.Unable) > 0 {
		p.Able = prove.Without(c.network(), l.Unable)
	}
	shown := false
	if c.Progress && len(plan.Connections) > 1 {
		p.Watch = func(done, all int) {
			shown = true
			steer(c.Err, "\r")
			fmt.Fprintf(c.Err, "%s: %d of %d connections sent", n.Name, done, all)
		}
	}
	cases, err := p.Run(plan.Connections)
	if shown {
		steer(c.Err, clearLine)
	}
	if err != nil {
		return c.failed(err)
	}
	r := c.proof(n, l, plan, cases)
	r.notes = slices.Concat(r.notes, notes)
	switch {
	case c.json:
		c.printJSON(r.json(c))
	case c.tap:
		c.printTAP(r.checks(c))
	case c.junit:
		if err := c.printJUnit(n.Name, r.checks(c)); err != nil {
			return c.failed(err)
		}
	case one != nil:
		c.printProof(r)
	default:
		c.printProofs(r, time.Since(start))
	}
	if r.differ > 0 || slices.ContainsFunc(r.expected, func(x provedExpectation) bool { return !x.holds }) {
		return no
	}
	return yes
}

// A proof is all that prove found.
type proof struct {
	network  *network.Network
	plan     *prove.Plan
	cases    []prove.Case
	unable   []string
	notes    []string
	expected []provedExpectation
	agree    int
	differ   int
	known    map[string]int
	free     int // cases in which the kernel chose freely
}

// A provedExpectation is an expectation of the file, and what real packets say of it.
type provedExpectation struct {
	expectation *network.Expectation
	sent        int
	holds       bool
	broken      *prove.Case
}

func (c *call) proof(n *network.Network, l *lab.Lab, plan *prove.Plan, cases []prove.Case) *proof {
	r := &proof{network: n, plan: plan, cases: cases, notes: l.Notes, known: map[string]int{}}
	for _, u := range l.Unable {
		r.unable = append(r.unable, u.Error())
	}
	for i := range cases {
		switch k := &cases[i]; {
		case len(k.Differs) == 0:
			r.agree++
			if len(k.Accepted) > 0 {
				r.free++
			}
		case k.Known != "":
			r.known[k.Known]++
		default:
			r.differ++
		}
	}
	for k, numbers := range plan.Expected {
		x := provedExpectation{expectation: n.Expect[k], sent: len(numbers), holds: true}
		for _, i := range numbers {
			if x.holds && breaks(x.expectation, &cases[i]) {
				x.holds, x.broken = false, &cases[i]
			}
		}
		r.expected = append(r.expected, x)
	}
	return r
}

// breaks reports whether what happened to a connection is not as expected.
func breaks(x *network.Expectation, k *prove.Case) bool {
	answered := k.Result.Answer == lab.Answered
	switch x.Must {
	case network.Reaches:
		return !answered || k.Trace.To.Machine.Host != x.Host
	case network.Only, network.Never: // it names machines behind the translation
		return answered && x.To.Addresses().Contains(k.Trace.Delivered.Destination)
	}
	return answered
}

// proveLine is the command that sends a connection again.
func (c *proveCall) proveLine(k *prove.Case) string {
	connection := k.Trace.Connection
	p := connection.Packet
	line := fmt.Sprintf("hollowbridge prove %s %s %s", p.Source, p.Destination, header.ServiceAt(p.Protocol, p.DestinationPort))
	if p.SourcePort != header.UsualSourcePort && p.SourcePort != 0 {
		line += fmt.Sprintf(" -sport %d", p.SourcePort)
	}
	if connection.From.Through != nil {
		line += " -in " + connection.From.Through.String()
	} else if connection.From.Segment != nil && c.needsIn(connection) {
		line += " -in " + connection.From.Segment.Lead().String()
	}
	line += " -at " + netfile.Quoted(cmp.Or(c.at, connection.Moment.String()))
	if c.options.against != "" {
		line += " -against " + netfile.Quoted(c.options.against)
	}
	return c.typed(line)
}

// needsIn reports whether the address of a sender alone does not say where it is.
func (c *call) needsIn(connection walk.Connection) bool {
	n := c.network()
	if n == nil {
		return false
	}
	at, err := walk.Compile(n, nil).Locate(connection.Packet.Source)
	return err != nil || at.Segment == nil || at.Segment.Name != connection.From.Segment.Name
}

// printProof shows one connection: the trace, and beside it the packets.
func (c *call) printProof(r *proof) {
	k := &r.cases[0]
	p := k.Trace.Connection.Packet
	fmt.Fprintf(c.Out, "%s -> %s %s  from %s\n", p.From(), p.To(), protocolText(p), k.Trace.Connection.From.Name())
	c.heading("the trace says")
	c.printSteps(k.Trace.Steps)
	fmt.Fprintf(c.Out, "  %s\n", strings.TrimSpace(c.verdictLine(k.Trace)))
	c.heading("real packets")
	c.printSeen(k.Seen)
	fmt.Fprintf(c.Out, "  %s\n\n", metText(&k.Result))
	c.printApart(r)
	for _, text := range k.Accepted {
		c.printLabelled("free", text)
	}
	if len(r.unable)+len(r.notes)+len(k.Accepted) > 0 {
		fmt.Fprintln(c.Out)
	}
	switch {
	case len(k.Differs) == 0:
		fmt.Fprintln(c.Out, c.green("agrees"))
	case k.Known != "":
		fmt.Fprintf(c.Out, "%s, as it must: %s; %s\n", c.green("agrees"), k.Known, strings.Join(k.Differs, "; "))
	default:
		fmt.Fprintf(c.Out, "%s: %s\n", c.red("differs"), strings.Join(k.Differs, "; "))
	}
}

// metText says what the client met.
func metText(r *lab.Result) string {
	text := "the client meets " + r.Answer.Meets()
	if r.By.IsValid() {
		text += fmt.Sprintf(", from %s: %s", r.By, r.Code)
	}
	return text
}

// printSeen writes packets in columns, in the order in which they were seen: when, where, by
// which interface, which way, and the packet.
func (c *call) printSeen(list []lab.Sighting) {
	widest, widestOn := 6, 0
	for _, s := range list {
		widest, widestOn = max(widest, len(s.Node)), max(widestOn, len(s.On))
	}
	for i := range list {
		s := &list[i]
		way := "in "
		if s.Leaves {
			way = "out"
		}
		line := fmt.Sprintf("%6.1f ms  %-*s  %-*s  %s  %s -> %s", float64(s.When.Sub(list[0].When))/1e6, widest, s.Node, widestOn, s.On, way, s.Packet.From(), s.Packet.To())
		if word := s.Words(); word != "" {
			line += "  " + word
		}
		fmt.Fprintf(c.Out, "  %s\n", strings.TrimRight(line, " "))
	}
}

// printApart says in what the lab differs from the network.
func (c *call) printApart(r *proof) {
	for _, text := range slices.Concat(r.unable, r.notes) {
		c.printLabelled("apart", text)
	}
}

// mostShown is how many cases that differ are shown whole.
const mostShown = 12

func (c *proveCall) printProofs(r *proof, took time.Duration) {
	c.printApart(r)
	if len(r.unable)+len(r.notes) > 0 {
		fmt.Fprintln(c.Out)
	}
	unsent := 0
	for _, classes := range r.plan.Unsent {
		unsent += classes
	}
	fmt.Fprintf(c.Out, "%d classes of connections: a member of %d was sent, and %d from right outside their borders\n", r.plan.Classes, r.plan.Classes-unsent, r.plan.Borders)
	for _, reason := range byCount(r.plan.Unsent) {
		fmt.Fprintf(c.Out, "  %5d classes not sent: %s\n", r.plan.Unsent[reason], reason)
	}
	fmt.Fprintf(c.Out, "\n%5d agree with their trace", r.agree)
	if r.free > 0 {
		fmt.Fprintf(c.Out, "; in %d of them the kernel chose another port or address of the pool", r.free)
	}
	fmt.Fprintln(c.Out)
	for _, reason := range byCount(r.known) {
		fmt.Fprintf(c.Out, "%5d differ as they must: %s\n", r.known[reason], reason)
	}
	if len(r.expected) > 0 {
		c.heading("expectations")
	}
	for _, x := range r.expected {
		word, tail := c.green("holds"), fmt.Sprintf("(%s)", count(x.sent, "connection"))
		switch {
		case !x.holds:
			word, tail = c.red("broken"), c.proveLine(x.broken)
		case x.sent == 0:
			word, tail = "unsent", "(nothing it is about could be sent)"
		}
		fmt.Fprintf(c.Out, "  %s  %s %s\n", word, x.expectation.Say, tail)
	}
	shown := 0
	for i := range r.cases {
		if k := &r.cases[i]; len(k.Differs) > 0 && k.Known == "" {
			if shown++; shown <= mostShown {
				c.printDiffering(k)
			}
		}
	}
	if shown > mostShown {
		fmt.Fprintf(c.Out, "\nand %d more\n", shown-mostShown)
	}
	if r.differ == 0 {
		fmt.Fprintf(c.Out, "\n%s, %s in %.0f s\n", c.green("all agree"), count(len(r.cases), "connection"), took.Seconds())
		return
	}
	word := "differ"
	if r.differ == 1 {
		word = "differs"
	}
	fmt.Fprintf(c.Out, "\n%s of %s\n", c.red(fmt.Sprintf("%d %s", r.differ, word)), count(len(r.cases), "connection"))
}

// byCount returns the keys of counts, the largest first.
func byCount(counts map[string]int) []string {
	return slices.SortedFunc(maps.Keys(counts), func(a, b string) int {
		return cmp.Or(counts[b]-counts[a], strings.Compare(a, b))
	})
}

// printDiffering shows what a trace says and what happened.
func (c *proveCall) printDiffering(k *prove.Case) {
	p := k.Trace.Connection.Packet
	c.heading("%s -> %s %s, from %s", p.From(), p.To(), protocolText(p), k.Trace.Connection.From.Name())
	fmt.Fprintf(c.Out, "  trace     %s\n", strings.TrimSpace(c.verdictLine(k.Trace)))
	fmt.Fprintf(c.Out, "  happened  %s\n", metText(&k.Result))
	fmt.Fprintf(c.Out, "  differs   %s\n", strings.Join(k.Differs, "; "))
	c.printSeen(k.Seen)
	fmt.Fprintf(c.Out, "  again     %s\n", c.proveLine(k))
}

// checks returns one check a connection, and one an expectation.
func (r *proof) checks(c *proveCall) []checked {
	var list []checked
	for i := range r.cases {
		k := &r.cases[i]
		p := k.Trace.Connection.Packet
		one := checked{name: fmt.Sprintf("%s -> %s %s", p.From(), p.To(), p.Protocol), at: k.Trace.At.Name()}
		if len(k.Differs) > 0 && k.Known == "" {
			one.failure, one.trace = strings.Join(k.Differs, "; "), c.proveLine(k)
		}
		list = append(list, one)
	}
	for _, x := range r.expected {
		one := checked{name: x.expectation.Say, at: x.expectation.Place.String()}
		if !x.holds {
			one.failure, one.trace = "real packets break it", c.proveLine(x.broken)
		}
		list = append(list, one)
	}
	return list
}

type proofJSON struct {
	Classes      int             `json:"classes"`
	Sent         int             `json:"sent"`
	Borders      int             `json:"borders"`
	Unsent       map[string]int  `json:"unsent"`
	Apart        []string        `json:"apart"`
	Agree        int             `json:"agree"`
	Differ       int             `json:"differ"`
	Known        map[string]int  `json:"known"`
	Cases        []proofCaseJSON `json:"cases"` // those that differ; with FROM, TO and SERVICE the one
	Expectations []proofSaidJSON `json:"expectations"`
}

type proofSaidJSON struct {
	Say   string `json:"say"`
	Sent  int    `json:"sent"`
	Holds bool   `json:"holds"`
}

type proofCaseJSON struct {
	Trace    traceJSON  `json:"trace"`
	Met      string     `json:"met"`
	By       string     `json:"by"`
	Code     string     `json:"code"`
	Seen     []seenJSON `json:"seen"`
	Differs  []string   `json:"differs"`
	Known    string     `json:"known"`
	Accepted []string   `json:"accepted"`
	Command  string     `json:"command"`
}

type seenJSON struct {
	Milliseconds float64 `json:"ms"` // since the first
	At           string  `json:"at"`
	Interface    string  `json:"interface"`
	Way          string  `json:"way"` // in or out
	From         string  `json:"from"`
	To           string  `json:"to"`
	Protocol     string  `json:"protocol"`
	Kind         string  `json:"kind"`
}

func (r *proof) json(c *proveCall) proofJSON {
	unsent := 0
	for _, classes := range r.plan.Unsent {
		unsent += classes
	}
	found := proofJSON{
		Classes: r.plan.Classes, Sent: len(r.cases), Borders: r.plan.Borders, Unsent: r.plan.Unsent, Apart: slices.Concat([]string{}, r.unable, r.notes),
		Agree: r.agree, Differ: r.differ, Known: r.known, Cases: []proofCaseJSON{}, Expectations: []proofSaidJSON{},
	}
	if found.Unsent == nil {
		found.Unsent = map[string]int{}
	}
	for i := range r.cases {
		k := &r.cases[i]
		if len(c.args) == 0 && (len(k.Differs) == 0 || k.Known != "") {
			continue
		}
		one := proofCaseJSON{
			Trace: traceResult(k.Trace, nil), Met: k.Result.Answer.String(), Code: k.Result.Code, Seen: []seenJSON{},
			Differs: slices.Concat([]string{}, k.Differs), Known: k.Known, Accepted: slices.Concat([]string{}, k.Accepted), Command: c.proveLine(k),
		}
		if k.Result.By.IsValid() {
			one.By = k.Result.By.String()
		}
		for i := range k.Seen {
			s := &k.Seen[i]
			way := "in"
			if s.Leaves {
				way = "out"
			}
			one.Seen = append(one.Seen, seenJSON{
				float64(s.When.Sub(k.Seen[0].When)) / 1e6, s.Node, s.On, way, s.Packet.From(), s.Packet.To(), s.Packet.Protocol.String(), s.Words(),
			})
		}
		found.Cases = append(found.Cases, one)
	}
	for _, x := range r.expected {
		found.Expectations = append(found.Expectations, proofSaidJSON{x.expectation.Say, x.sent, x.holds})
	}
	return found
}
