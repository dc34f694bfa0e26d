// Package netfiletest makes networks of text for tests.
package netfiletest

import (
	"testing"

	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
)

// Parse returns the network that a text says, or ends the test with what is wrong in it.
func Parse(tb testing.TB, text string) *network.Network {
	tb.Helper()
	n, err := netfile.Parse("test.yaml", []byte(text))
	if err != nil {
		tb.Fatalf("%v\n%s", err, text)
	}
	return n
}
