package cli

import (
	"fmt"
	"time"

	"hollowbridge/core/network"
	"hollowbridge/core/walk"
)

const (
	patience  = time.Second            // before anything is shown
	refreshed = 200 * time.Millisecond // while it is
	looked    = 1 << 10                // ways between two looks at the clock
)

// clearProgress takes the line away that says how far long work is.
func (c *call) clearProgress() {
	if c.Progress {
		steer(c.Err, clearLine)
	}
}

// compile compiles a network. On a terminal it says from then on how far work with all
// connections has come, where that takes long, until done is called.
func (c *call) compile(n *network.Network) (e *walk.Engine, done func()) {
	e = walk.Compile(n, nil)
	if !c.Progress {
		return e, func() {}
	}
	ways, next, shown := 0, c.Now().Add(patience), false
	e.Watch = func() {
		if ways++; ways%looked != 0 || c.Now().Before(next) {
			return
		}
		next, shown = c.Now().Add(refreshed), true
		steer(c.Err, "\r")
		fmt.Fprintf(c.Err, "%s: looking at all connections, %d kinds so far", n.Name, ways)
	}
	return e, func() {
		if shown {
			steer(c.Err, clearLine)
		}
	}
}
