package sessions

import "unsafe"

// A slab is values by number, that are never moved: it grows by chunks.
type slab[T any] struct {
	arena  *arena // nil for values with pointers
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
	if s.size%chunk == 0 {
		s.grow()
	}
	s.size++
	return s.size - 1
}

// grow adds a chunk.
func (s *slab[T]) grow() {
	if s.arena == nil {
		s.chunks = append(s.chunks, new([chunk]T))
	} else {
		s.chunks = append(s.chunks, (*[chunk]T)(take[T](s.arena, chunk)))
	}
}

// warm asks the processor for the value that next will return.
func (s *slab[T]) warm() {
	n := s.size
	if last := len(s.free) - 1; last >= 0 {
		n = s.free[last]
	}
	if int(n) >= len(s.chunks)*chunk {
		return
	}
	prefetchAll(s.at(n))
}

// prefetchAll asks the processor for all lines that a value lies in.
func prefetchAll[T any](value *T) {
	at := uintptr(unsafe.Pointer(value))
	for end := at + unsafe.Sizeof(*value); at < end; at = at&^(line-1) + line {
		prefetch(at)
	}
}

// give makes a value free for others.
func (s *slab[T]) give(n int32) { s.free = append(s.free, n) }
