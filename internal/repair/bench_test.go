package repair_test

import (
	"net/netip"
	"os"
	"path/filepath"
	"testing"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/repair"
)

func BenchmarkRepairsOfTheDemo(b *testing.B) {
	path := filepath.Join("..", "..", "examples", "fernhollow", "hollowbridge.yaml")
	text, err := os.ReadFile(path)
	if err != nil {
		b.Fatal(err)
	}
	n, err := netfile.Parse(path, text)
	if err != nil {
		b.Fatal(err)
	}
	c := engine.Connection{From: engine.Place{Internet: true}, Moment: network.Always, Packet: header.Packet{
		Source: netip.MustParseAddr("192.0.2.1"), Destination: netip.MustParseAddr("198.51.100.18"), SourcePort: 40000, DestinationPort: 8081, Protocol: header.TCP,
	}}
	t := engine.Compile(n).NewWalk().Trace(c)
	for b.Loop() {
		bench, err := repair.NewBench(path, n, 4000)
		if err != nil {
			b.Fatal(err)
		}
		if found := bench.ForTrace(t); len(found) == 0 || !found[0].Compared {
			b.Fatal(found)
		}
	}
}
