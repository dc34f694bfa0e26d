package cli

import (
	"context"
	"fmt"
	"net/netip"

	"hollowbridge/internal/gateway"
	"hollowbridge/internal/portmap"
)

func (c *mappingCall) removeMapping() int {
	if c.gateway != "" && !c.isAddress() {
		return c.removeAsAdministrator()
	}
	protocol, outside, err := c.mappedService(c.args[1])
	if err != nil {
		return c.misused("%s", err)
	}
	client, err := c.asClient()
	if err != nil {
		return c.failed(err)
	}
	ctx, stop := untilInterrupt()
	defer stop()
	by, a := c.options.by, portmap.Ask{Protocol: protocol, Port: outside, Outside: outside}
	known, ok := c.rememberedMapping(client, protocol, outside)
	if ok {
		a.Port, a.Machine, a.Peer, a.Pinhole = known.Port, known.Machine, known.Peer, known.Pinhole
		if by == "" {
			by = known.By
		}
	}
	if err := client.Remove(ctx, by, a); err != nil {
		return c.refusedMapping(err)
	}
	if ok {
		c.forgetMapping(&portmap.Got{Protocol: protocol, Outside: netip.AddrPortFrom(client.Gateway, outside)})
	}
	switch {
	case c.json:
		c.printJSON(map[string]any{"removed": c.args[1], "known": ok})
	case ok:
		fmt.Fprintf(c.Out, "%s is taken away\n", c.args[1])
	default:
		fmt.Fprintf(c.Out, "this user was granted no %s at %s, as far as is remembered; the gateway agrees that it is not there\n", c.args[1], client.Gateway)
	}
	return yes
}

func (c *mappingCall) removeAsAdministrator() int {
	list := c.asAdministrator()
	if list == nil {
		return wrong
	}
	_, failures := askAll(list, func(g *gateway.Client) (struct{}, error) {
		return struct{}{}, g.RemoveMapping(context.Background(), c.args[1], loginName())
	})
	for i, g := range list {
		if failures[i] == nil && !c.json {
			fmt.Fprintf(c.Out, "%s: %s is taken away\n", g.Gateway, c.args[1])
		}
	}
	return c.sayFailures(failures)
}
