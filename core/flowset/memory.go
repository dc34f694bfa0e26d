package flowset

import "runtime/metrics"

// mostHeld is how many bytes the process may hold before a space gives up, for whatever it is: what is not collected
// yet counts too, so the collector has to be told to begin early enough (debug.SetMemoryLimit).
const mostHeld = 2600 << 20

// untilMeasured is how many nodes a space makes between two looks at the process's memory.
const untilMeasured = 1 << 14

// Measure looks at the memory of the whole process, whatever takes it. Where that is too much, the space has
// outgrown its limit.
func (s *Space) Measure() {
	sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
	metrics.Read(sample)
	if sample[0].Value.Kind() == metrics.KindUint64 && s.err == nil && sample[0].Value.Uint64() > s.mostHeld {
		s.err = TooLarge{Bytes: s.mostHeld}
	}
}
