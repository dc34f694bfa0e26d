package sessions

import (
	"math"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"
)

// An arena hands out memory that lies side by side in regions, and takes it back for others. A store
// of a million sessions is all over some 300 MB, and each look at it is somewhere else: in pages of
// 4 kB the processor would walk the page table at nearly every one, so the kernel is asked for large
// pages, which it gives only to regions that are large themselves. What lies in an arena has no
// pointers: the garbage collector does not look there.
type arena struct {
	mutex sync.Mutex
	rests []rest
	next  int // how many bytes the next region has
}

// A rest is what is left of a region, or was given back.
type rest struct {
	bytes []byte
	used  bool // somebody had it
}

// The first region is of leastRegion bytes, each further one twice as large, up to mostRegion. A rest of less
// than leastRest bytes is left alone.
const (
	leastRegion = 64 << 10
	mostRegion  = 32 << 20
	leastRest   = 4 << 10
)

const largePage = 2 << 20

// line is how many bytes a processor reads at once.
const line = 64

// take returns a slice of zero values that nobody else has.
func take[T any](a *arena, length int) []T {
	size := inLines[T](length)
	a.mutex.Lock()
	bytes, used := a.cut(size)
	a.mutex.Unlock()
	if used {
		clear(bytes)
	} else {
		fill(bytes)
	}
	return unsafe.Slice((*T)(unsafe.Pointer(unsafe.SliceData(bytes))), length)
}

// give takes back what take returned, when nobody looks at it any longer.
func give[T any](a *arena, slice []T) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	a.keep(rest{unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(slice))), inLines[T](len(slice))), true})
}

// inLines returns how many bytes the lines have that so many values take.
func inLines[T any](length int) int {
	return (length*int(unsafe.Sizeof(*new(T))) + line - 1) &^ (line - 1)
}

// cut takes bytes from the smallest rest that has so many, or from a new region.
func (a *arena) cut(size int) (bytes []byte, used bool) {
	best, least := -1, math.MaxInt
	for i, r := range a.rests {
		if n := len(r.bytes); n >= size && n < least {
			best, least = i, n
		}
	}
	var from rest
	if best < 0 {
		from.bytes = region(max(a.next, leastRegion, size))
		a.next = min(2*len(from.bytes), mostRegion)
	} else {
		from = a.rests[best]
		last := len(a.rests) - 1
		a.rests[best], a.rests = a.rests[last], a.rests[:last]
	}
	a.keep(rest{from.bytes[size:], from.used})
	return from.bytes[:size:size], from.used
}

func (a *arena) keep(r rest) {
	if len(r.bytes) >= leastRest {
		a.rests = append(a.rests, r)
	}
}

// fill writes into each large page that some memory lies in. One that is read first is a page of zeroes that all
// share, and when it is written the kernel makes small pages of it.
func fill(memory []byte) {
	for i := 0; i < len(memory); i += largePage {
		memory[i] = 0
	}
	memory[len(memory)-1] = 0
}

// region returns new memory. The kernel is asked for large pages for what is large; where it has none to give, nothing
// changes (Linux, Documentation/admin-guide/mm/transhuge.rst).
func region(size int) []byte {
	const enough = 2 * largePage
	if size < enough {
		return make([]byte, size)
	}
	memory := make([]byte, size+largePage)
	skip := -int(uintptr(unsafe.Pointer(unsafe.SliceData(memory)))) & (largePage - 1)
	memory = memory[skip : skip+size : skip+size]
	_ = unix.Madvise(memory, unix.MADV_HUGEPAGE)
	return memory
}
