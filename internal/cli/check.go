package cli

import (
	"flag"
	"fmt"

	"hollowbridge/core/network"
)

var checkCommand = &command{
	name:    "check",
	summary: "says what is wrong with the network file",
	help: `Reads the network file and the lists it names. It prints every error with its file, line
and column, what is wrong and what would be right, all at once; or, if there is none, what the
file holds. The file is never half-read: either a whole network or a list of errors.`,
	examples: []string{
		"hollowbridge check",
		"hollowbridge check -f fernhollow/hollowbridge.yaml",
	},
	flags: func(set *flag.FlagSet, o *options) { fileFlag(set, o); jsonFlag(set, o) },
	run:   runCheck,
}

func runCheck(c *call) int {
	if len(c.args) > 0 {
		return c.misused("%s: not expected; name the file with -f", c.args[0])
	}
	if c.options.json {
		return c.checkJSON()
	}
	n := c.network()
	if n == nil {
		return wrong
	}
	fmt.Fprintf(c.Out, "%s: no errors\n%s: %s\n", c.path(), n.Name, holdings(n))
	return yes
}

func holdings(n *network.Network) string {
	nat, filter := 0, 0
	for _, g := range n.Gateways {
		nat += len(g.NAT)
		filter += len(g.Filter)
	}
	return fmt.Sprintf("%s, %s, %s, %s, %s, %s", count(len(n.Gateways), "gateway"), count(len(n.Hosts), "host"),
		count(len(n.Groups), "group"), count(len(n.Services), "named service"), count(nat, "NAT rule"), count(filter, "filter rule"))
}
