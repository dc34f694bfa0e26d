package engine

import (
	"net/netip"

	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// A natTable is a table of NAT rules, with what each condition's rule does.
type natTable[T any] struct {
	*table.Table
	does, added []T // of the conditions that the table was made of, and of those of its patch
}

// what returns what the rule of a condition does.
func (t *natTable[T]) what(n int32) *T {
	if int(n) < len(t.does) {
		return &t.does[n]
	}
	return &t.added[int(n)-len(t.does)]
}

// patched returns the table for another revision of its list, see table.patched.
func (t *natTable[T]) patched(c table.Replacement, added natTable[T], rules []*network.Rule) natTable[T] {
	return natTable[T]{t.Table.Patched(c, added.Table, rules), t.does, added.does}
}

// A redirect is what a rule does to a destination: what the walk needs of it, side by
// side in memory.
type redirect struct {
	index   int // of the rule in the list that the table was made of
	target4 netip.Addr
	ports   int // how many maps of ports there are
	port    network.PortMap
	does    network.NATKind
	hairpin bool
}

func newRedirect(index int, r *network.NATRule) redirect {
	to := redirect{index: index, target4: r.Target.V4, ports: len(r.Ports), does: r.Does, hairpin: r.Hairpin}
	if len(r.Ports) > 0 {
		to.port = r.Ports[0]
	}
	return to
}
