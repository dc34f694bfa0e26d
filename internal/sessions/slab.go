package sessions

// A slab is values by number, that are never moved: it grows by chunks.
type slab[T any] struct {
	arena  *arena[T]
	chunks []*[chunk]T
	size   int32
	free   []int32
}

const chunk = 256

// at returns a value by its number.
func (s *slab[T]) at(n int32) *T { return &s.chunks[n/chunk][n%chunk] }

// next returns the number of a value that is not used. It holds what it held before.
func (s *slab[T]) next() int32 {
	if last := len(s.free) - 1; last >= 0 {
		n := s.free[last]
		s.free = s.free[:last]
		return n
	}
	if int(s.size) == len(s.chunks)*chunk {
		s.chunks = append(s.chunks, (*[chunk]T)(s.arena.take(chunk)))
	}
	s.size++
	return s.size - 1
}

// warm brings the value that next will return nearer to the processor. Reads that do not depend on
// each other are waited for together: who is about to look at something else far away gets
// this for nothing, and does not wait when the value is written.
func (s *slab[T]) warm() {
	n := s.size
	if last := len(s.free) - 1; last >= 0 {
		n = s.free[last]
	}
	if int(n) < len(s.chunks)*chunk {
		touch(s.at(n))
	}
}

// give makes a value free for others.
func (s *slab[T]) give(n int32) { s.free = append(s.free, n) }
