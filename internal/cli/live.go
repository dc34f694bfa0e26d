package cli

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"strconv"
	"strings"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/probe"
)

// A liveNetwork is what is in force at the running gateways: their network, and the sessions that
// each of them has.
type liveNetwork struct {
	network  *network.Network
	sessions map[string][]gateway.Session // of each gateway that runs
	pools    map[string][]gateway.Pool    // likewise, where somebody asks
	mapped   int                          // how many mappings programs have there
	said     []string                     // which revisions these are
	source   []string                     // and of when, by whom
	name     string                       // of the one whose network it is, as NAME@NUMBER
}

// mostLive is how many sessions of each gateway are taken along.
const mostLive = 100_000

// liveOrFile returns the network of the file, or, with -live, what is in force. It returns nil after it
// has said what is wrong.
func (c *call) liveOrFile(isLive bool) (*network.Network, *liveNetwork) {
	switch {
	case !isLive && c.gateway != "":
		c.misused("-gateway goes with -live: it names the running gateways that are asked")
		return nil, nil
	case !isLive:
		return c.network(), nil
	}
	if !c.whatIf.IsNone() {
		c.misused("-down, -list, -without and -with are about the file, and -live is not")
		return nil, nil
	}
	live := c.live()
	if live == nil {
		return nil, nil
	}
	return live.network, live
}

// live asks the running gateways what is in force. It returns nil after it has said what is wrong.
func (c *call) live() *liveNetwork {
	list := c.running()
	if list == nil {
		return nil
	}
	type answer struct {
		revision gateway.Revision
		sessions gateway.Sessions
		mappings gateway.Mappings
		pools    gateway.Pools
	}
	answers, failures := askAll(list, func(g *gateway.Client) (a answer, err error) {
		if a.revision, err = g.Revision(context.Background(), 0); err == nil {
			a.sessions, err = g.Sessions(context.Background(), url.Values{"top": {strconv.Itoa(mostLive)}})
		}
		if err == nil {
			a.mappings, err = g.Mappings(context.Background())
		}
		if err == nil && c.command.name == "check" {
			a.pools, err = g.Pools(context.Background())
		}
		return a, err
	})
	if c.sayFailures(failures) != yes {
		return nil
	}
	found := &liveNetwork{sessions: map[string][]gateway.Session{}, pools: map[string][]gateway.Pool{}}
	first := answers[0].revision.Bundle
	for i, a := range answers {
		b := a.revision.Bundle
		name := fmt.Sprintf("%s@%d", list[i].Gateway, a.revision.Number)
		if b == nil || b.Text != first.Text || !maps.Equal(b.Lists, first.Lists) {
			c.failed(fmt.Errorf("%s is not what %s@%d is: they run different networks; name one with -gateway", name, list[0].Gateway, answers[0].revision.Number))
			return nil
		}
		found.source = append(found.source, fmt.Sprintf("revision %d of %s, of %s by %s", a.revision.Number, list[i].Gateway, whenText(a.revision.Time), a.revision.Author))
		found.said = append(found.said, fmt.Sprintf("%s, %s", name, count(a.sessions.Count, "session")))
	}
	first.File = fmt.Sprintf("%s@%d", list[0].Gateway, answers[0].revision.Number)
	n, err := first.Network()
	if err != nil {
		c.readFailed(err)
		return nil
	}
	found.network, found.name = n, first.File
	for i, a := range answers {
		name := list[i].Gateway
		if n.Gateway(name) == nil {
			name = list[i].Former
		}
		found.sessions[name], found.pools[name] = a.sessions.Sessions, a.pools.Pools
	}
	for _, a := range answers {
		for i := range a.mappings.Mappings {
			m, err := a.mappings.Mappings[i].In(n)
			if err != nil {
				c.failed(err)
				return nil
			}
			g := m.Rule.Gateway
			g.Opened = append(g.Opened, m)
			found.mapped++
		}
	}
	return found
}

// walk returns a walk whose gateways remember the sessions that there are.
func (l *liveNetwork) walk(e *walk.Engine) *walk.Walk {
	return e.NewWalkOver(func(g *network.Gateway) engine.State { return gateway.Remembering(g, l.sessions[g.Name]) })
}

// sayLive says which revisions a trace is of.
func (c *call) sayLive(l *liveNetwork) {
	text := strings.Join(l.said, "; ")
	if l.mapped > 0 {
		text += ", with " + plural(l.mapped, "mapping", "mappings")
	}
	fmt.Fprintf(c.Out, "as it runs: %s\n\n", text)
}

// sendTraced sends a connection that was traced, where this machine has its address, and says what
// came back beside what was said.
func (c *call) sendTraced(t *words.Trace) {
	p := t.Connection.Packet
	r, err := probe.Try(p.Destination, p.Service(), 3*time.Second)
	switch {
	case err != nil:
		fmt.Fprintf(c.Out, "\nnot sent: %v\n", err)
	case r.Sent.Source != p.Source:
		fmt.Fprintf(c.Out, "\nnot compared: this machine sends from %s, not %s; it meets: %s\n", r.Sent.Source, p.Source, r.Answer)
	default:
		fmt.Fprintln(c.Out)
		c.printProbe(r, p.Service(), t)
	}
}
