package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"slices"
	"strconv"
	"time"

	"hollowbridge/internal/gateway"
)

var hitsCommand = &command{
	name:    "hits",
	summary: "shows what each rule did: connections, packets, bytes, and when last",
	help: `Shows for each rule of the running gateways, in their order: how many connections it had a part in,
how many of them are sessions now, how many a later step stopped, how many packets and bytes went
forth and back, and when it was hit last. Rules that were never hit are marked, so that old ones
are found. A rule is known by its name: counting goes on over restarts, revisions and moves.

-pools shows instead how many outside ports of each source-nat rule are taken and left, by address
and protocol, who has most of them, and how often none was left. Where a port can be given again to
connections that go elsewhere, those to the destination with most are counted.

-top N shows the N that were hit most. -reset makes all rules count from nothing.`,
	begin: func(c *call) task { return &hitsCall{call: c} },
}

// A hitsCall is a call of hits.
type hitsCall struct {
	*call
	options struct {
		top                        int
		never, pools, reset, watch bool
	}
}

func (c *hitsCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	c.onlyFlag(set)
	set.IntVar(&c.options.top, "top", 0, "only this `NUMBER` of rules of each gateway, those that were hit most")
	set.BoolVar(&c.options.never, "never", false, "only rules that were never hit")
	set.BoolVar(&c.options.pools, "pools", false, "the outside ports of source-nat rules instead")
	set.BoolVar(&c.options.reset, "reset", false, "count from nothing")
	watchFlag(set, &c.options.watch)
}

func (c *hitsCall) run() int {
	o := &c.options
	switch {
	case len(c.args) > 0:
		return c.misused("%s: not expected", c.args[0])
	case o.top < 0:
		return c.misused("-top %d: at least 1", o.top)
	case o.pools && (o.never || o.reset || o.top > 0):
		return c.misused("-pools goes with -gateway, -json and -watch alone")
	case o.reset && (o.watch || o.never || o.top > 0):
		return c.misused("-reset goes with no other flag but -gateway")
	}
	list := c.running()
	if list == nil {
		return wrong
	}
	if o.reset {
		_, failures := askAll(list, func(g *gateway.Client) (struct{}, error) { return struct{}{}, g.ResetHits(context.Background()) })
		for i, g := range list {
			if failures[i] == nil {
				fmt.Fprintf(c.Out, "%s counts from nothing\n", g.Gateway)
			}
		}
		return c.sayFailures(failures)
	}
	if o.pools {
		return c.watched(c.options.watch, func() int { return c.listPools(list) })
	}
	return c.watched(c.options.watch, func() int { return c.listHits(list) })
}

func (c *hitsCall) listHits(list []*gateway.Client) int {
	found, failures := askAll(list, func(g *gateway.Client) (gateway.Hits, error) { return g.Hits(context.Background()) })
	for i := range found {
		h := &found[i]
		if c.options.never {
			h.Hits = slices.DeleteFunc(h.Hits, func(h gateway.Hit) bool { return h.Connections > 0 })
		}
		if most := c.options.top; most > 0 {
			slices.SortStableFunc(h.Hits, func(a, b gateway.Hit) int { return cmp.Compare(b.Connections, a.Connections) })
			h.Hits = h.Hits[:min(most, len(h.Hits))]
		}
	}
	if c.json {
		result := map[string]gateway.Hits{}
		for i, g := range list {
			if failures[i] == nil {
				result[g.Gateway] = found[i]
			}
		}
		c.printJSON(result)
		return c.sayFailures(failures)
	}
	for i, g := range list {
		if failures[i] == nil {
			if i > 0 {
				fmt.Fprintln(c.Out)
			}
			c.printHits(g.Gateway, &found[i])
		}
	}
	return c.sayFailures(failures)
}

func (c *call) printHits(name string, h *gateway.Hits) {
	rows := [][]string{{"list", "place", "rule", "connections", "now", "stopped", "forth", "back", "last"}}
	never, unseen := 0, map[string]int64{}
	for i := range h.Hits {
		hit := &h.Hits[i]
		place, rule := strconv.Itoa(hit.Place), hit.Kind+" "+hit.Rule
		switch {
		case hit.Place == 0:
			place = "-"
			rule += originText(hit.Mapping)
			if hit.Kind == "" {
				rule = hit.Rule + " (no more)"
			}
		case hit.Disabled:
			rule += " (disabled)"
		}
		last := c.red("never")
		if hit.Last != nil && hit.Connections > 0 {
			last = spanText(c.Now().Sub(*hit.Last).Seconds()) + " ago"
		} else {
			never++
		}
		stopped := strconv.FormatInt(hit.Stopped, 10)
		if hit.Unseen > 0 {
			stopped = "?"
			unseen[hit.List] += hit.Unseen
		}
		rows = append(rows, []string{
			hit.List, place, rule, strconv.FormatInt(hit.Connections, 10), strconv.FormatInt(hit.Open, 10), stopped,
			countText(hit.Forth), countText(hit.Back), last,
		})
	}
	fmt.Fprintf(c.Out, "%s, since %s\n", c.bold(name), h.Since.Local().Format(time.DateTime))
	c.printFitted(rows, []string{"place", "connections", "now", "stopped", "forth", "back"},
		form{[]string{"list", "place", "rule", "connections", "now", "stopped", "last"}, "rule", func(row []string) string {
			return fmt.Sprintf("forth %s, back %s", row[6], row[7])
		}},
		form{[]string{"place", "rule", "connections", "last"}, "rule", func(row []string) string {
			return fmt.Sprintf("%s, %s now, %s stopped, forth %s, back %s", row[0], row[4], row[5], row[6], row[7])
		}})
	fmt.Fprintf(c.Out, "\n%s, %d never hit\n", count(len(h.Hits), "rule"), never)
	if n := max(unseen["nat"], unseen["filter"]); n > 0 { // most are of both lists
		c.say("%s came faster than they were read: they are counted, but how many of them a later step stopped (?) is not known, and what they carried may lack.", count(int(n), "connection"))
	}
}
