package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"hollowbridge/core/network"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/netfile"
)

// path returns the network file the call is about.
func (c *call) path() string {
	if c.file != "" {
		return c.file
	}
	if path := c.Getenv("HOLLOWBRIDGE_FILE"); path != "" {
		return path
	}
	return defaultFile
}

// network reads the network file; on errors it prints them and returns nil.
func (c *call) network() *network.Network {
	n, err := c.readNetwork(c.path())
	if err != nil {
		c.readFailed(err)
		return nil
	}
	return n
}

// readFailed says why the network file could not be read.
func (c *call) readFailed(err error) int {
	var wrongs netfile.Errors
	switch {
	case errors.As(err, &wrongs) && c.json:
		c.printJSON(map[string]any{"errors": errorsJSON(wrongs)})
	case errors.As(err, &wrongs):
		c.printErrors(wrongs, "Nothing was read.")
	case errors.Is(err, os.ErrNotExist) && c.path() == defaultFile:
		fmt.Fprintf(c.Err, "hollowbridge %s: there is no %s here; name a network file with -f FILE, or run hollowbridge demo for an example\n", c.command.name, defaultFile)
	default:
		c.failed(err)
	}
	return wrong
}

// revisionOf reads GATEWAY@NUMBER, a revision of a running gateway; without a number, the one
// that is in force. ok is false for what is written otherwise.
func revisionOf(path string) (name string, number int, ok bool) {
	name, digits, ok := strings.Cut(path, "@")
	if !ok || name == "" || strings.ContainsAny(name, "/.") {
		return "", 0, false
	}
	if digits == "" {
		return name, 0, true
	}
	number, err := strconv.Atoi(digits)
	return name, number, err == nil && number > 0
}

// readNetwork reads a network file, or a revision of a running gateway of the network file that
// is used otherwise.
func (c *call) readNetwork(path string) (*network.Network, error) {
	n, err := c.readAsToday(path)
	if err == nil {
		c.onDay(n)
		c.name(n)
	}
	return n, err
}

func (c *call) readAsToday(path string) (*network.Network, error) {
	name, number, isRevision := revisionOf(path)
	if _, err := os.Stat(path); !isRevision || err == nil {
		if !c.whatIf.IsNone() || c.whatIf.ListsIn != "" {
			return c.readVaried(path)
		}
		if c.sketches {
			n, sketch, err := netfile.ReadToEdit(path)
			c.sketch = sketch
			return n, err
		}
		return netfile.Read(path)
	}
	if !c.whatIf.IsNone() {
		return nil, fmt.Errorf("%s: -down, -list, -without and -with are about a file, not about what is in force", path)
	}
	r, err := c.fetch(name, number)
	if err != nil {
		return nil, err
	}
	if r.Bundle == nil {
		return nil, fmt.Errorf("%s: nothing was in force then", path)
	}
	r.Bundle.File = path
	return r.Bundle.Network()
}

// fetch asks a gateway for a revision. Where the gateway is asked stands in the network file that
// is there.
func (c *call) fetch(name string, number int) (r gateway.Revision, err error) {
	file := c.plainPath()
	n, err := netfile.Read(file)
	if err != nil {
		return r, fmt.Errorf("where %s is asked stands in the network file: %w", name, err)
	}
	g := n.Called(name)
	if g == nil {
		var names []string
		for _, g := range n.Gateways {
			names = append(names, g.Name)
		}
		return r, fmt.Errorf("%s: %s has no such gateway%s", name, file, netfile.DidYouMean(name, names))
	}
	e, err := gateway.EndpointOf(file, g)
	if err != nil {
		return r, err
	}
	client, err := gateway.NewClient(name, e)
	if err != nil {
		return r, err
	}
	return client.Revision(context.Background(), number)
}

// plainPath is path where that is a file, else the one that is used without -f.
func (c *call) plainPath() string {
	if _, _, isRevision := revisionOf(c.path()); !isRevision {
		return c.path()
	}
	if path := c.Getenv("HOLLOWBRIDGE_FILE"); path != "" && path != c.path() {
		return path
	}
	return defaultFile
}
