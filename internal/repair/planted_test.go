package repair_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"hollowbridge/core/advice"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile/netfiletest"
)

// A garden is a network in which everything is as it should be, of as many hosts, each with a forward
// and its filter rule, with names and numbers by a seed.
type garden struct {
	*rand.Rand
	hosts, forwards, rules []string
	uplink, backup         string
}

func newGarden(seed uint64) *garden {
	g := &garden{Rand: rand.New(rand.NewPCG(seed, 91)), uplink: "198.51.100.18/29", backup: "[fibre, radio]"}
	for i := range 3 + g.IntN(4) {
		port := 7000 + 10*i + g.IntN(10)
		g.hosts = append(g.hosts, fmt.Sprintf("  h%d: {address: 10.61.24.%d, serves: [tcp/%d]}", i, 20+i, port))
		g.forwards = append(g.forwards, fmt.Sprintf("      - {port-forward: f%d, on: fibre, service: tcp/%d, to: 'h%d:%d'}", i, 1000+port, i, port))
		g.rules = append(g.rules, fmt.Sprintf("      - {allow: r%d, from: friends%d, to: h%d, service: tcp/%d}", i, i, i, port))
	}
	return g
}

func (g *garden) text() string {
	var b strings.Builder
	b.WriteString("network: garden\ngroups:\n")
	for i := range g.hosts {
		fmt.Fprintf(&b, "  friends%d: [203.0.113.%d/29, 192.0.2.%d]\n", i, 8*i, i+1)
	}
	fmt.Fprintf(&b, "hosts:\n%s\n", strings.Join(g.hosts, "\n"))
	via := strings.Replace(g.uplink, "18/29", "17", 1)
	fmt.Fprintf(&b, `gateways:
  rim:
    interfaces:
      fibre: {address: %s, zone: outside}
      radio: {address: 203.0.113.250/30, zone: outside}
      yard: {address: 10.61.24.1/24, zone: yard}
    routes:
      - {to: default, via: %s}
      - {to: default, via: 203.0.113.249, distance: 10}
    logging: {enabled: true}
    nat:
%s
      - {source-nat: out, on: %s, from: yard, as: interface}
    filter:
%s
      - {allow: out, from: yard, to: outside, service: [https, dns]}
`, g.uplink, via, strings.Join(g.forwards, "\n"), g.backup, strings.Join(g.rules, "\n"))
	return b.String()
}

// replace changes a text in one of the lines of a list.
func replace(list []string, at int, old, new string) {
	list[at] = strings.Replace(list[at], old, new, 1)
}

