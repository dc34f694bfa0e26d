package sessions_test

import (
	"fmt"
	"net/netip"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/sessions"
)

// A running gateway decides packet by packet, and remembers.
func ExampleRunning() {
	n, err := netfile.Parse("busy.yaml", []byte(busy))
	if err != nil {
		panic(err)
	}
	rim := n.Gateways[0]
	start := time.Now()
	clock := func() time.Duration { return time.Since(start) }
	gateway := sessions.Start(walk.Compile(n, nil).Gateway(rim), sessions.New(rim, clock))

	var log engine.Log
	request := header.Packet{
		Source: netip.MustParseAddr("10.0.0.7"), SourcePort: 40000,
		Destination: netip.MustParseAddr("203.0.113.9"), DestinationPort: 443, Protocol: header.TCP,
	}
	out := gateway.Decide(&engine.Arrival{In: rim.Interface("yard"), Packet: request, Part: header.Begins}, &log)
	fmt.Println(out.Packet.From(), "->", out.Packet.To(), "by", out.Out.Name)
	back := gateway.Decide(&engine.Arrival{In: rim.Interface("fibre"), Packet: out.Packet.Answer(), Part: header.Answers}, &log)
	fmt.Println(back.Packet.From(), "->", back.Packet.To(), "by", back.Out.Name)
	// Output:
	// 198.51.100.2:40000 -> 203.0.113.9:443 by fibre
	// 203.0.113.9:443 -> 10.0.0.7:40000 by yard
}
