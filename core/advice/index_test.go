package advice

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"hollowbridge/core/header"
)

// What is near a rule has all rules with a port and an address in common with it, in their order, once.
func TestNearIsAllThatHaveAPortAndAnAddressInCommon(t *testing.T) {
	type about struct {
		ports []header.Service
		at    header.Addresses
	}
	for seed := range uint64(200) {
		random := rand.New(rand.NewPCG(seed, 73))
		make := func() (a about) {
			if random.IntN(5) > 0 {
				a.ports = []header.Service{}
				for range random.IntN(4) {
					a.ports = append(a.ports, header.ServiceAt([]header.Protocol{header.TCP, header.UDP}[random.IntN(2)], uint16(80+random.IntN(4))))
				}
			}
			for range random.IntN(3) {
				first, size := random.IntN(40), []int{0, 0, 3, 40}[random.IntN(4)]
				a.at = a.at.Union(header.AddressesOf(header.Range{First: netip.AddrFrom4([4]byte{10, 0, 0, byte(first)}), Last: netip.AddrFrom4([4]byte{10, 0, 0, byte(first + size)})}))
			}
			return a
		}
		x := newIndex()
		var all []about
		for range 40 {
			one := make()
			near := x.near(one.ports, one.at)
			if !slices.IsSorted(near) || len(slices.Compact(slices.Clone(near))) != len(near) {
				t.Fatalf("seed %d: %v", seed, near)
			}
			for n, other := range all {
				common := one.ports == nil || other.ports == nil || slices.ContainsFunc(one.ports, func(s header.Service) bool { return slices.Contains(other.ports, s) })
				if common && one.at.Overlaps(other.at) && !slices.Contains(near, n) {
					t.Fatalf("seed %d: %v of %v is not near %v", seed, other, n, one)
				}
			}
			x.add(one.ports, one.at)
			all = append(all, one)
		}
	}
}
