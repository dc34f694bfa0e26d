package repair_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"hollowbridge/core/advice"
	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
	"hollowbridge/internal/repair"
)

var repairedNetworks = flag.Uint64("repair", 12, "how many random networks to repair; .ci/run takes 30")

const demo = "../../examples/fernhollow/hollowbridge.yaml"

// A workshop is a network file in a folder of its own.
type workshop struct {
	path string
	net  *network.Network
}

func opened(tb testing.TB, text string) *workshop {
	tb.Helper()
	path := filepath.Join(tb.TempDir(), "hollowbridge.yaml")
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		tb.Fatal(err)
	}
	n, err := netfile.Read(path)
	if err != nil {
		tb.Fatalf("%v\n%s", err, text)
	}
	return &workshop{path, n}
}

func (w *workshop) bench(tb testing.TB) *repair.Bench {
	tb.Helper()
	return repair.NewBench(w.edited(tb, nil), w.net, network.Times{}, 4000)
}

// edited returns the file with edits made, unsaved.
func (w *workshop) edited(tb testing.TB, m network.Edits) *netfile.Editor {
	tb.Helper()
	e, err := netfile.Sketch(w.path)
	if err != nil {
		tb.Fatal(err)
	}
	if err := e.ApplyAll(m); err != nil {
		tb.Fatalf("%s: %v", netfile.Commands(m), err)
	}
	return e
}

// after makes edits on the file and reads it again.
func (w *workshop) after(tb testing.TB, m network.Edits) *walk.Engine {
	tb.Helper()
	n, err := w.edited(tb, m).Network()
	if err != nil {
		tb.Fatalf("%s: %v", netfile.Commands(m), err)
	}
	return walk.Compile(n, nil)
}

// connections are random ones between the addresses that a network is about.
func connections(random *rand.Rand, e *walk.Engine, count int) []walk.Connection {
	n := e.Network()
	var ends []netip.Addr
	ports := []uint16{80, 443}
	for _, family := range header.Families {
		if a, ok := e.Stranger(family); ok {
			ends = append(ends, a)
		}
	}
	for _, h := range n.Hosts {
		ends = append(ends, h.Addresses...)
		for _, s := range h.Serves {
			for _, service := range s.Services {
				ports = append(ports, service.Ports.First)
			}
		}
	}
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			for _, p := range i.Addresses {
				ends = append(ends, p.Addr(), p.Addr().Next())
			}
		}
		for _, r := range g.NAT {
			if a, ok := r.At.First(); ok {
				ends = append(ends, a)
			}
			for _, m := range r.Ports {
				ports = append(ports, m.Ports.First)
			}
		}
	}
	var list []walk.Connection
	for range count {
		p := header.Packet{
			Source: ends[random.IntN(len(ends))], Destination: ends[random.IntN(len(ends))],
			SourcePort: 40000, DestinationPort: ports[random.IntN(len(ports))], Protocol: header.TCP,
		}
		from, err := e.Locate(p.Source)
		if err == nil && p.Source != p.Destination && p.Source.Is6() == p.Destination.Is6() {
			list = append(list, walk.Connection{Packet: p, From: from})
		}
	}
	return list
}

// differenceTexts writes differences so that they can be compared, whatever their order.
func differenceTexts(names *reach.Namer, list []reach.Difference) []string {
	var texts []string
	for _, d := range reach.Summary(names, list) {
		texts = append(texts, fmt.Sprint(d.Change, d.Old.Host, d.New.Host, d.From, d.To, d.Services, d.AllPorts, d.FromPorts))
	}
	slices.Sort(texts)
	return texts
}

