package cli

import (
	"testing"
	"time"
)

// RFC 6887, 11.2.1.
func TestRenewalsComeInTime(t *testing.T) {
	for range 1000 {
		for left, most := range map[time.Duration]time.Duration{time.Hour: 37*time.Minute + 30*time.Second, 8 * time.Second: 5 * time.Second, time.Second: 4 * time.Second} {
			if got := renewal(left); got < max(left/2, 4*time.Second) || got > most {
				t.Fatalf("%v are left, and it is renewed after %v", left, got)
			}
		}
	}
}
