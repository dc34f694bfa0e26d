package cli

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/gateway"
)

var logCommand = &command{
	name:    "log",
	summary: "shows what the gateways wrote down: connections, and what was applied",
	help: `Shows the events of the running gateways, a line each, the latest last: number, time, gateway,
outcome, rule, the interfaces by our name and the machine's, the connection, what was translated
of it, and why. What rules with log: true do is written down, and, with logging: {unmatched:
true}, what no rule matches; both only where logging: {enabled: true} stands. The words from the
client's address on can stand behind trace.

-sum says in a few lines what many events are about: which outcomes, rules and sources, which
services were tried and are not open, and who tried many at once. -follow shows what comes, until
^C. -explain N traces the connection of an event through the network that is in force. -trial RULE
logs one rule for a while, and stops by itself.`,
	begin: func(c *call) task { return &logCall{call: c} },
}

// A logCall is a call of log.
type logCall struct {
	*call
	options struct {
		matching
		top, number                    int
		outcome, since, trial, forTime string
		follow, sum                    bool
	}
}

func (c *logCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	c.onlyFlag(set)
	c.options.matching.flags(set)
	topFlag(set, &c.options.top)
	set.StringVar(&c.options.outcome, "outcome", "", "with this `OUTCOME`: "+strings.Join(gateway.EventOutcomes(), ", "))
	set.StringVar(&c.options.since, "since", "", "not before this `TIME`: 30m, 2h or 7d ago, or \"2026-11-23 14:00\"")
	set.BoolVar(&c.options.follow, "follow", false, "show what comes, until ^C")
	set.BoolVar(&c.options.sum, "sum", false, "say in a few lines what it is about")
	set.IntVar(&c.options.number, "explain", 0, "trace the connection of the event of this `NUMBER`")
	set.StringVar(&c.options.trial, "trial", "", "log this `RULE` for a while")
	set.StringVar(&c.options.forTime, "for", "10m", "with -trial, for how `LONG`")
}

func (c *logCall) run() int {
	o := &c.options
	ways := 0
	for _, asked := range []bool{o.follow, o.sum, o.number != 0, o.trial != ""} {
		if asked {
			ways++
		}
	}
	switch {
	case len(c.args) > 0:
		return c.misused("%s: not expected; -from, -to, -rule and others say which events", c.args[0])
	case ways > 1:
		return c.misused("-follow, -sum, -explain and -trial don't go together")
	case o.top < 1 || o.top > 100_000:
		return c.misused("-top %d: 1 to 100000", o.top)
	case o.number < 0:
		return c.misused("-explain %d: events are numbered from 1 on", o.number)
	}
	list := c.running()
	if list == nil {
		return wrong
	}
	query := c.options.query()
	if o.outcome != "" {
		query.Set("outcome", o.outcome)
	}
	if o.since != "" {
		since, err := gateway.ParseSince(o.since, c.Now())
		if err != nil {
			return c.misused("-since %s", err)
		}
		query.Set("since", since.Format(time.RFC3339Nano))
	}
	switch {
	case o.trial != "":
		return c.tryRule(list)
	case o.number != 0:
		return c.explainEvent(list)
	case o.follow:
		return c.followLog(list, query)
	case o.sum:
		query.Set("sum", "1")
	default:
		query.Set("top", strconv.Itoa(o.top))
	}
	logs, failures := askAll(list, func(g *gateway.Client) (gateway.Log, error) { return g.Log(context.Background(), query) })
	if o.sum {
		return c.printSums(list, logs, failures)
	}
	all := []gateway.Event{}
	for i := range logs {
		all = append(all, logs[i].Events...)
	}
	slices.SortStableFunc(all, func(a, b gateway.Event) int { return a.Time.Compare(b.Time) })
	all = all[max(0, len(all)-o.top):]
	if c.json {
		c.printJSON(map[string]any{"events": all})
		return c.sayFailures(failures)
	}
	c.printEvents(all)
	status := c.sayFailures(failures)
	if len(all) == 0 && status == yes {
		fmt.Fprintln(c.Out, "no event matches")
	}
	return status
}

