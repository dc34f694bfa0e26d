package gateway

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"sync"
)

// A gate is a listener where everybody may come, and nobody who does not know the token keeps out those who do: whoever has
// not shown it waits among few, and makes room for who comes next. It is the oldest one from where most come that goes, so whoever
// comes from elsewhere has time to show it. Those who have shown it are counted apart.
type gate struct {
	net.Listener
	mutex   sync.Mutex
	waiting []*guest // the oldest first
	known   int
}

// A guest is a connection to a gate. Its fields are the gate's, under its mutex.
type guest struct {
	net.Conn
	gate  *gate
	from  netip.Prefix
	known bool
}

// mostWaiting is how many connections may be open that have not shown the token: a client of ours shows it within a few
// milliseconds.
const mostWaiting = 64

func (g *gate) Accept() (net.Conn, error) {
	c, err := g.Listener.Accept()
	if err != nil {
		return nil, err
	}
	one := &guest{Conn: c, gate: g, from: sourceOf(c)}
	g.mutex.Lock()
	var goes *guest
	if len(g.waiting) == mostWaiting {
		goes = g.crowded()
	}
	g.waiting = append(g.waiting, one)
	g.mutex.Unlock()
	if goes != nil {
		goes.Close()
	}
	return one, nil
}

// crowded returns the oldest that waits of those from where most come.
func (g *gate) crowded() *guest {
	count := map[netip.Prefix]int{}
	for _, one := range g.waiting {
		count[one.from]++
	}
	goes := g.waiting[0]
	for _, one := range g.waiting {
		if count[one.from] > count[goes.from] {
			goes = one
		}
	}
	return goes
}

// sourceOf returns where a connection comes from: its address, or of IPv6 the network of 64 bits, which one machine may have.
func sourceOf(c net.Conn) netip.Prefix {
	from, err := netip.ParseAddrPort(c.RemoteAddr().String())
	if err != nil {
		return netip.Prefix{}
	}
	a := from.Addr().Unmap()
	bits := 32
	if a.Is6() {
		bits = 64
	}
	p, _ := a.WithZone("").Prefix(bits)
	return p
}

// admit counts a connection among those that have shown the token; it returns false where these are too many.
func (one *guest) admit() bool {
	g := one.gate
	g.mutex.Lock()
	defer g.mutex.Unlock()
	switch {
	case one.known:
		return true
	case g.known == mostClients:
		return false
	}
	g.leave(one)
	one.known = true
	g.known++
	return true
}

func (g *gate) leave(one *guest) {
	if at := slices.Index(g.waiting, one); at >= 0 {
		g.waiting = slices.Delete(g.waiting, at, at+1)
	}
}

func (one *guest) Close() error {
	g := one.gate
	g.mutex.Lock()
	g.leave(one)
	if one.known {
		one.known = false
		g.known--
	}
	g.mutex.Unlock()
	return one.Conn.Close()
}

type guestKey struct{}

// withGuest makes the connection of a request known to what answers it.
func withGuest(ctx context.Context, c net.Conn) context.Context {
	if one, ok := c.(*guest); ok {
		ctx = context.WithValue(ctx, guestKey{}, one)
	}
	return ctx
}

// admits reports whether there is room for a request that has shown the token.
func admits(ctx context.Context) bool {
	one, ok := ctx.Value(guestKey{}).(*guest)
	return !ok || one.admit()
}
