package cli

import (
	"fmt"
	"io"
	"strings"

	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/repair"
)

type repairJSON struct {
	Command string   `json:"command"`
	Opens   []string `json:"opens"`
}

// repairEntries says of each repair what it opens.
func repairEntries(n *network.Network, list []repair.Repair) []repairJSON {
	if len(list) == 0 {
		return nil
	}
	names := reach.NewNamer(n)
	var entries []repairJSON
	for _, r := range list {
		entry := repairJSON{r.Command, []string{"too many rules to say what else it opens"}}
		if r.Compared {
			entry.Opens = differenceLines(names, r.Opens)
		}
		entries = append(entries, entry)
	}
	return entries
}

func printRepairs(w io.Writer, list []repairJSON) {
	for i, r := range list {
		label := ""
		if i == 0 {
			label = "repair"
		}
		command := strings.Join(wrap(r.Command, widest-17), " \\\n               ")
		fmt.Fprintf(w, "  %-8s%d  %s\n", label, i+1, command)
		for _, line := range r.Opens {
			for _, part := range wrap(line, widest-16) {
				fmt.Fprintf(w, "               %s\n", part)
			}
		}
	}
}

// applyRepair makes one of the edits that a trace offers.
func (c *call) applyRepair(list []repair.Repair) int {
	number := c.options.repair
	switch {
	case len(list) == 0:
		return c.failed(fmt.Errorf("-repair %d: the trace offers no repair", number))
	case number < 1 || number > len(list):
		return c.failed(fmt.Errorf("-repair %d: the trace offers %s", number, count(len(list), "repair")))
	}
	c.options.json = false
	return c.edit(func(e *netfile.Editor) error { return repair.Make(e, list[number-1].Mend) })
}
