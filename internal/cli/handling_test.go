package cli_test

import (
	"fmt"
	"strings"
	"testing"
)

// house is a network to vary: rim at the edge with archive and desk behind it.
const house = `network: house
hosts:
  archive: {address: [10.61.24.5, 'fd00:24::5'], serves: [https, ssh]}
  notice: {address: 10.61.24.6, serves: [tcp/8080]}
  desk: {address: 10.61.8.40, serves: [rfb]}
  institute: {address: 203.0.113.200, serves: [http, https]}
gateways:
  rim:
    interfaces:
      fibre: {address: [198.51.100.18/29, '2001:db8:61::2/64'], zone: outside, clients: [10.61.64.0/24]}
      yard: {address: [10.61.24.1/28, 'fd00:24::1/64'], zone: yard}
      staff: {address: 10.61.8.1/24, zone: staff}
    routes:
      - {to: default, via: 198.51.100.17}
      - {to: default, via: '2001:db8:61::1'}
    serves: {ssh: [staff]}
    handling: {HANDLING}
    nat:
NAT
    filter:
FILTER
`

// build fills in what a test varies.
func buildHouse(handling, nat, filter string) string {
	if nat == "" {
		nat = "      - {source-nat: out, on: fibre, from: 10.61.0.0/16, as: interface}"
	}
	if filter == "" {
		filter = "      - {allow: inside, from: [yard, staff]}"
	}
	return strings.NewReplacer("HANDLING", handling, "NAT", strings.Trim(nat, "\n"), "FILTER", strings.Trim(filter, "\n")).Replace(house)
}

const (
	webForward = `      - {port-forward: web, on: fibre, service: tcp/8443, to: 'archive:443'}`
	webAllowed = `      - {allow: web, from: outside, to: archive, service: https}`
)

// outcome runs a trace on a file and returns its last line.
func outcome(t *testing.T, file, trace string) string {
	t.Helper()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", file)
	r := shell(t, folder, "hollowbridge trace "+trace)
	if r.status == 2 {
		t.Fatalf("%s\n%s", r.err, file)
	}
	lines := strings.Split(strings.TrimSpace(r.out), "\n")
	return lines[len(lines)-1]
}

func TestHairpins(t *testing.T) {
	const all = "      - {allow: all}"
	plain := `      - {port-forward: f, on: [fibre, yard, staff], at: 198.51.100.18, service: https, to: archive}`
	hairpin := `      - {port-forward: f, on: fibre, service: https, to: archive, hairpin: true}`
	for _, c := range []struct{ what, handling, nat, trace, want string }{
		{"on another segment", "", hairpin, "desk rim:fibre https", "reached archive"},
		{"without hairpin", "", `      - {port-forward: f, on: fibre, service: https, to: archive}`, "desk rim:fibre https", "itself at rim"},
		{"on its own segment the gateway's address is taken", "turn-back: allow", hairpin, "notice rim:fibre https", "reached archive"},
		{"on its own segment the answer goes round the gateway", "turn-back: allow", plain, "notice rim:fibre https", "unanswered at notice"},
		{"on its own segment it must turn back", "", hairpin, "notice rim:fibre https", "dropped at rim"},
	} {
		if got := outcome(t, buildHouse(c.handling, c.nat, all), c.trace); !strings.HasPrefix(got, c.want) {
			t.Errorf("%s: %q, want %q", c.what, got, c.want)
		}
	}
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", buildHouse("turn-back: allow", plain, all))
	wantIn(t, strings.Join(strings.Fields(shell(t, folder, "hollowbridge trace notice rim:fibre https").out), " "),
		"The answer comes from 10.61.24.5:443, but the client asked 198.51.100.18:443 and throws it away")
}

func TestEarlierConnectionsHoldTheirPorts(t *testing.T) {
	narrow := `      - {source-nat: s, on: fibre, as: interface, ports: 40000-40001}`
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", buildHouse("", narrow, ""))
	wantIn(t, shell(t, folder, "hollowbridge trace desk institute https").out, "10.61.8.40:40000 -> 198.51.100.18:40000")
	wantIn(t, shell(t, folder, `hollowbridge trace desk institute https -after "archive institute https"`).out, "10.61.8.40:40000 -> 198.51.100.18:40001")
	r := shell(t, folder, `hollowbridge trace desk institute https -after "archive institute https" -after "notice institute https"`)
	wantStatus(t, r, 1)
	wantIn(t, r.out, "exhausted at rim by s", "Every address and port of s is taken")
	r = shell(t, folder, `hollowbridge trace 192.0.2.9 rim:fibre udp/40000 -sport 443 -after "desk 192.0.2.9 udp/443"`)
	wantStatus(t, r, 0)
	wantIn(t, r.out, "session", "the answer it waits for", "reached desk")
	wantStatus(t, shell(t, folder, `hollowbridge trace 192.0.2.9 rim:fibre udp/40000 -sport 443`), 1)
	wantIn(t, shell(t, folder, `hollowbridge trace desk institute icmp -sport 40000 -after "archive institute icmp" -json`).out, `"from": "198.51.100.18"`)
	for _, bad := range []string{"desk institute", "desk nowhere https", "desk institute https 99999"} {
		wantStatus(t, run(t, folder, "trace", "desk", "institute", "https", "-after", bad), 2)
	}
}

