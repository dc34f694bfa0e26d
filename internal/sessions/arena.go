package sessions

import (
	"sync"
	"sync/atomic"
	"unsafe"

	"golang.org/x/sys/unix"
)

// An arena hands out slices that lie side by side in regions. A store of a million sessions is all
// over some 300 MB, and each look at it is somewhere else: in pages of 4 kB the processor would walk
// the page table at nearly every one, so the kernel is asked for large pages, which it gives only to
// regions that are large themselves.
type arena[T any] struct {
	mutex   sync.Mutex
	regions map[int]*region[T] // by the length of the slices
}

// Memory is what a store takes its own from.
type memory struct {
	entries arena[entry]
	uses    arena[use]
	groups  arena[group]
	slots   arena[tableSlot]
}

// A region is what is left of one.
type region[T any] struct {
	rest []T
	next int // how many slices the next one has
}

// The first region of a length is of leastRegion bytes, each further one twice as large, up to
// mostRegion; but each has room for one slice.
const (
	leastRegion = 64 << 10
	mostRegion  = 32 << 20
)

const largePage = 2 << 20

// take returns a slice of zero values that nobody else has. When nobody holds a slice of a region
// any longer, it is freed.
func (a *arena[T]) take(length int) []T {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	bytes := length * int(unsafe.Sizeof(*new(T)))
	r := a.regions[length]
	if r == nil {
		if a.regions == nil {
			a.regions = map[int]*region[T]{}
		}
		r = &region[T]{next: max(1, leastRegion/bytes)}
		a.regions[length] = r
	}
	if len(r.rest) == 0 {
		r.rest = make([]T, r.next*length)
		inLargePages(r.rest)
		r.next = max(1, min(2*r.next, mostRegion/bytes))
	}
	taken := r.rest[:length:length]
	if r.rest = r.rest[length:]; len(r.rest) == 0 {
		r.rest = nil // a slice of nothing would hold the region
	}
	fill(taken)
	return taken
}

// fill writes into each large page that some memory lies in. One that is read first is a page of zeroes that all
// share, and when it is written the kernel makes small pages of it.
func fill[T any](memory []T) {
	var zero T
	for i := 0; i < len(memory); i += max(1, largePage/int(unsafe.Sizeof(zero))) {
		memory[i] = zero
	}
	memory[len(memory)-1] = zero
}

// touch reads each line of memory that a value is in.
func touch[T any](value *T) {
	const line = 64
	size := unsafe.Sizeof(*value)
	for at := uintptr(0); at < size; at += line {
		atomic.LoadUint32((*uint32)(unsafe.Add(unsafe.Pointer(value), at))) // a read that is not left out
	}
	atomic.LoadUint32((*uint32)(unsafe.Add(unsafe.Pointer(value), size-4)))
}

// inLargePages asks the kernel for large pages for as much of some memory as pages of 4 kB lie
// wholly in; where it has none to give, nothing changes (Linux, Documentation/admin-guide/mm/transhuge.rst).
func inLargePages[T any](memory []T) {
	const page, enough = 4 << 10, 4 << 20
	bytes := unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(memory))), len(memory)*int(unsafe.Sizeof(*new(T))))
	if skip := -int(uintptr(unsafe.Pointer(unsafe.SliceData(bytes)))) & (page - 1); len(bytes) >= enough {
		bytes = bytes[skip:]
		_ = unix.Madvise(bytes[:len(bytes)&^(page-1)], unix.MADV_HUGEPAGE)
	}
}
