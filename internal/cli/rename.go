package cli

import (
	"fmt"
	"slices"
	"strings"

	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
)

var renameCommand = &command{
	name: "rename", arguments: "[KIND] OLD NEW",
	summary: "gives something another name, everywhere it stands",
	help: `Gives a host, group, service, zone, interface (as GATEWAY:INTERFACE), gateway or rule another name,
and puts that wherever the old one means it: in rules, groups, expectations, routes. Comments and
style stay. What only says the old name, as a note, a comment or a list of addresses, is left and
listed. Where something else in the file would mean another thing, nothing is written.

What a running gateway counted for a rule goes over to its new name. A gateway's name is also that
of its unit, state and socket on its machine: rename says what has to be done there, and until then
it is asked under the old name, which the key formerly keeps.`,
	examples: []string{
		"hollowbridge rename host archive library -dry-run",
		"hollowbridge rename zone yard courtyard -dry-run",
		"hollowbridge rename allow archive-web library-page -dry-run",
	},
	begin: editing(noMoreFlags),
}

var copyCommand = &command{
	name: "copy", arguments: "[KIND] RULE NEW [KEY=VALUE...]",
	summary: "adds a rule like another one, with other values where they are given",
	help: `Puts a rule like another one right behind it, with a name of its own; KEY=VALUE gives a key
another value, KEY= leaves it out. It goes to the same gateway's list. With -allow a forward gets
the filter rule that it needs as well.`,
	examples: []string{
		"hollowbridge copy port-forward archive-web archive-alt service=tcp/8443 to=archive:443 -dry-run",
		"hollowbridge copy allow archive-web archive-too from=remote-observers -dry-run",
	},
	begin: editing(allowFlag),
}

// renaming reads an edit that gives a new name: [KIND] OLD NEW.
func (c *call) renaming(edit network.Edit, kinds []string) (network.Edit, error) {
	args := c.args
	switch {
	case len(args) == 3 && !slices.Contains(kinds, args[0]):
		near := netfile.DidYouMean(args[0], kinds)
		if near == "" {
			near = "; kinds are " + strings.Join(kinds, ", ")
		}
		return edit, fmt.Errorf("%s: no such kind%s", args[0], near)
	case len(args) == 3:
		edit.Kind, args = args[0], args[1:]
	case len(args) != 2:
		return edit, fmt.Errorf("it needs the name and the new one")
	}
	edit.Name, edit.Values, edit.Gateway = args[0], args[1:], c.gateway
	return edit, nil
}

// mostMentions is how many lines that still say an old name are listed, and mostMentioned how many characters of each.
const (
	mostMentions  = 12
	mostMentioned = 80
)

// afterRename says where the old name still stands.
func (c *call) afterRename(e *netfile.Editor, edit network.Edit) {
	old := edit.Name[strings.LastIndexByte(edit.Name, ':')+1:]
	if n, err := e.Network(); err == nil {
		if g := n.Gateway(edit.Values[0]); g != nil && g.Formerly != "" {
			c.remark("until its machine has the new name, %s is asked as %s; there: stop the unit of %s, rename the folder of its state, and start it as gateway %s; then here:", g.Name, g.Formerly, g.Formerly, g.Name)
			c.remarkCommand(c.typed(netfile.Command(network.Edit{Verb: network.Change, Kind: "gateway", Name: g.Name, Settings: []network.Setting{{Key: network.KeyFormerly}}})))
		}
	}
	list := e.Mentions(old)
	for i, m := range list {
		if i == mostMentions {
			c.remark("and %s more", count(len(list)-i, "line"))
			break
		}
		text := m.Text
		if r := []rune(text); len(r) > mostMentioned {
			text = string(r[:mostMentioned]) + "..."
		}
		c.remark("%s is still said, and was left: %s:%d: %s", old, m.File, m.Line, text)
	}
}
