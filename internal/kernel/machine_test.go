package kernel_test

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/kernel"
	"hollowbridge/internal/lab"
	"hollowbridge/internal/netfile/netfiletest"
)

// Tests send rules to the kernel of a network namespace of their own.
func TestMain(m *testing.M) { os.Exit(lab.Main(m.Run)) }

const edge = `network: edge
hosts:
  archive: {address: 10.61.24.5, serves: [https]}
gateways:
  rim:
    interfaces:
      fibre: {address: [198.51.100.18/29, '2001:db8:61::2/64'], zone: outside, device: eth0}
      yard: {address: [10.61.24.1/28, 'fd00:24::1/64'], zone: yard}
    routes: [{to: default, via: 198.51.100.17}, {to: default, via: '2001:db8:61::1'}]
    nat:
      - {port-forward: web, on: fibre, service: https, to: archive, log: true}
    filter:
      - {allow: web, from: outside, to: archive, service: https, when: {days: sun-mon, hours: 22:00-06:00}}
      - {reject: rest, from: outside}
    logging: {enabled: true, unmatched: true}
    limits: {sessions: 1000}
`

func compiled(t testing.TB, text string) (*kernel.Program, error) {
	t.Helper()
	n := netfiletest.Parse(t, text)
	p, _, err := kernel.Compile(walk.Compile(n, nil).Gateway(n.Gateways[0]), kernel.Options{})
	return p, err
}

// What the kernel can't do is said with the rule and the reason, all at once.
func TestRulesThatTheKernelCannotFollowAreNamed(t *testing.T) {
	text := strings.Replace(edge, "    nat:\n", `    handling: {port-assignment: sequential}
    nat:
      - {prefix-nat: six, on: fibre, outside: '2001:db8:9::/64', inside: 'fd00:24::/64'}
      - {source-nat: both, on: [fibre, yard], to: 192.0.2.9, as: 198.51.100.19, destination: 10.61.24.5}
`, 1)
	text = strings.Replace(text, "zone: yard}", "zone: yard, device: a-name-of-20-letters}", 1)
	_, err := compiled(t, text)
	if err == nil {
		t.Fatal("no error")
	}
	for _, want := range []string{"prefix-nat six", "source-nat both", "sequential", "a-name-of-20-letters", "test.yaml:12:9"} {
		if !strings.Contains(err.Error(), want) {
			t.Errorf("%q is missing in\n%v", want, err)
		}
	}
}

func TestAProgramReplacesTheOneBefore(t *testing.T) {
	m, err := kernel.OpenMachine(0)
	if err != nil {
		t.Fatal(err)
	}
	defer m.Close()
	names := func() (list []string) {
		counted, err := m.Counters()
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range counted {
			list = append(list, c.Name)
		}
		return list
	}
	apply := func(text string) {
		t.Helper()
		p, err := compiled(t, text)
		if err != nil {
			t.Fatal(err)
		}
		if err := m.Apply(p); err != nil {
			t.Fatal(err)
		}
		words, err := m.Words()
		if err != nil {
			t.Fatal(err)
		}
		rules, _ := p.Size()
		if count := len(slices.DeleteFunc(words, func(s string) bool { return !strings.HasPrefix(s, " ") })); count != rules {
			t.Errorf("%d rules on the machine, not %d", count, rules)
		}
	}
	apply(edge)
	if got := names(); !slices.Contains(got, "nat/web") || !slices.Contains(got, "filter/rest") {
		t.Error(got)
	}
	apply(strings.ReplaceAll(edge, "web", "page"))
	if got := names(); slices.Contains(got, "nat/web") || !slices.Contains(got, "nat/page") {
		t.Error(got)
	}
	for range 2 { // it is no error that there is nothing
		if err := m.Clear(); err != nil {
			t.Fatal(err)
		}
	}
	if got := names(); len(got) > 0 {
		t.Error(got)
	}
	if err := m.EndSessions(); err != nil {
		t.Error(err)
	}
}

// Mappings come and go in the maps of a program, all of a call or nothing.
func TestMappingsComeAndGo(t *testing.T) {
	m, err := kernel.OpenMachine(0)
	if err != nil {
		t.Fatal(err)
	}
	defer m.Close()
	n := netfiletest.Parse(t, strings.Replace(edge, "    nat:", "    mappings: {protocols: [pcp, upnp-igd], on: [yard], external: fibre}\n    nat:", 1))
	fibre := n.Gateways[0].Interface("fibre")
	made := func(port uint16, senders ...string) *network.Mapping {
		var list []network.Sender
		for _, s := range senders {
			list = append(list, network.Sender{From: netip.MustParsePrefix(s)})
		}
		inside := netip.AddrPortFrom(netip.MustParseAddr("10.61.24.5"), port)
		made := network.NewMapping(fibre, header.UDP, netip.AddrPortFrom(netip.MustParseAddr("198.51.100.18"), port), inside, list, network.PCP, inside.Addr())
		made.Left = time.Hour
		return made
	}
	a, b, c := made(20001), made(20002, "203.0.113.0/24", "192.0.2.0/25"), made(20003)
	p, _, err := kernel.Compile(walk.Compile(n, nil).Gateway(n.Gateways[0]), kernel.Options{Mappings: []*network.Mapping{a}})
	if err != nil || !p.HasMappings() {
		t.Fatal(err)
	}
	if err := m.Apply(p); err != nil {
		t.Fatal(err)
	}
	defer m.Clear()
	if err := m.OpenMappings(nil, []*network.Mapping{b}); err != nil {
		t.Fatal(err)
	}
	if err := m.OpenMappings([]*network.Mapping{a, b}, []*network.Mapping{b, c}); err != nil { // b is renewed
		t.Fatal(err)
	}
	if err := m.OpenMappings([]*network.Mapping{c, a}, nil); !errors.Is(err, unix.ENOENT) {
		t.Errorf("one that is not there is taken away: %v", err)
	}
	if err := m.OpenMappings([]*network.Mapping{c}, nil); err != nil {
		t.Errorf("the other one of that call is gone: %v", err)
	}
	if err := m.ReplaceMappings([]*network.Mapping{a, c}); err != nil {
		t.Fatal(err)
	}
	if err := m.OpenMappings([]*network.Mapping{a, c}, []*network.Mapping{a}); err != nil {
		t.Errorf("they do not replace all: %v", err)
	}
	if err := m.OpenMappings([]*network.Mapping{b}, nil); !errors.Is(err, unix.ENOENT) {
		t.Errorf("one of before is still there: %v", err)
	}
	without := netfiletest.Parse(t, edge)
	plain := walk.Compile(without, nil).Gateway(without.Gateways[0])
	none, _, err := kernel.Compile(plain, kernel.Options{})
	if err != nil || none.HasMappings() {
		t.Errorf("a gateway without mappings has maps: %v", err)
	}
}

// Rules are compiled and put on the kernel, in place of the same ones.
func BenchmarkProgram(b *testing.B) {
	for _, rules := range []int{10, 1000, 10000} {
		b.Run(fmt.Sprint(rules), func(b *testing.B) {
			n := netfiletest.Parse(b, gen.Large(1, rules))
			g := walk.Compile(n, nil).Gateway(n.Gateways[0])
			m, err := kernel.OpenMachine(0)
			if err != nil {
				b.Fatal(err)
			}
			defer m.Close()
			for b.Loop() {
				p, _, err := kernel.Compile(g, kernel.Options{})
				if err != nil {
					b.Fatal(err)
				}
				if err := m.Apply(p); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
