package cli

import (
	"flag"
	"fmt"
	"strings"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/repair"
)

var traceCommand = &command{
	name: "trace", arguments: "FROM TO SERVICE",
	summary: "follows one connection, step by step, there and back",
	help: `Follows one connection through the gateways to the host, and its answer back to the client. It
says whether the service is reached; if not, where the connection ends, which step and which
rule ended it, which rules nearly matched, and which edits would mend it: each was tried on a copy
of the file, and what else it would open is said with it. -repair N makes the edit.

FROM is a host, an address, ADDRESS:PORT, a group (its first address), or internet: a stranger
who is in no group. TO is a host, an address, or GATEWAY:INTERFACE for an interface's own
address. SERVICE is written as in the file: https, tcp/8443, icmp, or a name the file defines;
of several ports the first is taken.

-all lists also every NAT and filter rule that the connection meets at each step, in the order in
which they are tried, and why the later ones are not followed. -explain says each step in a
sentence.

-live asks the running gateways: what is in force there, and which sessions they have. With -send
it also sends the connection, where this machine is FROM, and says what came back.

-batch FILE traces many, each on its own: a line of the file is FROM TO SERVICE, with the source
port behind it where it matters, and one line comes of each; what stands behind # is for people. It
goes with -f, -json, -live, -sport, -in, -at, -6, and with -is, -down, -list, -without and -with.

` + whatIfHelp[1:] + `
Exit status: 0 reached, 1 not reached, 2 the call or the file is wrong.`,
	examples: []string{
		"hollowbridge trace fronts rim:fibre https",
		"hollowbridge trace internet rim:fibre https",
		"hollowbridge trace 203.0.113.130 rim:fibre tcp/15900 -json",
		"hollowbridge trace 10.61.8.40 192.0.2.10 icmp",
		"hollowbridge trace remote-observers rim:fibre tcp/2222",
		"hollowbridge trace remote-observers rim:fibre tcp/2222 -repair 1 -dry-run",
		"hollowbridge trace 192.0.2.7 rim:fibre rtsp -in rim:fibre -sport 5004",
	},
	begin: func(c *call) task { return &traceCall{call: c} },
}

// A traceCall is a call of trace.
type traceCall struct {
	*call
	options struct {
		questionOptions
		detail
		repair     int
		live, send bool
		batch      string
		after      repeated
	}
}

func (c *traceCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	c.options.questionOptions.flags(c.call, set)
	c.whatIfFlags(set)
	set.BoolVar(&c.options.explained, "explain", false, "say each step in a sentence, for whoever does not know the trade")
	set.BoolVar(&c.options.every, "all", false, "list every rule that matches at each step, also those that are not followed")
	set.IntVar(&c.options.repair, "repair", 0, "apply the repair of this `NUMBER` to the file")
	set.BoolVar(&c.dryRun, "dry-run", false, "with -repair, show what would change and write nothing")
	set.BoolVar(&c.options.live, "live", false, "through the running gateways as they are: what is in force there, with their sessions")
	c.askedFlag(set)
	set.BoolVar(&c.options.send, "send", false, "with -live, also send it, where this machine is FROM, and say what came back")
	set.StringVar(&c.options.batch, "batch", "", "trace what stands in this `FILE`, a line each, FROM TO SERVICE and perhaps the source port; - is standard input")
	set.Var(&c.options.after, "after", "an `EARLIER` connection, \"FROM TO SERVICE\", whose sessions are still there; repeatable")
}

// misuse says which options of a trace do not go together; empty where they do.
func (c *traceCall) misuse() string {
	switch o := &c.options; {
	case o.explained && (c.json || o.batch != ""):
		return "-explain is for people who read one trace; -json and -batch go without it"
	case o.batch != "":
		return ""
	case o.send && !o.live || o.live && (o.repair != 0 || len(o.after) > 0):
		return "-send goes with -live, and -repair and -after don't"
	case o.repair != 0 && !c.whatIf.IsNone():
		return "-repair changes the file as it is; -down, -list, -without and -with ask about another one"
	}
	return ""
}

