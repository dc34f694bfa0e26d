package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"sync/atomic"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/portmap"
)

// usualLifetime is how long a mapping is asked for where nobody says.
const usualLifetime = "1h"

// ask reads what add and remove are about.
func (c *mappingCall) ask(text string) (a portmap.Ask, err error) {
	o := &c.options
	if a.Protocol, a.Port, err = c.mappedService(text); err != nil {
		return a, err
	}
	if a.Lifetime, err = network.ParseLifetime(cmp.Or(o.forTime, usualLifetime)); err != nil {
		return a, fmt.Errorf("-for %w", err)
	}
	a.Outside, a.Exact, a.Text = uint16(o.wished), o.exact, o.note
	if o.exact && o.wished == 0 {
		return a, errors.New("-exact goes with -outside PORT")
	}
	if o.exact && o.peer != "" {
		return a, errors.New("-exact does not go with -peer: a connection has the port that it has")
	}
	if o.machine != "" {
		if a.Machine, err = header.ParseAddress(o.machine); err != nil {
			return a, fmt.Errorf("-machine: %w", err)
		}
	}
	if o.peer != "" {
		if a.Peer, err = netip.ParseAddrPort(o.peer); err != nil || a.Peer.Port() == 0 {
			return a, fmt.Errorf("-peer %s: write ADDRESS:PORT", o.peer)
		}
	}
	if o.only != "" {
		for _, text := range strings.Split(o.only, ",") {
			p, err := header.ParsePrefix(text)
			if err != nil {
				single, bad := header.ParseAddress(text)
				if bad != nil {
					return a, fmt.Errorf("-only: %w", err)
				}
				p = netip.PrefixFrom(single, single.BitLen())
			}
			a.Only = append(a.Only, p)
		}
	}
	if a.Text == "" {
		a.Text = "hollowbridge"
	}
	return a, nil
}

type gotJSON struct {
	By       string  `json:"by"`
	Protocol string  `json:"protocol"`
	Outside  string  `json:"outside"`
	Inside   string  `json:"inside"`
	Lifetime float64 `json:"lifetime"`
	Text     string  `json:"text"`
}

func gotOf(g *portmap.Got) gotJSON {
	return gotJSON{g.By, g.Protocol.String(), g.Outside.String(), g.Inside.String(), g.Lifetime.Seconds(), g.Text}
}

func (c *mappingCall) addMapping() int {
	a, err := c.ask(c.args[1])
	if err != nil {
		return c.misused("%s", err)
	}
	client, err := c.asClient()
	if err != nil {
		return c.failed(err)
	}
	ctx, stop := untilInterrupt()
	defer stop()
	got, err := client.Add(ctx, c.options.by, a)
	if ctx.Err() != nil && err != nil {
		return c.refusedMapping(errors.New("interrupted before the gateway answered; what it grants all the same ends by itself"))
	}
	if err != nil {
		return c.refusedMapping(err)
	}
	if err := c.rememberMapping(client, &a, got); err != nil {
		fmt.Fprintf(c.Err, "hollowbridge mapping: it can't be remembered for remove: %s\n", err)
	}
	c.printGot(got)
	if !c.options.hold {
		return yes
	}
	return c.holdMapping(ctx, client, &a, got)
}

func (c *call) printGot(got *portmap.Got) {
	if c.json {
		c.printJSONLine(gotOf(got))
	} else {
		arrow := got.Outside.String()
		if got.Outside != got.Inside {
			arrow += " -> " + got.Inside.String()
		}
		fmt.Fprintf(c.Out, "%s  %s %s, by %s, for %s, until %s\n", c.green("opened"), arrow, got.Protocol, got.By, spanText(got.Lifetime.Seconds()), c.Now().Add(got.Lifetime).Format("15:04:05"))
		if _, note := portmap.ExternalIs(got.Outside.Addr()); note != "" {
			fmt.Fprintf(c.Out, "%s\n", strings.Join(wrap(got.Outside.Addr().String()+" "+note, c.Width), "\n"))
		}
	}
	c.flush()
}

