//go:build amd64 || arm64

package sessions

// prefetch asks the processor for the line of memory that an address lies in, without waiting for it; any
// address will do. Who is about to look at something far away asks for it as soon as it is known where
// that is, and does something else meanwhile. A read would not do: the next lock waits for all reads.
func prefetch(at uintptr)
