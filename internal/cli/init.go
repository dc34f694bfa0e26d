package cli

import (
	"flag"
	"fmt"
	"net/netip"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/internal/netfile"
)

var initCommand = &command{
	name: "init", arguments: "NAME",
	summary: "starts a network file",
	help: `Writes a network file with one gateway: its outside address, the next hop to the internet, and
its inside addresses. NAME is the network's. An address is written as INTERFACE=ADDRESS/BITS, or
ADDRESS/BITS alone; dynamic in place of an outside address where the provider gives it. The file
opens nothing: forwards and filter rules are added with add. An existing file is never
overwritten.

-here writes the file of this machine: its own interfaces, addresses and routes, as the kernel has
them. What the default route leaves by is in the zone outside, every other interface in one of its
name.`,
	examples: []string{
		"hollowbridge init cottage -f cottage.yaml -outside fibre=198.51.100.18/29 -via 198.51.100.17 -inside yard=10.61.24.1/28",
	},
	begin: func(c *call) task { return &initCall{call: c} },
}

// A initCall is a call of init.
type initCall struct {
	*call
	options struct {
		here                 bool
		outside, inside, via repeated
	}
}

func (c *initCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	set.BoolVar(&c.dryRun, "dry-run", false, "show the file and write nothing")
	set.BoolVar(&c.options.here, "here", false, "of this machine's own interfaces, addresses and routes")
	set.StringVar(&c.gateway, "gateway", "rim", "the name of the `GATEWAY`")
	set.Var(&c.options.outside, "outside", "an outside `ADDRESS` of the gateway, with its interface; repeatable")
	set.Var(&c.options.via, "via", "the next hop to the internet, an `ADDRESS`; the first one beside -outside where absent; repeatable")
	set.Var(&c.options.inside, "inside", "an inside `ADDRESS` of the gateway, with its interface; repeatable")
}

func (c *initCall) run() int {
	if len(c.args) != 1 {
		return c.misused("it needs the network's NAME")
	}
	given := len(c.options.outside) + len(c.options.inside) + len(c.options.via)
	var text string
	var err error
	switch {
	case c.options.here && given > 0:
		return c.misused("-here takes all from this machine; -outside, -inside and -via don't go with it")
	case c.options.here:
		if text, err = c.fileHere(c.args[0]); err != nil {
			return c.failed(err)
		}
	case len(c.options.outside) == 0 || len(c.options.inside) == 0:
		return c.misused("it needs -outside and -inside, or -here")
	default:
		if text, err = c.starterFile(); err != nil {
			return c.misused("%s", err)
		}
	}
	e, err := netfile.Create(c.path())
	if err != nil {
		return c.failed(err)
	}
	defer e.Close()
	return c.finish(e, e.Write(text))
}

// A starter interface collects the addresses given for one name.
type starterInterface struct {
	name, zone string
	addresses  []string
}

func (c *initCall) starterFile() (string, error) {
	var interfaces []*starterInterface
	add := func(text, otherwise, zone string) (netip.Prefix, error) {
		name, address, found := strings.Cut(text, "=")
		if !found {
			name, address = otherwise, text
		}
		p, err := header.ParsePrefix(address)
		if err != nil && !(address == "dynamic" && zone != "") {
			return p, err
		}
		if zone == "" {
			zone = name
		}
		for _, i := range interfaces {
			if i.name == name {
				i.addresses = append(i.addresses, address)
				return p, nil
			}
		}
		interfaces = append(interfaces, &starterInterface{name, zone, []string{address}})
		return p, nil
	}
	hops := c.options.via
	for _, text := range c.options.outside {
		p, err := add(text, "uplink", "outside")
		if err != nil {
			return "", fmt.Errorf("-outside: %w", err)
		}
		if name, isDynamic := strings.CutSuffix(text, "=dynamic"); isDynamic || text == "dynamic" { // the provider gives the router too
			if !isDynamic {
				name = "uplink"
			}
			hops = append(hops, name)
			continue
		}
		if len(c.options.via) == 0 {
			hop := p.Masked().Addr().Next()
			if hop == p.Addr() {
				hop = hop.Next()
			}
			hops = append(hops, hop.String())
		}
	}
	for _, text := range c.options.inside {
		if _, err := add(text, "inside", ""); err != nil {
			return "", fmt.Errorf("-inside: %w", err)
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# Forwards and filter rules: hollowbridge add. What gets in: hollowbridge trace.\nnetwork: %s\n\ngateways:\n  %s:\n    interfaces:\n", c.args[0], c.gateway)
	for _, i := range interfaces {
		fmt.Fprintf(&b, "      %s: {address: %s, zone: %s}\n", i.name, netfile.ListText(i.addresses), i.zone)
	}
	fmt.Fprintf(&b, "    routes:\n")
	for _, hop := range hops {
		fmt.Fprintf(&b, "      - {to: default, via: %s}\n", netfile.ListText([]string{hop}))
	}
	return b.String(), nil
}
