package portmap

import (
	"net/netip"
	"time"
)

// A client may ask so many times a second, and so many times at once; what is more gets no answer.
const (
	asksPerSecond = 100
	asksAtOnce    = 400
	mostClients   = 1 << 16 // that are told apart
)

// A limiter counts what clients ask. When there are more clients than are told apart, those that
// have not asked lately are forgotten, and then all.
type limiter struct{ clients map[netip.Addr]*allowance }

type allowance struct {
	left float64
	at   time.Time
}

// allows reports whether a client may ask once more.
func (l *limiter) allows(client netip.Addr, now time.Time) bool {
	a := l.clients[client]
	if a == nil {
		if len(l.clients) >= mostClients {
			l.forget(now)
		}
		if l.clients == nil || len(l.clients) >= mostClients {
			l.clients = map[netip.Addr]*allowance{}
		}
		a = &allowance{asksAtOnce, now}
		l.clients[client] = a
	}
	a.left = min(asksAtOnce, a.left+now.Sub(a.at).Seconds()*asksPerSecond)
	a.at = now
	if a.left < 1 {
		return false
	}
	a.left--
	return true
}

// forget forgets clients that have all that they may ask.
func (l *limiter) forget(now time.Time) {
	for client, a := range l.clients {
		if a.left+now.Sub(a.at).Seconds()*asksPerSecond >= asksAtOnce {
			delete(l.clients, client)
		}
	}
}
