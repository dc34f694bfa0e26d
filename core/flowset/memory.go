package flowset

import "runtime/metrics"

// mostLive is how much memory the process may use, in bytes, before a space gives up: what the last
// collection found in use. What is not collected yet comes on top, so the process itself holds
// about 2 GB at most where its collector is told to stay near (debug.SetMemoryLimit).
const mostLive = 1600 << 20

// untilMeasured is how many nodes a space makes between two looks at the process's memory.
const untilMeasured = 1 << 14

// Measure looks at the memory of the whole process, whatever takes it. Where that is too much, the space has
// outgrown its limit.
func (s *Space) Measure() {
	sample := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(sample)
	if sample[0].Value.Kind() == metrics.KindUint64 && s.err == nil && sample[0].Value.Uint64() > s.mostLive {
		s.err = TooLarge{Bytes: s.mostLive}
	}
}
