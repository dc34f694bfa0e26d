package advice_test

import (
	"strings"
	"testing"

	"hollowbridge/core/advice"
	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"
)

const cottage = `network: cottage
hosts:
  archive: {address: [10.61.24.5, 'fd00:24::5'], serves: [https, ssh]}
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      radio: {address: 203.0.113.66/29, zone: outside}
      yard: {address: 10.61.24.1/28, zone: yard}
    routes:
      - {to: default, via: 198.51.100.17}
    handling: {filter-sees: SEES}
    nat:
      - RULE
`

func read(t *testing.T, sees, rule string) (*network.Network, *network.NATRule) {
	t.Helper()
	n := netfiletest.Parse(t, strings.NewReplacer("SEES", sees, "RULE", rule).Replace(cottage))
	return n, n.Gateways[0].NAT[0]
}

func TestPermissionsNameTheSideThatTheFilterSees(t *testing.T) {
	for _, c := range []struct{ rule, translated, original string }{
		{"{port-forward: f, on: fibre, service: https, to: archive}", "outside archive https", "outside rim:fibre https"},
		{"{port-forward: f, on: fibre, service: tcp/8443, to: 'archive:443'}", "outside archive tcp/443", "outside rim:fibre tcp/8443"},
		{"{port-forward: f, on: [fibre, radio], service: [https, ssh], to: 10.61.24.5}", "outside 10.61.24.5 https,ssh", "outside rim:fibre,rim:radio https,ssh"},
		{"{port-forward: f, on: fibre, at: 198.51.100.20, service: tcp/8000-8009, to: 'archive:9000-9009', from: 192.0.2.0/24}", "192.0.2.0/24 archive tcp/9000-9009", "192.0.2.0/24 198.51.100.20 tcp/8000-8009"},
		{"{destination-nat: f, on: yard, service: http, to: 'archive:443'}", "yard archive tcp/443", "yard  http"},
	} {
		for sees, want := range map[string]string{"translated": c.translated, "original": c.original} {
			n, rule := read(t, sees, c.rule)
			p := advice.PermissionFor(n.Gateways[0], rule)
			if got := p.From + " " + p.To + " " + p.Service; got != want {
				t.Errorf("%s, filter sees %s: %q, want %q", c.rule, sees, got, want)
			}
		}
	}
}

func TestSamplesAreWhatAForwardIsFor(t *testing.T) {
	for rule, want := range map[string]string{
		"{port-forward: f, on: fibre, service: https, to: archive}":                       "192.0.2.1:40000 -> 198.51.100.18:443",
		"{port-forward: f, on: fibre, service: https, to: archive, from: 203.0.113.0/24}": "203.0.113.0:40000 -> 198.51.100.18:443",
		"{port-forward: f, on: yard, at: 192.0.2.9, service: icmp, to: archive}":          "10.61.24.2 -> 192.0.2.9",
		"{port-forward: f, on: fibre, service: https, to: archive, from: 10.0.0.0/8}":     "",
		"{port-forward: f, on: yard, service: https, to: archive, from: 203.0.113.0/24}":  "",
		"{port-forward: f, on: radio, at: 'fd00:9::1', service: https, to: 'fd00:24::5'}": "",
		"{destination-nat: f, on: fibre, at: 198.51.100.20-198.51.100.21, to: archive}":   "192.0.2.1:40000 -> 198.51.100.20:0",
	} {
		n, r := read(t, "translated", rule)
		got := ""
		if c, ok := advice.Sample(walk.Compile(n, nil), r, 0); ok {
			got = c.Packet.From() + " -> " + c.Packet.To()
		}
		if got != want {
			t.Errorf("%s: %q, want %q", rule, got, want)
		}
	}
}

// On random networks, a sample of a forward is redirected by it, or by one that
// is tried before it, or does not get as far as that.
func TestSamplesAreRedirected(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many networks")
	}
	tried, hit := 0, 0
	for seed := range uint64(600) {
		n := netfiletest.Parse(t, gen.Small(seed))
		e := walk.Compile(n, nil)
		for _, g := range n.Gateways {
			for _, r := range g.NAT {
				if r.Off() || r.When != nil || r.Does != network.PortForward && r.Does != network.DestinationNAT {
					continue
				}
				c, ok := advice.Sample(e, r, 0)
				if !ok || !r.On[0].IsUp() {
					continue
				}
				tried++
				trace := words.TraceOf(e.NewWalk(), c)
				for _, s := range trace.Steps {
					if s.Kind == engine.StepDestination && s.At == g.Name {
						hit++
						break
					}
				}
				if trace.EndedAt(g) && trace.Step == engine.StepItself && len(g.NAT) == 1 {
					t.Errorf("seed %d: nothing redirects %s -> %s, for which %s is", seed, c.Packet.From(), c.Packet.To(), r.Name)
				}
			}
		}
	}
	if tried < 300 || hit < tried*8/10 {
		t.Errorf("%d of %d samples were redirected", hit, tried)
	}
}
