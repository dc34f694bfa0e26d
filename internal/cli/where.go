package cli

import (
	"flag"
	"fmt"
	"slices"

	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
)

var whereCommand = &command{
	name:      "where",
	arguments: "NAME",
	summary:   "lists every place of the file where a name stands, and what for",
	help: `Lists every place of the network file where a name stands: of a host, group, zone, service,
gateway, interface or rule. The first column is the line, then what it stands in, and for what:
where the name is given, the keys in whose values it is used, and the notes that only mention it.

Exit status: 0 there are some, 1 there is none, 2 the call or the file is wrong.`,
	examples: []string{"hollowbridge where archive", "hollowbridge where remote-observers -json"},
	begin: commonly(func(c *call, set *flag.FlagSet) {
		c.fileFlag(set)
		c.jsonFlag(set)
	}, runWhere),
}

// A useJSON is a place where a name stands.
type useJSON struct {
	Line   int    `json:"line"`
	Column int    `json:"column"`
	In     string `json:"in"`
	Is     string `json:"is"`   // what it is the name of, where it is given there; else empty
	Key    string `json:"key"`  // the key in whose value it stands
	Text   string `json:"text"` // that value
	Said   bool   `json:"said"` // it is for people alone, as in a note
}

func runWhere(c *call) int {
	if len(c.args) != 1 {
		return c.misused("it needs one NAME")
	}
	n, e, err := netfile.ReadToEdit(c.path())
	if err == nil && e == nil {
		err = fmt.Errorf("%s: this is no regular file, and is not read again", c.path())
	}
	if err != nil {
		return c.readFailed(err)
	}
	name := c.args[0]
	uses := e.Where(name)
	if c.json {
		list := []useJSON{}
		for _, u := range uses {
			list = append(list, useJSON{u.Place.Line, u.Place.Column, u.In, u.Is, u.Key, u.Text, u.Said})
		}
		c.printJSON(map[string]any{"name": name, "places": list})
	}
	switch {
	case len(uses) == 0:
		if !c.json {
			c.say("%s stands nowhere in %s%s", name, c.path(), netfile.DidYouMean(name, namesOf(n)))
		}
		return no
	case c.json:
		return yes
	}
	var rows [][]string
	for _, u := range uses {
		what := u.Key + ": " + u.Text
		switch {
		case u.Is != "":
			what = "its name"
		case u.Said:
			what = "only said, in its " + u.Key + ": " + u.Text
		case u.Key == "":
			what = u.Text // of a list of groups
		}
		rows = append(rows, []string{fmt.Sprint(u.Place.Line), u.In, what})
	}
	c.printTable([]string{"line", "in", "what for"}, rows)
	return yes
}

// namesOf returns all names of a network.
func namesOf(n *network.Network) (names []string) {
	for _, g := range n.Groups {
		names = append(names, g.Name)
	}
	for _, z := range n.Zones {
		names = append(names, z.Name)
	}
	for _, h := range n.Hosts {
		names = append(names, h.Name)
	}
	for _, s := range n.Services {
		names = append(names, s.Name)
	}
	for _, g := range n.Gateways {
		names = append(names, g.Name)
		for _, i := range g.Interfaces {
			names = append(names, i.Name)
		}
		for r := range g.Rules() {
			names = append(names, r.Name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}
