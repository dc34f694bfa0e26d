package sessions_test

import (
	"fmt"
	"net/netip"
	"runtime"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile/netfiletest"
	"hollowbridge/internal/sessions"
)

// wide is busy with outside addresses for two million ports.
func wide(tb testing.TB) *network.Network {
	text := strings.Replace(busy, "198.51.100.2/29", "198.18.0.2/15", 1)
	text = strings.Replace(text, "198.51.100.2-198.51.100.5", "198.18.1.0-198.18.1.31", 1)
	return netfiletest.Parse(tb, strings.Replace(text, "198.51.100.1", "198.18.0.1", 1))
}

// filled returns a store in which as many sessions are open.
func filled(tb testing.TB, n *network.Network, c *clock, open int) (*engine.Gateway, *sessions.Store) {
	g, store := walk.Compile(n, nil).Gateway(n.Gateways[0]), sessions.New(n.Gateways[0], c.now)
	var log engine.Log
	for i := range open {
		if d := opened(g, store, &log, i); d.Action != engine.Forwards {
			tb.Fatalf("connection %d: %s", i, d.Outcome)
		}
		c.at += 4 * time.Minute / time.Duration(open)
	}
	return g, store
}

func opened(g *engine.Gateway, store *sessions.Store, log *engine.Log, number int) *engine.Decision {
	a := engine.Arrival{In: g.Interfaces[1]}
	client(&a.Packet, number)
	return g.Decide(&a, store, log)
}

// client makes a packet that of a connection of its own.
func client(p *header.Packet, number int) {
	p.Source = netip.AddrFrom4([4]byte{10, 1 + byte(number>>16), byte(number >> 8), byte(number)})
	p.Destination = netip.AddrFrom4([4]byte{203, 0, byte(number >> 7), byte(number)})
	p.SourcePort, p.DestinationPort, p.Protocol = uint16(1024+number%60000), 443, header.TCP
}

// Opening a session takes about as long with a million as with a thousand: each time the
// oldest times out.
func BenchmarkOpen(b *testing.B) {
	for _, open := range []int{1_000, 1_000_000} {
		b.Run(fmt.Sprint(open), func(b *testing.B) {
			var c clock
			g, store := filled(b, wide(b), &c, open)
			step := 4 * time.Minute / time.Duration(open) // so that the oldest is as old as it can be
			var log engine.Log
			b.ReportAllocs()
			i := open
			for b.Loop() {
				if d := opened(g, store, &log, i); d.Action != engine.Forwards {
					b.Fatalf("connection %d: %s, with %d sessions", i, d.Outcome, store.Count())
				}
				c.at += step
				i = (i + 1) & 0xffffff
			}
		})
	}
}

// A million sessions are opened one after the other: how many in a second, and in a second that a core was given to the
// process, by all of its threads; and the memory that they take. It is done once before it is measured: a new process has
// to wait for its memory, which on a virtual machine may be a quarter of the first time and says nothing of the store.
func BenchmarkFill(b *testing.B) {
	n := wide(b)
	fill := func() (took, used time.Duration, size float64) {
		var c clock
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		start, had := time.Now(), processorTime(b)
		_, store := filled(b, n, &c, 1_000_000)
		took, used = time.Since(start), processorTime(b)-had
		runtime.GC()
		runtime.ReadMemStats(&after)
		runtime.KeepAlive(store)
		return took, used, float64(after.HeapAlloc-before.HeapAlloc) / (1 << 20)
	}
	first, _, _ := fill()
	var took, used time.Duration
	var size float64
	for b.Loop() {
		t, u, s := fill()
		took, used, size = took+t, used+u, s
	}
	million := 1e6 * float64(b.N)
	b.ReportMetric(1e6/first.Seconds(), "first-sessions/s")
	b.ReportMetric(million/took.Seconds(), "sessions/s")
	b.ReportMetric(million/used.Seconds(), "sessions/core-s")
	b.ReportMetric(size, "MiB")
}

// processorTime returns how long cores have worked for the process, and the kernel for it.
func processorTime(tb testing.TB) time.Duration {
	var used unix.Rusage
	if err := unix.Getrusage(unix.RUSAGE_SELF, &used); err != nil {
		tb.Fatal(err)
	}
	return time.Duration(used.Utime.Nano() + used.Stime.Nano())
}

// Deciding about a packet allocates nothing, whether it opens a session or belongs to one.
func TestDecideAllocatesNothing(t *testing.T) {
	var c clock
	g, store := filled(t, wide(t), &c, 5000)
	var log engine.Log
	i := 0
	answer := opened(g, store, &log, 7).Packet.Answer()
	for what, decide := range map[string]func() *engine.Decision{
		"a beginning": func() *engine.Decision { i++; return opened(g, store, &log, i%5000) },
		"an answer": func() *engine.Decision {
			return g.Decide(&engine.Arrival{In: g.Interfaces[0], Packet: answer, Part: header.Answers}, store, &log)
		},
	} {
		if allocs := testing.AllocsPerRun(1000, func() {
			if d := decide(); d.Action != engine.Forwards {
				t.Fatalf("%s: %+v", what, d)
			}
		}); allocs > 0 {
			t.Errorf("%s allocates %v times", what, allocs)
		}
	}
}
