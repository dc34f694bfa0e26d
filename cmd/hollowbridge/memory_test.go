package main

import "testing"

func TestTheCollectorWaitsForNoMoreThanItsRoom(t *testing.T) {
	for alive, want := range map[uint64]int{0: 200, 1 << 20: 200, 256 << 20: 200, 512 << 20: 100, 1 << 30: 50, 2 << 30: 25, 1 << 45: 0} {
		if got := percent(alive); got != want {
			t.Errorf("with %d MB: %d %%, want %d", alive>>20, got, want)
		}
	}
}
