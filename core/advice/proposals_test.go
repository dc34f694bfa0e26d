package advice_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"hollowbridge/core/advice"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

// Edits are typed so that a shell gives the program back every word.
func TestCommandsOfEdits(t *testing.T) {
	for _, c := range []struct {
		edit network.Edit
		want string
	}{
		{network.Edit{Verb: network.Enable, Kind: "allow", Name: "web", Gateway: "rim"}, "hollowbridge enable allow web -gateway rim"},
		{network.Edit{Verb: network.Remove, Kind: "route", Name: "default via 198.51.100.1", Gateway: "rim"}, "hollowbridge remove route 'default via 198.51.100.1' -gateway rim"},
		{network.Edit{Verb: network.Move, Kind: "allow", Name: "web", Gateway: "rim", Before: "rest"}, "hollowbridge move allow web before rest -gateway rim"},
		{network.Edit{Verb: network.Change, Kind: "host", Name: "hut", Settings: []network.Setting{{Key: "gateway", Value: "rim"}}}, "hollowbridge change host hut gateway=rim"},
		{network.Edit{Verb: network.Change, Kind: "allow", Name: "web", Gateway: "rim", Settings: []network.Setting{{Key: "from", Value: "any except [a, b]"}, {Key: "log"}}},
			"hollowbridge change allow web -gateway rim 'from=any except [a, b]' log="},
		{network.Edit{Verb: network.Add, Kind: "allow", Name: "web", Gateway: "rim", Before: "rest", Settings: []network.Setting{{Key: "from", Value: "it's"}, {Key: "service", Value: "tcp/1-2"}}},
			`hollowbridge add allow web -gateway rim -from 'it'\''s' -service tcp/1-2 -before rest`},
	} {
		if got := netfile.Command(c.edit); got != c.want {
			t.Errorf("%s\nwant %s", got, c.want)
		}
	}
	both := network.Edits{{Verb: network.Remove, Kind: "allow", Name: "a", Gateway: "rim"}, {Verb: network.Remove, Kind: "allow", Name: "b", Gateway: "rim"}}
	if got := netfile.Commands(both); got != "hollowbridge remove allow a -gateway rim && hollowbridge remove allow b -gateway rim" {
		t.Error(got)
	}
}

// chain is four gateways in a row, each with a segment of its own; the first has the
// uplink. ROUTES are those of mill, the third.
const chain = `
network: chain
hosts:
  desk: {address: 10.3.0.5, serves: [ssh]}
  store: {address: 10.4.0.5, serves: [https]}
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      a: {address: 10.0.1.1/29, zone: in}
    routes:
      - {to: default, via: 198.51.100.17}
      - {to: 10.0.0.0/8, via: 10.0.1.2}
    filter: [{allow: all, from: any, to: any}]
    nat:
      - {port-forward: shell, on: fibre, service: ssh, to: desk}
      - {source-nat: out, on: fibre, from: 10.0.0.0/8, as: interface}
  keep:
    interfaces:
      up: {address: 10.0.1.2/29, zone: up}
      b: {address: 10.0.2.1/29, zone: in}
    routes:
      - {to: default, via: 10.0.1.1}
      - {to: 10.3.0.0/16, via: 10.0.2.2}
      - {to: 10.4.0.0/16, via: 10.0.2.2}
    filter: [{allow: all, from: any, to: any}]
  mill:
    interfaces:
      up: {address: 10.0.2.2/29, zone: up}
      yard: {address: 10.3.0.1/24, zone: yard}
      c: {address: 10.0.3.1/29, zone: in}
    routes: ROUTES
    filter: [{allow: all, from: any, to: any}]
  barn:
    interfaces:
      up: {address: 10.0.3.2/29, zone: up}
      lab: {address: 10.4.0.1/24, zone: lab}
    routes:
      - {to: default, via: 10.0.3.1}
    filter: [{allow: all, from: any, to: any}]
`

// A route that is missing is found over any number of gateways: to the next one on the
// way to the segment, or, for the internet, to the uplink.
func TestMissingRoutesLeadToTheNextGateway(t *testing.T) {
	for _, c := range []struct {
		routes, from, to string
		port             uint16
		want             string
	}{
		{"[{to: default, via: 10.0.2.1}]", "10.3.0.5", "10.4.0.5", 443, "hollowbridge add route 10.4.0.0/24 -gateway mill -via 10.0.3.2"},
		{"[{to: 10.4.0.0/16, via: 10.0.3.2}]", "10.3.0.5", "192.0.2.1", 443, "hollowbridge add route default -gateway mill -via 10.0.2.1"},
		{"[{to: 10.4.0.0/16, via: 10.0.3.2}]", "10.4.0.5", "192.0.2.1", 443, "hollowbridge add route default -gateway mill -via 10.0.2.1"},
		{"[{to: 10.4.0.0/16, via: 10.0.3.2}]", "203.0.113.9", "198.51.100.18", 22, "hollowbridge add route default -gateway mill -via 10.0.2.1"},
	} {
		n := netfiletest.Parse(t, replaced(chain, "ROUTES", c.routes))
		e := walk.Compile(n, nil)
		p := header.Packet{Source: netip.MustParseAddr(c.from), Destination: netip.MustParseAddr(c.to), SourcePort: 40000, DestinationPort: c.port, Protocol: header.TCP}
		from, err := e.Locate(p.Source)
		if err != nil {
			t.Fatal(err)
		}
		trace := words.TraceOf(e.NewWalk(), walk.Connection{Packet: p, From: from})
		var commands []string
		for _, m := range advice.Proposals(trace, n, advice.Wanted{}) {
			commands = append(commands, netfile.Commands(m))
		}
		if !slices.Contains(commands, c.want) {
			t.Errorf("%s -> %s is %s at %s: %q, not %q", c.from, c.to, trace.Outcome, trace.At.Name(), commands, c.want)
		}
	}
}

func replaced(text, what, with string) string {
	before, after, _ := strings.Cut(text, what)
	return before + with + after
}
