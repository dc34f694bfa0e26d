package walk_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

func BenchmarkVerdict(b *testing.B) {
	for _, rules := range []int{100, 1000, 10000, 100000} {
		b.Run(fmt.Sprint(rules), func(b *testing.B) {
			e := walk.Compile(netfiletest.Parse(b, gen.Large(1, rules)), nil)
			way, connections := e.NewWalk(), netfiletest.LargeConnections(rules)
			b.ReportAllocs()
			i := 0
			for b.Loop() {
				way.Verdict(connections[i%len(connections)])
				i++
			}
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "verdicts/s")
		})
	}
}

func BenchmarkCompile(b *testing.B) {
	n := netfiletest.Parse(b, gen.Large(1, 10000))
	b.ReportAllocs()
	for b.Loop() {
		walk.Compile(n, nil)
	}
}

func BenchmarkReadAndCompile(b *testing.B) {
	text := []byte(gen.Large(1, 10000))
	b.ReportAllocs()
	for b.Loop() {
		n, err := netfile.Parse("large.yaml", text)
		if err != nil {
			b.Fatal(err)
		}
		walk.Compile(n, nil)
	}
}

func TestVerdictAllocatesNothing(t *testing.T) {
	e := walk.Compile(netfiletest.Parse(t, gen.Large(1, 1000)), nil)
	way, connections := e.NewWalk(), netfiletest.LargeConnections(1000)
	i := 0
	if allocs := testing.AllocsPerRun(2000, func() {
		way.Verdict(connections[i%len(connections)])
		i++
	}); allocs > 0 {
		t.Errorf("a verdict allocates %v times", allocs)
	}
}

// On a large network the tables and the reference agree too.

// BenchmarkMappings finds mappings among few and among many: the cost must not grow with them, but
// for the machine's caches.
func BenchmarkMappings(b *testing.B) {
	n := netfiletest.Parse(b, `network: one
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      staff: {address: 10.0.0.1/8, zone: staff}
    routes: [{to: default, via: 198.51.100.17}]
`)
	fibre := n.Gateways[0].Interfaces[0]
	for _, count := range []int{1_000, 100_000} {
		var mappings engine.MappingTable
		var packets []header.Packet
		for i := range count {
			outside := netip.AddrPortFrom(netip.AddrFrom4([4]byte{198, 51, 100, byte(18 + i>>16)}), uint16(i))
			inside := netip.AddrPortFrom(netip.AddrFrom4([4]byte{10, 0, byte(i >> 8), byte(i)}), 2000)
			mappings.Put(network.NewMapping(fibre, header.TCP, outside, inside, nil, network.PCP, inside.Addr()))
			packets = append(packets, header.Packet{Source: netip.MustParseAddr("203.0.113.9"), SourcePort: 40000, Destination: outside.Addr(), DestinationPort: outside.Port(), Protocol: header.TCP})
		}
		rand.New(rand.NewPCG(1, 1)).Shuffle(count, func(i, k int) { packets[i], packets[k] = packets[k], packets[i] })
		b.Run(fmt.Sprint(count), func(b *testing.B) {
			for i := range b.N {
				if mappings.Find(fibre, &packets[i%count]) == nil {
					b.Fatal("it is not found")
				}
			}
		})
	}
}

// A forgetful state has no session, and every port is free.
type forgetful struct{}

func (forgetful) Find(*header.Packet, header.Part, int, *engine.Session) (engine.Direction, bool) {
	return engine.Forth, false
}
func (forgetful) Mapped(*network.Interface, *header.Packet) *engine.Mapping { return nil }
func (forgetful) Take(l *engine.Lease, grant *engine.Grant) bool {
	first, ok := l.Pool.First()
	*grant = engine.Grant{Address: first, Port: l.Packet.SourcePort, Alone: true}
	return ok
}
func (forgetful) Distinct(final header.Packet, _ header.Ports, _ network.MappingBehavior) (uint16, bool) {
	return final.SourcePort, true
}
func (forgetful) Keep(*engine.Session) bool { return true }

// BenchmarkDecide is what a gateway alone decides, without the internet, the host and the way back.
func BenchmarkDecide(b *testing.B) {
	for _, rules := range []int{100, 1000, 10000, 100000} {
		b.Run(fmt.Sprint(rules), func(b *testing.B) {
			n := netfiletest.Parse(b, gen.Large(1, rules))
			g, connections := walk.Compile(n, nil).Gateway(n.Gateways[0]), netfiletest.LargeConnections(rules)
			var log engine.Log
			a := engine.Arrival{In: n.Gateways[0].Interfaces[0], Part: header.Begins}
			b.ReportAllocs()
			i := 0
			for b.Loop() {
				a.Packet = connections[i%len(connections)].Packet
				g.Decide(&a, forgetful{}, &log)
				i++
			}
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "decisions/s")
		})
	}
}
