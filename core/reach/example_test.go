package reach_test

import (
	"fmt"

	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile"
)

// Everything that can get in is found for all connections at once.
func ExampleFind() {
	n, err := netfile.Parse("cottage.yaml", []byte(`network: cottage
hosts:
  archive: {address: 10.61.24.5, serves: [https, ssh]}
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      yard: {address: 10.61.24.1/28, zone: yard}
    routes: [{to: default, via: 198.51.100.17}]
    nat: [{port-forward: all, on: fibre, service: tcp, to: archive}]
    filter: [{allow: web, from: 203.0.113.0/24, to: archive, service: https}]
`))
	if err != nil {
		panic(err)
	}
	internet := network.Expression{Text: "internet", Items: []network.Item{{Set: n.Internet()}}}
	found, err := reach.Find(walk.Compile(n, nil), reach.Question{From: &internet})
	if err != nil {
		panic(err)
	}
	for _, a := range found.Reached {
		fmt.Println(a.Host, a.Services, "from", a.From, "by", a.To)
	}
	// Output: archive tcp/443 from 203.0.113.0/24 by 198.51.100.18
}
