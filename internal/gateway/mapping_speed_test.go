package gateway_test

import (
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"hollowbridge/internal/gateway"
	"hollowbridge/internal/portmap"
	"hollowbridge/internal/portmap/pcp"
)

const crowd = `network: crowd
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      staff: {address: 10.61.0.1/16, zone: staff}
    routes: [{to: default, via: 198.51.100.17}]
    mappings:
      {protocols: [pcp], on: [staff], external: fibre, at-most: 1000000, rules: [{allow: staff, lifetime: 1h}]}
`

// BenchmarkMappings asks a simulated gateway by PCP over loopback, from many clients: what is granted
// is in force and in the state before it is answered. The table has mappings beside those that are
// asked for.
func BenchmarkMappings(b *testing.B) {
	for _, beside := range []int{0, 100_000} {
		for _, kind := range []string{"renewed", "granted"} {
			b.Run(fmt.Sprintf("%s/beside=%d", kind, beside), func(b *testing.B) { benchmarkMappings(b, beside, kind == "renewed") })
		}
	}
}

func benchmarkMappings(b *testing.B, beside int, renews bool) {
	const clients, window = 2000, 250
	port := uint16(25351)
	s, err := gateway.Start(gateway.Options{Gateway: "rim", Folder: b.TempDir(), Keeping: gateway.UsualKeeping, Trouble: func(err error) { b.Error(err) },
		Asking: portmap.Ports{PCP: port, SSDP: port + 1, HTTP: port + 2}, Loopback: true,
		Backend: func(r gateway.Recorder) (gateway.Backend, error) { return gateway.NewSimulated(r), nil }})
	if err != nil {
		b.Fatal(err)
	}
	defer s.Stop(false)
	made, err := s.Prepare(gateway.Proposal{Bundle: bundle(crowd)})
	if err == nil {
		_, err = s.Commit(gateway.Commit{Token: made.Token})
	}
	if err != nil {
		b.Fatal(err)
	}
	conns := make([]*net.UDPConn, clients)
	for i := range conns {
		own := netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 61, byte(1 + i/250), byte(2 + i%250)}), 0)
		if conns[i], err = net.DialUDP("udp4", net.UDPAddrFromAddrPort(own), net.UDPAddrFromAddrPort(netip.AddrPortFrom(netip.MustParseAddr("127.61.0.1"), port))); err != nil {
			b.Skip(err)
		}
		defer conns[i].Close()
	}
	var answered atomic.Int64
	// ask asks once for some clients, a window of them at a time, and waits for the answers.
	ask := func(from, to int, number func(client int) int, protocol uint8) {
		buffer := make([]byte, pcp.MostSize)
		for first := from; first < to; first += window {
			some := conns[first:min(first+window, to)]
			for i, c := range some {
				n := number(first + i)
				m := pcp.Message{Opcode: pcp.Map, Client: c.LocalAddr().(*net.UDPAddr).AddrPort().Addr(), Lifetime: 3600, Protocol: protocol, InternalPort: uint16(1024 + n%60000), Nonce: pcp.Nonce{1}}
				c.Write(m.Append(nil))
			}
			for _, c := range some {
				c.SetReadDeadline(time.Now().Add(2 * time.Second))
				n, err := c.Read(buffer)
				if err != nil {
					continue // over the limit of a client, or lost
				}
				if got, err := pcp.ParseResponse(buffer[:n]); err == nil && got.Result == pcp.Success {
					answered.Add(1)
				}
			}
		}
	}
	round := func(number func(client int) int, protocol uint8) {
		var asking sync.WaitGroup
		const parts = 4
		for part := range parts {
			asking.Go(func() { ask(clients*part/parts, clients*(part+1)/parts, number, protocol) })
		}
		asking.Wait()
	}
	for n := 0; n < beside; n += clients {
		round(func(int) int { return n / clients / 2 }, []uint8{6, 17}[n/clients%2])
		time.Sleep(10 * time.Millisecond)
	}
	rounds := (b.N + clients - 1) / clients
	answered.Store(0)
	b.ResetTimer()
	for r := range rounds {
		round(func(int) int {
			if renews {
				return 0
			}
			return 100 + r
		}, 6)
	}
	b.StopTimer()
	b.ReportMetric(float64(answered.Load())/b.Elapsed().Seconds(), "answered/s")
	b.ReportMetric(float64(len(s.Mappings().Mappings)), "mappings")
}
