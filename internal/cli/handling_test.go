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

// Every handling key changes the outcome of a trace all by itself.
func TestEachHandlingKeyDecides(t *testing.T) {
	for _, c := range []struct{ key, usual, other, nat, filter, trace, withUsual, withOther string }{
		{"filter-sees", "translated", "original", webForward, webAllowed, "internet rim:fibre tcp/8443", "reached archive", "dropped at rim"},
		{"filter-sees", "translated", "original", webForward, `      - {allow: web, from: outside, to: 'rim:fibre', service: tcp/8443}`, "internet rim:fibre tcp/8443", "dropped at rim", "reached archive"},
		{"forwards", "need-filter", "carry-permission", webForward, "", "internet rim:fibre tcp/8443", "dropped at rim", "reached archive"},
		{"unmatched", "drop", "by-trust, trust: [staff, yard, outside]", "", "      - {drop: nothing, from: 192.0.2.77}", "desk archive https", "dropped at rim", "reached archive"},
		{"unmatched", "drop", "by-trust, trust: [staff, yard, outside]", "", "      - {drop: nothing, from: 192.0.2.77}", "archive desk rfb", "dropped at rim", "dropped at rim"},
		{"turn-back", "refuse", "allow", "", "      - {allow: vpn, from: 10.61.64.0/24}", "10.61.64.9 institute https", "dropped at rim", "reached institute"},
		{"icmp", "tracked", "untracked", "", "", "desk institute icmp", "reached institute", "unanswered at rim"},
		{"icmp", "tracked", "untracked", "", "      - {allow: inside, from: staff}\n      - {allow: answers, from: outside, to: desk, service: icmp}", "desk institute icmp", "reached institute", "reached institute"},
		{"nat-order", "listed", "specific-first", "      - {port-forward: all, on: fibre, service: tcp, to: notice}\n" + webForward, "      - {allow: in, from: outside}", "internet rim:fibre tcp/8443", "refused at notice", "reached archive"},
		{"restarts-on-apply", "false", "true", webForward, webAllowed, "internet rim:fibre tcp/8443", "reached archive", "reached archive"},
	} {
		t.Run(c.key, func(t *testing.T) {
			for _, side := range [][2]string{{c.usual, c.withUsual}, {c.other, c.withOther}} {
				file := buildHouse(c.key+": "+side[0], c.nat, c.filter)
				if got := outcome(t, file, c.trace); !strings.HasPrefix(got, side[1]) {
					t.Errorf("%s: %s gives %q, want %q", c.key, side[0], got, side[1])
				}
			}
		})
	}
}

