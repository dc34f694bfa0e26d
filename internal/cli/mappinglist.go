package cli

import (
	"context"
	"fmt"
	"net/netip"
	"strings"

	"hollowbridge/core/network"
	"hollowbridge/internal/gateway"
)

func (c *mappingCall) listMappings() int {
	if c.isAddress() {
		if c.options.watch {
			return c.misused("-watch is for administrators: name a gateway of the network file")
		}
		return c.listAsClient()
	}
	list := c.asAdministrator()
	if list == nil {
		return wrong
	}
	return c.watched(c.options.watch, func() int { return c.showGranted(list) })
}

func (c *call) showGranted(list []*gateway.Client) int {
	n := c.network()
	answers, failures := askAll(list, func(g *gateway.Client) (gateway.Mappings, error) { return g.Mappings(context.Background()) })
	all := gateway.Mappings{Mappings: []gateway.Mapping{}, Waiting: []gateway.Wish{}, Blocked: []gateway.BlockedMachine{}}
	for i := range answers {
		all.Mappings = append(all.Mappings, answers[i].Mappings...)
		all.Waiting = append(all.Waiting, answers[i].Waiting...)
		all.Blocked = append(all.Blocked, answers[i].Blocked...)
	}
	status := c.sayFailures(failures)
	if c.json {
		c.printJSON(all)
		return status
	}
	rows := [][]string{{"gateway", "mapping", "at", "to", "asked for by", "by", "left", "for", "says"}}
	for _, m := range all.Mappings {
		rows = append(rows, []string{m.Gateway, m.Name, m.Outside.Addr().String(), m.Inside.String(), machineName(n, m.Owner), m.By, spanText(m.Left), sendersText(&m), m.Text})
	}
	if len(rows) > 1 {
		c.printColumns(rows, "left")
	} else if status == yes {
		fmt.Fprintln(c.Out, "no program has a mapping")
	}
	if len(all.Waiting) > 0 {
		fmt.Fprintln(c.Out)
		rows = [][]string{{"gateway", "waits", "asked for by", "by", "for", "since", "gives up in"}}
		for _, w := range all.Waiting {
			rows = append(rows, []string{w.Gateway, fmt.Sprint(w.Number), machineName(n, w.Asker), w.By, wishText(n, &w), spanText(c.Now().Sub(w.Since).Seconds()), spanText(w.Until.Sub(c.Now()).Seconds())})
		}
		c.printColumns(rows, "waits", "since", "gives up in")
	}
	if len(all.Blocked) > 0 {
		fmt.Fprintln(c.Out)
		rows = [][]string{{"gateway", "blocked", "told by", "by", "still for"}}
		for _, b := range all.Blocked {
			left := "until unblock"
			if b.Until != nil {
				left = spanText(b.Until.Sub(c.Now()).Seconds())
			}
			var machines []string
			for _, a := range b.Addresses {
				machines = append(machines, machineName(n, a))
			}
			rows = append(rows, []string{b.Gateway, strings.Join(machines, ", "), b.Machine, b.Who, left})
		}
		c.printColumns(rows)
	}
	return status
}

// machineName returns a machine's address, with its name where the file knows it.
func machineName(n *network.Network, a netip.Addr) string {
	if n != nil {
		for _, h := range n.Hosts {
			if h.Has(a) {
				return h.Name + " " + a.String()
			}
		}
	}
	return a.String()
}

// originText says in brackets whose a mapping is.
func originText(o *gateway.Origin) string {
	if o == nil {
		return ""
	}
	return fmt.Sprintf(" (%s for %s, %s left)", o.By, o.Owner, spanText(o.Left))
}

func sendersText(m *gateway.Mapping) string {
	if len(m.Senders) == 0 {
		return "everybody"
	}
	var list []string
	for _, s := range m.Senders {
		text := s.From.String()
		if s.From.IsSingleIP() {
			text = s.From.Addr().String()
		}
		if s.Port != 0 {
			text += fmt.Sprintf(" port %d", s.Port)
		}
		list = append(list, text)
	}
	return strings.Join(list, ", ")
}

func wishText(n *network.Network, w *gateway.Wish) string {
	text := fmt.Sprintf("%s/%d", w.Protocol, w.Port)
	if w.Machine != w.Asker {
		text += " of " + machineName(n, w.Machine)
	}
	if w.Outside != 0 {
		text += fmt.Sprintf(" as %d", w.Outside)
	}
	if w.Text != "" {
		text += " (" + w.Text + ")"
	}
	return text
}

func (c *mappingCall) listAsClient() int {
	client, err := c.asClient()
	if err != nil {
		return c.failed(err)
	}
	ctx, stop := untilInterrupt()
	defer stop()
	list, err := client.List(ctx)
	if err != nil {
		return c.refusedMapping(err)
	}
	result := []gotJSON{}
	var rows [][]string
	for i := range list {
		g := &list[i]
		result = append(result, gotOf(g))
		rows = append(rows, []string{fmt.Sprintf("%s/%d", g.Protocol, g.Outside.Port()), g.Outside.String() + " -> " + g.Inside.String(), spanText(g.Lifetime.Seconds()), g.Text})
	}
	switch {
	case c.json:
		c.printJSON(map[string]any{"mappings": result})
	case len(rows) == 0:
		fmt.Fprintf(c.Out, "%s tells of no mapping of this machine\n", client.Gateway)
	default:
		c.printTable([]string{"mapping", "leads", "left", "says"}, rows)
	}
	return yes
}
