package portmap

import (
	"net"
	"net/netip"
	"slices"
	"sync"
)

// A fairListener lets each client have a few connections, and all of them together so many. Where there is no room left, the client that has
// most loses its oldest one: so a few can't shut out the others, however slow they are.
type fairListener struct {
	net.Listener
	most, mostOf int

	mutex sync.Mutex
	held  int
	of    map[netip.Addr][]*fairConn // the oldest first
}

type fairConn struct {
	net.Conn
	listener *fairListener
	client   netip.Addr
}

func fair(l net.Listener, most, mostOf int) *fairListener {
	return &fairListener{Listener: l, most: most, mostOf: mostOf, of: map[netip.Addr][]*fairConn{}}
}

// Accept is net.Listener's.
func (l *fairListener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		at, err := netip.ParseAddrPort(c.RemoteAddr().String())
		if made := (&fairConn{c, l, at.Addr().Unmap().WithZone("")}); err == nil && l.takes(made) {
			return made, nil
		}
		c.Close()
	}
}

// takes reports whether a connection may be, and makes room for it.
func (l *fairListener) takes(c *fairConn) bool {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if len(l.of[c.client]) >= l.mostOf {
		return false
	}
	if l.held >= l.most {
		var fullest []*fairConn
		for _, list := range l.of {
			if len(list) > len(fullest) {
				fullest = list
			}
		}
		oldest := fullest[0]
		l.forget(oldest)
		oldest.Conn.Close()
	}
	l.held++
	l.of[c.client] = append(l.of[c.client], c)
	return true
}

// forget takes a connection out of the count, once.
func (l *fairListener) forget(c *fairConn) {
	list := l.of[c.client]
	at := slices.Index(list, c)
	if at < 0 {
		return
	}
	l.held--
	if l.of[c.client] = slices.Delete(list, at, at+1); len(l.of[c.client]) == 0 {
		delete(l.of, c.client)
	}
}

// Close is net.Conn's.
func (c *fairConn) Close() error {
	c.listener.mutex.Lock()
	c.listener.forget(c)
	c.listener.mutex.Unlock()
	return c.Conn.Close()
}