func (c *traceCall) run() int {
	if no := c.misuse(); no != "" {
		return c.misused("%s", no)
	}
	if c.options.batch != "" {
		c.quiet = true
		return c.runBatch()
	}
	if len(c.args) != 3 {
		return c.misused("it needs FROM, TO and SERVICE")
	}
	q, ok := c.options.question(c.call)
	if !ok {
		return wrong
	}
	c.sketches = true
	n, live := c.liveOrFile(c.options.live)
	if n == nil {
		return wrong
	}
	e := walk.Compile(n, nil)
	connection, err := q.connection(e)
	if err != nil {
		return c.failed(err)
	}
	way := e.NewWalk()
	if live != nil {
		way = live.walk(e)
	}
	var before []afterJSON
	for _, text := range c.options.after {
		earlier, err := q.earlier(e, text)
		if err != nil {
			return c.failed(fmt.Errorf("-after: %w", err))
		}
		v := way.Remember(earlier)
		before = append(before, afterJSON{text, v.Outcome.String(), v.At.Name(), v.Outcome == engine.Reached || v.Outcome == engine.Unanswered})
	}
	trace := words.TraceOf
	if c.options.every {
		trace = words.TraceAll
	}
	t := trace(way, connection)
	noteTwin(n, c.args[1], t)
	asked := q.asked(e, connection)
	var otherwise []otherwiseJSON
	if len(c.options.after) == 0 && live == nil {
		otherwise = otherwiseOf(e, t, asked)
	}
	var repairs []repair.Repair
	if t.Outcome != engine.Reached && len(c.options.after) == 0 && live == nil && c.whatIf.IsNone() {
		switch bench, err := c.bench(n, c.times(n)); {
		case err == nil:
			repairs = bench.ForTrace(t, asked)
		case c.options.repair != 0:
			return c.failed(err)
		} // else it can't be read twice, so it can't be edited either
	}
	if c.options.repair != 0 {
		return c.applyRepair(repairs)
	}
	if c.json {
		result := traceResult(t, c.repairEntries(repairs))
		result.After = append(result.After, before...)
		result.Otherwise = append(result.Otherwise, otherwise...)
		c.printJSON(result)
	} else {
		c.printAfter(before)
		if live != nil {
			c.sayLive(live)
		}
		c.printTrace(t, c.repairEntries(repairs), c.options.detail)
		c.printOtherwise(otherwise)
		if c.options.send {
			c.sendTraced(t)
		}
	}
	if t.Outcome != engine.Reached {
		return no
	}
	return yes
}

// printOtherwise says how other services fare that were asked about.
func (c *call) printOtherwise(list []otherwiseJSON) {
	for _, o := range list {
		fmt.Fprintf(c.Out, "%s, asked about too: %s\n", o.Service, o.verdict(c))
	}
}

// noteTwin says where the address of a named host leads to another host that has it too.
func noteTwin(n *network.Network, to string, t *words.Trace) {
	asked, got := n.Host(to), t.To.Machine.Host
	if asked == nil || got == nil || got == asked || !asked.Has(t.Delivered.Destination) || !got.Has(t.Delivered.Destination) {
		return
	}
	t.Why = append(t.Why, fmt.Sprintf("%s is the address of %s on the way it takes; %s has it on another segment.", t.Delivered.Destination, got.Name, asked.Name))
}

// earlier reads "FROM TO SERVICE [PORT]", an earlier connection and its source port.
func (q question) earlier(e *walk.Engine, text string) (walk.Connection, error) {
	words := strings.Fields(text)
	if len(words) != 3 && len(words) != 4 {
		return walk.Connection{}, fmt.Errorf("%q: write it as \"FROM TO SERVICE\", with the source port behind it where it matters", text)
	}
	before := question{from: words[0], to: words[1], service: words[2], sport: q.sport, ipv6: q.ipv6, at: q.at}
	if len(words) == 4 {
		port, err := parsePort(words[3])
		if err != nil {
			return walk.Connection{}, err
		}
		before.sport = port
	}
	return before.connection(e)
}

