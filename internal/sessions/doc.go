// Package sessions is the memory of a running gateway: millions of sessions with their
// timeouts, and the ports that translated sources have.
//
// A Store is the engine's State. It is split into shards with a lock each, so that many
// goroutines can use it. A session lies in the shard of its first packet. The packets that answer
// it are found by an index of their own, which says where it lies. The port that a machine has is
// found by the machine, and which ports are free by the outside address: only these two locks
// are ever held at once, always in this order. What one of them says of what has gone meanwhile
// is noticed by its generation.
//
// IPv4 and IPv6 are apart (half.go), as no session has addresses of both.
//
// Everything is in slices of values without pointers, which the garbage collector passes
// over: some 250 bytes a session of IPv4, and 360 one of IPv6. They come from an arena that is mapped in large pages, and
// the processor is asked for what a session will lie in as soon as it is known where that is.
//
// Timeouts differ by protocol and phase, and all of one phase are equally long: so the
// sessions of a phase, in the order in which they were last used, are a list from which the
// first fall out. Nothing is scanned.
//
// Free ports are found by a bitmap with a summary above it (a van Emde Boas layout of two
// levels of 64): a few words are looked at, however full it is.
package sessions
