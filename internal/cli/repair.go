package cli

import (
	"fmt"
	"slices"
	"strings"

	"hollowbridge/internal/netfile"
	"hollowbridge/internal/repair"
)

type repairJSON struct {
	Command string   `json:"command"`
	Opens   []string `json:"opens"`
	Others  []string `json:"others"` // whose gateways it would change, where they are another party's
}

// lines says whose the gateways are that it would change, and what it opens.
func (r *repairJSON) lines() []string { return append(slices.Clone(r.Others), r.Opens...) }

// repairEntries says of each repair what it opens.
func (c *call) repairEntries(list []repair.Repair) []repairJSON {
	if len(list) == 0 {
		return nil
	}
	var entries []repairJSON
	for _, r := range list {
		var commands []string
		for _, edit := range r.Edits {
			commands = append(commands, c.typed(netfile.Command(edit)))
		}
		entry := repairJSON{strings.Join(commands, " && "), []string{"too many rules to say what else it opens"}, []string{}}
		for _, g := range r.Others {
			entry.Others = append(entry.Others, fmt.Sprintf("%s belongs to %s, who would have to make this edit", g.Name, g.Owner))
		}
		if r.Compared {
			entry.Opens = differenceLines(r.Names, r.Opens)
		}
		entries = append(entries, entry)
	}
	return entries
}

// commandText writes a command over several lines, so that it can be copied as it is: each
// of several on lines of its own, and what is too long with its rest further in.
func (c *call) commandText(command string, indent int) string {
	var b strings.Builder
	column := 0
	for i, w := range commandWords(command) {
		switch {
		case w == "&&":
			b.WriteString(" && \\\n" + strings.Repeat(" ", indent))
			column = 0
			continue
		case column > 0 && indent+column+len(w)+len(" && \\") >= c.Width:
			b.WriteString(" \\\n" + strings.Repeat(" ", indent+2))
			column = 2
		case i > 0 && column > 0:
			b.WriteByte(' ')
			column++
		}
		b.WriteString(w)
		column += len(w)
	}
	return b.String()
}

// commandWords takes a command apart at spaces outside of quotes; a flag stays with its value.
func commandWords(command string) []string {
	var words []string
	quoted := false
	for part := range strings.SplitSeq(command, " ") {
		last := len(words) - 1
		flag := last >= 0 && strings.HasPrefix(words[last], "-") && !strings.Contains(words[last], " ") && part != "&&" && !strings.HasPrefix(part, "-")
		if quoted || flag {
			words[last] += " " + part
		} else {
			words = append(words, part)
		}
		quoted = quoted != (strings.Count(part, "'")%2 == 1)
	}
	return words
}

func (c *call) printRepairs(list []repairJSON) {
	for i, r := range list {
		label := ""
		if i == 0 {
			label = "repair"
		}
		fmt.Fprintf(c.Out, "  %-8s%d  %s\n", label, i+1, c.commandText(r.Command, 13))
		for _, line := range r.lines() {
			for _, part := range wrap(line, c.Width-16) {
				fmt.Fprintf(c.Out, "               %s\n", part)
			}
		}
	}
}

// applyRepair makes one of the edits that a trace offers.
func (c *traceCall) applyRepair(list []repair.Repair) int {
	number := c.options.repair
	switch {
	case len(list) == 0:
		return c.failed(fmt.Errorf("-repair %d: the trace offers no repair", number))
	case number < 1 || number > len(list):
		return c.failed(fmt.Errorf("-repair %d: the trace offers %s", number, count(len(list), "repair")))
	}
	c.json = false
	return c.edit(func(e *netfile.Editor) error { return e.ApplyAll(list[number-1].Edits) })
}
