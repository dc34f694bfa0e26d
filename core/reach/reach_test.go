package reach_test

import (
	"testing"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile"
)

func parse(tb testing.TB, text string) *network.Network {
	tb.Helper()
	n, err := netfile.Parse("test.yaml", []byte(text))
	if err != nil {
		tb.Fatalf("%v\n%s", err, text)
	}
	return n
}

func BenchmarkReach(b *testing.B) {
	for _, rules := range []int{1000, 3000} {
		b.Run("", func(b *testing.B) {
			n := parse(b, gen.Large(1, rules))
			from, err := netfile.ParseExpression(n, "internet")
			if err != nil {
				b.Fatal(err)
			}
			e := engine.Compile(n)
			for b.Loop() {
				if _, err := reach.Find(e, reach.Question{From: &from, Moment: network.Always}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
