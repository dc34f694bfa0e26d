package cli

import (
	"fmt"
	"strings"

	"hollowbridge/internal/portmap"
)

type foundJSON struct {
	Gateway  string `json:"gateway"`
	By       string `json:"by"`
	External string `json:"external"`
	Is       string `json:"is"` // public, private, carrier, none, or empty where the address is not known
	Epoch    uint32 `json:"epoch"`
	Device   string `json:"device"`
}

func (c *mappingCall) findMappings() int {
	client, err := c.asClient()
	if err != nil {
		return c.failed(err)
	}
	ctx, stop := untilInterrupt()
	defer stop()
	found, failures := client.Find(ctx, c.options.by, c.gateway == "")
	result := []foundJSON{}
	var rows [][]string
	notes := map[string]bool{}
	for _, f := range found {
		is, note := portmap.ExternalIs(f.External)
		result = append(result, foundJSON{f.Gateway.String(), f.By, addressText(f.External), is, f.Epoch, f.Device})
		external := addressText(f.External)
		if external == "" {
			external = "told with a mapping"
		}
		since := ""
		if f.Epoch > 0 {
			since = spanText(float64(f.Epoch))
		}
		rows = append(rows, []string{f.Gateway.String(), f.By, external, is, since, f.Device})
		if note != "" {
			notes[f.External.String()+" "+note] = true
		}
	}
	if c.json {
		c.printJSON(map[string]any{"found": result})
	} else {
		if len(rows) > 0 {
			c.printTable([]string{"gateway", "by", "outside", "", "epoch", "device"}, rows)
		}
		for note := range notes {
			fmt.Fprintf(c.Out, "\n%s\n", strings.Join(wrap(note, c.Width), "\n"))
		}
	}
	for _, err := range splitErrors(failures) {
		fmt.Fprintf(c.Err, "%s\n", err)
	}
	if len(found) == 0 {
		return no
	}
	return yes
}
