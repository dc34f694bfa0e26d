package cli

import (
	"fmt"
	"strings"

	"hollowbridge/core/advice"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/netfile"
)

// A ruleFact is one thing there is to know about a rule.
type ruleFact struct {
	What string `json:"what"`
	Text string `json:"text"`
}

type ruleFactsJSON struct {
	Gateway string     `json:"gateway"`
	Rule    ruleJSON   `json:"rule"`
	Facts   []ruleFact `json:"facts"`
}

// showRule shows everything about the rules of a name.
func (c *call) showRule(n *network.Network, name string) int {
	found := []ruleFactsJSON{}
	var names []string
	for _, g := range n.Gateways {
		for _, r := range g.NAT {
			names = append(names, r.Name)
			if r.Name == name {
				facts := append(commonFacts(&r.Rule, g, len(g.NAT)), c.natFacts(n, g, r)...)
				found = append(found, ruleFactsJSON{g.Name, ruleEntry(&r.Rule, natText(r)), facts})
			}
		}
		for _, r := range g.Filter {
			names = append(names, r.Name)
			if r.Name == name {
				facts := append(commonFacts(&r.Rule, g, len(g.Filter)), filterFacts(g, r)...)
				found = append(found, ruleFactsJSON{g.Name, ruleEntry(&r.Rule, filterText(r)), facts})
			}
		}
	}
	if len(found) == 0 {
		return c.failed(fmt.Errorf("%s: no rule has this name%s", name, netfile.DidYouMean(name, names)))
	}
	if c.json {
		c.printJSON(found)
		return yes
	}
	for i, r := range found {
		if i > 0 {
			fmt.Fprintln(c.Out)
		}
		fmt.Fprintln(c.Out, c.bold(r.Rule.Kind+" "+r.Rule.Name))
		for _, f := range r.Facts {
			for j, line := range wrap(f.Text, c.Width-20) {
				what := f.What
				if j > 0 {
					what = ""
				}
				fmt.Fprintf(c.Out, "  %-16s  %s\n", what, line)
			}
		}
	}
	return yes
}

func commonFacts(r *network.Rule, g *network.Gateway, of int) []ruleFact {
	facts := []ruleFact{
		{"gateway", g.Name},
		{"place", fmt.Sprintf("%s, number %d of %d", r.Place, r.Number, of)},
	}
	state := "active"
	if r.When != nil {
		state = "active " + r.When.Text
	}
	if r.Until != "" {
		state += " until " + string(r.Until)
	}
	switch {
	case r.Disabled:
		state = "disabled: it takes no part"
	case r.Expired:
		state = "over: it was for the time until " + string(r.Until) + ", and takes no part"
	}
	facts = append(facts, ruleFact{"state", state})
	if r.Owner != "" {
		facts = append(facts, ruleFact{"owner", r.Owner})
	}
	if r.Note != "" {
		facts = append(facts, ruleFact{"note", r.Note})
	}
	if r.Log {
		text := "yes"
		if !g.Logging.Enabled {
			text = "asked for, but the logging of " + g.Name + " is off"
		}
		facts = append(facts, ruleFact{"logged", text})
	}
	return facts
}

func (c *call) natFacts(n *network.Network, g *network.Gateway, r *network.NATRule) []ruleFact {
	facts := []ruleFact{{"does", natText(r)}}
	if r.Does != network.PortForward && r.Does != network.DestinationNAT {
		return facts
	}
	for _, m := range r.Ports {
		if m.Protocol.HasPorts() && m.ToFirst != m.Ports.First {
			last := m.ToFirst + (m.Ports.Last - m.Ports.First)
			facts = append(facts, ruleFact{"port", fmt.Sprintf("%s/%s becomes %d-%d", m.Protocol, m.Ports, m.ToFirst, last)})
			if m.ToFirst == last {
				facts[len(facts)-1].Text = fmt.Sprintf("%s/%s becomes %d", m.Protocol, m.Ports, m.ToFirst)
			}
		}
	}
	if !r.From.IsAny() {
		facts = append(facts, ruleFact{"who may use it", r.From.Text + ": " + r.From.Addresses().String()})
	}
	permission := advice.PermissionFor(g, r)
	text := fmt.Sprintf("a filter rule as well: from %s to %s, %s", permission.From, permission.To, permission.Service)
	if permission.Redirected {
		text += ", redirected"
	}
	if g.Handling.ForwardsPermit {
		text = "nothing else: on this gateway a forward brings its own permission"
	}
	facts = append(facts, ruleFact{"needs", text})
	e := walk.Compile(n, nil)
	if connection, ok := advice.Sample(e, r, n.Now); ok {
		t := words.TraceOf(e.NewWalk(), connection)
		text := fmt.Sprintf("%s -> %s %s: %s", connection.Packet.From(), connection.Packet.To(), connection.Packet.Protocol, c.verdictLine(t))
		facts = append(facts, ruleFact{"traced", text})
	}
	return facts
}

func filterFacts(g *network.Gateway, r *network.FilterRule) []ruleFact {
	facts := []ruleFact{{"says", string(r.Verb) + " " + filterText(r)}}
	if !r.From.IsAny() {
		facts = append(facts, ruleFact{"from", sideText(r.From, "came in by")})
	}
	if !r.To.IsAny() {
		facts = append(facts, ruleFact{"to", sideText(r.To, "leaves by")})
	}
	if len(r.Services) > 0 {
		facts = append(facts, ruleFact{"services", foldedServices(r.Services)})
	}
	sees := "as translated"
	if g.Handling.FilterSeesOriginal {
		sees = "as it came in"
	}
	return append(facts, ruleFact{"destination", "compared " + sees})
}

// sideText writes out what an expression stands for in a filter rule.
func sideText(e network.Expression, zone string) string {
	if zones := e.Zones(); len(zones) > 0 {
		return fmt.Sprintf("%s (%s an interface of zone %s)", e.Text, zone, strings.Join(zones, ", "))
	}
	if addresses := e.Addresses().String(); addresses != e.Text {
		return e.Text + ": " + addresses
	}
	return e.Text
}