// Whatever repair is offered on a random network: the connection reaches a host after
// it, and what it says it opens is all that a whole comparison finds.
func TestRepairsOfRandomNetworksReachAndSayAllTheyOpen(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many networks")
	}
	kinds := map[string]int{}
	for seed := range *repairedNetworks {
		w := opened(t, gen.Small(seed))
		before := walk.Compile(w.net, nil)
		b := w.bench(t)
		stopped := 0
		for _, c := range connections(rand.New(rand.NewPCG(seed, 3)), before, 300) {
			trace := words.TraceOf(before.NewWalk(), c)
			if trace.Outcome == engine.Reached {
				continue
			}
			if stopped++; stopped > 30 {
				break
			}
			for _, r := range b.ForTrace(trace, repair.Asked{}) {
				kinds[string(r.Edits[0].Verb)+" "+r.Edits[0].Kind]++
				after := w.after(t, r.Edits)
				from, err := after.Locate(c.Packet.Source)
				if err != nil {
					t.Fatal(err)
				}
				again := after.NewWalk().Verdict(walk.Connection{Packet: c.Packet, From: from, Moment: c.Moment})
				if again.Outcome != engine.Reached {
					t.Errorf("seed %d: %s -> %s is %s after %s", seed, c.Packet.From(), c.Packet.To(), again.Outcome, r.Command)
				}
				all, err := reach.Differences(before, after, network.Times{}, false)
				if err != nil || !r.Compared {
					t.Fatalf("seed %d: not compared: %v", seed, err)
				}
				names := reach.NewNamer(after.Network())
				if got, want := differenceTexts(names, r.Opens), differenceTexts(names, all); !slices.Equal(got, want) {
					t.Errorf("seed %d: %s says it opens\n %s\na whole comparison\n %s", seed, r.Command, strings.Join(got, "\n "), strings.Join(want, "\n "))
				}
			}
		}
	}
	if len(kinds) < 5 {
		t.Errorf("only these edits were offered: %v", kinds)
	}
	t.Log(kinds)
}

// Whatever edit is offered for a finding: it is gone after it, and nothing new that is
// a danger or a mistake is there.
func TestEditsForFindingsOfRandomNetworksMendThem(t *testing.T) {
	names := map[string]int{}
	for seed := range netfiletest.Asked(*repairedNetworks, 10) / 6 {
		w := opened(t, gen.Small(seed+5000))
		found, err := advice.Examine(walk.Compile(w.net, nil), advice.Asked{})
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		b := w.bench(t)
		for i := range found {
			for _, r := range b.ForFinding(&found[i], found) {
				names[found[i].Kind.String()]++
				left, err := advice.Examine(w.after(t, r.Edits), advice.Asked{})
				if err != nil {
					t.Fatal(err)
				}
				for _, l := range left {
					same := func(f advice.Finding) bool {
						behind := l.Kind == network.BesideUplink && f.Kind == l.Kind && f.Place.Line < l.Place.Line // what a rule in front lets in too
						return l.Matter() == f.Matter() || behind
					}
					if same(found[i]) || l.Severity() != network.Note && !slices.ContainsFunc(found, same) {
						t.Errorf("seed %d: after %s for %s of %s there is %s of %s", seed, r.Command, found[i].Kind, found[i].Subject, l.Kind, l.Subject)
					}
				}
			}
		}
	}
	if len(names) < 5 && !testing.Short() {
		t.Errorf("only these findings were mended: %v", names)
	}
	t.Log(names)
}