// Two uplinks: what came in by one is answered by the same.
func TestAnswersLeaveByTheUplinkTheConnectionCameInBy(t *testing.T) {
	file := strings.Replace(buildHouse("", strings.Replace(webForward, "on: fibre", "on: [fibre, radio]", 1), webAllowed),
		"      yard:", "      radio: {address: 203.0.113.66/29, zone: outside}\n      yard:", 1)
	file = strings.Replace(file, "    serves: {ssh", "      - {to: default, via: 203.0.113.65, distance: 10}\n    serves: {ssh", 1)
	if got := outcome(t, file, "192.0.2.1 rim:radio tcp/8443"); got != "reached archive" {
		t.Error(got)
	}
	down := strings.Replace(file, "clients: [10.61.64.0/24]", "state: down", 1)
	if got := outcome(t, down, "192.0.2.1 rim:radio tcp/8443"); got != "reached archive" {
		t.Error(got)
	}
}

// Gateways in a chain: translated twice, sent round, too many.
func TestSeveralGateways(t *testing.T) {
	chain := func(n int, loop bool) string {
		var b strings.Builder
		b.WriteString("network: chain\nhosts:\n  archive: {address: 10.1.0.5, serves: [https]}\n  start: {address: 10.0.0.5, serves: [https]}\ngateways:\n")
		for i := range n {
			left, right := fmt.Sprintf("10.200.%d", i-1), fmt.Sprintf("10.200.%d", i)
			fmt.Fprintf(&b, "  g%d:\n    interfaces:\n", i)
			if i == 0 {
				b.WriteString("      left: {address: 10.0.0.1/24, zone: z}\n")
			} else {
				fmt.Fprintf(&b, "      left: {address: %s.2/24, zone: z}\n", left)
			}
			last := i == n-1
			if last {
				b.WriteString("      right: {address: 10.1.0.1/24, zone: z}\n")
			} else {
				fmt.Fprintf(&b, "      right: {address: %s.1/24, zone: z}\n", right)
			}
			b.WriteString("    handling: {turn-back: allow}\n    routes:\n")
			if i > 0 {
				fmt.Fprintf(&b, "      - {to: 10.0.0.0/24, via: %s.1}\n", left)
			}
			switch {
			case last && loop:
				fmt.Fprintf(&b, "      - {to: 10.1.0.5/32, via: %s.1}\n", left)
			case last:
				b.WriteString("      - {to: 192.0.2.0/24, blackhole: true}\n")
			}
			if !last {
				fmt.Fprintf(&b, "      - {to: 10.1.0.0/24, via: %s.2}\n", right)
			}
			b.WriteString("    filter: [{allow: all}]\n")
		}
		return b.String()
	}
	for _, c := range []struct {
		gateways int
		loop     bool
		want     string
	}{{2, false, "reached archive"}, {32, false, "reached archive"}, {33, false, "loop at g32"}, {3, true, "loop at g"}} {
		if got := outcome(t, chain(c.gateways, c.loop), "start archive https"); !strings.HasPrefix(got, c.want) {
			t.Errorf("%d gateways, loop %v: %q, want %q", c.gateways, c.loop, got, c.want)
		}
	}
}

// Where prefixes overlap, a segment that is named keeps them apart.
func TestNamedSegmentsKeepOverlappingPrefixesApart(t *testing.T) {
	file := strings.NewReplacer("yard: {address: [10.61.24.1/28, 'fd00:24::1/64'], zone: yard}", "yard: {address: 10.61.8.1/24, zone: yard, segment: yard}",
		"staff: {address: 10.61.8.1/24, zone: staff}", "staff: {address: 10.61.9.1/24, zone: staff}",
		"archive: {address: [10.61.24.5, 'fd00:24::5']", "archive: {address: 10.61.8.5, segment: yard").Replace(buildHouse("", webForward, webAllowed))
	file = strings.Replace(file, "desk: {address: 10.61.8.40", "desk: {address: 10.61.9.40", 1)
	file = strings.Replace(file, "notice: {address: 10.61.24.6", "notice: {address: 10.61.9.6", 1)
	if got := outcome(t, file, "internet rim:fibre tcp/8443"); got != "reached archive" {
		t.Error(got)
	}
}
