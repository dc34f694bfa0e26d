package lab

import (
	"fmt"
	"net/netip"
	"os"
	"strings"
	"testing"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/kernel"
	"hollowbridge/internal/netfile/netfiletest"

	"golang.org/x/sys/unix"
)

func TestMain(m *testing.M) { os.Exit(Main(m.Run)) }

// Whatever comes by a wire is read, or passed over.
func FuzzParse(f *testing.F) {
	f.Add([]byte{0x45, 0, 0, 40, 0, 0, 0, 0, 64, 6, 0, 0, 10, 0, 0, 1, 10, 0, 0, 2, 0, 80, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x50, 2})
	f.Add(append([]byte{0x60, 0, 0, 0, 0, 8, 58, 64}, make([]byte, 40)...))
	f.Fuzz(func(t *testing.T, b []byte) {
		if s, ok := parse(b); ok && !s.Packet.Source.IsValid() {
			t.Errorf("%x: no source", b)
		}
	})
}

func TestPrefixesOfAreTheSet(t *testing.T) {
	for _, text := range []string{"10.0.0.1-10.0.0.6", "0.0.0.0-255.255.255.255", "fd00::1-fd00::ffff", "192.0.2.7-192.0.2.7"} {
		r, err := header.ParseRange(text)
		if err != nil {
			t.Fatal(err)
		}
		set := header.AddressesOf(r)
		if got := header.AddressesOfPrefixes(prefixesOf(set)...); !got.Equal(set) {
			t.Errorf("%s: %s", text, got)
		}
	}
}

// A new connection through a gateway with many rules: a packet each, from a port of its own,
// through a forward and a filter rule.
func BenchmarkNewConnection(b *testing.B) {
	for _, rules := range []int{10, 10000} {
		b.Run(fmt.Sprint(rules), func(b *testing.B) {
			n := netfiletest.Parse(b, gen.Large(1, rules))
			client, rim, err := between(n.Gateways[0], walk.Compile(n, nil))
			if err != nil {
				b.Fatal(err)
			}
			client.do(func() error {
				i := 0
				for b.Loop() {
					i++
					p := header.Packet{
						Source: netip.AddrFrom4([4]byte{203, byte(i >> 16), byte(i >> 8), byte(i)}), SourcePort: uint16(1024 + i%60000), Protocol: header.TCP,
						Destination: netip.MustParseAddr(gen.LargeOutside(i % rules)), DestinationPort: uint16(gen.LargePort(i % rules)),
					}
					send(b, p)
				}
				return nil
			})
			passed := uint64(0)
			counted, err := rim.Counters()
			if err != nil {
				b.Fatal(err)
			}
			for _, c := range counted {
				if strings.HasPrefix(c.Name, "nat/") {
					passed += c.Packets
				}
			}
			if passed < uint64(b.N)/2 {
				b.Fatalf("only %d of %d connections came to a forward", passed, b.N)
			}
		})
	}
}

// send sends the first packet of a connection, from any address.
func send(b *testing.B, p header.Packet) {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		b.Fatal(err)
	}
	defer unix.Close(fd)
	unix.SetsockoptInt(fd, unix.SOL_IP, unix.IP_TRANSPARENT, 1)
	if err := unix.Bind(fd, sockaddr(p.Source, p.SourcePort)); err != nil {
		b.Fatal(err)
	}
	unix.Connect(fd, sockaddr(p.Destination, p.DestinationPort))
}

// between builds a gateway of a large network with one machine on either side, and returns the
// one outside, and the gateway's kernel.
func between(g *network.Gateway, e *walk.Engine) (*node, *kernel.Machine, error) {
	rim, err := newNode(g.Name)
	if err != nil {
		return nil, nil, err
	}
	if err := rim.forwards(); err != nil {
		return nil, nil, err
	}
	var client *node
	for _, i := range g.Interfaces {
		machine, err := newNode(i.Name)
		if err != nil {
			return nil, nil, err
		}
		own, other, err := connect(rim, machine, DeviceOf(i), "eth0", i.Name)
		if err != nil {
			return nil, nil, err
		}
		if err := own.address(i.Addresses[0].Addr()); err != nil {
			return nil, nil, err
		}
		if i.IsUplink() {
			client = machine
			err = machine.route(way{to: i.Addresses[0].Masked(), out: other, via: i.Addresses[0].Addr()})
		} else {
			err = rim.route(way{to: i.Addresses[0].Masked(), out: own})
		}
		if err != nil {
			return nil, nil, err
		}
		if err := machine.route(way{to: netip.MustParsePrefix("0.0.0.0/0"), kind: unix.RTN_LOCAL}); err != nil {
			return nil, nil, err
		}
	}
	p, _, err := kernel.Compile(e.Gateway(g), kernel.Options{Device: DeviceOf})
	if err != nil {
		return nil, nil, err
	}
	m, err := kernel.OpenMachine(rim.space)
	if err != nil {
		return nil, nil, err
	}
	return client, m, m.Apply(p)
}