// printEvents writes events; the tries of one connection that was stopped are one, with their number.
func (c *call) printEvents(all []gateway.Event) {
	attempts, tries := gateway.Attempts{}, map[int][]int{}
	again := make([]bool, len(all))
	for i := range all {
		first, more := attempts.Again(&all[i], i)
		if again[i] = more; more {
			tries[first] = append(tries[first], i)
		}
	}
	for i := range all {
		switch list := tries[i]; {
		case again[i]:
		case len(list) == 0:
			c.printEvent(&all[i], "")
		default:
			c.printEvent(&all[i], fmt.Sprintf("tried %d times, to %s", len(list)+1, all[list[len(list)-1]].Time.Local().Format("15:04:05")))
		}
	}
}

// printEvent writes an event: on one line where that fits, else with what it is about below it.
func (c *call) printEvent(e *gateway.Event, more string) {
	at := e.Time.Local()
	stamp := at.Format("15:04:05")
	if now := c.Now(); at.Year() != now.Year() || at.YearDay() != now.YearDay() {
		stamp = at.Format("01-02 15:04:05")
	}
	head := fmt.Sprintf("%6d  %s  %-6s  ", e.Number, stamp, e.Gateway)
	if e.Before == nil && e.Outcome == "" {
		fmt.Fprintf(c.Out, "%s%s\n", head, strings.Join(wrap(e.Words(), c.Width-len(head)), "\n"+strings.Repeat(" ", len(head))))
		return
	}
	outcome := fmt.Sprintf("%-10s", e.Outcome)
	if e.Before != nil && e.Outcome != gateway.Passes && e.Outcome != gateway.Translated {
		outcome = c.red(outcome)
	}
	way := cmp.Or(ifaceText(e.In, e.InDevice), "-")
	if e.Out != "" {
		way += ">" + ifaceText(e.Out, e.OutDevice)
	}
	what := e.Text // of a mapping
	if e.Before != nil {
		what = connectionText(e.Before, e.After)
	}
	for _, note := range []string{e.Text, more} {
		if e.Before != nil && note != "" {
			what += "  (" + note + ")"
		}
	}
	rule := cmp.Or(e.Rule, "-")
	line := fmt.Sprintf("%-20s  %-20s  %s", rule, way, what)
	left := c.Width - len(head) - len("dropped     ")
	if len(line) <= left {
		fmt.Fprintf(c.Out, "%s%s  %s\n", head, outcome, line)
		return
	}
	const indent = "                "
	first := fmt.Sprintf("%-20s  %s", rule, way)
	if len(first) > left {
		first, what = rule, way+"  "+what
	}
	fmt.Fprintf(c.Out, "%s%s  %s\n%s%s\n", head, outcome, first, indent, strings.Join(wrap(what, c.Width-len(indent)), "\n"+indent))
}

// ifaceText writes an interface by our name and the machine's, where that is another.
func ifaceText(name, device string) string {
	if device == "" || device == name {
		return name
	}
	return name + "(" + device + ")"
}

// followLog shows what comes at all gateways, until ^C.
func (c *call) followLog(list []*gateway.Client, query map[string][]string) int {
	ctx, stop := untilInterrupt()
	defer stop()
	var writing sync.Mutex
	_, failures := askAll(list, func(g *gateway.Client) (struct{}, error) {
		err := g.Follow(ctx, query, func(e *gateway.Event) error {
			writing.Lock()
			defer writing.Unlock()
			if c.json {
				c.printJSONLine(e)
			} else {
				c.printEvent(e, "")
			}
			return c.flush()
		})
		if errors.Is(err, context.Canceled) {
			err = nil
		}
		return struct{}{}, err
	})
	return c.sayFailures(failures)
}

func (c *call) printSums(list []*gateway.Client, logs []gateway.Log, failures []error) int {
	if c.json {
		result := map[string]*gateway.Sum{}
		for i, g := range list {
			if failures[i] == nil {
				result[g.Gateway] = logs[i].Sum
			}
		}
		c.printJSON(result)
		return c.sayFailures(failures)
	}
	for i, g := range list {
		if failures[i] == nil && logs[i].Sum != nil {
			c.printSum(g.Gateway, logs[i].Sum)
		}
	}
	return c.sayFailures(failures)
}

