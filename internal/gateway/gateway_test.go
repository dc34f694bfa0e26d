package gateway_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/kernel"
	"hollowbridge/internal/lab"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

// noKernel is why the kernel is not tested here.
var noKernel error

// TestMain runs the tests in namespaces of their own; where the machine forbids these, those of
// the kernel are left out, and it says so.
func TestMain(m *testing.M) {
	if !lab.Inside() {
		status, err := lab.AgainWithFiles(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)
		if err == nil {
			os.Exit(status)
		}
		noKernel = err
		fmt.Printf("SKIPPED on the kernel: %v\n", err)
	} else if err := lab.Loopback(); err != nil {
		panic(err)
	}
	flag.Parse()
	flag.Set("test.parallel", "6") // they wait for packets, deadlines and trials more than they compute
	os.Exit(m.Run())
}

const house = `network: house
hosts:
  archive: {address: 10.61.24.5, serves: [https, ssh]}
  notice: {address: 10.61.24.6, serves: [https]}
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      yard: {address: 10.61.24.1/28, zone: yard}
    routes: [{to: default, via: 198.51.100.17}]
    logging: {enabled: true, unmatched: true}
    nat:
      - {port-forward: web, on: fibre, service: https, to: archive}
      - {port-forward: shell, on: fibre, service: tcp/2222, to: 'archive:22'}
      - {source-nat: out, on: fibre, from: 10.61.24.0/28, as: interface}
    filter:
      - {allow: web, from: outside, to: [archive, notice], service: https, log: true}
      - {drop: guests, from: 192.0.2.128/25}
      - {allow: yard-out, from: yard}
`

func bundle(text string) *netfile.Bundle {
	return &netfile.Bundle{File: "house.yaml", Text: text, Lists: map[string]string{}}
}

// A bench is a running gateway and a way to send connections through it.
type bench struct {
	*testing.T
	*gateway.Service
	folder string
	begin  func(*bench) // starts the service
	send   func(from, to string, service string, sport uint16)
	within func(do func() error) error // where the gateway's sockets are; nil is here
}

func trouble(t *testing.T) func(error) {
	return func(err error) { t.Errorf("trouble: %v", err) }
}

// onEach runs a test on both backends.
func onEach(t *testing.T, test func(*bench)) {
	t.Run("simulated", func(t *testing.T) {
		var simulated *gateway.Simulated
		b := &bench{T: t, folder: t.TempDir()}
		b.begin = func(b *bench) {
			b.start(func(r gateway.Recorder) (gateway.Backend, error) {
				simulated = gateway.NewSimulated(r)
				return simulated, nil
			})
		}
		b.send = func(from, to, service string, sport uint16) {
			b.Helper()
			e := walk.Compile(netfiletest.Parse(t, house), nil)
			decide := func(g *network.Gateway, a *engine.Arrival) (engine.Decision, error) {
				in := ""
				if a.In != nil {
					in = a.In.Name
				}
				d, err := simulated.Decide(in, a.Packet, a.Sender, a.Part, a.Size)
				if d.Out != nil {
					d.Out = g.Interface(d.Out.Name)
				}
				return d, err
			}
			way := e.NewWalkBy(decide, 40)
			if way.Verdict(connection(t, e, from, to, service, sport)); way.Err() != nil {
				t.Fatal(way.Err())
			}
		}
		b.begin(b)
		defer func() { b.Stop(false) }()
		test(b)
	})
	t.Run("kernel", func(t *testing.T) {
		if noKernel != nil {
			t.Skip(noKernel)
		}
		e := walk.Compile(netfiletest.Parse(t, house), nil)
		built, err := lab.Build(e, 0)
		if err != nil {
			t.Fatal(err)
		}
		defer built.Close()
		b := &bench{T: t, folder: t.TempDir()}
		b.begin = func(b *bench) {
			b.start(func(r gateway.Recorder) (gateway.Backend, error) {
				return gateway.NewKernel(r, gateway.KernelOptions{Namespace: built.Space("rim"), Device: lab.DeviceOf, Lab: true, Trouble: trouble(t)})
			})
		}
		b.send = func(from, to, service string, sport uint16) {
			b.Helper()
			if r := built.Send(connection(t, e, from, to, service, sport), 1, 300*time.Millisecond); r.Err != nil {
				t.Fatal(r.Err)
			}
		}
		b.begin(b)
		defer func() { b.Stop(true) }()
		test(b)
	})
}

func (b *bench) start(backend func(gateway.Recorder) (gateway.Backend, error)) {
	b.Helper()
	s, err := gateway.Start(gateway.Options{Gateway: "rim", Folder: b.folder, Program: "test", Backend: backend, Keeping: gateway.UsualKeeping, Trouble: trouble(b.T), Within: b.within, Device: lab.DeviceOf})
	if err != nil {
		b.Fatal(err)
	}
	b.Service = s
}

func connection(t *testing.T, e *walk.Engine, from, to, service string, sport uint16) walk.Connection {
	t.Helper()
	services, err := netfile.ParseService(e.Network(), service)
	if err != nil {
		t.Fatal(err)
	}
	c := walk.Connection{Packet: header.Packet{
		Source: netip.MustParseAddr(from), Destination: netip.MustParseAddr(to), SourcePort: sport,
		Protocol: services[0].Protocol, DestinationPort: services[0].Ports.First,
	}}
	if c.From, err = e.Locate(c.Packet.Source); err != nil {
		t.Fatal(err)
	}
	return c
}

