package main

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
)

// Near so many bytes the collector works more. An analysis that needs more says so, see flowset.TooLarge.
const memory = 2600 << 20

// While little is alive the collector waits for twice as much to come: most commands run for seconds, memory is there
// and time is not. It never waits for more than room bytes, so that what a process takes follows what it holds.
const (
	patience = 200 // per cent
	room     = 512 << 20
)

// keepToMemory tells the collector when to begin, now and after each collection.
func keepToMemory() {
	debug.SetMemoryLimit(memory)
	debug.SetGCPercent(patience)
	followCollections(patience)
}

// followCollections has the collector's patience, which is set already, set anew after the next collection.
func followCollections(set int) {
	type collected struct{ _ [1]*byte }
	runtime.SetFinalizer(&collected{}, func(*collected) {
		sample := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		metrics.Read(sample)
		next := patience
		if sample[0].Value.Kind() == metrics.KindUint64 {
			next = percent(sample[0].Value.Uint64())
		}
		if next != set {
			debug.SetGCPercent(next)
		}
		followCollections(next)
	})
}

// percent returns how much may come, of what is alive, before the next collection.
func percent(alive uint64) int {
	return int(min(patience, room*100/max(alive, 1)))
}
