package cli

import (
	"context"
	"fmt"
	"net/netip"
	"strconv"

	"hollowbridge/core/network"
	"hollowbridge/internal/gateway"
)

// mostAddresses is how many addresses of a rule are listed.
const mostAddresses = 20

// listPools prints what the source-nat rules of running gateways have of their ports.
func (c *call) listPools(list []*gateway.Client) int {
	found, failures := askAll(list, func(g *gateway.Client) (gateway.Pools, error) { return g.Pools(context.Background()) })
	if c.json {
		result := map[string]gateway.Pools{}
		for i, g := range list {
			if failures[i] == nil {
				result[g.Gateway] = found[i]
			}
		}
		c.printJSON(result)
		return c.sayFailures(failures)
	}
	first := true
	for i, g := range list {
		if failures[i] == nil && len(found[i].Pools) == 0 {
			c.say("%s hides no source", g.Gateway)
		}
		for k := range found[i].Pools {
			if !first {
				fmt.Fprintln(c.Out)
			}
			first = false
			c.printPool(g.Gateway, &found[i].Pools[k])
		}
	}
	return c.sayFailures(failures)
}

func (c *call) printPool(name string, p *gateway.Pool) {
	head := fmt.Sprintf("%s, source-nat %s: as %s, ports %d-%d", name, p.Rule, p.As, p.First, p.Last)
	if p.Exhausted > 0 {
		head += c.red("; exhausted " + plural(int(p.Exhausted), "time", "times"))
	}
	c.say("%s", head)
	var rows [][]string
	for i, a := range p.Addresses {
		if i == mostAddresses {
			break
		}
		by := fmt.Sprintf("%s (%d)", a.By, a.ByPorts)
		rows = append(rows, []string{a.Address.String(), a.Protocol, strconv.Itoa(a.Used), strconv.Itoa(a.Left), destinationText(a.Destination), by})
	}
	if len(rows) == 0 {
		fmt.Fprintln(c.Out, "  no port of it is taken")
		return
	}
	c.printTable([]string{"address", "protocol", "taken", "left", "to", "most by"}, rows)
	if more := len(p.Addresses) - len(rows); more > 0 {
		fmt.Fprintf(c.Out, "and %d more; -json lists up to 1000\n", more)
	}
	for _, t := range p.Taken {
		taken := network.PortsTaken{Family: t.Family, Protocol: t.Protocol, To: t.Destination, Used: t.Used, Of: t.Of}
		if taken.IsNearlyFull() {
			fmt.Fprintln(c.Out, c.red("nearly full: "+taken.String()))
		}
	}
}

// destinationText says for which destination ports are taken.
func destinationText(a netip.AddrPort) string {
	if !a.IsValid() {
		return "anywhere"
	}
	return a.String()
}
