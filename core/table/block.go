package table

import (
	"hollowbridge/core/flowset"
)

// Set returns the packets between the blocks or, turned, what answers them.
func (b Blocks) Set(space *flowset.Space, turned bool) flowset.Set {
	source, destination := b.From.spans, b.To.spans
	if turned {
		source, destination = destination, source
	}
	return space.Where(flowset.Destination, destination, space.Where(flowset.Source, source, flowset.Everything))
}
