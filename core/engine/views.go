package engine

import (
	"hollowbridge/core/flowset"
	"hollowbridge/core/network"
)

// Views are what flows of sets know of the tables that they ask, as sets in one space, at some moments. They are made
// when they are asked for first, and remembered: so they are of one network, and of one goroutine.
type Views struct {
	Space *flowset.Space
	Times network.Times // the moments that it is about

	net     *network.Network
	tables  map[tableView]flowset.Set
	wheres  map[whereKey]flowset.Set
	routed  map[routeKey]flowset.Set
	claims  map[claimKey]flowset.Set
	hours   map[network.Hours][]flowset.Span
	choices map[whereKey]*choice
	moves   map[moveKey]*moves
	blocks  []blockRange // see blocksOf
	sides   map[side][]listed

	splitFrom int               // see splits
	compared  map[*table]*table // for each table, the conditions that another network's has not; nil where there is none
	stopAlike bool              // rules that stop packets are not told apart
	watched   *table            // of each answer of which watch is told, or nil
	watch     watcher
}

// A watcher is told of connections about which one condition of a table decides, by its number.
type watcher func(set flowset.Set, terms *flowset.Terms, v tableView, decider int32)

// NewViews returns views in a space, which is for as many moments as there are.
func NewViews(space *flowset.Space, times network.Times, n *network.Network) *Views {
	return &Views{Space: space, Times: times, net: n, tables: map[tableView]flowset.Set{}, wheres: map[whereKey]flowset.Set{},
		routed: map[routeKey]flowset.Set{}, claims: map[claimKey]flowset.Set{}, hours: map[network.Hours][]flowset.Span{},
		choices: map[whereKey]*choice{}, moves: map[moveKey]*moves{}, sides: map[side][]listed{}, splitFrom: usualSplit}
}
