package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/netfile"
)

func (c *mappingCall) tryMapping() int {
	protocol, port, err := c.mappedService(c.args[1])
	if err != nil {
		return c.misused("%s", err)
	}
	lifetime, err := network.ParseLifetime(cmp.Or(c.options.forTime, usualLifetime))
	if err != nil {
		return c.misused("-for %s", err)
	}
	if c.options.exact && c.options.wished == 0 {
		return c.misused("-exact goes with -outside PORT")
	}
	if c.options.asker == "" {
		return c.misused("try needs -as MACHINE, who would ask")
	}
	list := c.asAdministrator()
	if list == nil {
		return wrong
	}
	n := c.network()
	asker, err := oneAddress(n, c.options.asker)
	if err != nil {
		return c.misused("-as %s", err)
	}
	trial := gateway.MappingTrial{By: c.options.by, Asker: asker, Protocol: protocol.String(), Port: port, Outside: uint16(c.options.wished), Exact: c.options.exact, Lifetime: lifetime.Seconds()}
	if c.options.machine != "" {
		if trial.Machine, err = oneAddress(n, c.options.machine); err != nil {
			return c.misused("-machine %s", err)
		}
	}
	type tried struct {
		Gateway string `json:"gateway"`
		By      string `json:"by"`
		gateway.MappingVerdict
	}
	results := []tried{}
	status := no
	for _, g := range list {
		own := n.Called(g.Gateway)
		if own == nil || own.Mappings == nil {
			continue
		}
		for _, by := range own.Mappings.Protocols {
			if c.options.by != "" && by != c.options.by {
				continue
			}
			trial.By = by
			verdict, err := g.TryMapping(context.Background(), trial)
			if err != nil {
				return c.failed(err)
			}
			results = append(results, tried{g.Gateway, by, verdict})
			if verdict.Granted {
				status = yes
			}
		}
	}
	if c.json {
		c.printJSON(map[string]any{"tried": results})
		return status
	}
	if len(results) == 0 {
		fmt.Fprintln(c.Out, "no gateway lets programs ask for mappings that way")
		return no
	}
	var rows [][]string
	for _, t := range results {
		what, line := "refused: "+t.Why, ""
		if t.Granted {
			what = fmt.Sprintf("granted: %s for %s", t.Outside, spanText(t.Lifetime))
		}
		if t.Asks {
			what = "waits for an administrator, then " + what
		}
		if t.Line > 0 {
			line = fmt.Sprintf("line %d", t.Line)
		}
		rows = append(rows, []string{t.Gateway, t.By, what, line})
	}
	c.printTable([]string{"gateway", "by", fmt.Sprintf("%s for %s", machineName(n, asker), header.ServiceAt(protocol, port)), "rule"}, rows)
	return status
}

// oneAddress reads a host or an address.
func oneAddress(n *network.Network, text string) (netip.Addr, error) {
	if n != nil {
		if h := n.Host(text); h != nil {
			return h.Addresses[0], nil
		}
	}
	a, err := header.ParseAddress(text)
	if err != nil && n != nil {
		var names []string
		for _, h := range n.Hosts {
			names = append(names, h.Name)
		}
		return a, fmt.Errorf("%s: neither a host nor an address%s", text, netfile.DidYouMean(text, names))
	}
	return a, err
}
