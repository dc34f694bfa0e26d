package cli

import (
	"bufio"
	"context"
	"fmt"
	"maps"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"hollowbridge/core/network"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/netfile"
)

// untilInterrupt returns a context that ends with ^C or SIGTERM.
func untilInterrupt() (context.Context, context.CancelFunc) {
	return signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
}

// flush writes out what is printed so far.
func (c *call) flush() error {
	if w, ok := exactly(c.Out).(*bufio.Writer); ok {
		return w.Flush()
	}
	return nil
}

// client returns what asks a gateway of a network file.
func (c *call) client(g *network.Gateway) (*gateway.Client, error) {
	e, err := gateway.EndpointOf(c.path(), g)
	if err != nil {
		return nil, err
	}
	client, err := gateway.NewClient(g.Name, e)
	if err == nil {
		client.Former = g.Formerly
	}
	return client, err
}

// clients returns what asks the gateways of a network, or those of -gateway: those with a
// control: in the file, and those that run on this machine in the usual place.
func (c *call) clients(n *network.Network) ([]*gateway.Client, error) {
	list, wrongs, err := c.askable(n)
	if len(wrongs) > 0 {
		return nil, fmt.Errorf("%s; -gateway names those that are meant", joined(wrongs))
	}
	return list, err
}

// joined says what is wrong with gateways.
func joined(wrongs map[string]error) string {
	var texts []string
	for _, name := range slices.Sorted(maps.Keys(wrongs)) {
		texts = append(texts, wrongs[name].Error())
	}
	return strings.Join(texts, "; ")
}

// askable is clients that goes without those that cannot be asked, and says why, by their names.
func (c *call) askable(n *network.Network) (list []*gateway.Client, wrongs map[string]error, err error) {
	wrongs = map[string]error{}
	var names, wanted []string
	if c.gateway != "" {
		wanted = strings.Split(c.gateway, ",")
	}
	for _, g := range n.Gateways {
		names = append(names, g.Name)
		if wanted != nil && !slices.Contains(wanted, g.Name) {
			continue
		}
		client, err := c.client(g)
		if g.Control == (network.Control{}) && c.gateway == "" {
			if err != nil {
				continue
			}
			if _, missing := os.Stat(client.Endpoint.Socket); missing != nil {
				continue
			}
		}
		if err != nil {
			wrongs[g.Name] = err
			continue
		}
		if c.Progress {
			client.Waiting = func(what string, since time.Duration) {
				if since > patience {
					steer(c.Err, clearLine)
					fmt.Fprintf(c.Err, "%s %s, %s so far", g.Name, what, since.Round(time.Second))
				}
			}
		}
		list = append(list, client)
	}
	for _, name := range wanted {
		if !slices.Contains(names, name) {
			return nil, nil, fmt.Errorf("-gateway %s: there is no such gateway%s", name, netfile.DidYouMean(name, names))
		}
	}
	if len(list) == 0 && len(wrongs) == 0 {
		return nil, nil, fmt.Errorf("no gateway of %s has a control:, and none runs on this machine in the usual place; say where they are asked, as control: {socket: %s.sock}", c.path(), n.Gateways[0].Name)
	}
	return list, wrongs, nil
}

// askAll asks gateways at once and returns what they say, in their order. Those that do not
// answer have an error.
func askAll[T any](list []*gateway.Client, ask func(*gateway.Client) (T, error)) (answers []T, failures []error) {
	answers, failures = make([]T, len(list)), make([]error, len(list))
	var asking sync.WaitGroup
	for i, client := range list {
		asking.Go(func() { answers[i], failures[i] = ask(client) })
	}
	asking.Wait()
	return answers, failures
}

// sayFailures says which gateways did not answer, and returns wrong where some did not.
func (c *call) sayFailures(failures []error) int {
	status := yes
	for _, err := range failures {
		if err != nil {
			status = c.failed(err)
		}
	}
	return status
}

// running reads the network file and returns what asks its gateways. It returns nil after it has
// said what is wrong.
func (c *call) running() []*gateway.Client {
	n := c.network()
	if n == nil {
		return nil
	}
	list, err := c.clients(n)
	if err != nil {
		c.failed(err)
		return nil
	}
	if len(list) > 1 {
		statuses, failures := askAll(list, func(g *gateway.Client) (gateway.Status, error) { return g.Status(context.Background()) })
		c.sayPartial(list, statuses, failures)
	}
	return list
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

// names returns the names of gateways, in the order of the alphabet.
func names(list []*gateway.Client) []string {
	all := make([]string, len(list))
	for i := range list {
		all[i] = list[i].Gateway
	}
	slices.Sort(all)
	return all
}
