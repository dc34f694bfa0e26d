package prove_test

import (
	"net/netip"
	"strings"
	"testing"

	"hollowbridge/core/header"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"
	"hollowbridge/internal/prove"
)

const hamlet = `network: hamlet
hosts:
  archive: {address: 10.61.24.5, serves: [https]}
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside, clients: [10.61.64.0/24]}
      yard: {address: 10.61.24.1/28, zone: yard}
    routes: [{to: default, via: 198.51.100.17}]
    nat: [{port-forward: web, on: fibre, service: tcp/8440-8449, to: 'archive:440-449', from: 203.0.113.0/24}]
    filter: [{allow: web, from: outside, to: archive, service: https}]
expect:
  - {say: the institute reads, from: 203.0.113.0/24, to: 'rim:fibre', service: tcp/8443, reaches: archive}
`

func planned(t *testing.T, text string) (*walk.Engine, *prove.Plan) {
	t.Helper()
	e := walk.Compile(netfiletest.Parse(t, text), nil)
	plan, err := prove.Classes(e, 0, reach.MostPieces)
	if err != nil {
		t.Fatal(err)
	}
	return e, plan
}

// One member of each class is planned, and what lies right outside its borders.
func TestBordersOfAForwardArePlanned(t *testing.T) {
	_, plan := planned(t, hamlet)
	outside := netip.MustParseAddr("198.51.100.18")
	ports, sources := map[uint16]bool{}, map[netip.Addr]bool{}
	for _, c := range plan.Connections {
		if p := c.Packet; c.From.Internet && p.Destination == outside && p.Protocol == header.TCP {
			ports[p.DestinationPort], sources[p.Source] = true, true
		}
	}
	for _, port := range []uint16{8439, 8442, 8443, 8444, 8450} {
		if !ports[port] {
			t.Errorf("nothing is sent to port %d: %v", port, ports)
		}
	}
	for _, a := range []string{"203.0.112.255", "203.0.114.0"} {
		if !sources[netip.MustParseAddr(a)] {
			t.Errorf("nothing is sent from %s: %v", a, sources)
		}
	}
	if len(plan.Expected) != 1 || len(plan.Expected[0]) == 0 {
		t.Errorf("nothing is sent of what is expected: %v", plan.Expected)
	}
}

// Each connection of a plan is one that a machine can send, and is planned once; the classes of
// which none is sent have their reason.
func TestPlansAreSound(t *testing.T) {
	if testing.Short() {
		t.Skip("it plans for many networks")
	}
	t.Parallel()
	sent := 0
	for seed := range netfiletest.Few(uint64(30), 6) {
		e, plan := planned(t, gen.Small(seed))
		known := map[walk.Connection]bool{}
		for _, c := range plan.Connections {
			p := c.Packet
			if known[c] {
				t.Errorf("seed %d: %s to %s is planned twice", seed, p.From(), p.To())
			}
			known[c] = true
			switch {
			case p.Source == p.Destination, header.FamilyOf(p.Source) != header.FamilyOf(p.Destination):
				t.Errorf("seed %d: from %s to %s", seed, p.From(), p.To())
			case p.Protocol.HasPorts() && (p.SourcePort == 0 || p.DestinationPort == 0):
				t.Errorf("seed %d: port 0: %s to %s", seed, p.From(), p.To())
			case p.Destination.IsLoopback(), p.Destination.IsMulticast(), p.Source.IsLinkLocalUnicast():
				t.Errorf("seed %d: to %s from %s", seed, p.To(), p.From())
			case c.From.Host != nil && !c.From.Host.Has(p.Source):
				t.Errorf("seed %d: %s does not have %s", seed, c.From.Host.Name, p.Source)
			case len(words.TraceOf(e.NewWalk(), c).Passed) == 0:
				t.Errorf("seed %d: no gateway is on the way from %s to %s", seed, p.From(), p.To())
			}
		}
		unsent := 0
		for reason, classes := range plan.Unsent {
			if unsent += classes; reason == "" || strings.HasSuffix(reason, ".") {
				t.Errorf("seed %d: the reason %q", seed, reason)
			}
		}
		if unsent > plan.Classes {
			t.Errorf("seed %d: %d of %d classes are not sent", seed, unsent, plan.Classes)
		}
		sent += len(plan.Connections)
	}
	if sent < 10000 {
		t.Errorf("only %d connections", sent)
	}
}