// printAfter says which earlier connections left no session.
func (c *call) printAfter(list []afterJSON) {
	for _, a := range list {
		if !a.Session {
			text := fmt.Sprintf("The earlier connection %q leaves no session: it is %s at %s.", a.Connection, a.Outcome, a.At)
			fmt.Fprintf(c.Out, "%s\n\n", strings.Join(wrap(text, c.Width), "\n"))
		}
	}
}

// detail is how much is said of a trace.
type detail struct {
	explained bool // each step in a sentence
	every     bool // every rule that matches at a step
}

func (c *call) printTrace(t *words.Trace, repairs []repairJSON, d detail) {
	p := t.Connection.Packet
	head := fmt.Sprintf("%s -> %s %s", p.From(), p.To(), protocolText(p))
	from := "from " + t.Connection.From.Name()
	if line := fmt.Sprintf("%-58s  %s", head, from); len(line) <= c.Width {
		head = line
	} else {
		head += "\n  " + from
	}
	fmt.Fprintf(c.Out, "%s\n\n", head)
	c.printSteps(t.Steps)
	if len(t.Steps) > 0 {
		fmt.Fprintln(c.Out)
	}
	c.printExplained(t, d)
	c.printCandidates(t.Candidates, d)
	if len(t.Why) > 0 {
		c.printLabelled("why", strings.Join(t.Why, " "))
		if t.Outcome == engine.Reached {
			fmt.Fprintln(c.Out)
		}
	}
	for i, near := range t.Near {
		label := ""
		if i == 0 {
			label = "near"
		}
		text := near.Text
		if !near.Differs.IsAboutTheRule() {
			text = fmt.Sprintf("only its %s differs: %s", near.Differs, text)
		}
		c.printLabelled(label, fmt.Sprintf("%s (%s, line %d): %s", near.Rule.Name, near.Rule.Kind, near.Rule.Place.Line, text))
	}
	if remedy := t.Remedy(); remedy != "" {
		c.printLabelled("next", remedy)
		c.printRepairs(repairs)
		fmt.Fprintln(c.Out)
	}
	fmt.Fprintln(c.Out, c.verdictLine(t))
}

// printCandidates lists the rules that match, with where they stand.
func (c *call) printCandidates(list []words.Candidate, d detail) {
	if !d.every {
		return
	}
	if len(list) == 0 {
		fmt.Fprintf(c.Out, "  no rule matches at any step\n\n")
		return
	}
	var rows [][]string
	var at *network.Gateway
	var step engine.StepKind
	for _, k := range list {
		row := []string{"", "", "", fmt.Sprintf("%s %s", k.Rule.Kind, k.Rule.Name), fmt.Sprint(k.Rule.Place.Line), k.Text}
		if k.At != at {
			row[0], step = k.At.Name, ""
		}
		if k.Step != step {
			row[1] = string(k.Step)
		}
		if k.Wins {
			row[2] = "*"
		}
		at, step = k.At, k.Step
		rows = append(rows, row)
	}
	c.printTableWithin([]string{"at", "step", "", "every rule that matches", "line", ""}, rows, []int{14, 0, 0, 34, 0, 0})
	fmt.Fprintln(c.Out)
}

func protocolText(p header.Packet) string {
	text := p.Protocol.String()
	if name := header.NameOf(p.Protocol, p.DestinationPort); name != "" {
		text += " (" + name + ")"
	}
	return text
}

// mostAt is how wide the column of gateways and hosts gets.
const mostAt = 24

