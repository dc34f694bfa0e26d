package gateway_test

import (
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/internal/gateway"
)

// busy is a gateway with room for a million sessions.
var busy = strings.Replace(strings.Replace(house, "198.51.100.18/29", "198.18.0.1/15", 1), "via: 198.51.100.17", "via: 198.18.0.2", 1)

// stranger is a packet of a connection of its own.
func stranger(n int) header.Packet {
	return header.Packet{
		Source: netip.AddrFrom4([4]byte{203, byte(n >> 16), byte(n >> 8), byte(n)}), SourcePort: uint16(1024 + n%60000),
		Destination: netip.MustParseAddr("198.18.0.1"), DestinationPort: 443, Protocol: header.TCP,
	}
}

// New connections through one gateway on all cores, with logging off and with each one logged.
func BenchmarkConnections(b *testing.B) {
	for name, text := range map[string]string{"silent": strings.Replace(busy, "enabled: true", "enabled: false", 1), "logged": busy} {
		b.Run(name, func(b *testing.B) {
			_, simulated := service(b, text)
			var next atomic.Int64
			begun := time.Now()
			b.RunParallel(func(p *testing.PB) {
				for p.Next() {
					if _, err := simulated.Decide("fibre", stranger(int(next.Add(1))), netip.Addr{}, header.Begins, 60); err != nil {
						b.Error(err)
					}
				}
			})
			b.ReportMetric(float64(next.Load())/time.Since(begun).Seconds(), "connections/s")
		})
	}
}

// What is asked of a million sessions, and of a million events.
func BenchmarkQuestions(b *testing.B) {
	s, simulated := service(b, busy)
	var filling sync.WaitGroup
	for w := range 2 {
		filling.Go(func() {
			for i := w; i < 1_000_000; i += 2 {
				if _, err := simulated.Decide("fibre", stranger(i), netip.Addr{}, header.Begins, 60); err != nil {
					b.Error(err)
				}
				if i%20_000 < 2 {
					time.Sleep(100 * time.Millisecond) // so that all are written down
				}
			}
		})
	}
	filling.Wait()
	one := header.Single(netip.AddrFrom4([4]byte{203, 7, 7, 7}))
	f := &gateway.Filter{Address: &one}
	log, err := s.Log(&gateway.Filter{}, 1, true, 0)
	if err != nil {
		b.Fatal(err)
	}
	found, err := s.Sessions(f, 200)
	if err != nil || found.Count != 1 {
		b.Fatalf("%d sessions, %v", found.Count, err)
	}
	b.Run(fmt.Sprintf("sessions of %d", s.Status().Sessions), func(b *testing.B) {
		for b.Loop() {
			s.Sessions(f, 200)
		}
	})
	b.Run(fmt.Sprintf("log of %d", log.Count), func(b *testing.B) {
		for b.Loop() {
			s.Log(f, 200, false, 0)
		}
	})
}
