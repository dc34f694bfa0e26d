package cli

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/netfile"
)

var historyCommand = &command{
	name: "history", arguments: "[NUMBER]",
	summary: "lists what was applied to the gateways, when and by whom",
	help: `Lists the revisions of the running gateways, the latest first: when, by whom, with which note, and
how many lines of the file were added and removed. NUMBER shows one: what it opened and closed
against the one before; with -text the network file as it was, and its lists as comments behind it.

GATEWAY@NUMBER, as rim@3, stands for a revision wherever compare or trace -f want a file; rim@ for
the one in force.`,
	begin: func(c *call) task { return &historyCall{call: c} },
}

// A historyCall is a call of history.
type historyCall struct {
	*call
	options struct {
		text bool
	}
}

func (c *historyCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	c.onlyFlag(set)
	set.BoolVar(&c.options.text, "text", false, "with NUMBER, print the network file as it was, and its lists")
}

var revertCommand = &command{
	name: "revert", arguments: "[NUMBER]",
	summary: "puts an earlier revision into force again",
	help: `Applies the network that was in force as revision NUMBER again, or, without one, the one before that
is in force now. Everything is as in apply: what it opens and closes, what it interrupts, all
gateways or none. The network file itself stays as it is; history prints what was.

Exit status: as apply.`,
	begin: func(c *call) task { return &revertCall{call: c} },
}

// A revertCall is a call of revert.
type revertCall struct {
	*call
	options applyOptions
}

func (c *revertCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	c.options.flags(c.call, set)
}

// revisionNumber reads the one argument of a command that takes a revision; 0 where there is none.
func (c *call) revisionNumber() (int, bool) {
	if len(c.args) == 0 {
		return 0, true
	}
	n, err := strconv.Atoi(c.args[0])
	if len(c.args) > 1 || err != nil || n < 1 {
		c.misused("it takes the number of a revision, from 1 on")
		return 0, false
	}
	return n, true
}

func (c *historyCall) run() int {
	number, ok := c.revisionNumber()
	if !ok {
		return wrong
	}
	list := c.running()
	if list == nil {
		return wrong
	}
	if number > 0 {
		return c.showRevision(list, number)
	}
	histories, failures := askAll(list, func(g *gateway.Client) (h historyJSON, err error) {
		h.Gateway = g.Gateway
		if h.Revisions, err = g.Revisions(context.Background()); err != nil {
			return h, err
		}
		status, err := g.Status(context.Background())
		h.Pending = status.Pending
		return h, err
	})
	if c.json {
		result := []historyJSON{}
		for i, h := range histories {
			if failures[i] == nil {
				result = append(result, h)
			}
		}
		c.printJSON(result)
		return c.sayFailures(failures)
	}
	for i, h := range histories {
		if failures[i] == nil {
			c.printHistory(h)
		}
	}
	return c.sayFailures(failures)
}

type historyJSON struct {
	Gateway   string             `json:"gateway"`
	Pending   *gateway.Pending   `json:"pending"`
	Revisions []gateway.Revision `json:"revisions"`
}

func (c *call) printHistory(h historyJSON) {
	if len(h.Revisions) == 0 {
		fmt.Fprintf(c.Out, "%s: nothing was applied yet\n", h.Gateway)
		return
	}
	fmt.Fprintln(c.Out, c.bold(h.Gateway))
	var rows [][]string
	for i, r := range h.Revisions {
		number := strconv.Itoa(r.Number)
		if i == 0 {
			number += " *"
		}
		size := fmt.Sprintf("+%d -%d", r.Added, r.Removed)
		if r.Empty {
			size = "empty"
		}
		note := r.Note
		if i == 0 && h.Pending != nil {
			more := "; goes back at " + h.Pending.Until.Local().Format("15:04:05")
			if r.Applied != nil && r.Applied.State == gateway.Leased {
				more += " unless all of " + strings.Join(r.Applied.Gateways, ", ") + " have it"
			}
			note = strings.TrimPrefix(note+more, "; ")
		}
		rows = append(rows, []string{number, whenText(r.Time), r.Author, size, r.Fate, note})
	}
	heads := []string{"revision", "time", "author", "lines", "fate", "note"}
	if !slices.ContainsFunc(h.Revisions, func(r gateway.Revision) bool { return r.Fate != "" }) { // none was to go back
		heads = slices.Delete(heads, 4, 5)
		for i := range rows {
			rows[i] = slices.Delete(rows[i], 4, 5)
		}
	}
	c.printTable(heads, rows)
}