// printSteps writes steps in columns: where, what, by which rule, how. Where is
// written once for each gateway or host.
func (c *call) printSteps(steps []words.Step) {
	widestAt, widestRule := 6, 0
	for _, s := range steps {
		widestAt = max(widestAt, len(s.At))
		if by := s.Rule + s.Route; by != "" && s.Text != "" {
			widestRule = max(widestRule, len(by))
		}
	}
	widestRule, widestAt = min(widestRule, 30), min(widestAt, mostAt)
	before := ""
	for _, s := range steps {
		at, label := s.At, s.Label
		if s.Back {
			at, label = "back", s.At
		}
		shown := at
		if at == before {
			shown = ""
		}
		before = at
		text, by := s.Text, s.Rule+s.Route
		if s.Back && s.Kind != engine.StepSession {
			text = strings.TrimSpace(s.Label + " " + strings.TrimSpace(by+" "+text))
		} else if by != "" {
			text = strings.TrimRight(fmt.Sprintf("%-*s  %s", widestRule, by, s.Text), " ")
		}
		indent := widestAt + 2 + 9 + 2
		if by != "" && !(s.Back && s.Kind != engine.StepSession) && s.Text != "" {
			indent += widestRule + 2
		}
		if len(shown) > widestAt { // a long name stands by itself, so that the columns keep their place
			fmt.Fprintf(c.Out, "  %s\n", shown)
			shown = ""
		}
		head := fmt.Sprintf("%-*s  %-9s  ", widestAt, shown, label)
		if len(label) > mostAt && text != "" {
			fmt.Fprintf(c.Out, "  %s\n", strings.TrimRight(head, " "))
			head = strings.Repeat(" ", widestAt+2+9+2)
		}
		for i, line := range wrapWithin(head+text, indent, c.Width-2) {
			if i > 0 {
				line = strings.Repeat(" ", indent) + line
			}
			fmt.Fprintf(c.Out, "  %s\n", strings.TrimRight(line, " "))
		}
	}
}

// wrapWithin breaks a line that is longer than width at a space behind indent, and what
// is left as wrap does.
func wrapWithin(line string, indent, width int) []string {
	runes := []rune(line)
	if len(runes) <= width || len(runes) <= indent {
		return []string{line}
	}
	rest := wrap(string(runes[indent:]), max(width-indent, 16))
	rest[0] = string(runes[:indent]) + rest[0]
	return rest
}

// verdictLine is the answer: the outcome, and where or by what.
func (c *call) verdictLine(t *words.Trace) string {
	word := t.Outcome.String()
	if t.Outcome == engine.Reached {
		return c.green(word) + " " + t.To.Name()
	}
	line := c.red(word) + " at " + t.At.Name()
	if t.Rule != nil {
		line += " by " + t.Rule.Name
	}
	line += ": " + t.Outcome.Meaning()
	if t.Told {
		line += "; the client is told"
	}
	return line
}

// A tracedJSON is a connection and what became of it.
type tracedJSON struct {
	Connection connectionJSON `json:"connection"`
	Outcome    string         `json:"outcome"`
	Host       string         `json:"host"`
	At         string         `json:"at"`
	Rule       string         `json:"rule"`
	Delivered  *endsJSON      `json:"delivered"`
	Answered   *endsJSON      `json:"answered"`
	Told       bool           `json:"told"`
}

func tracedAs(p header.Packet, v *walk.Verdict) tracedJSON {
	fate := tracedJSON{
		Connection: connectionJSON{p.From(), p.To(), p.Protocol.String()}, Outcome: v.Outcome.String(),
		Host: v.To.Name(), At: v.At.Name(), Delivered: ends(v.Delivered), Answered: ends(v.Answered), Told: v.Told,
	}
	if v.Rule != nil {
		fate.Rule = v.Rule.Name
	}
	return fate
}

type traceJSON struct {
	tracedJSON
	Steps   []stepJSON   `json:"steps"`
	Why     []string     `json:"why"`
	Near    []nearJSON   `json:"near"`
	Next    string       `json:"next"`
	Repairs []repairJSON `json:"repairs"`
	After   []afterJSON  `json:"after"`

	Otherwise []otherwiseJSON `json:"otherwise"` // other services that were asked about and fare otherwise

	Candidates []candidateJSON `json:"candidates"` // none without -all
}