// apply puts a network into force.
func (b *bench) apply(text string, change func(*gateway.Commit)) (gateway.Prepared, gateway.Committed) {
	b.Helper()
	base := 0
	if r := b.Status().Revision; r != nil {
		base = r.Number
	}
	made, err := b.Prepare(gateway.Proposal{Bundle: bundle(text), Base: base})
	if err != nil {
		b.Fatal(err)
	}
	c := gateway.Commit{Token: made.Token, Author: "ada", Note: "a test"}
	if change != nil {
		change(&c)
	}
	done, err := b.Commit(c)
	if err != nil {
		b.Fatal(err)
	}
	return made, done
}

func (b *bench) hit(id string) gateway.Hit {
	b.Helper()
	hits, err := b.Hits()
	if err != nil {
		b.Fatal(err)
	}
	for _, h := range hits.Hits {
		if h.List+"/"+h.Rule == id {
			return h
		}
	}
	return gateway.Hit{}
}

func (b *bench) sessions(query map[string][]string) []gateway.Session {
	b.Helper()
	f, err := gateway.ParseFilter(nil, query, time.Now())
	if err != nil {
		b.Fatal(err)
	}
	found, err := b.Sessions(f, 1000)
	if err != nil {
		b.Fatal(err)
	}
	return found.Sessions
}

// soon waits until something holds.
func (b *bench) soon(what string, holds func() bool) {
	b.Helper()
	for until := time.Now().Add(30 * time.Second); !holds(); time.Sleep(20 * time.Millisecond) { // long for a busy machine with the race detector
		if time.Now().After(until) {
			b.Fatalf("not after 30 s: %s", what)
		}
	}
}

// What an administrator does with a gateway comes out alike, whatever it runs on.
func TestBothBackendsDoTheSame(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for running gateways")
	}
	t.Parallel()
	onEach(t, func(b *bench) {
		if s := b.Status(); s.Revision != nil {
			b.Fatalf("%+v", s.Revision)
		}
		if _, done := b.apply(house, nil); done.Revision.Number != 1 || done.Revision.Added != strings.Count(house, "\n") {
			b.Errorf("%+v", done)
		}
		for sport := range uint16(3) {
			b.send("203.0.113.7", "198.51.100.18", "https", 41000+sport)
		}
		b.send("192.0.2.200", "198.51.100.18", "tcp/2222", 41000) // redirected, and dropped
		b.send("10.61.24.5", "203.0.113.9", "https", 41500)

		list := b.sessions(map[string][]string{"port": {"443"}, "to": {"10.61.24.5"}})
		if len(list) != 3 {
			b.Fatalf("%d sessions: %+v", len(list), list)
		}
		s := list[0]
		if s.Redirect != "web" || s.Permit != "web" || s.Source != "" || s.InZone != "outside" || s.OutZone != "yard" ||
			s.After.Destination != netip.MustParseAddr("10.61.24.5") || s.Before.Destination != netip.MustParseAddr("198.51.100.18") || s.Forth.Packets < 2 || s.Back.Packets < 1 {
			b.Errorf("%+v", s)
		}
		out := b.sessions(map[string][]string{"rule": {"nat/out"}})
		if len(out) != 1 || out[0].After.Source != netip.MustParseAddr("198.51.100.18") || out[0].Permit != "yard-out" {
			b.Errorf("%+v", out)
		}
		for id, want := range map[string][2]int64{"nat/web": {3, 0}, "filter/web": {3, 0}, "nat/shell": {1, 1}, "filter/guests": {1, 0}, "nat/out": {1, 0}} {
			b.soon(id, func() bool { h := b.hit(id); return h.Connections == want[0] && h.Stopped == want[1] })
		}
		if h := b.hit("filter/web"); h.Open != 3 || h.Forth.Packets < 6 || h.Last == nil {
			b.Errorf("%+v", h)
		}
		log := func() []gateway.Event {
			l, err := b.Log(&gateway.Filter{Rule: "web"}, 100, false, 0)
			if err != nil {
				b.Fatal(err)
			}
			return l.Events
		}
		b.soon("three lines in the log", func() bool { return len(log()) == 3 })
		if e := log()[2]; e.Outcome != gateway.Passes || e.Rule != "filter/web" || e.In != "fibre" || e.Out != "yard" || e.Before == nil || e.Before.DestinationPort != 443 || e.After == nil || e.After.Destination != netip.MustParseAddr("10.61.24.5") {
			b.Errorf("%+v", e)
		}

		// Another target: the three go on, until they are ended.
		other := strings.Replace(house, "service: https, to: archive}", "service: https, to: notice}", 1)
		made, done := b.apply(other, nil)
		if made.Changed != 3 || done.Ended != 0 || len(b.sessions(map[string][]string{"to": {"10.61.24.5"}})) != 3 {
			b.Errorf("%d have changed, %d are ended", made.Changed, done.Ended)
		}
		b.send("203.0.113.7", "198.51.100.18", "https", 42000)
		if got := b.sessions(map[string][]string{"to": {"10.61.24.6"}}); len(got) != 1 {
			b.Errorf("%+v", got)
		}
		if _, done := b.apply(house, func(c *gateway.Commit) { c.Clear = true }); done.Ended != 1 {
			b.Errorf("%d are ended, not the one to notice", done.Ended)
		}
		if n, err := b.EndSessions(&gateway.Filter{Rule: "web"}); n != 3 || err != nil {
			b.Errorf("%d ended, %v", n, err)
		}
		if h := b.hit("nat/web"); h.Connections != 4 {
			b.Errorf("after two revisions, %+v", h)
		}

		// A trial, a restart, a reset.
		if err := b.Try(gateway.Trial{Rule: "out", For: 60}); err != nil {
			b.Error(err)
		}
		b.send("10.61.24.5", "203.0.113.9", "https", 41501)
		b.soon("a trial in the log", func() bool {
			l, err := b.Log(&gateway.Filter{Rule: "nat/out"}, 100, false, 0)
			return err == nil && slices.ContainsFunc(l.Events, func(e gateway.Event) bool { return e.Before != nil && e.Before.SourcePort == 41501 })
		})
		if err := b.Stop(false); err != nil {
			b.Error(err)
		}
		b.begin(b)
		if s := b.Status(); s.Revision == nil || s.Revision.Number != 3 {
			b.Errorf("%+v", s)
		}
		if h := b.hit("nat/web"); h.Connections != 4 {
			b.Errorf("after a restart, %+v", h)
		}
		if err := b.ResetHits(); err != nil {
			b.Error(err)
		}
		b.send("203.0.113.8", "198.51.100.18", "https", 43000)
		b.soon("one since the reset", func() bool { return b.hit("nat/web").Connections == 1 })
	})
}

