package lab

import (
	"net/netip"
	"testing"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile/netfiletest"
)

const vineyard = `network: steepvine
hosts:
  vat: {address: 10.20.1.5, serves: ssh}
gateways:
  press:
    interfaces:
      line: {address: 198.51.100.34/29, zone: outside}
      cellar: {address: 10.20.1.1/24, zone: cellar}
    routes: [{to: default, via: 198.51.100.33}]
    nat: [{source-nat: out, on: line, from: cellar, as: interface}]
    filter:
      - {allow: cellar-out, from: cellar, to: outside}
      - {allow: vendor, from: outside, to: vat, service: ssh}
`

// Machines beside an uplink, and the next hop with whatever address, hand packets to the gateway; and what others send goes its
// usual ways all the while.
func TestPacketsAreHandedToAGateway(t *testing.T) {
	if testing.Short() {
		t.Skip("it sends packets")
	}
	e := walk.Compile(netfiletest.Parse(t, vineyard), nil)
	l, err := Build(e, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	line := e.Network().Gateways[0].Interface("line")
	number := 0
	send := func(from, to string, s header.Service, straight bool, want Answer) {
		t.Helper()
		number++
		p := header.Packet{Source: netip.MustParseAddr(from), Destination: netip.MustParseAddr(to), SourcePort: uint16(40000 + number), DestinationPort: s.Ports.First, Protocol: s.Protocol}
		c := walk.Connection{Packet: p, From: e.Behind(line, p.Source)}
		if !straight {
			c.From, err = e.Locate(p.Source)
		}
		if r := l.Send(c, number, time.Second); r.Answer != want {
			t.Errorf("%s -> %s: %s %v, should be %s", p.From(), p.To(), r.Answer, r.Err, want)
		}
	}
	ssh, ping := header.ServiceAt(header.TCP, 22), header.ServiceAt(header.ICMP, 0)
	for range 2 {
		send("10.20.1.7", "192.0.2.9", ping, false, Answered)
		send("198.51.100.36", "10.20.1.5", ssh, true, Answered)
		send("10.20.1.7", "192.0.2.9", ping, false, Answered)
		send("198.51.100.33", "10.20.1.5", ssh, true, Answered)
		send("10.20.1.7", "192.0.2.9", ping, false, Answered)
		send("203.0.113.9", "10.20.1.5", ssh, true, Answered)
		send("10.20.1.7", "192.0.2.9", ping, false, Answered)
		send("203.0.113.9", "10.20.1.5", ssh, false, Unsent) // the internet does not carry it
		send("198.51.100.36", "10.20.1.5", ssh, false, Silence)
		send("203.0.113.9", "10.20.1.6", ssh, true, Silence)
	}
}
