package flowset_test

import (
	"fmt"
	"net/netip"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
)

// Sets are made of spans of fields, the last field first, and combined.
func ExampleSpace() {
	space := flowset.NewSpace(1000, 1)
	web := func(prefix string) flowset.Set {
		to := header.AddressesOfPrefixes(netip.MustParsePrefix(prefix))
		port := space.Where(flowset.Port, []flowset.Span{flowset.PortSpan(443, 443)}, flowset.Everything)
		tcp := uint16(header.TCP)
		return space.Where(flowset.Protocol, []flowset.Span{flowset.PortSpan(tcp, tcp)}, space.Where(flowset.Destination, flowset.AddressSpans(to), port))
	}
	left := space.Minus(web("198.51.100.16/29"), web("198.51.100.20/30"))
	fmt.Println(left == web("198.51.100.16/30"), space.Err())
	for _, box := range space.Boxes(left) {
		fmt.Println(box.Protocol, box.To, box.Ports)
	}
	// Output:
	// true <nil>
	// tcp 198.51.100.16/30 [443]
}