// An otherwiseJSON is a service that was asked about too and whose connection fares otherwise than the one that is traced.
type otherwiseJSON struct {
	Service string `json:"service"`
	Outcome string `json:"outcome"`
	At      string `json:"at"`

	trace *words.Trace
}

func (o otherwiseJSON) verdict(c *call) string { return c.verdictLine(o.trace) }

// otherwiseOf returns which services that were asked about fare otherwise than the one of a trace.
func otherwiseOf(e *walk.Engine, t *words.Trace, asked repair.Asked) (list []otherwiseJSON) {
	for _, other := range asked.Others {
		if other.Packet.Source != t.Connection.Packet.Source {
			continue
		}
		o := words.TraceOf(e.NewWalk(), other)
		if o.Outcome == t.Outcome && o.At.Name() == t.At.Name() {
			continue
		}
		service := other.Packet.Service()
		for _, s := range asked.Services {
			if s.Protocol == service.Protocol && s.Ports.First == service.Ports.First {
				service = s
			}
		}
		list = append(list, otherwiseJSON{service.String(), o.Outcome.String(), o.At.Name(), o})
	}
	return list
}

// A candidateJSON is a rule that matches at a step.
type candidateJSON struct {
	At    string `json:"at"`
	Step  string `json:"step"`
	Rule  string `json:"rule"`
	Kind  string `json:"kind"`
	Place string `json:"place"`
	Wins  bool   `json:"wins"`
	Text  string `json:"text"`
}

type afterJSON struct {
	Connection string `json:"connection"`
	Outcome    string `json:"outcome"`
	At         string `json:"at"`
	Session    bool   `json:"session"`
}

type connectionJSON struct {
	From     string `json:"from"`
	To       string `json:"to"`
	Protocol string `json:"protocol"`
}

type endsJSON struct {
	From string `json:"from"`
	To   string `json:"to"`
}

type stepJSON struct {
	At    string `json:"at"`
	Step  string `json:"step"`
	Rule  string `json:"rule"`
	Route string `json:"route"`
	Text  string `json:"text"`
	Back  bool   `json:"back"`

	Before *endsJSON `json:"before"` // null where nothing was translated
	After  *endsJSON `json:"after"`
}

type nearJSON struct {
	Rule    string `json:"rule"`
	Kind    string `json:"kind"`
	Place   string `json:"place"`
	Differs string `json:"differs"`
	Text    string `json:"text"`
}

func traceResult(t *words.Trace, repairs []repairJSON) traceJSON {
	result := traceJSON{
		tracedJSON: tracedAs(t.Connection.Packet, &t.Verdict),
		Steps:      []stepJSON{}, Why: append([]string{}, t.Why...), Near: []nearJSON{}, Candidates: candidateEntries(t.Candidates), Next: t.Remedy(), Repairs: append([]repairJSON{}, repairs...), After: []afterJSON{}, Otherwise: []otherwiseJSON{},
	}
	for _, s := range t.Steps {
		text := s.Text
		if s.Label != "" {
			text = strings.TrimSpace(s.Label + " " + s.Text)
		}
		result.Steps = append(result.Steps, stepJSON{s.At, string(s.Kind), s.Rule, s.Route, text, s.Back, ends(s.Before), ends(s.After)})
	}
	for _, near := range t.Near {
		result.Near = append(result.Near, nearJSON{near.Rule.Name, near.Rule.Kind, near.Rule.Place.String(), string(near.Differs), near.Text})
	}
	return result
}

func candidateEntries(list []words.Candidate) []candidateJSON {
	entries := []candidateJSON{}
	for _, k := range list {
		entries = append(entries, candidateJSON{k.At.Name, string(k.Step), k.Rule.Name, k.Rule.Kind, k.Rule.Place.String(), k.Wins, k.Text})
	}
	return entries
}

// ends returns nil for a packet that never was.
func ends(p header.Packet) *endsJSON {
	if p == (header.Packet{}) {
		return nil
	}
	return &endsJSON{p.From(), p.To()}
}
