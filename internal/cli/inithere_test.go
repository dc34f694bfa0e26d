package cli

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"hollowbridge/internal/kernel"
	"hollowbridge/internal/netfile"
)

// The file of a machine is right, and says just what the machine has.
func TestTheFileOfAMachineIsTheMachine(t *testing.T) {
	for seed := range uint64(500) {
		random := rand.New(rand.NewPCG(seed, 21))
		host := &kernel.Host{Devices: []kernel.Device{{Index: 1, Name: "lo", Up: true, Loopback: true, Addresses: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/8")}}}}
		for n := range 1 + random.IntN(5) {
			d := kernel.Device{Index: n + 2, Name: []string{"eth", "wan.", "3com", "br-"}[random.IntN(4)] + fmt.Sprint(n), Up: random.IntN(5) > 0}
			d.Addresses = append(d.Addresses, netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(n), 1, 1}), 24))
			if random.IntN(2) == 0 {
				d.Addresses = append(d.Addresses, netip.PrefixFrom(netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, byte(n), 15: 1}), 64))
			}
			if n > 0 && random.IntN(3) == 0 && host.Devices[1].VLAN == 0 && host.Devices[1].Up {
				d.VLAN, d.Parent = 10+n, host.Devices[1].Name
			}
			host.Devices = append(host.Devices, d)
			if d.Up && random.IntN(2) == 0 {
				host.Ways = append(host.Ways, kernel.Way{To: netip.MustParsePrefix("0.0.0.0/0"), Via: netip.AddrFrom4([4]byte{10, byte(n), 1, 2}), Device: d.Name, Metric: random.IntN(3) * 100})
			}
			if random.IntN(3) == 0 {
				host.Ways = append(host.Ways, kernel.Way{To: netip.PrefixFrom(netip.AddrFrom4([4]byte{172, 16, byte(n), 0}), 24), Via: netip.AddrFrom4([4]byte{10, byte(n), 1, 3}), Device: d.Name})
			}
		}
		if random.IntN(3) == 0 {
			host.Ways = append(host.Ways, kernel.Way{To: netip.MustParsePrefix("192.0.2.0/24"), Blackhole: true})
		}
		text := fileOf(host, "here", "rim")
		n, err := netfile.Parse("here.yaml", []byte(text))
		if err != nil {
			t.Fatalf("seed %d: %v\n%s", seed, err, text)
		}
		if list := host.Compare(n.Gateways[0], kernel.DeviceOf); len(list) > 0 {
			t.Fatalf("seed %d: %v\n%s", seed, list, text)
		}
		// Whatever is taken from the machine is missed, and what is more there does not matter.
		less := &kernel.Host{Devices: host.Devices, Ways: host.Ways[:len(host.Ways)/2]}
		for _, d := range less.Compare(n.Gateways[0], kernel.DeviceOf) {
			if !d.Matters {
				t.Errorf("seed %d: %+v", seed, d)
			}
		}
		more := &kernel.Host{Devices: append(host.Devices[:len(host.Devices):len(host.Devices)], kernel.Device{Name: "tun9", Up: true, Addresses: []netip.Prefix{netip.MustParsePrefix("10.99.0.1/24")}}), Ways: host.Ways}
		if list := more.Compare(n.Gateways[0], kernel.DeviceOf); len(list) != 1 || list[0].Matters {
			t.Errorf("seed %d: %+v", seed, list)
		}
		for i := 1; i < len(host.Devices); i++ {
			without := &kernel.Host{Devices: append(append([]kernel.Device{}, host.Devices[:i]...), host.Devices[i+1:]...), Ways: host.Ways}
			list, up := without.Compare(n.Gateways[0], kernel.DeviceOf), false
			for _, g := range n.Gateways[0].Interfaces {
				up = up || kernel.DeviceOf(g) == host.Devices[i].Name && g.IsUp()
			}
			if up != (len(list) > 0) {
				t.Errorf("seed %d, without %s: %+v", seed, host.Devices[i].Name, list)
			}
		}
	}
}