// A revision that is not kept goes back; one that is kept stays.
func TestWhatIsNotKeptGoesBack(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for running gateways")
	}
	t.Parallel()
	onEach(t, func(b *bench) {
		b.apply(house, nil)
		closed := strings.Replace(house, "allow: web", "drop: web", 1)
		b.apply(closed, func(c *gateway.Commit) { c.For = 1 })
		if p := b.Status().Pending; p == nil || p.Back != 1 {
			b.Fatalf("%+v", p)
		}
		b.soon("back at what was before", func() bool { r := b.Status().Revision; return r.Number == 3 && r.Author == "hollowbridge" })
		b.apply(closed, func(c *gateway.Commit) { c.For = 1 })
		if err := b.Keep(); err != nil {
			b.Error(err)
		}
		time.Sleep(1300 * time.Millisecond)
		if r := b.Status(); r.Revision.Number != 4 || r.Pending != nil {
			b.Errorf("%+v", r)
		}
		if err := b.Keep(); err == nil {
			b.Error("there is nothing to keep")
		}
		if err := b.Undo(gateway.Undo{Revision: 4, Note: "keep did not follow"}); err != nil || b.Status().Revision.Number != 5 {
			b.Error(err)
		}
	})
}

// A rule whose last day ends while the gateway runs takes no part from then on, and it is said once.
func TestRulesAreTakenOutWhenTheirLastDayIsOver(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits")
	}
	onEach(t, func(b *bench) {
		b.apply(strings.Replace(house, "service: https, to: archive}", "service: https, to: archive, until: 2020-06-30}", 1), nil)
		said := func() (n int) {
			log, err := b.Log(&gateway.Filter{}, 1000, false, 0)
			if err != nil {
				b.Fatal(err)
			}
			for _, e := range log.Events {
				if strings.Contains(e.Text, "until 2020-06-30 take no part any more") {
					n++
				}
			}
			return n
		}
		if said() > 0 || !b.hit("nat/web").Disabled {
			b.Errorf("%+v", b.hit("nat/web"))
		}
		b.Since(network.Date("2020-06-01").Begins()) // the day is over since, which is seen at once
		b.soon("it is taken out", func() bool { return said() == 1 && b.hit("nat/web").Disabled })
	})
}

// Of two who looked at the same revision, the second is told of the first.
func TestNobodyOverwritesUnseen(t *testing.T) {
	onEach(t, func(b *bench) {
		b.apply(house, nil)
		var wait sync.WaitGroup
		results := make([]error, 8)
		var tokens []string
		for i := range results {
			made, err := b.Prepare(gateway.Proposal{Bundle: bundle(house + fmt.Sprintf("# %d\n", i)), Base: 1})
			if err != nil {
				b.Fatal(err)
			}
			tokens = append(tokens, made.Token)
		}
		for i, token := range tokens {
			wait.Go(func() { _, results[i] = b.Commit(gateway.Commit{Token: token, Author: "ada"}) })
		}
		wait.Wait()
		good := 0
		for _, err := range results {
			if err == nil {
				good++
			} else if !strings.Contains(err.Error(), "revision 2 is in force by now, not 1") {
				b.Error(err)
			}
		}
		if good != 1 || b.Status().Revision.Number != 2 {
			b.Errorf("%d were applied", good)
		}
	})
}

// What can't be put into force is said before anything is touched.
func TestWrongProposalsAreRefused(t *testing.T) {
	onEach(t, func(b *bench) {
		unknown := strings.NewReplacer("address: 198.51.100.18/29", "address: dynamic", "via: 198.51.100.17", "via: fibre").Replace(house)
		for _, text := range []string{"", "network: x", strings.ReplaceAll(house, "rim:", "rum:"), unknown} {
			if _, err := b.Prepare(gateway.Proposal{Bundle: bundle(text)}); err == nil {
				b.Errorf("taken: %.40q", text)
			}
		}
		if _, err := b.Commit(gateway.Commit{Token: "no such"}); err == nil {
			b.Error("a commit of nothing")
		}
		if b.Status().Revision != nil {
			b.Error("something is in force")
		}
	})
}

