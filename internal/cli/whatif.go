package cli

import (
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

// readVaried reads a network file as the flags want it, and says what that is.
func (c *call) readVaried(path string) (*network.Network, error) {
	n, said, err := netfile.ReadAs(path, &c.whatIf)
	if err != nil {
		return nil, err
	}
	if len(said) > 0 && c.isForPerson() {
		text := "as if: " + strings.Join(said, "; ")
		fmt.Fprintf(c.Out, "%s\n\n", strings.Join(wrap(text, c.Width-2), "\n  "))
	}
	return n, nil
}