// A rule that stops somebody, put behind the rule that lets them in, is a mistake that is found; the
// edit for it moves the guard and closes what it guards against, and it is never taken out. Put in
// front there is no such finding.
func TestGuardsBehindTheirHolesAreMoved(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many networks")
	}
	planted, several := 0, 0
	for seed := range netfiletest.Few(uint64(50), 20) {
		w := opened(t, gen.Small(seed+8000))
		e := walk.Compile(w.net, nil)
		open, err := reach.Find(e, reach.Question{Most: reach.MostPieces})
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		for _, a := range open.Reached {
			c := a.Example
			trace := words.TraceOf(e.NewWalk(), c.Connection)
			at := slices.IndexFunc(trace.Steps, func(s words.Step) bool { return s.Kind == engine.StepFilter && s.Rule != "" && !s.Back })
			if at < 0 {
				continue
			}
			i := slices.IndexFunc(w.net.Gateways, func(g *network.Gateway) bool { return g.Name == trace.Steps[at].At })
			g := w.net.Gateways[i]
			j := slices.IndexFunc(g.Filter, func(r *network.FilterRule) bool { return r.Name == trace.Steps[at].Rule })
			if j < 0 || g.Handling.ForwardsPermit || g.Filter[j].Verb != network.Allow || c.Packet.Protocol != header.TCP {
				continue
			}
			guard := network.Edit{Verb: network.Add, Kind: "drop", Name: "planted", Gateway: g.Name, Settings: []network.Setting{{Key: "from", Value: c.Packet.Source.String()}}}
			if hole := g.Filter[j]; !hole.To.IsAny() {
				guard.Settings = append(guard.Settings, network.Setting{Key: "to", Value: hole.To.Text})
			}
			if services := g.Filter[j].Services; len(services) > 0 {
				guard.Settings = append(guard.Settings, network.Setting{Key: "service", Value: services[0].String()})
			}
			guard.After = g.Filter[len(g.Filter)-1].Name
			behind := opened(t, string(w.edited(t, network.Edits{guard}).Text()))
			isIt := func(f advice.Finding) bool { return f.Kind == network.HiddenRule && f.Subject == "drop planted" }
			found, err := advice.Examine(walk.Compile(behind.net, nil), advice.Asked{})
			if err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
			k := slices.IndexFunc(found, isIt)
			if k < 0 { // it stops something as it is
				continue
			}
			planted++
			offered := behind.bench(t).ForFinding(&found[k], found)
			several += min(1, len(offered)/2)
			if len(offered) == 0 {
				t.Errorf("seed %d: for a guard behind %s of %s there is nothing: %s\n%s", seed, g.Filter[j].Name, g.Name, found[k].Text, behind.edited(t, nil).Text())
				break
			}
			for _, r := range offered {
				if r.Edits[0].Name == "planted" && r.Edits[0].Verb != network.Move {
					t.Errorf("seed %d: for a guard behind %s of %s there is %q: %s\n%s", seed, g.Filter[j].Name, g.Name, r.Command, found[k].Text, behind.edited(t, nil).Text())
				}
				for _, d := range r.Opens {
					if d.Change != reach.NoLonger {
						t.Errorf("seed %d: %s is %s of %s", seed, r.Command, d.Change, d.New.Host)
					}
				}
			}
			guard.After, guard.Before = "", g.Filter[0].Name
			front := opened(t, string(w.edited(t, network.Edits{guard}).Text()))
			if found, err = advice.Examine(walk.Compile(front.net, nil), advice.Asked{}); err != nil || slices.ContainsFunc(found, isIt) {
				t.Errorf("seed %d: in front of all, the guard is found to be hidden; %v", seed, err)
			}
			break
		}
	}
	if planted < 10 || several < 10 {
		t.Errorf("only %d guards were hidden", planted)
	}
	t.Log(planted)
}

// brokenForwards is a network in which each forward has one thing wrong with it.
const brokenForwards = `
network: broken
groups:
  friends: [203.0.113.16/28]
hosts:
  archive: {address: 10.61.24.5, serves: [https, ssh]}
  notice:  {address: 10.61.24.6, serves: [tcp/8080]}
  scope:   {address: 10.61.16.10, serves: [tcp/7624]}
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      yard:  {address: 10.61.24.1/28, zone: yard}
      link:  {address: 10.61.15.1/29, zone: domes}
    routes:
      - {to: default, via: 198.51.100.17}
    nat:
      - {port-forward: web, on: fibre, service: https, to: archive}
      - {port-forward: side, on: fibre, service: tcp/8081, to: "notice:8080"}
      - {port-forward: shell, on: yard, service: ssh, to: archive}
      - {port-forward: port, on: fibre, service: tcp/9001, to: "notice:9000"}
      - {port-forward: nobody, on: fibre, service: tcp/8080, to: 10.61.24.9}
      - {port-forward: far, on: fibre, service: tcp/7624, to: scope}
      - {port-forward: friends, on: fibre, service: tcp/8082, to: "notice:8080", from: friends}
    filter:
      - {drop: early, from: 203.0.113.7, to: archive, service: https}
      - {allow: web, from: outside, to: archive, service: https}
      - {allow: side, from: outside, to: "rim:fibre", service: tcp/8081}
      - {allow: shell, from: outside, to: archive, service: ssh}
      - {allow: port, from: outside, to: notice, service: tcp/9001}
      - {allow: far, from: outside, to: scope, service: tcp/7624}
      - {allow: off, from: any, to: notice, service: tcp/8080, disabled: true}
  keep:
    interfaces:
      up:    {address: 10.61.15.2/29, zone: yard}
      domes: {address: 10.61.16.1/24, zone: domes}
    routes:
      - {to: default, via: 10.61.15.1}
    filter:
      - {allow: scope, from: any, to: scope}
      - {allow: out, from: domes, to: any}
`

