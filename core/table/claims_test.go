package table

import (
	"math/rand/v2"
	"net/netip"
	"testing"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// An address is claimed where it is among the addresses of a rule without hours, or of one that is active.
func TestClaimsAreThoseOfTheRules(t *testing.T) {
	at := func(v6 bool, i int) netip.Addr {
		if v6 {
			return netip.AddrFrom16([16]byte{0x20, 1, 15: byte(i)})
		}
		return netip.AddrFrom4([4]byte{198, 51, 100, byte(i)})
	}
	whens := []*network.Schedule{{Text: "early", First: 0, Last: 599}, {Text: "late", First: 600, Last: 1439}}
	for i := range whens {
		for day := range whens[i].Days {
			whens[i].Days[day] = true
		}
	}
	for seed := range uint64(200) {
		random := rand.New(rand.NewPCG(seed, 71))
		var always []header.Range
		var list []Hourly
		for range random.IntN(30) {
			v6 := random.IntN(3) == 0
			first := random.IntN(60)
			r := header.Range{First: at(v6, first), Last: at(v6, first+random.IntN(1+random.IntN(30)))}
			if random.IntN(4) == 0 {
				always = append(always, r)
			} else {
				list = append(list, Hourly{r, &network.Rule{When: whens[random.IntN(2)], Disabled: random.IntN(8) == 0}})
			}
		}
		plain := append([]Hourly{}, list...)
		c := NewClaims(always, list)
		for _, moment := range []network.Moment{network.MomentOf(2, 300), network.MomentOf(2, 900)} {
			all := c.At(moment)
			for i := range 200 {
				a := at(i >= 100, i%100)
				want := header.AddressesOf(always...).Contains(a)
				for _, one := range plain {
					want = want || one.Rule.Active(moment) && header.AddressesOf(one.Range).Contains(a)
				}
				if got := c.Hold(a, moment); got != want || all.Contains(a) != want {
					t.Fatalf("seed %d: %s is claimed at %v: %v, among all %v, want %v", seed, a, moment, got, all.Contains(a), want)
				}
			}
		}
	}
}
