package cli

import (
	"flag"
	"fmt"
	"strings"

	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
)

// whatIfHelp is what the help of commands says that take whatIfFlags.
const whatIfHelp = `
-is GATEWAY:INTERFACE=ADDRESS says what an address is now that the provider gives (address:
dynamic). -down GATEWAY:INTERFACE, -list GROUP=FILE, -without RULE and -with FILE ask about the
network as it would be: an interface is down, a group holds what stands in another file, a rule
is not there, or the rules of a file are there as well. Each may come several times; no file is
changed.
`

// whatIfFlags are those of commands that can be asked about the network as it would be.
func whatIfFlags(set *flag.FlagSet, o *options) {
	set.Var((*repeated)(&o.whatIf.Down), "down", "as if this `INTERFACE` of a gateway were down; repeatable")
	set.Var((*repeated)(&o.whatIf.Lists), "list", "as if a group held what stands in a file, `GROUP=FILE`; repeatable")
	set.Var((*repeated)(&o.whatIf.Is), "is", "what an address is now that the provider gives, `GATEWAY:INTERFACE=ADDRESS`; repeatable")
	set.Var((*repeated)(&o.whatIf.Without), "without", "as if this `RULE` were not there: NAME, \"KIND NAME\" or GATEWAY:NAME; repeatable")
	set.Var((*repeated)(&o.whatIf.With), "with", "as if the rules in this `FILE` were there as well; repeatable")
}

// readVaried reads a network file as the flags want it, and says what that is.
func (c *call) readVaried(path string) (*network.Network, error) {
	n, said, err := netfile.ReadAs(path, &c.options.whatIf)
	if err != nil {
		return nil, err
	}
	if o := &c.options; len(said) > 0 && !o.json && !o.csv && o.forms() == 0 && o.batch == "" && c.command.name != "prove" { // which runs itself again
		text := "as if: " + strings.Join(said, "; ")
		fmt.Fprintf(c.Out, "%s\n\n", strings.Join(wrap(text, c.Width-2), "\n  "))
	}
	return n, nil
}