// whenText writes a time of the past for people.
func whenText(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

// showRevision shows one revision of the gateways that have it.
func (c *historyCall) showRevision(list []*gateway.Client, number int) int {
	type pair struct{ this, before gateway.Revision }
	pairs, failures := askAll(list, func(g *gateway.Client) (p pair, err error) {
		if p.this, err = g.Revision(context.Background(), number); err == nil && number > 1 {
			p.before, err = g.Revision(context.Background(), number-1)
		}
		return p, err
	})
	if c.json {
		var result []gateway.Revision
		for i, p := range pairs {
			if failures[i] == nil {
				result = append(result, p.this)
			}
		}
		c.printJSON(result)
		return c.sayFailures(failures)
	}
	for i, p := range pairs {
		switch {
		case failures[i] != nil:
		case c.options.text && p.this.Bundle != nil:
			fmt.Fprint(c.asFile(), withLists(p.this.Bundle))
			return c.sayFailures(failures)
		default:
			c.printRevision(list[i].Gateway, &p.this, &p.before)
		}
	}
	return c.sayFailures(failures)
}

// withLists returns the text of a network file, and behind it, as comments, the lists that it had.
func withLists(b *netfile.Bundle) string {
	var text strings.Builder
	text.WriteString(b.Text)
	if len(b.Lists) > 0 && !strings.HasSuffix(b.Text, "\n") {
		text.WriteString("\n")
	}
	for _, name := range slices.Sorted(maps.Keys(b.Lists)) {
		text.WriteString("\n# " + name + "\n")
		for line := range strings.Lines(b.Lists[name]) {
			text.WriteString("#   " + strings.TrimRight(line, "\r\n") + "\n")
		}
	}
	return text.String()
}

func (c *call) printRevision(name string, r, before *gateway.Revision) {
	fmt.Fprintf(c.Out, "%s@%d  %s, by %s\n", name, r.Number, whenText(r.Time), r.Author)
	if r.Note != "" {
		fmt.Fprintf(c.Out, "  %s\n", r.Note)
	}
	if r.Bundle == nil {
		fmt.Fprintln(c.Out, "  nothing in force")
		return
	}
	fmt.Fprintf(c.Out, "  %s added, %s removed\n", count(r.Added, "line"), count(r.Removed, "line"))
	if before.Bundle == nil {
		return
	}
	old, err1 := networkOf(name, before)
	new, err2 := networkOf(name, r)
	if err1 != nil || err2 != nil {
		return
	}
	found, err := reach.Differences(walk.Compile(old, nil), walk.Compile(new, nil), network.Times{}, false)
	if err != nil {
		fmt.Fprintln(c.Out, "  "+entangled(err, ""))
		return
	}
	for _, line := range differenceLines(reach.NewNamer(new), found) {
		fmt.Fprintf(c.Out, "  %s\n", strings.Join(wrap(line, c.Width-2), "\n          "))
	}
}

// networkOf returns the network of a revision.
func networkOf(name string, r *gateway.Revision) (*network.Network, error) {
	r.Bundle.File = fmt.Sprintf("%s@%d", name, r.Number)
	return r.Bundle.Network()
}

func (c *revertCall) run() int {
	number, ok := c.revisionNumber()
	if !ok {
		return wrong
	}
	file := c.network()
	if file == nil {
		return wrong
	}
	list, err := c.clients(file)
	if err != nil {
		return c.failed(err)
	}
	ctx := context.Background()
	if number == 0 {
		now, err := list[0].Status(ctx)
		if err != nil {
			return c.failed(err)
		}
		if now.Revision == nil || now.Revision.Number < 2 {
			return c.failed(fmt.Errorf("%s has no earlier revision to go back to", list[0].Gateway))
		}
		number = now.Revision.Number - 1
	}
	r, err := list[0].Revision(ctx, number)
	if err != nil {
		return c.failed(err)
	}
	if r.Bundle == nil {
		return c.failed(fmt.Errorf("%s@%d: nothing was in force then", list[0].Gateway, number))
	}
	n, err := networkOf(list[0].Gateway, &r)
	if err != nil {
		return c.readFailed(err)
	}
	return c.apply(&c.options, r.Bundle, n, file, fmt.Sprintf("back to %d", number))
}
