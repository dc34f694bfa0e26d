package gateway

import (
	"bufio"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

// syslogLine is a message as RFC 5424 has it, with one element of structured data.
var syslogLine = regexp.MustCompile(`^<(\d+)>1 (\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{6}Z) (\S+) hollowbridge (\d+) (\S+) \[(\S+@\d+)((?: [a-z-]+="(?:[^"\\\]]|\\.)*")*)\] (.+)$`)

// unsent sends events of rim nowhere yet.
func unsent(t *testing.T, authorities string) *syslog {
	t.Helper()
	s, err := newSyslog("rim", authorities)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// A collector over TLS is known by the authorities that are named, and by no others.
func TestACollectorIsKnownByItsAuthorities(t *testing.T) {
	collector := httptest.NewTLSServer(nil) // it is no collector, but takes what comes
	defer collector.Close()
	collector.Config.ErrorLog = log.New(io.Discard, "", 0)
	folder := t.TempDir()
	authorities := filepath.Join(folder, "authorities.pem")
	if err := os.WriteFile(authorities, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: collector.Certificate().Raw}), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "empty.pem"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	e := randomEvent(rand.New(rand.NewPCG(43, 43)), time.Now())
	for file, known := range map[string]bool{"": false, authorities: true} {
		s := unsent(t, file)
		s.to("tls://" + collector.Listener.Addr().String())
		s.send([]Event{e})
		for until := time.Now().Add(5 * time.Second); s.status().Sent == 0 && s.status().Trouble == ""; time.Sleep(time.Millisecond) {
			if time.Now().After(until) {
				t.Fatalf("%+v", s.status())
			}
		}
		if status := s.status(); (status.Sent == 1) != known || (status.Trouble == "") != known {
			t.Errorf("by %q: %+v", file, status)
		}
		s.Close()
	}
	for _, file := range []string{filepath.Join(folder, "nothing.pem"), filepath.Join(folder, "empty.pem")} {
		if _, err := newSyslog("rim", file); err == nil || !strings.Contains(err.Error(), file) {
			t.Errorf("%s: %v", file, err)
		}
	}
}

// Every event is a message that says all of it, whatever stands in its texts.
func TestMessagesAreThoseOfTheStandard(t *testing.T) {
	s := unsent(t, "")
	random := rand.New(rand.NewPCG(37, 37))
	field := regexp.MustCompile(` ([a-z-]+)="((?:[^"\\\]]|\\.)*)"`)
	for range 2000 {
		e := randomEvent(random, time.Now())
		e.Number = random.Int64N(1000)
		if random.IntN(3) == 0 {
			e.Rule = []string{`nat/a"b`, `filter/c]d`, `nat/e\f`}[random.IntN(3)]
		}
		m := syslogLine.FindStringSubmatch(string(s.message(&e)))
		if m == nil {
			t.Fatalf("%s", s.message(&e))
		}
		priority, _ := strconv.Atoi(m[1])
		if at, err := time.Parse(time.RFC3339Nano, m[2]); err != nil || at.Sub(e.Time).Abs() > time.Microsecond || priority/8 != 20 || (e.What == connectionEvent && (e.Outcome == Passes || e.Outcome == Translated)) && priority%8 != 6 {
			t.Fatalf("%s of %+v", m[0], e)
		}
		fields := map[string]string{}
		for _, f := range field.FindAllStringSubmatch(m[7], -1) {
			fields[f[1]] = strings.NewReplacer(`\\`, `\`, `\"`, `"`, `\]`, `]`).Replace(f[2])
		}
		want := map[string]string{"gateway": "rim", "number": fmt.Sprint(e.Number), "outcome": e.Outcome, "rule": e.Rule, "in": e.In, "out": e.Out, "in-device": e.InDevice, "out-device": e.OutDevice}
		if e.Before != nil {
			p, _ := e.Before.Header()
			want["protocol"], want["from"], want["to"] = e.Before.Protocol, p.From(), p.To()
		}
		if e.After != nil {
			p, _ := e.After.Header()
			want["from-after"], want["to-after"] = p.From(), p.To()
		}
		for name, value := range want {
			if fields[name] != value {
				t.Fatalf("%s: %s is %q, not %q", m[0], name, fields[name], value)
			}
		}
		if m[8] != e.Words() {
			t.Fatalf("%q ends with %q", m[0], e.Words())
		}
	}
}

// What is sent comes to a collector whole and in its order, over UDP and over TCP, also when it
// is another one from some time on.
func TestCollectorsGetAllThatIsSent(t *testing.T) {
	packets, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Skip(err)
	}
	defer packets.Close()
	stream, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Skip(err)
	}
	defer stream.Close()
	got := make(chan string, 100)
	go func() {
		data := make([]byte, 2000)
		for {
			n, _, err := packets.ReadFrom(data)
			if err != nil {
				return
			}
			got <- "udp " + string(data[:n])
		}
	}()
	go func() {
		conn, err := stream.Accept()
		if err != nil {
			return
		}
		r := bufio.NewReader(conn)
		for { // counted bytes: RFC 6587, 3.4.1
			count, err := r.ReadString(' ')
			if err != nil {
				return
			}
			n, err := strconv.Atoi(strings.TrimSpace(count))
			if err != nil || n > 2000 {
				return
			}
			data := make([]byte, n)
			if _, err := io.ReadFull(r, data); err != nil {
				return
			}
			got <- "tcp " + string(data)
		}
	}()
	s := unsent(t, "")
	defer s.Close()
	random := rand.New(rand.NewPCG(41, 41))
	var want []string
	for k, address := range []string{"udp://" + packets.LocalAddr().String(), "tcp://" + stream.Addr().String()} {
		s.to(address)
		for n := range 20 {
			e := randomEvent(random, time.Now())
			e.Number = int64(20*k + n)
			s.send([]Event{e})
			want = append(want, address[:3]+" "+string(s.message(&e)))
		}
		for n := range 20 {
			select {
			case text := <-got:
				if text != want[20*k+n] {
					t.Fatalf("%d: %q, not %q", n, text, want[20*k+n])
				}
			case <-time.After(5 * time.Second):
				t.Fatalf("%s: %d messages came, not 20: %+v", address, n, s.status())
			}
		}
		for until := time.Now().Add(time.Second); s.status().Sent < 20 && time.Now().Before(until); {
			time.Sleep(time.Millisecond) // it is counted when it is gone
		}
		if status := s.status(); status.Sent != 20 || status.Lost != 0 || status.Trouble != "" || status.Address != address {
			t.Errorf("%+v", status)
		}
	}
	s.to("")
	if s.status() != nil {
		t.Error("it is sent nowhere")
	}
	s.send([]Event{randomEvent(random, time.Now())}) // and nobody minds
}

// A collector that takes nothing holds nobody up: what there is no room for is counted, and what
// comes once it reads again is sent; likewise when it has gone away and come back.
func TestSlowCollectorsHoldNobodyUp(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for running gateways")
	}
	stream, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Skip(err)
	}
	s := unsent(t, "")
	defer s.Close()
	s.to("tcp://" + stream.Addr().String())
	e := randomEvent(rand.New(rand.NewPCG(42, 42)), time.Now())
	const events = 1 << 17
	begun := time.Now()
	s.send(slices.Repeat([]Event{e}, 64)) // with which it connects
	conn, err := stream.Accept()
	if err != nil {
		t.Fatal(err)
	}
	for range events/64 - 1 {
		s.send(slices.Repeat([]Event{e}, 64))
	}
	if took, status := time.Since(begun), s.status(); took > 5*time.Second || status.Lost == 0 || status.Lost+status.Sent > events {
		t.Fatalf("%v for %d events that nobody reads: %+v", took, events, status)
	}
	reads := func(conn net.Conn) (messages func() int64) {
		var got atomic.Int64
		go func() {
			for r := bufio.NewReader(conn); ; got.Add(1) {
				count, err := r.ReadString(' ')
				n, _ := strconv.Atoi(strings.TrimSpace(count))
				if err != nil || n < 20 || n > 2000 {
					return
				}
				if _, err := r.Discard(n); err != nil {
					return
				}
			}
		}()
		return got.Load
	}
	soon := func(what string, holds func() bool) {
		t.Helper()
		for until := time.Now().Add(10 * time.Second); !holds(); time.Sleep(time.Millisecond) {
			if time.Now().After(until) {
				t.Fatalf("%s: %+v", what, s.status())
			}
		}
	}
	got := reads(conn)
	soon("what waited comes", func() bool { return got() == s.status().Sent && got()+s.status().Lost == events })
	conn.Close()
	stream.Close()
	soon("its loss is noticed", func() bool { s.send([]Event{e}); return s.status().Trouble != "" })
	if stream, err = net.Listen("tcp", stream.Addr().String()); err != nil {
		t.Skip(err)
	}
	defer stream.Close()
	accepted := make(chan net.Conn, 1)
	go func() {
		if conn, err := stream.Accept(); err == nil {
			accepted <- conn
		}
	}()
	soon("it connects again", func() bool { s.send([]Event{e}); return len(accepted) > 0 })
	conn = <-accepted
	defer conn.Close()
	got = reads(conn)
	soon("it is sent to again", func() bool { s.send([]Event{e}); return got() > 10 && s.status().Trouble == "" })
}

// As many events are kept as are asked for, and for as long, whole blocks of the oldest going
// first; numbers go on over a restart.
func TestEventsAreKeptToASizeAndAnAge(t *testing.T) {
	folder := t.TempDir()
	random := rand.New(rand.NewPCG(43, 43))
	total := int64(0)
	for round := range 4 {
		state, err := OpenState(folder, "rim")
		if err != nil {
			t.Fatal(err)
		}
		j, err := openJournal(state, Keeping{Most: 5000, Age: time.Hour}, func([]Event) {}, func(err error) { t.Error(err) })
		if err != nil {
			t.Fatal(err)
		}
		if j.next != total+1 {
			t.Fatalf("round %d: the next event is %d, not %d", round, j.next, total+1)
		}
		for range 3000 {
			at := time.Now()
			if round == 0 {
				at = at.Add(-2 * time.Hour)
			}
			j.Record(randomEvent(random, at))
			total++
			if random.IntN(500) == 0 {
				j.write()
			}
		}
		list, all, err := j.List("rim", &Filter{}, 1<<20, true)
		if err != nil || all != len(list) || len(list) > 5000+mostInBlock {
			t.Fatalf("round %d: %d of %d events, %v", round, len(list), all, err)
		}
		switch {
		case round == 0 && len(list) > mostInBlock: // they were too old from the beginning
			t.Errorf("%d old events are kept", len(list))
		case round > 1 && len(list) < 5000:
			t.Errorf("round %d: only %d are kept", round, len(list))
		}
		for i := range list {
			if i > 0 && list[i].Number != list[i-1].Number+1 {
				t.Fatalf("round %d: %d comes behind %d", round, list[i].Number, list[i-1].Number)
			}
		}
		if len(list) > 0 && list[len(list)-1].Number != total {
			t.Errorf("round %d: the last one is %d of %d", round, list[len(list)-1].Number, total)
		}
		j.Close()
		if err := state.Close(); err != nil {
			t.Fatal(err)
		}
	}
}

// Who follows gets what comes, or is told that it was too slow.
func TestTheTailIsTheLatestOfTheJournal(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes seconds")
	}
	random := rand.New(rand.NewPCG(47, 47))
	tail := tail{changed: make(chan struct{})}
	var all []Event
	at := int64(0) // the last one that a follower has
	for range 300 {
		_, more, _ := tail.after(at)
		var some []Event
		for range 1 + random.IntN(400) {
			e := Event{Number: int64(len(all) + 1)}
			all, some = append(all, e), append(some, e)
		}
		tail.add(some)
		select {
		case <-more:
		default:
			t.Fatal("nobody is told that there are more")
		}
		if random.IntN(4) > 0 {
			continue
		}
		if random.IntN(10) == 0 {
			at = max(0, int64(len(all)-random.IntN(3*mostInTail)))
		}
		events, _, ok := tail.after(at)
		behind := int64(len(all)) - at
		if ok != (behind <= mostInTail) && behind != 0 {
			t.Fatalf("%d behind: %v", behind, ok)
		}
		if ok && int64(len(events)) != behind || len(events) > 0 && events[0].Number != at+1 {
			t.Fatalf("%d behind, %d events", behind, len(events))
		}
		at = int64(len(all))
	}
}
