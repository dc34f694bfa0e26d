package words_test

import (
	"fmt"
	"net/netip"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/netfile"
)

const cottage = `network: cottage
hosts:
  archive: {address: 10.61.24.5, serves: [https]}
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      yard: {address: 10.61.24.1/28, zone: yard}
    routes: [{to: default, via: 198.51.100.17}]
    nat: [{port-forward: web, on: fibre, service: https, to: archive}]
    filter: [{allow: web, from: outside, to: archive, service: https}]
`

// A connection is walked through the whole network, there and back.
func ExampleTraceOf() {
	n, err := netfile.Parse("cottage.yaml", []byte(cottage))
	if err != nil {
		panic(err)
	}
	trace := words.TraceOf(walk.Compile(n, nil).NewWalk(), walk.Connection{
		Packet: header.Packet{
			Source: netip.MustParseAddr("192.0.2.7"), SourcePort: header.UsualSourcePort,
			Destination: netip.MustParseAddr("198.51.100.18"), DestinationPort: 443, Protocol: header.TCP,
		},
		From: network.Place{Internet: true},
	})

	for _, s := range trace.Steps {
		fmt.Println(strings.Join(strings.Fields(s.At+" "+s.Label+" "+s.Rule+s.Route+" "+s.Text), " "))
	}
	fmt.Println(trace.Outcome, trace.To.Name())
	// Output:
	// rim arrives on fibre (outside)
	// rim redirect web 198.51.100.18:443 -> 10.61.24.5:443
	// rim route 10.61.24.0/28 connected, leaves by yard
	// rim allow web
	// rim source kept
	// archive serves https
	// rim session 10.61.24.5:443 -> 198.51.100.18:443
	// reached archive
}
