package cli

import (
	"bufio"
	"context"
	"fmt"
	"maps"
	"os"
	"os/signal"
	"slices"
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

// names returns the names of gateways, in the order of the alphabet.
func names(list []*gateway.Client) []string {
	all := make([]string, len(list))
	for i := range list {
		all[i] = list[i].Gateway
	}
	slices.Sort(all)
	return all
}
