package flow

import (
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"slices"
)

// A Meeting is where a translation leads machines back to themselves, each to its own
// address: two packets are equal in some fields then. Of many machines these connections
// are no set that could be written down, so a region does not claim them.
type Meeting struct {
	a, b   flowset.Terms
	fields []flowset.Field
}

// has reports whether a connection is one by which a machine meets itself.
func (m *Meeting) has(p header.Packet) bool {
	a, b := m.a.Apply(p), m.b.Apply(p)
	for _, f := range m.fields {
		if !flowset.Same(a, b, f) {
			return false
		}
	}
	return true
}

// Claims reports whether what a region says is said of a member too: it is not of a
// connection from an address to itself, nor of those of its meetings.
func Claims(meetings []Meeting, p header.Packet) bool {
	return p.Source != p.Destination && !slices.ContainsFunc(meetings, func(m Meeting) bool { return m.has(p) })
}