// Kinds of NAT rule and what they do to a connection, as the host and the client see it.
func TestKindsOfNAT(t *testing.T) {
	const open = "      - {allow: all}"
	for _, c := range []struct{ what, nat, trace, want string }{
		{"several services", `      - {port-forward: f, on: fibre, service: [https, ssh], to: archive}`, "internet rim:fibre ssh", `"to": "10.61.24.5:22"`},
		{"a list to a list", `      - {port-forward: f, on: fibre, service: "tcp/9000,9443", to: "archive:22,443"}`, "internet rim:fibre tcp/9443", `"to": "10.61.24.5:443"`},
		{"a range to a range", `      - {port-forward: f, on: fibre, service: tcp/9000-9009, to: "archive:436-445"}`, "internet rim:fibre tcp/9007", `"to": "10.61.24.5:443"`},
		{"both protocols", `      - {port-forward: f, on: fibre, service: tcp+udp/443, to: archive}`, "internet rim:fibre udp/443", `"at": "archive"`},
		{"an ICMP error finds its way back", `      - {port-forward: f, on: fibre, service: udp/443, to: archive}`, "internet rim:fibre udp/443", `"told": true`},
		{"another outside address", `      - {port-forward: f, on: fibre, at: 198.51.100.20, service: https, to: archive}`, "internet 198.51.100.20 https", `"outcome": "reached"`},
		{"who may use it", `      - {port-forward: f, on: fibre, from: 203.0.113.0/24, service: https, to: archive}`, "192.0.2.1 rim:fibre https", `"outcome": "itself"`},
		{"a zone", `      - {port-forward: f, on: outside, service: https, to: archive}`, "internet rim:fibre https", `"outcome": "reached"`},
		{"IPv6", `      - {port-forward: f, on: fibre, service: tcp/8443, to: "archive:443"}`, "internet rim:fibre tcp/8443 -6", `"to": "[fd00:24::5]:443"`},
		{"destination-nat of anything", `      - {destination-nat: d, on: staff, from: desk, at: any, service: http, to: "notice:8080"}`, "desk institute http", `"to": "10.61.24.6:8080"`},
		{"destination-nat from another", `      - {destination-nat: d, on: staff, from: 10.61.8.41, service: http, to: "notice:8080"}` + "\n" + `      - {source-nat: o, on: fibre, as: interface}`, "desk institute http", `"host": "institute"`},
		{"one-to-one inward", `      - {one-to-one: o, on: fibre, outside: 198.51.100.20, inside: archive}`, "internet 198.51.100.20 ssh", `"to": "10.61.24.5:22"`},
		{"one-to-one outward", `      - {one-to-one: o, on: fibre, outside: 198.51.100.20, inside: archive}`, "archive institute https", `"from": "198.51.100.20:40000"`},
		{"one-to-one of prefixes", `      - {one-to-one: o, on: fibre, outside: 198.51.100.20/30, inside: 10.61.24.4/30}`, "203.0.113.9 198.51.100.21 https", `"to": "10.61.24.5:443"`},
		{"prefix-nat outward", `      - {prefix-nat: p, on: fibre, outside: '2001:db8:9::/64', inside: 'fd00:24::/64'}`, "fd00:24::5 2001:db8:f::9 https", `"from": "[2001:db8:9:`},
		{"source-nat to an address", `      - {source-nat: s, on: fibre, as: 198.51.100.21}`, "desk institute https", `"from": "198.51.100.21:40000"`},
		{"source-nat with ports", `      - {source-nat: s, on: fibre, as: interface, ports: 50000-50009}`, "desk institute https", `"from": "198.51.100.18:50000"`},
		{"both ends", `      - {source-nat: s, on: fibre, to: 192.0.2.9, as: interface, destination: "institute:443"}`, "desk 192.0.2.9 tcp/7000", `"to": "203.0.113.200:443"`},
		{"no-nat stops the search", `      - {no-nat: n, from: desk}` + "\n" + `      - {source-nat: s, on: fibre, as: interface}`, "desk institute https", `"outcome": "unanswered"`},
		{"disabled", `      - {port-forward: f, on: fibre, service: https, to: archive, disabled: true}`, "internet rim:fibre https", `"outcome": "itself"`},
		{"in its hours", `      - {port-forward: f, on: fibre, service: https, to: archive, when: {days: mon-fri, hours: 08:00-18:00}}`, `internet rim:fibre https -at "mon 08:00"`, `"outcome": "reached"`},
		{"out of its hours", `      - {port-forward: f, on: fibre, service: https, to: archive, when: {days: mon-fri, hours: 08:00-18:00}}`, `internet rim:fibre https -at "mon 18:00"`, `"differs": "time"`},
	} {
		t.Run(c.what, func(t *testing.T) {
			folder := t.TempDir()
			write(t, folder, "hollowbridge.yaml", buildHouse("", c.nat, open))
			r := shell(t, folder, "hollowbridge trace -json "+c.trace)
			if !strings.Contains(r.out, c.want) {
				t.Errorf("%s is missing in\n%s%s", c.want, r.out, r.err)
			}
		})
	}
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

// Hosts and routes: what can go wrong behind the gateway, and what an
// administrator is told to look at.
func TestHostsRoutesAndUplinks(t *testing.T) {
	base := buildHouse("", webForward, webAllowed+"\n      - {allow: inside, from: [yard, staff]}")
	for _, c := range []struct{ what, old, new, trace, want, why string }{
		{"own firewall", "serves: [https, ssh]", "serves: [https], firewall: [{allow: https, from: 203.0.113.0/24}]", "192.0.2.1 rim:fibre tcp/8443", "host-firewall at archive", "has no rule that allows tcp/443 from 192.0.2.1"},
		{"own firewall rejects", "serves: [https, ssh]", "serves: [https], firewall: [{reject: any}]", "internet rim:fibre tcp/8443", "host-firewall at archive: the host's own firewall stops it; the client is told", "itself says reject any"},
		{"bound elsewhere", "serves: [https, ssh]", "serves: [{service: https, at: 127.0.0.1}]", "internet rim:fibre tcp/8443", "refused at archive", "the service is bound to 127.0.0.1 only"},
		{"relay to another machine", "serves: [https, ssh]", "relays: [{listen: https, to: 'notice:8080'}]", "internet rim:fibre tcp/8443", "reached notice", ""},
		{"relays in a circle", "serves: [https, ssh]", "relays: [{listen: https, to: '127.0.0.1:444'}, {listen: tcp/444, to: '127.0.0.1:443'}]", "internet rim:fibre tcp/8443", "loop at archive", "without end"},
		{"no pings", "serves: [https, ssh]", "answers-ping: false", "desk archive icmp", "unanswered at archive", "does not answer pings"},
		{"no such host", "to: 'archive:443'", "to: '10.61.24.9:443'", "internet rim:fibre tcp/8443", "dropped at rim", "10.61.24.9"},
		{"interface down", "clients: [10.61.64.0/24]", "state: down", "internet rim:fibre tcp/8443", "unrouted at rim", "rim:fibre is down"},
		{"blocked upstream", "clients: [10.61.64.0/24]", "upstream: {blocks: [tcp/8443]}", "internet rim:fibre tcp/8443", "upstream at the internet", "The upstream of rim:fibre blocks tcp/8443"},
		{"carrier's NAT", "clients: [10.61.64.0/24]", "upstream: {carrier-nat: true}", "internet rim:fibre tcp/8443", "upstream at the internet", "no forward there can be reached"},
		{"blackhole", "- {to: default, via: 198.51.100.17}", "- {to: default, via: 198.51.100.17}\n      - {to: 192.0.2.0/24, blackhole: true}", "desk 192.0.2.1 https", "unrouted at rim", "is a blackhole"},
		{"next hop nobody has", "- {to: default, via: 198.51.100.17}", "- {to: default, via: 198.51.100.17}\n      - {to: 192.0.2.0/24, via: 10.61.24.9}", "desk 192.0.2.1 https", "unrouted at rim", "nobody has that address"},
		{"next hop is a host", "- {to: default, via: 198.51.100.17}", "- {to: default, via: 198.51.100.17}\n      - {to: 192.0.2.0/24, via: 10.61.24.6}", "desk 192.0.2.1 https", "unrouted at rim", "which is notice: a host, it passes nothing on"},
		{"forged source", "FILTER", "FILTER", "10.61.8.40 rim:fibre tcp/8443 -in fibre", "dropped at rim", "its sender is forged"},
		{"private source leaks", "FILTER", "FILTER", "desk institute https", "unanswered at the internet", "10.61.8.40 is a private address that no source rule hid"},
	} {
		t.Run(c.what, func(t *testing.T) {
			file := strings.Replace(base, c.old, c.new, 1)
			folder := t.TempDir()
			write(t, folder, "hollowbridge.yaml", file)
			r := shell(t, folder, "hollowbridge trace "+c.trace)
			if r.status == 2 {
				t.Fatalf("%s%s", r.err, file)
			}
			lines := strings.Split(strings.TrimSpace(r.out), "\n")
			last := lines[len(lines)-1]
			flat := strings.Join(strings.Fields(r.out), " ")
			if !strings.HasPrefix(last, c.want) || !strings.Contains(flat, c.why) {
				t.Errorf("want %q because %q:\n%s", c.want, c.why, r.out)
			}
		})
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
