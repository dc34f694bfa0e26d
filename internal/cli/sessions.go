package cli

import (
	"context"
	"flag"
	"fmt"
	"math"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"hollowbridge/internal/gateway"
)

var sessionsCommand = &command{
	name:    "sessions",
	summary: "lists the connections that the gateways remember, with their translation",
	help: `Lists the sessions of the running gateways, a line each, those that carried most first: the client,
what it asked for and the service, what of it was translated (behind "as", = for what stayed), the
zones it goes between, its state, how long it is there, unused, and left until it times out; how
many packets and bytes went forth and back; and the rules it goes by.

The first three words of a line can stand behind trace. Addresses and ports of both sides of a
translation count for -from, -to, -address and -port. -clear ends those that match; at least one of
the filters, or -all, says which.`,
	begin: func(c *call) task { return &sessionsCall{call: c} },
}

// A sessionsCall is a call of sessions.
type sessionsCall struct {
	*call
	options struct {
		matching
		top               int
		watch, clear, all bool
	}
}

func (c *sessionsCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	c.onlyFlag(set)
	c.options.matching.flags(set)
	topFlag(set, &c.options.top)
	watchFlag(set, &c.options.watch)
	set.BoolVar(&c.options.clear, "clear", false, "end the sessions that match")
	set.BoolVar(&c.options.all, "all", false, "with -clear, all of them")
}

// matchFlags are those that say which sessions or events are meant.
// matching says which sessions or events are meant.
type matching struct{ from, to, address, port, service, rule string }

func (o *matching) flags(set *flag.FlagSet) {
	set.StringVar(&o.from, "from", "", "from these `ADDRESSES`: a host, group, address, prefix or range")
	set.StringVar(&o.to, "to", "", "to these `ADDRESSES`")
	set.StringVar(&o.address, "address", "", "from or to these `ADDRESSES`")
	set.StringVar(&o.port, "port", "", "with this `PORT` at either end")
	set.StringVar(&o.service, "service", "", "for this `SERVICE`, as https or tcp/8443")
	set.StringVar(&o.rule, "rule", "", "by this `RULE`")
}

func topFlag(set *flag.FlagSet, top *int) {
	set.IntVar(top, "top", 200, "at most this `NUMBER` of each gateway")
}

func watchFlag(set *flag.FlagSet, watch *bool) {
	set.BoolVar(watch, "watch", false, "show it anew every second, until ^C")
}

// matchQuery returns what the flags of matchFlags ask for.
func (o *matching) query() url.Values {
	query := url.Values{}
	for key, value := range map[string]string{"from": o.from, "to": o.to, "address": o.address, "port": o.port, "service": o.service, "rule": o.rule} {
		if value != "" {
			query.Set(key, value)
		}
	}
	return query
}

func (c *sessionsCall) run() int {
	switch o := &c.options; {
	case len(c.args) > 0:
		return c.misused("%s: not expected; -from, -to, -rule and others say which sessions", c.args[0])
	case o.top < 1 || o.top > 100_000:
		return c.misused("-top %d: 1 to 100000", o.top)
	case o.clear && !o.all && len(c.options.query()) == 0:
		return c.misused("-clear ends what matches: say which sessions, or -all")
	case o.clear && o.watch:
		return c.misused("-watch and -clear don't go together")
	}
	list := c.running()
	if list == nil {
		return wrong
	}
	if c.options.clear {
		return c.clearSessions(list)
	}
	return c.watched(c.options.watch, func() int { return c.listSessions(list) })
}

func (c *sessionsCall) clearSessions(list []*gateway.Client) int {
	ended, failures := askAll(list, func(g *gateway.Client) (gateway.Ended, error) {
		return g.EndSessions(context.Background(), c.options.query())
	})
	result, notes := map[string]int{}, map[string]string{}
	for i, g := range list {
		if failures[i] != nil {
			continue
		}
		result[g.Gateway], notes[g.Gateway] = ended[i].Ended, ended[i].Note
		if !c.json {
			fmt.Fprintf(c.Out, "%s  %s\n", g.Gateway, plural(ended[i].Ended, "session ended", "sessions ended"))
			if note := ended[i].Note; note != "" {
				c.say("%s", note)
			}
		}
	}
	if c.json {
		c.printJSON(map[string]any{"ended": result, "notes": notes})
	}
	return c.sayFailures(failures)
}

func (c *sessionsCall) listSessions(list []*gateway.Client) int {
	query := c.options.query()
	query.Set("top", strconv.Itoa(c.options.top))
	found, failures := askAll(list, func(g *gateway.Client) (gateway.Sessions, error) { return g.Sessions(context.Background(), query) })
	all := gateway.Sessions{Sessions: []gateway.Session{}}
	for i := range found {
		all.Count += found[i].Count
		all.Sessions = append(all.Sessions, found[i].Sessions...)
	}
	if c.json {
		c.printJSON(all)
		return c.sayFailures(failures)
	}
	status := c.sayFailures(failures)
	if status == yes || all.Count > 0 {
		c.printSessions(&all)
	}
	return status
}

