package cli

import (
	"fmt"
	"os"
	"strings"

	"hollowbridge/core/walk"
	"hollowbridge/internal/kernel"
	"hollowbridge/internal/netfile"
)

// showKernel shows what the kernel would be told for a gateway, or has been told here.
func (c *showCall) showKernel() int {
	switch {
	case c.options.here && len(c.args) > 1:
		return c.misused("-here stands instead of a gateway's name")
	case c.options.here:
		return c.showHere()
	case len(c.args) != 2:
		return c.misused("kernel: name a gateway, or say -here")
	}
	n := c.network()
	if n == nil {
		return wrong
	}
	g := n.Gateway(c.args[1])
	if g == nil {
		var names []string
		for _, known := range n.Gateways {
			names = append(names, known.Name)
		}
		return c.failed(fmt.Errorf("%s: no such gateway%s", c.args[1], netfile.DidYouMean(c.args[1], names)))
	}
	p, unable, err := kernel.Compile(walk.Compile(n, nil).Gateway(g), kernel.Options{LeaveOut: true})
	if err != nil {
		return c.failed(err)
	}
	rules, elements := p.Size()
	words := p.Words()
	if c.json {
		found := kernelJSON{Gateway: g.Name, Rules: rules, Elements: elements, Unable: []string{}, Lines: words}
		for _, u := range unable {
			found.Unable = append(found.Unable, u.Error())
		}
		c.printJSON(found)
	} else {
		c.printKernel(words)
		fmt.Fprintf(c.Out, "\n%s, %s of sets\n", count(rules, "rule"), count(elements, "element"))
		for _, u := range unable {
			c.printLabelled("unable", u.Error())
		}
	}
	if len(unable) > 0 {
		return no
	}
	return yes
}

type kernelJSON struct {
	Gateway  string   `json:"gateway"`
	Rules    int      `json:"rules"`
	Elements int      `json:"elements"`
	Unable   []string `json:"unable"`
	Lines    []string `json:"lines"`
}

// printKernel writes chains with their rules.
func (c *call) printKernel(lines []string) {
	for i, line := range lines {
		if strings.HasPrefix(line, " ") {
			fmt.Fprintf(c.Out, "  %s\n", strings.Join(wrap(line[2:], c.Width-6), "\n      "))
			continue
		}
		if i > 0 {
			fmt.Fprintln(c.Out)
		}
		fmt.Fprintf(c.Out, "%s\n", c.bold(line))
	}
}

// showHere shows what stands in our table on this machine.
func (c *call) showHere() int {
	m, err := kernel.OpenMachine(0)
	if err != nil {
		return c.failed(err)
	}
	defer m.Close()
	words, err := m.Words()
	switch {
	case err != nil && os.Getuid() != 0:
		return c.failed(fmt.Errorf("%w; the kernel shows it to root", err))
	case err != nil:
		return c.failed(err)
	case c.json:
		c.printJSON(kernelJSON{Lines: append([]string{}, words...), Unable: []string{}, Rules: len(words)})
		return yes
	case len(words) == 0:
		fmt.Fprintln(c.Out, "nothing of ours is programmed on this machine")
		return yes
	}
	c.printKernel(words)
	return yes
}
