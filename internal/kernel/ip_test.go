package kernel

import (
	"encoding/binary"
	"math/rand/v2"
	"net/netip"
	"testing"
)

// Headers are read as RFC 791 and RFC 8200 lay them out, byte by byte; what is cut off anywhere is none.
func TestHeadersAreReadAsTheyAreLaidOut(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 6))
	for range 5000 {
		b := make([]byte, random.IntN(70))
		for i := range b {
			b[i] = byte(random.Uint32())
		}
		if len(b) > 0 && random.IntN(4) > 0 {
			b[0] = byte([]int{4, 6, 6, 5}[random.IntN(4)]<<4 | []int{5, 5, 6, 15, 4, 0}[random.IntN(6)])
		}
		var want IPHeader
		is := false
		switch {
		case len(b) >= 20 && b[0]>>4 == 4 && b[0]&15 >= 5 && len(b) >= int(b[0]&15)*4:
			is = true
			source, _ := netip.AddrFromSlice(b[12:16])
			destination, _ := netip.AddrFromSlice(b[16:20])
			want = IPHeader{source, destination, b[9], int(b[1] >> 2), b[int(b[0]&15)*4:]}
		case len(b) >= 40 && b[0]>>4 == 6:
			is = true
			source, _ := netip.AddrFromSlice(b[8:24])
			destination, _ := netip.AddrFromSlice(b[24:40])
			want = IPHeader{source, destination, b[6], int(binary.BigEndian.Uint16(b) >> 6 & 63), b[40:]}
		}
		got, ok := ParseIP(b)
		if ok != is || got.Source != want.Source || got.Destination != want.Destination || got.Protocol != want.Protocol || got.Service != want.Service || string(got.Rest) != string(want.Rest) {
			t.Fatalf("% x: %+v, %v, should be %+v, %v", b, got, ok, want, is)
		}
	}
}