// A collector that is away, slow, or comes back gets what there is room for, and nobody waits.
func TestCollectorsNeverHoldAGatewayUp(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits")
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Skip(err)
	}
	address := l.Addr().String()
	l.Close() // it is away
	var simulated *gateway.Simulated
	s, err := gateway.Start(gateway.Options{Gateway: "rim", Folder: t.TempDir(), Keeping: gateway.Keeping{Most: 1000, Age: time.Hour}, Trouble: trouble(t),
		Backend: func(r gateway.Recorder) (gateway.Backend, error) {
			simulated = gateway.NewSimulated(r)
			return simulated, nil
		}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop(false)
	b := &bench{T: t, Service: s}
	b.apply(strings.Replace(house, "unmatched: true", "unmatched: true, syslog: 'tcp://"+address+"'", 1), nil)
	flood := func(n int) time.Duration {
		begun := time.Now()
		for i := range n {
			p := header.Packet{Source: netip.MustParseAddr("203.0.113.7"), Destination: netip.MustParseAddr("198.51.100.18"), SourcePort: uint16(i), DestinationPort: 9, Protocol: header.TCP}
			if _, err := simulated.Decide("fibre", p, netip.Addr{}, header.Begins, 40); err != nil {
				t.Fatal(err)
			}
		}
		return time.Since(begun)
	}
	if took := flood(40_000); took > 5*time.Second {
		t.Errorf("40,000 took %s", took)
	}
	b.soon("the collector's queue is full", func() bool { c := b.Status().Collector; return c.Lost > 0 && c.Trouble != "" })
	if l, err = net.Listen("tcp", address); err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	got := make(chan string, 1)
	go func() {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		data := make([]byte, 600)
		n, _ := conn.Read(data)
		got <- string(data[:n])
	}()
	select {
	case text := <-got:
		count, rest, _ := strings.Cut(text, " ")
		if !strings.HasPrefix(rest, "<165>1 ") || !strings.Contains(rest, ` gateway="rim"`) || len(count) < 2 {
			t.Errorf("%q", text)
		}
	case <-time.After(40 * time.Second):
		t.Error("the collector hears nothing")
	}
	log, err := s.Log(&gateway.Filter{}, 100_000, false, 0)
	if err != nil || len(log.Events) > 1000+1024 {
		t.Errorf("%d events are kept, %v", len(log.Events), err)
	}
}

// A server answers nobody without the token, and everything else with something sensible.
func TestTheTokenIsAskedFor(t *testing.T) {
	onEach(t, func(b *bench) {
		b.apply(house, nil)
		server := httptest.NewServer(gateway.NewServer(b.Service, gateway.Token{Right: gateway.Change, Word: "a token of some length"}).Handler())
		defer server.Close()
		for header, want := range map[string]int{"": 401, "Bearer": 401, "Bearer a token of some lengt": 401, "Bearer a token of some length": 200, "bearer a token of some length": 401} {
			request, _ := http.NewRequest("GET", server.URL+"/v1/status", nil)
			request.Header.Set("Authorization", header)
			response, err := http.DefaultClient.Do(request)
			if err != nil {
				b.Fatal(err)
			}
			response.Body.Close()
			if response.StatusCode != want {
				b.Errorf("%q: %d, want %d", header, response.StatusCode, want)
			}
		}
	})
}

// service returns a simulated gateway in which a network is in force.
func service(tb testing.TB, text string) (*gateway.Service, *gateway.Simulated) {
	var simulated *gateway.Simulated
	s, err := gateway.Start(gateway.Options{Gateway: "rim", Folder: tb.TempDir(), Keeping: gateway.UsualKeeping, Trouble: func(err error) { tb.Error(err) },
		Backend: func(r gateway.Recorder) (gateway.Backend, error) {
			simulated = gateway.NewSimulated(r)
			return simulated, nil
		}})
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { s.Stop(false) })
	made, err := s.Prepare(gateway.Proposal{Bundle: bundle(text)})
	if err == nil {
		_, err = s.Commit(gateway.Commit{Token: made.Token, Author: "ada"})
	}
	if err != nil {
		tb.Fatal(err)
	}
	return s, simulated
}

// Whatever is sent to the control API, it answers in JSON, and what is wrong is the caller's.
func FuzzAPI(f *testing.F) {
	s, _ := service(f, house)
	handler := gateway.NewServer(s).Handler()
	for _, seed := range []string{
		`POST /v1/prepare {"bundle":{"file":"x","text":"network: x","lists":{}},"base":1}`, `POST /v1/commit {"token":"x","for":1e9}`,
		`GET /v1/sessions?top=5&from=10.0.0.0/8 `, `DELETE /v1/sessions?rule=web `, `GET /v1/log?sum=1&since=1h `, `GET /v1/log?number=1 `,
		`POST /v1/packets [{"in":"fibre","packet":{"protocol":"tcp","source":"203.0.113.7","source-port":1,"destination":"198.51.100.18","destination-port":443},"part":"begins","size":40}]`,
		`POST /v1/trial {"rule":"web","for":60}`, `POST /v1/undo {"revision":9}`, `GET /v1/revisions/-1 `, `POST /v1/mappings/try {"by":"pcp","asker":"10.0.0.1","protocol":"tcp","port":1,"lifetime":60}`, `POST /v1/mappings/settle {"number":1}`, `DELETE /v1/mappings?name=tcp/1&who=x `, `POST /v1/keep {}`, `GET /metrics `, `PUT /v1/status x`,
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		method, rest, _ := strings.Cut(text, " ")
		path, body, _ := strings.Cut(rest, " ")
		request, err := http.NewRequest(method, "http://gateway"+path, strings.NewReader(body))
		if err != nil || !strings.HasPrefix(path, "/") || strings.HasPrefix(request.URL.Path, "/v1/log/follow") {
			return
		}
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, request)
		if w.Code >= 500 {
			t.Errorf("%q: %d %s", text, w.Code, w.Body)
		}
		if w.Code >= 300 && w.Code < 400 || request.URL.Path == "/metrics" || request.URL.Path == "/v1/backup" {
			return // to the path as it is written plainly
		}
		if !json.Valid(bytes.TrimSpace(w.Body.Bytes())) {
			t.Errorf("%q: %d, no JSON: %.200s", text, w.Code, w.Body)
		}
	})
}