// refusedMapping says why a gateway did not do what it was asked.
func (c *call) refusedMapping(err error) int {
	for _, e := range splitErrors(err) {
		fmt.Fprintf(c.Err, "%s\n", strings.Join(wrap(e.Error(), c.Width), "\n"))
	}
	return no
}

// renewal returns how long is waited until a mapping is asked for again that has so long left: from a half to five eighths of that, at least
// four seconds (RFC 6887, 11.2.1).
func renewal(left time.Duration) time.Duration {
	return max(left/2+time.Duration(rand.Float64()*float64(left)/8), 4*time.Second)
}

// holdMapping renews a mapping until ^C, and then takes it away.
func (c *call) holdMapping(ctx context.Context, client *portmap.Client, a *portmap.Ask, got *portmap.Got) int {
	by, until, isOver := got.By, c.Now().Add(got.Lifetime), false
	again := *a
	again.Outside = got.Outside.Port()
	wait := renewal(got.Lifetime)
	var held atomic.Pointer[portmap.Got]
	held.Store(got)
	lost := client.Lost(ctx, &held)
	say := func(text string) {
		if !c.json {
			fmt.Fprintln(c.Out, text)
			c.flush()
		}
	}
	for {
		select {
		case <-lost:
			say("the gateway has begun anew: asking again")
		case <-ctx.Done():
			return c.letGo(client, by, again, got, until)
		case <-time.After(wait):
		}
		next, err := client.Add(ctx, by, again)
		var denied *portmap.Denied
		switch left := until.Sub(c.Now()); {
		case ctx.Err() != nil:
			continue
		case err != nil && left <= 0 && !isOver:
			isOver = true
			fmt.Fprintf(c.Err, "%s: ran out at %s, not renewed: %s\n", got.Outside, until.Format("15:04:05"), err)
			wait = afterRunningOut
		case err != nil:
			fmt.Fprintf(c.Err, "not renewed yet: %s\n", err)
			if wait = renewal(max(left, 0)); left <= 0 {
				wait = afterRunningOut
			}
		}
		if err != nil {
			if errors.As(err, &denied) && denied.Lasts > wait { // the answer would be the same (RFC 6887, 7.4)
				wait = min(denied.Lasts, 24*time.Hour)
				fmt.Fprintf(c.Err, "the gateway answers the same for %s; asking again at %s\n", spanText(denied.Lasts.Seconds()), c.Now().Add(wait).Format("15:04:05"))
			}
			continue
		}
		if next.Outside != got.Outside || isOver { // the gateway has begun anew
			c.printGot(next)
			again.Outside = next.Outside.Port()
		}
		got, until, isOver = next, c.Now().Add(next.Lifetime), false
		wait = renewal(got.Lifetime)
		held.Store(got)
	}
}

// afterRunningOut is how long is waited before a mapping is asked for again that is there no longer.
const afterRunningOut = 15 * time.Second

// letGo takes a mapping away that was held.
func (c *call) letGo(client *portmap.Client, by string, a portmap.Ask, got *portmap.Got, until time.Time) int {
	a.Lifetime, a.Pinhole = 0, got.Pinhole
	ending, cancel := context.WithTimeout(context.Background(), 900*time.Millisecond)
	defer cancel()
	err := client.Remove(ending, by, a)
	var unanswered *portmap.Unanswered
	switch {
	case errors.Is(err, portmap.ErrEndsItself):
		fmt.Fprintf(c.Err, "%s: %s, at %s\n", got.Outside, err, until.Format("15:04:05"))
		return yes
	case errors.As(err, &unanswered) || errors.Is(err, context.DeadlineExceeded):
		fmt.Fprintf(c.Err, "%s: the gateway does not answer, so it is not taken away; it ends by itself at %s\n", got.Outside, until.Format("15:04:05"))
		return no
	case err != nil:
		return c.refusedMapping(err)
	}
	c.forgetMapping(got)
	if !c.json {
		fmt.Fprintf(c.Out, "taken away\n")
	}
	return yes
}
