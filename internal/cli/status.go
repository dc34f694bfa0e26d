package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hollowbridge/core/network"
	"hollowbridge/internal/gateway"
)

var statusCommand = &command{
	name: "status", arguments: "",
	summary: "says of each running gateway whether all is as it should be",
	help: `Asks the running gateways of the network file, and has a line for each: since when it is up, or that
it is away; the revision in force, by whom and when; until when that is on trial; how many sessions
it has, of how many it has room for; how many events it lost; on what it runs, and its version.
Below stands what has happened to it, and what is not as it should be: a table that somebody else
changed, what its machine has otherwise than the file says, outside addresses that it can't hold, an
apply that is not whole.

Exit status: 0 all is as it should be, 1 something is not, 2 the call or the file is wrong.`,
	examples: []string{"hollowbridge status", "hollowbridge status -gateway rim -json"},
	begin:    func(c *call) task { return &statusCall{call: c} },
}

// A statusCall is a call of status.
type statusCall struct {
	*call
	options struct {
		watch bool
	}
}

func (c *statusCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	c.onlyFlag(set)
	watchFlag(set, &c.options.watch)
}

func (c *statusCall) run() int {
	if len(c.args) > 0 {
		return c.misused("it takes no arguments; -gateway names gateways")
	}
	n := c.network()
	if n == nil {
		return wrong
	}
	list, wrongs, err := c.askable(n)
	if err != nil {
		return c.failed(err)
	}
	return c.watched(c.options.watch, func() int { return c.showStatus(n, list, wrongs) })
}

// A gatewayStatus is what status says of a gateway.
type gatewayStatus struct {
	Gateway  string          `json:"gateway"`
	Away     string          `json:"away"`     // why it does not answer; empty where it does
	Troubles []string        `json:"troubles"` // what is not as it should be
	Remarks  []string        `json:"remarks"`  // what is worth a word besides
	Status   *gateway.Status `json:"status"`   // null where it is away
}

func (c *call) showStatus(n *network.Network, list []*gateway.Client, wrongs map[string]error) int {
	statuses, failures := askAll(list, func(g *gateway.Client) (gateway.Status, error) { return g.Status(context.Background()) })
	var all []gatewayStatus
	for name, why := range wrongs {
		all = append(all, gatewayStatus{name, why.Error(), []string{"it can't be asked: " + strings.TrimPrefix(why.Error(), name+": ")}, []string{}, nil})
	}
	for i, g := range list {
		s := gatewayStatus{Gateway: g.Gateway, Troubles: []string{}, Remarks: []string{}}
		if failures[i] != nil {
			s.Away = failures[i].Error()
			s.Troubles = []string{"it is away: " + strings.TrimPrefix(s.Away, g.Gateway+": ")}
		} else {
			s.Status, s.Troubles, s.Remarks = &statuses[i], troublesOf(&statuses[i]), remarksOn(&statuses[i])
		}
		all = append(all, s)
	}
	slices.SortFunc(all, func(a, b gatewayStatus) int { return n.Called(a.Gateway).Index - n.Called(b.Gateway).Index })
	for _, p := range partialApplies(list, statuses, failures) {
		if len(p.lacks) == 0 || p.State == gateway.Leased {
			continue
		}
		for i := range all {
			if slices.ContainsFunc(p.has, func(g *gateway.Client) bool { return g.Gateway == all[i].Gateway }) {
				all[i].Troubles = append(all[i].Troubles, fmt.Sprintf("the apply by %s at %s is not whole: %s %s not run it; %s",
					p.revision.Author, whenText(p.revision.Time), strings.Join(names(p.lacks), ", "), verb(p.lacks, "does", "do"), c.remedy()))
			}
		}
	}
	troubles := 0
	for i := range all {
		troubles += len(all[i].Troubles)
	}
	if c.json {
		c.printJSON(all)
	} else {
		c.printStatus(all, troubles)
	}
	if troubles > 0 {
		return no
	}
	return yes
}