// A state that is foreign, damaged or another gateway's is left as it is.
func TestForeignStatesAreLeftAlone(t *testing.T) {
	folder := t.TempDir()
	own, err := gateway.OpenState(folder, "rim")
	if err != nil {
		t.Fatal(err)
	}
	if err := own.Add(&gateway.Revision{Bundle: bundle(house), Time: time.Now()}, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := gateway.OpenState(folder, "rim"); err == nil || !strings.Contains(err.Error(), "another gateway runs") {
		t.Error(err)
	}
	own.Close()
	path := filepath.Join(folder, gateway.StateFile)
	good, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := gateway.OpenState(folder, "keep"); err == nil || !strings.Contains(err.Error(), "the state of rim") {
		t.Error(err)
	}
	foreign := slices.Clone(good)
	copy(foreign[68:72], "abcd")
	damaged := slices.Clone(good)
	for i := 4096; i < len(damaged); i += 7 {
		damaged[i] ^= 0x5a
	}
	for what, data := range map[string][]byte{"this is no SQLite file": []byte("a letter to somebody, which is long enough to be read as a head of one hundred bytes, and more than that"), "another program": foreign, "damaged": damaged} {
		if err := os.WriteFile(path, data, 0o600); err != nil {
			t.Fatal(err)
		}
		os.Remove(path + "-wal")
		_, err := gateway.OpenState(folder, "rim")
		if err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("%s: %v", what, err)
		}
		if after, _ := os.ReadFile(path); !bytes.Equal(after, data) {
			t.Errorf("%s: it is not left as it is", what)
		}
	}
}

