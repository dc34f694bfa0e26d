package flow

import (
	"hollowbridge/core/flowset"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// Views are what flows of sets know of the tables that they ask, as sets in one space, at some moments. They are made
// when they are asked for first, and remembered: so they are of one network, and of one goroutine.
type Views struct {
	Space *flowset.Space
	Times network.Times // the moments that it is about

	net     *network.Network
	tables  map[View]flowset.Set
	wheres  map[whereKey]flowset.Set
	routed  map[routeKey]flowset.Set
	claims  map[claimKey]flowset.Set
	hours   map[network.Hours][]flowset.Span
	choices map[whereKey]*choice
	moves   map[moveKey]*moves
	blocks  []table.BlockRange // see blocksOf
	sides   map[side][]listed

	SplitFrom int                           // see splits
	Compared  map[*table.Table]*table.Table // for each table, the conditions that another network's has not; nil where there is none
	stopAlike bool                          // rules that stop packets are not told apart
	Watched   *table.Table                  // of each answer of which Watch is told, or nil
	Watch     Watcher
}

// A Watcher is told of connections about which one condition of a table decides, by its number.
type Watcher func(set flowset.Set, terms *flowset.Terms, v View, decider int32)

// NewViews returns views in a space, which is for as many moments as there are.
func NewViews(space *flowset.Space, times network.Times, n *network.Network) *Views {
	return &Views{Space: space, Times: times, net: n, tables: map[View]flowset.Set{}, wheres: map[whereKey]flowset.Set{},
		routed: map[routeKey]flowset.Set{}, claims: map[claimKey]flowset.Set{}, hours: map[network.Hours][]flowset.Span{},
		choices: map[whereKey]*choice{}, moves: map[moveKey]*moves{}, sides: map[side][]listed{}, SplitFrom: usualSplit}
}

// StopAlike makes flows take all filter rules that stop connections for one, where it does not matter
// which of them does: a region then says of its example alone by which rule that ended. Of long lists of
// sources that are dropped, each by a rule, there are fewer regions so.
func (x *Views) StopAlike() { x.stopAlike = true }