// troublesOf says what of a gateway that answers is not as it should be.
func troublesOf(s *gateway.Status) []string {
	list := []string{}
	if s.Revision == nil || s.Revision.Empty {
		text := "nothing is in force"
		switch s.Before {
		case "open":
			text += ": its machine forwards everything"
		case "other":
			text += ": the rules of another program are"
		}
		list = append(list, text)
	}
	if s.Table != nil && s.Table.Trouble != "" {
		list = append(list, s.Table.Trouble)
	}
	if s.Outside != nil && s.Outside.Trouble != "" {
		list = append(list, s.Outside.Trouble)
	}
	list = append(list, s.Differs...)
	list = append(list, s.Scarce...)
	if s.Collector != nil && s.Collector.Trouble != "" {
		list = append(list, fmt.Sprintf("events do not get to %s: %s", s.Collector.Address, s.Collector.Trouble))
	}
	if s.Limit > 0 && s.Sessions >= s.Limit {
		list = append(list, fmt.Sprintf("it has no room for more than the %d sessions that it has", s.Sessions))
	}
	return list
}

// remarksOn says what has happened to a gateway, or will.
func remarksOn(s *gateway.Status) []string {
	list := []string{}
	if s.Pending != nil {
		back := fmt.Sprintf("revision %d", s.Pending.Back)
		if s.Pending.Back == 0 {
			back = "nothing in force"
		}
		list = append(list, fmt.Sprintf("on trial until %s, then it goes back to %s; apply -keep keeps it", s.Pending.Until.Local().Format("15:04:05"), back))
	}
	if s.Table != nil && s.Table.Restored > 0 {
		list = append(list, fmt.Sprintf("another program changed its table, which was put back %s since it is up", plural(int(s.Table.Restored), "time", "times")))
	}
	if s.Lost > 0 {
		list = append(list, fmt.Sprintf("there was no room for %s since it is up", plural(int(s.Lost), "event", "events")))
	}
	if s.Working != "" {
		list = append(list, "it "+s.Working)
	}
	return list
}

func (c *call) printStatus(all []gatewayStatus, troubles int) {
	rows := [][]string{{"gateway", "up", "in force", "sessions", "lost", "runs"}}
	remarks := 0
	for _, g := range all {
		s := g.Status
		remarks += len(g.Remarks)
		if s == nil {
			rows = append(rows, []string{g.Gateway, "away", "", "", "", ""})
			continue
		}
		inForce := "nothing"
		if r := s.Revision; r != nil {
			inForce = fmt.Sprintf("%d by %s, %s", r.Number, r.Author, r.Time.Local().Format("2006-01-02 15:04"))
			if r.Empty {
				inForce = "nothing, " + inForce
			}
		}
		sessions := strconv.Itoa(s.Sessions)
		if s.Limit > 0 {
			sessions += fmt.Sprintf(" of %d", s.Limit)
		}
		rows = append(rows, []string{g.Gateway, spanText(c.Now().Sub(s.Since).Seconds()), inForce, sessions, strconv.FormatInt(s.Lost, 10), cmp.Or(s.On, "?") + " " + s.Program})
	}
	c.printColumns(rows, "sessions", "lost")
	if remarks+troubles > 0 {
		fmt.Fprintln(c.Out)
	}
	say := func(name, text string) {
		for i, line := range wrap(text, max(c.Width-len(name)-2, 20)) {
			head := c.bold(name)
			if i > 0 {
				head = strings.Repeat(" ", len(name))
			}
			fmt.Fprintf(c.Out, "%s  %s\n", head, line)
		}
	}
	for _, g := range all {
		for _, text := range slices.Concat(g.Remarks, g.Troubles) {
			say(g.Gateway, text)
		}
	}
	if troubles == 0 {
		fmt.Fprintf(c.Out, "\n%s\n", c.green("all is as it should be"))
		return
	}
	fmt.Fprintf(c.Out, "\n%s\n", c.red(plural(troubles, "thing is not as it should be", "things are not as they should be")))
}