// A table that another program takes away, or changes, is put back, said and counted; a few times in a minute, and then it is said that it
// is not, until it is applied again.
func TestTheTableIsPutBack(t *testing.T) {
	if testing.Short() || noKernel != nil {
		t.Skip("it waits for a running gateway on the kernel", noKernel)
	}
	defer gateway.EverybodysTables()()
	r := startRim(t, house)
	b := r.bench
	defer func() { b.Stop(true) }()
	b.apply(house, nil)
	other, err := kernel.OpenMachine(r.built.Space("rim"))
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	before, err := other.Digest()
	if err != nil || before == (kernel.Digest{}) {
		t.Fatalf("%x, %v", before, err)
	}
	if s := b.Status().Table; s == nil || s.Trouble != "" || s.Restored != 0 {
		t.Fatalf("%+v", s)
	}
	events := func() (list []string) {
		f, err := gateway.ParseFilter(nil, nil, time.Now())
		if err != nil {
			t.Fatal(err)
		}
		found, err := b.Log(f, 100, false, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range found.Events {
			if e.What == "table" {
				list = append(list, e.Text)
			}
		}
		return list
	}
	for n := int64(1); n <= 3; n++ {
		if err := other.Clear(); err != nil {
			t.Fatal(err)
		}
		if trouble := b.Status().Table.Trouble; !strings.Contains(trouble, "taken") && b.Status().Table.Restored < n {
			t.Errorf("%q", trouble)
		}
		b.soon("the table is there again", func() bool { return b.Status().Table.Restored == n })
		if after, err := other.Digest(); err != nil || after != before {
			t.Fatalf("it is put back as another one: %v", err)
		}
	}
	if err := other.Clear(); err != nil {
		t.Fatal(err)
	}
	b.soon("it is said that it stays away", func() bool {
		list := events()
		return len(list) == 4 && strings.Contains(list[3], "3 times in a minute")
	})
	time.Sleep(1500 * time.Millisecond)
	if after, err := other.Digest(); err != nil || after != (kernel.Digest{}) || b.Status().Table.Trouble == "" {
		t.Errorf("it is put back for ever: %v, %+v", err, b.Status().Table)
	}
	b.apply(house, nil)
	if after, err := other.Digest(); err != nil || after != before || b.Status().Table.Trouble != "" {
		t.Errorf("applied again, it is %v, %+v", err, b.Status().Table)
	}
}

// Where the kernel has tables of one program alone, nobody else can take ours away while the service runs; it stays when that ends, for
// anybody to delete, and the next start has it again.
func TestTheTableIsTheServicesAlone(t *testing.T) {
	r := startRim(t, house)
	defer func() { r.Stop(true) }()
	r.apply(house, nil)
	if !r.Status().Table.Owned {
		t.Skip("this kernel has no such tables")
	}
	other, err := kernel.OpenMachine(r.built.Space("rim"))
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	size := func() int {
		words, err := other.Words()
		if err != nil {
			t.Fatal(err)
		}
		return len(words)
	}
	before := size()
	if err := other.Clear(); !errors.Is(err, unix.EPERM) || size() != before {
		t.Errorf("another program takes it away: %v, %d of %d", err, size(), before)
	}
	other.Own()
	p, _, err := kernel.Compile(walk.Compile(netfiletest.Parse(t, house), nil).Gateway(netfiletest.Parse(t, house).Gateways[0]), kernel.Options{Device: lab.DeviceOf})
	if err != nil {
		t.Fatal(err)
	}
	if err := other.Apply(p); err == nil || !strings.Contains(err.Error(), "another gateway on this machine") {
		t.Errorf("another gateway takes it: %v", err)
	}
	r.apply(house+"# again\n", nil)
	r.Stop(false)
	if size() != before {
		t.Errorf("stopped, there are %d of %d", size(), before)
	}
	if err := other.Clear(); err != nil || size() != 0 {
		t.Errorf("by hand: %v, %d", err, size())
	}
	r.begin(r.bench)
	if size() != before || !r.Status().Table.Owned || r.Status().Table.Trouble != "" {
		t.Errorf("started again, there are %d of %d, %+v", size(), before, r.Status().Table)
	}
}

// A token or a key that others may read is refused, and nobody but its owner may read a state.
func TestSecretsAreTheOwnersAlone(t *testing.T) {
	folder := t.TempDir()
	os.Chmod(folder, 0o755)
	certificate(t, folder)
	token := filepath.Join(folder, "token")
	if err := os.WriteFile(token, []byte("a-token-of-some-length\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	e := gateway.Endpoint{Address: "127.0.0.1:0", Token: token, Certificate: filepath.Join(folder, "cert.pem"), Key: filepath.Join(folder, "key.pem")}
	for _, mode := range []os.FileMode{0o644, 0o640, 0o604, 0o620} {
		os.Chmod(token, mode)
		if _, err := e.ReadTokens(); err == nil || !strings.Contains(err.Error(), "chmod 600 "+token) {
			t.Errorf("a token of mode %v: %v", mode, err)
		}
		os.Chmod(e.Key, mode)
		if l, err := e.Listen(); err == nil || !strings.Contains(err.Error(), "chmod 600 "+e.Key) {
			t.Errorf("a key of mode %v: %v, %v", mode, l, err)
		}
	}
	path := filepath.Join(folder, gateway.StateFile)
	for range 2 { // made, and found open to others
		s, err := gateway.OpenState(folder, "rim")
		if err != nil {
			t.Fatal(err)
		}
		files, _ := filepath.Glob(path + "*")
		for _, file := range files {
			if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
				t.Errorf("%s: %v, %v", file, info.Mode(), err)
			}
		}
		if len(files) < 2 {
			t.Errorf("the state is %v", files)
		}
		s.Close()
		os.Chmod(path, 0o644)
	}
}

// A token says what it is for: looking, or everything.
func TestTokensSayWhatTheyAreFor(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "tokens")
	read := func(text string) ([]gateway.Token, error) {
		t.Helper()
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return gateway.Endpoint{Address: "127.0.0.1:1", Token: path}.ReadTokens()
	}
	const looks, changes = "for-those-who-look", "for-those-who-change"
	for text, line := range map[string]string{"": "", "# nothing\n": "", "short": ":1", "\nlook\n": ":2", "keep " + looks: ":1", "look " + looks + " more": ":1", changes + "\nlook short": ":2"} {
		if _, err := read(text); err == nil || !strings.Contains(err.Error(), path+line+": ") {
			t.Errorf("%q: %v", text, err)
		}
	}
	tokens, err := read("# of the operators\nlook " + looks + "\n" + changes + "\n")
	if err != nil || len(tokens) != 2 || tokens[0] != (gateway.Token{Right: gateway.Change, Word: changes}) || tokens[1] != (gateway.Token{Right: gateway.Look, Word: looks}) {
		t.Fatalf("%+v, %v", tokens, err)
	}
	s, _ := service(t, house)
	handler := gateway.NewServer(s, tokens...).Handler()
	ask := func(method, path, token string) int {
		w, r := httptest.NewRecorder(), httptest.NewRequest(method, path, strings.NewReader("{}"))
		r.Header.Set("Authorization", "Bearer "+token)
		handler.ServeHTTP(w, r)
		return w.Code
	}
	for _, path := range []string{"/v1/status", "/v1/revisions/1", "/v1/sessions", "/v1/hits", "/v1/log", "/v1/mappings", "/metrics"} {
		if got := ask("GET", path, looks); got != 200 {
			t.Errorf("looking at %s: %d", path, got)
		}
		if got := ask("GET", path, "another"); got != 401 {
			t.Errorf("%s without a token: %d", path, got)
		}
	}
	if got := ask("POST", "/v1/mappings/try", looks); got == 403 {
		t.Errorf("asking what would become of a wish: %d", got)
	}
	for _, call := range []string{"POST /v1/prepare", "POST /v1/commit", "POST /v1/keep", "POST /v1/confirm", "POST /v1/undo", "DELETE /v1/sessions", "DELETE /v1/hits", "POST /v1/trial", "DELETE /v1/mappings", "POST /v1/mappings/settle", "POST /v1/packets"} {
		method, path, _ := strings.Cut(call, " ")
		if got := ask(method, path, looks); got != 403 {
			t.Errorf("%s by one who looks: %d", call, got)
		}
		if got := ask(method, path, changes); got == 403 || got == 401 {
			t.Errorf("%s by one who changes: %d", call, got)
		}
	}
}

// The commands reach a gateway over TLS with its token, and over a socket that only its user may
// open.
func TestEndpoints(t *testing.T) {
	s, _ := service(t, house)
	folder := t.TempDir()
	certificate(t, folder)
	write := func(name, text string) string {
		path := filepath.Join(folder, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	tls := gateway.Endpoint{Address: "127.0.0.1:17461", Token: write("token", "a-token-of-some-length\n"), Certificate: filepath.Join(folder, "cert.pem"), Key: filepath.Join(folder, "key.pem")}
	socket := gateway.Endpoint{Socket: filepath.Join(folder, "run", "rim.sock")}
	for _, e := range []gateway.Endpoint{tls, socket} {
		tokens, err := e.ReadTokens()
		if err != nil {
			t.Fatal(err)
		}
		l, err := e.Listen()
		if err != nil {
			t.Skip(err)
		}
		server := gateway.NewServer(s, tokens...)
		var serving sync.WaitGroup
		serving.Go(func() { server.Serve(l) })
		client, err := gateway.NewClient("rim", e)
		if err != nil {
			t.Fatal(err)
		}
		if status, err := client.Status(context.Background()); err != nil || status.Gateway != "rim" {
			t.Errorf("%s: %+v, %v", e, status, err)
		}
		if e.Socket != "" {
			if info, err := os.Stat(e.Socket); err != nil || info.Mode().Perm() != 0o600 {
				t.Errorf("%v %v", info.Mode(), err)
			}
			if _, err := e.Listen(); err == nil || !strings.Contains(err.Error(), "another gateway answers") {
				t.Error(err)
			}
		} else {
			wrong := e
			wrong.Token = write("wrong", "another-token-of-some-length")
			if client, err := gateway.NewClient("rim", wrong); err == nil {
				if _, err := client.Status(context.Background()); err == nil || !strings.Contains(err.Error(), "token") {
					t.Error(err)
				}
			}
		}
		server.Shutdown()
		serving.Wait()
		if _, err := client.Status(context.Background()); err == nil || !strings.Contains(err.Error(), "rim") {
			t.Error(err)
		}
	}
}

// Metrics are what the calls say, in the OpenMetrics format.
func TestMetricsSayWhatTheCallsSay(t *testing.T) {
	onEach(t, func(b *bench) {
		b.apply(house, nil)
		for sport := range uint16(2) {
			b.send("203.0.113.7", "198.51.100.18", "https", 44000+sport)
		}
		if _, err := b.Prepare(gateway.Proposal{Bundle: bundle(house), Base: 9}); err == nil {
			b.Error("taken")
		}
		b.soon("two hits", func() bool { return b.hit("filter/web").Connections == 2 })
		ask := func(header, value string) *httptest.ResponseRecorder {
			request := httptest.NewRequest("GET", "/metrics", nil)
			request.Header.Set(header, value)
			w := httptest.NewRecorder()
			gateway.NewServer(b.Service).Handler().ServeHTTP(w, request)
			return w
		}
		if w := ask("Accept-Encoding", "gzip"); w.Header().Get("Content-Type") != "text/plain; version=0.0.4; charset=utf-8; escaping=underscores" {
			b.Errorf("%v", w.Header())
		} else if packed, err := gzip.NewReader(w.Body); err != nil {
			b.Error(err)
		} else if plain, err := io.ReadAll(packed); err != nil || !strings.Contains(string(plain), "# TYPE hollowbridge_sessions gauge\nhollowbridge_sessions{gateway=\"rim\"} 2\n") {
			b.Errorf("%v, %s", err, plain)
		}
		w := ask("Accept", "application/openmetrics-text;version=1.0.0")
		for _, want := range []string{
			`hollowbridge_revision{gateway="rim"} 1`, `hollowbridge_rule_connections_total{gateway="rim",list="filter",rule="web"} 2`,
			`hollowbridge_rule_connections_total{gateway="rim",list="nat",rule="shell"} 0`, `hollowbridge_applies_total{gateway="rim",result="applied"} 1`,
			`hollowbridge_applies_total{gateway="rim",result="refused"} 1`, `hollowbridge_sessions{gateway="rim"} `, `direction="back"`, "# EOF",
		} {
			if !strings.Contains(w.Body.String(), want) {
				b.Errorf("%s is missing in\n%s", want, w.Body)
			}
		}
	})
}

// Where there is no room on the disk, a call fails, and what was in force stays so.
func TestAFullDiskIsAnErrorOfTheCall(t *testing.T) {
	folder := t.TempDir()
	if noKernel != nil {
		t.Skip(noKernel)
	}
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		t.Skip("SKIPPED: ", err)
	}
	if err := unix.Mount("full", folder, "tmpfs", 0, "size=512k"); err != nil {
		t.Skip("SKIPPED: ", err)
	}
	defer unix.Unmount(folder, unix.MNT_DETACH)
	s, err := gateway.Start(gateway.Options{Gateway: "rim", Folder: folder, Keeping: gateway.UsualKeeping, Trouble: func(error) {},
		Backend: func(r gateway.Recorder) (gateway.Backend, error) { return gateway.NewSimulated(r), nil }})
	if err != nil {
		t.Fatal(err)
	}
	b := &bench{T: t, Service: s}
	b.apply(house, nil)
	failed, number := false, 1
	for i := range 200 {
		noise := make([]byte, 40_000)
		for k := range noise {
			noise[k] = 'a' + byte((k*k+i*k*31+k/7)%26)
		}
		made, err := s.Prepare(gateway.Proposal{Bundle: bundle(house + "# " + string(noise) + "\n"), Base: number})
		if err != nil {
			t.Fatal(err)
		}
		done, err := s.Commit(gateway.Commit{Token: made.Token, Author: "ada"})
		if err != nil {
			failed = true
			if !strings.Contains(err.Error(), "taken back") {
				t.Error(err)
			}
			break
		}
		number = done.Revision.Number
	}
	if r := s.Status().Revision; !failed || r.Number != number {
		t.Errorf("failed: %v; %d is in force, not %d", failed, r.Number, number)
	}
	s.Stop(false)
}

// A trial goes back with a full disk too: what ran before is in force, once, and is written down when there is room.
func TestATrialGoesBackOnAFullDisk(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	if testing.Short() || noKernel != nil {
		t.Skip("it waits", noKernel)
	}
	if err := errors.Join(unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""), unix.Mount("full", folder, "tmpfs", 0, "size=768k")); err != nil {
		t.Skip("SKIPPED: ", err)
	}
	defer unix.Unmount(folder, unix.MNT_DETACH)
	var troubles atomic.Int64
	start := func() *bench {
		s, err := gateway.Start(gateway.Options{Gateway: "rim", Folder: folder, Keeping: gateway.UsualKeeping, Trouble: func(error) { troubles.Add(1) },
			Backend: func(r gateway.Recorder) (gateway.Backend, error) { return gateway.NewSimulated(r), nil }})
		if err != nil {
			t.Fatal(err)
		}
		return &bench{T: t, Service: s}
	}
	b := start()
	b.apply(house, nil)
	b.apply(strings.Replace(house, "allow: web", "drop: web", 1), func(c *gateway.Commit) { c.For = 2 })
	var filled int
	fill, err := os.Create(filepath.Join(folder, "fill"))
	for err == nil { // also what the state could write beside its file
		var n int
		n, err = fill.Write(make([]byte, 512))
		filled += n
	}
	fill.Close()
	web := func() string {
		for _, h := range func() []gateway.Hit { h, _ := b.Hits(); return h.Hits }() {
			if h.Rule == "web" && h.List == "filter" {
				return h.Kind
			}
		}
		return ""
	}
	b.soon("what ran before is in force", func() bool { return web() == "allow" && troubles.Load() > 0 })
	if p := b.Status(); p.Revision.Author != "hollowbridge" || filled == 0 {
		t.Errorf("%+v, %d bytes were free", p.Revision, filled)
	}
	b.Stop(false)
	b = start() // it is still full
	defer func() { b.Stop(false) }()
	if web() != "allow" {
		t.Error("started again, the trial is in force")
	}
	os.Remove(filepath.Join(folder, "fill"))
	for until := time.Now().Add(12 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		if r := b.Status(); r.Pending == nil && r.Revision.Number == 3 {
			break
		}
		if time.Now().After(until) {
			t.Fatalf("with room, it is not written down: %+v", b.Status())
		}
	}
}

// A trial ends by the time that goes by, whatever the clock says, and by a restart of the machine; and nobody ends it unawares.
func TestATrialEndsWhateverTheClockSays(t *testing.T) {
	var since atomic.Int64
	back := gateway.Boot(func() time.Duration { return time.Duration(since.Load()) }, "one")
	defer func() { back() }()
	b := &bench{T: t, folder: t.TempDir()}
	simulated := func(r gateway.Recorder) (gateway.Backend, error) { return gateway.NewSimulated(r), nil }
	b.start(simulated)
	closed, other := strings.Replace(house, "allow: web", "drop: web", 1), strings.Replace(house, "drop: guests", "reject: guests", 1)
	b.apply(house, nil)
	b.apply(closed, func(c *gateway.Commit) { c.For = 3600 })
	made, err := b.Prepare(gateway.Proposal{Bundle: bundle(other), Base: 2})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.Commit(gateway.Commit{Token: made.Token, Author: "bob"}); err == nil || !strings.Contains(err.Error(), "on trial") || !strings.Contains(err.Error(), "ada") {
		t.Fatalf("a plain revision over a trial: %v", err)
	}
	if _, err := b.Commit(gateway.Commit{Token: made.Token, Author: "bob", For: 7200}); err != nil || b.Status().Pending.Back != 1 {
		t.Fatalf("a trial over a trial: %v", err)
	}
	if err := b.Undo(gateway.Undo{Revision: 3, Note: "keep did not follow"}); err != nil || b.Status().Pending == nil || b.Status().Pending.Back != 1 {
		t.Fatalf("another gateway failed, and the first trial stays for good: %v, %+v", err, b.Status().Pending)
	}
	since.Store(int64(2*time.Hour - time.Minute))
	b.Stop(false)
	b.start(simulated) // a minute is left, by whatever clock
	if p := b.Status().Pending; p == nil || time.Until(p.Until) > time.Minute || time.Until(p.Until) < 50*time.Second {
		t.Errorf("%+v", p)
	}
	b.Stop(false)
	back()
	back = gateway.Boot(func() time.Duration { return 0 }, "another")
	b.start(simulated)
	defer func() { b.Stop(false) }()
	if r := b.Status(); r.Pending != nil || r.Revision.Author != "hollowbridge" || r.Revision.Number != 5 {
		t.Errorf("after a restart of the machine: %+v, %+v", r.Revision, r.Pending)
	}
	b.apply(closed, func(c *gateway.Commit) { c.For = 3600 })
	b.apply(house, nil) // what ran before may be put back
	if r := b.Status(); r.Pending != nil || r.Revision.Number != 7 {
		t.Errorf("%+v, %+v", r.Revision, r.Pending)
	}
}

// The units in the docs are such as systemd takes, where it is installed.
func TestTheUnitsInTheDocsAreRight(t *testing.T) {
	text, err := os.ReadFile("../../docs/gateway.md")
	if err != nil {
		t.Fatal(err)
	}
	analyze, missing := exec.LookPath("systemd-analyze")
	folder := t.TempDir()
	for n, kind := range []string{"Type=notify", "Type=oneshot"} {
		_, rest, _ := strings.Cut(string(text), "```ini\n")
		unit, rest, found := strings.Cut(rest, "```")
		if text = []byte(rest); !found || !strings.Contains(unit, kind) {
			t.Fatalf("there is no unit of %s", kind)
		}
		if missing != nil {
			continue
		}
		path := filepath.Join(folder, fmt.Sprintf("hollowbridge%d@.service", n))
		if err := os.WriteFile(path, []byte(strings.ReplaceAll(unit, "/usr/local/bin/hollowbridge", "/bin/true")), 0o644); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command(analyze, "verify", "--man=no", path).CombinedOutput(); err != nil {
			t.Errorf("%v\n%s", err, out)
		}
	}
	if missing != nil {
		t.Skip("SKIPPED: systemd-analyze is not installed")
	}
}