func (c *call) printSum(name string, s *gateway.Sum) {
	if s.Events == 0 {
		fmt.Fprintf(c.Out, "%s: no connection is written down\n", name)
		return
	}
	again := ""
	if s.Again > 0 {
		again = fmt.Sprintf(" (tried again %s)", plural(s.Again, "time", "times"))
	}
	fmt.Fprintf(c.Out, "%s: %s%s, %s to %s\n", c.bold(name), count(s.Events, "connection"), again, whenText(*s.From), whenText(*s.To))
	line := func(label string, list []gateway.Often) {
		if len(list) == 0 {
			return
		}
		var words []string
		for _, o := range list {
			words = append(words, fmt.Sprintf("%s %d", o.Name, o.Count))
		}
		for i, text := range wrap(strings.Join(words, ", "), c.Width-14) {
			if i > 0 {
				label = ""
			}
			fmt.Fprintf(c.Out, "  %-10s  %s\n", label, text)
		}
	}
	line("outcomes", s.Outcomes)
	line("rules", s.Rules)
	line("sources", s.Sources)
	line("not open", s.Closed)
	for i, scan := range s.Scans {
		label := "scans"
		if i > 0 {
			label = ""
		}
		fmt.Fprintf(c.Out, "  %-10s  %s tried %s at %s within a minute, at %s\n", label, scan.Source, count(scan.Services, "service"), plural(scan.Addresses, "address", "addresses"), whenText(scan.Time))
	}
	if s.Cut {
		fmt.Fprintln(c.Out, "  There are more sources than are counted one by one.")
	}
}

// tryRule logs a rule for a while on the gateways that have it.
func (c *logCall) tryRule(list []*gateway.Client) int {
	long, err := network.ParseLifetime(c.options.forTime)
	if err != nil {
		return c.misused("-for %s", err)
	}
	trial := gateway.Trial{Rule: c.options.trial, For: long.Seconds()}
	_, failures := askAll(list, func(g *gateway.Client) (struct{}, error) { return struct{}{}, g.Try(context.Background(), trial) })
	found := false
	for i, g := range list {
		if failures[i] == nil {
			found = true
			fmt.Fprintf(c.Out, "%s logs %s until %s\n", g.Gateway, c.options.trial, c.Now().Add(long).Format("15:04:05"))
		}
	}
	for i, err := range failures { // one that does not have the rule is no trouble where another has it
		var refusal *gateway.Refusal
		if found && errors.As(err, &refusal) && refusal.Status == 404 {
			failures[i] = nil
		}
	}
	return c.sayFailures(failures)
}

// explainEvent traces the connection of an event through the network that is in force at its
// gateway.
func (c *logCall) explainEvent(list []*gateway.Client) int {
	if len(list) > 1 {
		return c.misused("-explain: each gateway numbers its own events; say which with -gateway")
	}
	g := list[0]
	log, err := g.Log(context.Background(), map[string][]string{"number": {strconv.Itoa(c.options.number)}})
	if err != nil {
		return c.failed(err)
	}
	e := &log.Events[0]
	if !c.json {
		c.printEvent(e, "")
		fmt.Fprintln(c.Out)
	}
	if e.Before == nil {
		return c.failed(fmt.Errorf("event %d is no connection", e.Number))
	}
	n, err := c.readNetwork(g.Gateway + "@")
	if err != nil {
		return c.readFailed(err)
	}
	packet, err := e.Before.Header()
	if err != nil {
		return c.failed(err)
	}
	compiled := walk.Compile(n, nil)
	own := n.Called(g.Gateway)
	if own == nil || own.Interface(e.In) == nil {
		return c.failed(fmt.Errorf("%s has no interface %s any more", g.Gateway, e.In))
	}
	from := compiled.Behind(own.Interface(e.In), packet.Source) // whatever the file says of how it came there
	t := words.TraceOf(compiled.NewWalk(), walk.Connection{Packet: packet, From: from, Moment: n.MomentAt(e.Time)})
	if c.json {
		c.printJSON(traceResult(t, nil))
	} else {
		c.printTrace(t, nil, detail{})
	}
	if t.Outcome != engine.Reached {
		return no
	}
	return yes
}
