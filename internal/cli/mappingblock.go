package cli

import (
	"context"
	"fmt"
	"net/netip"
	"slices"

	"hollowbridge/core/network"
	"hollowbridge/internal/gateway"
)

// blockMachine blocks a machine at the gateways where programs may ask, or lets it ask again.
func (c *mappingCall) blockMachine() int {
	b := gateway.Block{Blocked: c.args[0] == "block", Who: loginName()}
	if c.options.forTime != "" {
		if !b.Blocked {
			return c.misused("-for goes with block")
		}
		lifetime, err := network.ParseLifetime(c.options.forTime)
		if err != nil {
			return c.misused("-for %s", err)
		}
		b.For = lifetime.Seconds()
	}
	list := c.asAdministrator()
	if list == nil {
		return wrong
	}
	n := c.network()
	if h := hostOf(n, c.args[1]); h != nil {
		b.Addresses = h.Addresses
	} else {
		a, err := oneAddress(n, c.args[1])
		if err != nil {
			return c.misused("%s", err)
		}
		b.Addresses = []netip.Addr{a}
	}
	list = slices.DeleteFunc(list, func(g *gateway.Client) bool {
		return n != nil && n.Called(g.Gateway) != nil && n.Called(g.Gateway).Mappings == nil
	})
	if len(list) == 0 {
		return c.misused("no gateway of the network file has mappings")
	}
	_, failures := askAll(list, func(g *gateway.Client) (struct{}, error) { return struct{}{}, g.Block(context.Background(), b) })
	for i, g := range list {
		if failures[i] != nil || c.json {
			continue
		}
		text := "may ask again"
		if b.Blocked {
			text = "is blocked until mapping unblock; what it had is taken away"
			if b.For > 0 {
				text = fmt.Sprintf("is blocked for %s; what it had is taken away", spanText(b.For))
			}
		}
		fmt.Fprintf(c.Out, "%s: %s %s\n", g.Gateway, c.args[1], text)
	}
	return c.sayFailures(failures)
}

func hostOf(n *network.Network, name string) *network.Host {
	if n == nil {
		return nil
	}
	return n.Host(name)
}