// Each kind of mistake is mended by the edit that a person would make.
func TestEachMistakeIsMendedByItsEdit(t *testing.T) {
	w := opened(t, brokenForwards)
	e := walk.Compile(w.net, nil)
	for _, c := range []struct {
		from, to string
		port     uint16
		want     string
	}{
		{"203.0.113.7", "198.51.100.18", 443, "hollowbridge move allow web before early -gateway rim"},
		{"192.0.2.1", "198.51.100.18", 8081, "hollowbridge change allow side -gateway rim to=notice service=tcp/8080"},
		{"192.0.2.1", "198.51.100.18", 22, "hollowbridge change port-forward shell -gateway rim on=yard,fibre"},
		{"192.0.2.1", "198.51.100.18", 9001, "hollowbridge change port-forward port -gateway rim to=notice:8080 && hollowbridge add allow"},
		{"192.0.2.1", "198.51.100.18", 8080, "hollowbridge change port-forward nobody -gateway rim to=notice:8080"},
		{"192.0.2.1", "198.51.100.18", 7624, "hollowbridge add route 10.61.16.0/24 -gateway rim -via 10.61.15.2"},
		{"203.0.113.17", "198.51.100.18", 8082, "hollowbridge enable allow off -gateway rim"},
		{"203.0.113.17", "198.51.100.18", 8082, "hollowbridge add allow friends -gateway rim -from friends -to notice -service tcp/8080"},
		{"192.0.2.1", "198.51.100.18", 8082, "hollowbridge change port-forward friends -gateway rim from=friends,192.0.2.1 && hollowbridge add allow"},
		{"10.61.15.3", "198.51.100.18", 443, "hollowbridge change port-forward web -gateway rim hairpin=true && hollowbridge add allow"},
		{"10.61.24.6", "203.0.113.9", 443, "hollowbridge add allow let-in -gateway rim -from 10.61.24.6 -to 203.0.113.9 -service tcp/443 && " +
			"hollowbridge add source-nat hide-yard -gateway rim -on fibre -from notice -as interface"},
	} {
		p := header.Packet{Source: netip.MustParseAddr(c.from), Destination: netip.MustParseAddr(c.to), SourcePort: 40000, DestinationPort: c.port, Protocol: header.TCP}
		from, err := e.Locate(p.Source)
		if err != nil {
			t.Fatal(err)
		}
		trace := words.TraceOf(e.NewWalk(), walk.Connection{Packet: p, From: from})
		var commands []string
		for _, r := range w.bench(t).ForTrace(trace, repair.Asked{}) {
			commands = append(commands, r.Command)
		}
		if !slices.ContainsFunc(commands, func(got string) bool { return strings.HasPrefix(got, c.want) }) {
			t.Errorf("%s -> %s is %s at %s; offered are\n %s\nnot %s", p.From(), p.To(), trace.Outcome, trace.At.Name(), strings.Join(commands, "\n "), c.want)
		}
	}
}

func BenchmarkRepairsOfTheDemo(b *testing.B) {
	n, err := netfile.Read(demo)
	if err != nil {
		b.Fatal(err)
	}
	c := walk.Connection{From: network.Place{Internet: true}, Packet: header.Packet{
		Source: netip.MustParseAddr("192.0.2.1"), Destination: netip.MustParseAddr("198.51.100.18"), SourcePort: 40000, DestinationPort: 8081, Protocol: header.TCP,
	}}
	t := words.TraceOf(walk.Compile(n, nil).NewWalk(), c)
	for b.Loop() {
		n, sketch, err := netfile.ReadToEdit(demo)
		if err != nil {
			b.Fatal(err)
		}
		if found := repair.NewBench(sketch, n, network.Times{}, 4000).ForTrace(t, repair.Asked{Who: "internet"}); len(found) == 0 || !found[0].Compared {
			b.Fatal(found)
		}
	}
}
