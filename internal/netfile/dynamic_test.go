package netfile_test

import (
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

const modem = `
network: edge
hosts:
  archive: {address: 10.61.24.5, serves: [https, ssh, udp/53], gateway: rim}
  institute: {address: 203.0.113.200, serves: [https]}
gateways:
  rim:
    interfaces:
      modem: {address: [dynamic, '2001:db8:61::2/64'], zone: outside}
      fibre: {address: 198.51.100.18/29, zone: outside}
      yard: {address: 10.61.24.1/28, zone: yard}
    routes: [{to: default, via: modem, distance: DISTANCE}, {to: default, via: 198.51.100.17, distance: 5}]
    serves: {icmp: [modem]}
    handling: {turn-back: allow, forwards: PERMISSION}
    nat:
      - {port-forward: web, on: outside, service: [https, tcp/2222], to: "archive:443,22", hairpin: true}
      - {port-forward: names, on: modem, service: udp/53, to: archive, from: 203.0.113.0/24}
      - {source-nat: out, on: outside, from: yard, as: interface, ports: 1024-65535}
    filter:
      - {drop: nobody, from: 192.0.2.0/25, service: tcp/22}
      - {allow: in, from: [outside, yard], to: archive}
      - {allow: out, from: yard, to: outside}
`

// Connections of a network with an address that nobody knows fare as they do when it is known, with
// the one in place of the other.
func TestAnUnknownAddressFaresAsAKnownOne(t *testing.T) {
	now := netip.MustParseAddr("203.0.113.77")
	reached := 0
	for seed := range netfiletest.Few(uint64(40), 20) {
		random := rand.New(rand.NewPCG(seed, 1))
		text := strings.NewReplacer("DISTANCE", []string{"1", "9"}[seed%2], "PERMISSION", []string{"need-filter", "carry-permission"}[seed/2%2]).Replace(modem)
		path := filepath.Join(t.TempDir(), "n.yaml")
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		unknown := walk.Compile(netfiletest.Parse(t, text), nil)
		n, _, err := netfile.ReadAs(path, &netfile.Variation{Is: []string{"rim:modem=" + now.String()}})
		if err != nil {
			t.Fatal(err)
		}
		known := walk.Compile(n, nil)
		standIn, ok := unknown.Network().Gateways[0].Interfaces[0].StandIn()
		if !ok || unknown.Network().CheckKnown() == nil || n.CheckKnown() != nil {
			t.Fatal("the address is not told to be unknown")
		}
		swap := func(p header.Packet) header.Packet {
			for _, a := range []*netip.Addr{&p.Source, &p.Destination} {
				if *a == standIn {
					*a = now
				}
			}
			return p
		}
		ends := []string{"10.61.24.5", "10.61.24.9", "203.0.113.200", "192.0.2.9", "8.8.8.8", "198.51.100.18", standIn.String(), "10.61.24.1", "198.51.100.20"}
		for range 200 {
			c := walk.Connection{Packet: header.Packet{Source: netip.MustParseAddr(ends[random.IntN(5)]), Destination: netip.MustParseAddr(ends[random.IntN(len(ends))]),
				SourcePort: uint16(1 + random.IntN(2000)), DestinationPort: []uint16{22, 53, 443, 2222}[random.IntN(4)], Protocol: []header.Protocol{header.TCP, header.UDP}[random.IntN(2)]}}
			if c.Packet.Source == c.Packet.Destination {
				continue
			}
			from, err := unknown.Locate(c.Packet.Source)
			if err != nil {
				t.Fatal(err)
			}
			c.From = from
			a := unknown.NewWalk().Verdict(c)
			c.Packet = swap(c.Packet)
			if c.From, err = known.Locate(c.Packet.Source); err != nil {
				t.Fatal(err)
			}
			b := known.NewWalk().Verdict(c)
			if a.Outcome != b.Outcome || a.To.Name() != b.To.Name() || a.At.Name() != b.At.Name() || a.Step != b.Step || swap(a.Delivered) != b.Delivered || swap(a.Answered) != b.Answered {
				t.Fatalf("seed %d: %s -> %s is %s at %s where nobody knows the address, %s at %s where it is known", seed, c.Packet.From(), c.Packet.To(), a.Outcome, a.At.Name(), b.Outcome, b.At.Name())
			}
			if a.Outcome == engine.Reached {
				reached++
			}
		}
	}
	if reached < 1000 {
		t.Errorf("only %d connections reached anybody", reached)
	}
}
