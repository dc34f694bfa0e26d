package cli

import (
	"bytes"
	"io"
	"regexp"
	"strings"

	"hollowbridge/core/network"
)

// A naming writer writes the names of interfaces in place of the addresses that stand for what the
// provider gives them. It passes whole lines on.
type naming struct {
	to    io.Writer
	names map[string]string
	rest  []byte // of a line that is not whole
}

// standIn finds what may be such an address, with its length.
var standIn = regexp.MustCompile(`\b240\.0\.0\.[0-9]+(?:/32)?\b`)

// standIns returns the names of a network's interfaces by the addresses that stand for theirs.
func standIns(n *network.Network) map[string]string {
	names := map[string]string{}
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			if a, ok := i.StandIn(); ok {
				names[a.String()] = i.String()
			}
		}
	}
	return names
}

// named writes names in place of such addresses.
func named(names map[string]string, text string) string {
	if len(names) == 0 {
		return text
	}
	return standIn.ReplaceAllStringFunc(text, func(a string) string {
		if name, ok := names[strings.TrimSuffix(a, "/32")]; ok {
			return name
		}
		return a
	})
}

// name makes outputs about a network name its interfaces in place of addresses that nobody knows.
func (c *call) name(n *network.Network) {
	names := standIns(n)
	if len(names) == 0 || c.naming {
		return
	}
	c.naming = true
	env := *c.Environment
	env.Out = &naming{to: env.Out, names: names}
	c.Environment = &env
}

func (w *naming) Write(p []byte) (int, error) {
	w.rest = append(w.rest, p...)
	end := bytes.LastIndexByte(w.rest, '\n') + 1
	whole := named(w.names, string(w.rest[:end]))
	w.rest = append(w.rest[:0], w.rest[end:]...)
	if _, err := io.WriteString(w.to, whole); err != nil {
		return 0, err
	}
	return len(p), nil
}