func (c *call) printSessions(all *gateway.Sessions) {
	rows := [][]string{{"gateway", "connection", "as", "way", "state", "age", "idle", "left", "forth", "back", "rules"}}
	for i := range all.Sessions {
		s := &all.Sessions[i]
		out := s.OutZone
		if s.Out == "" {
			out = "itself"
		}
		var rules []string
		for _, rule := range []string{s.Redirect + originText(s.Mapping), s.Permit, s.Source} {
			if rule != "" && !slices.Contains(rules, rule) {
				rules = append(rules, rule)
			}
		}
		rows = append(rows, []string{
			s.Gateway, askedText(&s.Before), asText(&s.Before, &s.After), s.InZone + ">" + out, s.State,
			spanText(s.Age), spanText(s.Idle), spanText(s.Left), countText(s.Forth), countText(s.Back), strings.Join(rules, ", "),
		})
	}
	if len(all.Sessions) > 0 {
		c.printFitted(rows, []string{"age", "idle", "left", "forth", "back"},
			form{[]string{"gateway", "connection", "state", "age", "idle", "left", "forth", "back"}, "connection", sessionText},
			form{[]string{"gateway", "connection", "state"}, "connection", func(row []string) string {
				return fmt.Sprintf("%s, %s old, idle %s, %s left, forth %s, back %s", sessionText(row), row[5], row[6], row[7], row[8], row[9])
			}})
	}
	switch more := all.Count - len(all.Sessions); {
	case all.Count == 0:
		fmt.Fprintln(c.Out, "no session matches")
	case more > 0:
		fmt.Fprintf(c.Out, "\n%s, of which these carried most; -top %d lists all\n", count(all.Count, "session"), all.Count)
	default:
		fmt.Fprintf(c.Out, "\n%s\n", count(all.Count, "session"))
	}
}

// sessionText says in words what stands in the columns of a session that are not above.
func sessionText(row []string) string {
	text := "as " + row[2]
	if row[2] == "=" {
		text = "untranslated"
	}
	text += ", " + strings.Replace(row[3], ">", " to ", 1)
	if rules := row[10]; rules != "" {
		text += ", by " + rules
	}
	return text
}

// printColumns writes rows in columns, a line each, however long; the first row is their heads. Columns
// of numbers, named by theirs, stand to the right.
func (c *call) printColumns(rows [][]string, numbers ...string) {
	widths := make([]int, len(rows[0]))
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], len([]rune(cell)))
		}
	}
	for _, row := range rows {
		line := ""
		for i, cell := range row {
			width := -widths[i]
			if slices.Contains(numbers, rows[0][i]) {
				width = widths[i]
			}
			line += fmt.Sprintf("%*s  ", width, cell)
		}
		fmt.Fprintln(c.Out, strings.TrimRight(line, " "))
	}
}

// askedText writes a packet as trace is asked for it: FROM TO SERVICE.
func askedText(p *gateway.Packet) string {
	h, err := p.Header()
	if err != nil {
		return "?"
	}
	return fmt.Sprintf("%s %s %s", h.From(), h.Destination, h.Service())
}

// asText writes what of a packet was translated: source and destination, = for what stayed.
func asText(before, after *gateway.Packet) string {
	b, err1 := before.Header()
	a, err2 := after.Header()
	if err1 != nil || err2 != nil || a == b {
		return "="
	}
	from, to := a.From(), a.To()
	if from == b.From() {
		from = "="
	}
	if to == b.To() {
		to = "="
	}
	return from + " " + to
}

// connectionText writes a connection and what was translated of it.
func connectionText(before, after *gateway.Packet) string {
	text := askedText(before)
	if after != nil {
		if as := asText(before, after); as != "=" {
			text += " as " + as
		}
	}
	return text
}

// spanText writes seconds for people; what is not known is ?.
func spanText(seconds float64) string {
	if seconds < 0 || math.IsNaN(seconds) {
		return "?"
	}
	d := time.Duration(seconds * float64(time.Second))
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%ds", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%dm%02ds", int(d.Minutes()), int(d.Seconds())%60)
	case d < 48*time.Hour:
		return fmt.Sprintf("%dh%02dm", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%dd", int(d.Hours()/24))
}

// countText writes packets and bytes.
func countText(n gateway.Count) string {
	return fmt.Sprintf("%d/%s", n.Packets, bytesText(n.Bytes))
}

// bytesText writes bytes with a prefix of the SI, in steps of 1000.
func bytesText(n int64) string {
	units := []string{"B", "kB", "MB", "GB", "TB", "PB"}
	size, unit := float64(n), 0
	for size >= 999.5 && unit < len(units)-1 {
		size, unit = size/1000, unit+1
	}
	if unit > 0 && size < 9.95 {
		return fmt.Sprintf("%.1f%s", size, units[unit])
	}
	return fmt.Sprintf("%.0f%s", size, units[unit])
}

// watched does something once, or, with -watch, anew every second on a cleared screen.
func (c *call) watched(watch bool, show func() int) int {
	if !watch {
		return show()
	}
	ctx, stop := untilInterrupt()
	defer stop()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		if c.Color {
			steer(c.Out, clearScreen)
		}
		status := show()
		if !c.Color && !c.json {
			fmt.Fprintln(c.Out)
		}
		if c.flush() != nil || status == wrong {
			return status
		}
		select {
		case <-ctx.Done():
			return yes
		case <-tick.C:
		}
	}
}
