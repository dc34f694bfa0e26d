package flowset

import "runtime/metrics"

// mostHeld is how many bytes the process may hold before a space gives up, for whatever it is: what is not collected
// yet counts too, so the collector has to be told to begin early enough (debug.SetMemoryLimit).
const mostHeld = 2900 << 20

// mostKept is how many bytes may be left by a collection. With more, little is free below the limit that the collector
// was told, and it would take most of the time.
const mostKept = 2300 << 20

// untilMeasured is how many nodes a space makes between two looks at the process's memory.
const untilMeasured = 1 << 14

// Measure looks at the memory of the whole process, whatever takes it. Where that is too much, the space has
// outgrown its limit.
func (s *Space) Measure() {
	sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}, {Name: "/gc/heap/live:bytes"}}
	metrics.Read(sample)
	for i, most := range []uint64{s.mostHeld, mostKept} {
		if sample[i].Value.Kind() == metrics.KindUint64 && s.err == nil && sample[i].Value.Uint64() > most {
			s.err = TooLarge{Bytes: most}
		}
	}
}