// mistakes are what is planted, about the host, forward and rule of a number.
var mistakes = []struct {
	name    string
	kind    network.FindingKind
	about   string // the finding's subject; N is the number
	plant   func(g *garden, n int)
	twin    func(g *garden, n int) // as near as can be, but right; nil where the garden itself is
	opens   string                 // all that the edit may open, as HOST, or nothing
	noEdits bool                   // none can mend it
}{
	{"a guard behind what it guards", network.HiddenRule, "drop guard", func(g *garden, n int) {
		g.rules = append(g.rules, fmt.Sprintf("      - {drop: guard, from: 192.0.2.%d, to: h%d}", n+1, n))
	},
		func(g *garden, n int) {
			g.rules = slices.Insert(g.rules, n, fmt.Sprintf("      - {drop: guard, from: 192.0.2.%d, to: h%d}", n+1, n))
		}, "", false},
	{"a rule for every service", network.AnyService, "allow rN", func(g *garden, n int) {
		g.rules[n] = fmt.Sprintf("      - {allow: r%d, from: outside, to: h%d}", n, n)
	}, nil, "", false},
	{"a rule that nothing comes to", network.UnusedRule, "allow dead", func(g *garden, n int) {
		g.rules = slices.Insert(g.rules, n, fmt.Sprintf("      - {allow: dead, from: friends%d, to: h%d, service: tcp/9}", n, n))
	}, nil, "", false},
	{"a rule of the wrong side", network.WrongSide, "allow rN", func(g *garden, n int) {
		replace(g.rules, n, fmt.Sprintf("to: h%d", n), "to: 'rim:fibre'")
		replace(g.rules, n, "service: tcp/7", "service: tcp/8")
	}, nil, "hN", false},
	{"a forward without its rule", network.ForwardNotPermitted, "port-forward fN", func(g *garden, n int) { g.rules = slices.Delete(g.rules, n, n+1) }, nil, "hN", false},
	{"a private uplink", network.UpstreamBlocks, "port-forward fN", func(g *garden, _ int) { g.uplink = "100.64.7.18/29" }, nil, "", true},
	{"a rule that is over", network.Expired, "allow rN", func(g *garden, n int) { replace(g.rules, n, "}", ", until: 2020-01-31}") },
		func(g *garden, n int) { replace(g.rules, n, "}", ", until: 3020-01-31}") }, "", false},
	{"a forward to a port nobody serves", network.NotServed, "port-forward fN", func(g *garden, n int) {
		replace(g.forwards, n, ":7", ":6")
		replace(g.rules, n, "service: tcp/7", "service: tcp/6")
	}, nil, "hN", false},
	{"two forwards of one port", network.SamePort, "port-forward again", func(g *garden, n int) {
		again := strings.Replace(strings.Replace(g.forwards[n], fmt.Sprintf("f%d", n), "again", 1), fmt.Sprintf("'h%d", n), fmt.Sprintf("'h%d", (n+1)%len(g.hosts)), 1)
		g.forwards = append(g.forwards, again)
	}, nil, "", false},
	{"a backup uplink without translation", network.BackupLeaks, "interface rim:radio", func(g *garden, _ int) { g.backup = "fibre" }, nil, "the internet", false},
	{"a rule left from a test", network.DisabledRule, "allow test", func(g *garden, n int) {
		g.rules = append(g.rules, fmt.Sprintf("      - {allow: test, from: outside, to: h%d, disabled: true}", n))
	}, nil, "", false},
	{"a database for everybody", network.DatabaseOpen, "hN", func(g *garden, n int) {
		g.hosts[n] = fmt.Sprintf("  h%d: {address: 10.61.24.%d, serves: [tcp/5432]}", n, 20+n)
		g.forwards[n] = fmt.Sprintf("      - {port-forward: f%d, on: fibre, service: tcp/5432, to: h%d}", n, n)
		g.rules[n] = fmt.Sprintf("      - {allow: r%d, from: outside, to: h%d, service: tcp/5432}", n, n)
	}, func(g *garden, n int) {
		g.hosts[n] = fmt.Sprintf("  h%d: {address: 10.61.24.%d, serves: [tcp/5432]}", n, 20+n)
		g.forwards[n] = fmt.Sprintf("      - {port-forward: f%d, on: fibre, service: tcp/5432, to: h%d}", n, n)
		g.rules[n] = fmt.Sprintf("      - {allow: r%d, from: friends%d, to: h%d, service: tcp/5432}", n, n, n)
	}, "", true},
	{"a redundant rule", network.RedundantRule, "allow twice", func(g *garden, n int) {
		g.rules = append(g.rules, fmt.Sprintf("      - {allow: twice, from: 192.0.2.%d, to: h%d, service: tcp/7000-7999}", n+1, n))
		g.rules[n] = fmt.Sprintf("      - {allow: r%d, from: friends%d, to: h%d, service: tcp}", n, n, n)
	}, nil, "", false},
}

// On fifty networks each planted mistake is found; the edit that is offered takes it away and opens
// nothing that was not asked for; and the twin without the mistake has no such finding.
func TestPlantedMistakesAreFoundAndMended(t *testing.T) {
	for _, m := range mistakes {
		t.Run(strings.ReplaceAll(m.name, " ", "-"), func(t *testing.T) {
			t.Parallel()
			for seed := range netfiletest.Few(uint64(50), 1) {
				g := newGarden(seed)
				n := g.IntN(len(g.hosts))
				number := func(text string) string { return strings.ReplaceAll(text, "N", fmt.Sprint(n)) }
				is := func(f advice.Finding) bool { return f.Kind == m.kind && f.Subject == number(m.about) }
				twin := newGarden(seed)
				if m.twin != nil {
					m.twin(twin, n)
				}
				found, err := advice.Examine(walk.Compile(opened(t, twin.text()).net, nil), advice.Asked{})
				if err != nil || slices.ContainsFunc(found, is) || m.twin == nil && len(found) > 0 {
					t.Fatalf("seed %d: the twin has findings: %v %v\n%s", seed, found, err, twin.text())
				}
				m.plant(g, n)
				w := opened(t, g.text())
				if found, err = advice.Examine(walk.Compile(w.net, nil), advice.Asked{}); err != nil {
					t.Fatal(err)
				}
				at := slices.IndexFunc(found, is)
				if at < 0 {
					t.Fatalf("seed %d: %s of %s is not found: %v\n%s", seed, m.kind, number(m.about), found, g.text())
				}
				offered := w.bench(t).ForFinding(&found[at], found)
				if len(offered) > 0 == m.noEdits {
					t.Fatalf("seed %d: %s: %d edits are offered\n%s", seed, number(m.about), len(offered), g.text())
				}
				for _, r := range offered {
					left, err := advice.Examine(w.after(t, r.Edits), advice.Asked{})
					if err != nil || slices.ContainsFunc(left, is) {
						t.Fatalf("seed %d: %s does not mend it: %v", seed, r.Command, err)
					}
					for _, d := range r.Opens {
						if d.Change == reach.NewlyReached && d.New.Host != number(m.opens) {
							t.Fatalf("seed %d: %s opens %s", seed, r.Command, d.New.Host)
						}
					}
				}
			}
		})
	}
}
