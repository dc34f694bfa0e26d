package lab

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/walk"
	"hollowbridge/internal/kernel"
	"hollowbridge/internal/netfile/netfiletest"
)

const edge = `network: edge
hosts:
  archive: {address: [10.61.24.5, 'fd00:24::5'], serves: [https, icmp, syslog]}
gateways:
  rim:
    interfaces:
      fibre: {address: [198.51.100.18/29, '2001:db8:61::2/64'], zone: outside}
      yard: {address: [10.61.24.1/28, 'fd00:24::1/64'], zone: yard}
    routes: [{to: default, via: 198.51.100.17}, {to: default, via: '2001:db8:61::1'}]
    logging: {enabled: true, unmatched: true}
    nat:
      - {port-forward: web, on: fibre, service: [https, syslog], to: archive}
      - {source-nat: out, on: fibre, from: 10.61.24.0/28, as: interface}
    filter:
      - {allow: web, from: outside, to: archive, service: [https, syslog], log: true}
      - {allow: out, from: yard}
`

// sent is a connection of the edge network.
func sent(t *testing.T, e *walk.Engine, from, to string, service header.Service, sport uint16) walk.Connection {
	t.Helper()
	c := walk.Connection{Packet: header.Packet{
		Source: netip.MustParseAddr(from), Destination: netip.MustParseAddr(to), Protocol: service.Protocol,
		SourcePort: sport, DestinationPort: service.Ports.First,
	}}
	var err error
	if c.From, err = e.Locate(c.Packet.Source); err != nil {
		t.Fatal(err)
	}
	return c
}

// collect hands on what comes, until there is an error; then it closes ended.
func collect[T any](next func() ([]T, error)) (each chan T, ended chan struct{}) {
	each, ended = make(chan T, 100), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			list, err := next()
			if err != nil {
				return
			}
			for _, one := range list {
				each <- one
			}
		}
	}()
	return each, ended
}

// What the kernel remembers of connections is what was sent, of each protocol and family: both
// sides of the translation, the way it came, and what passed; and it forgets what it is told to.
func TestTheKernelsConnectionsAreThoseThatWereSent(t *testing.T) {
	if testing.Short() {
		t.Skip("it sends packets")
	}
	e := walk.Compile(netfiletest.Parse(t, edge), nil)
	l, err := Build(e, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	space := l.Space("rim")
	m, err := kernel.OpenMachine(space)
	if err != nil {
		t.Fatal(err)
	}
	defer m.Close()
	w, err := kernel.Watch(space)
	if err != nil {
		t.Fatal(err)
	}
	began, ended := collect(w.Next)
	listener, err := kernel.Listen(space)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := kernel.Listen(space); err == nil || !strings.Contains(err.Error(), "does another gateway run") {
		t.Errorf("two read one log: %v", err)
	}
	lines, read := collect(listener.Next)
	tcp, udp := header.ServiceAt(header.TCP, 443), header.ServiceAt(header.UDP, 514)
	cases := []struct {
		connection walk.Connection
		after      string // from and to
		state      string
	}{
		{sent(t, e, "203.0.113.7", "198.51.100.18", tcp, 41000), "203.0.113.7:41000 10.61.24.5:443", "closing"},
		{sent(t, e, "203.0.113.8", "198.51.100.18", udp, 41001), "203.0.113.8:41001 10.61.24.5:514", "answered"},
		{sent(t, e, "2001:db8:f::9", "2001:db8:61::2", tcp, 41002), "[2001:db8:f::9]:41002 [fd00:24::5]:443", "closing"},
		{sent(t, e, "10.61.24.5", "203.0.113.9", tcp, 41003), "198.51.100.18:41003 203.0.113.9:443", "closing"},
		{sent(t, e, "10.61.24.5", "203.0.113.9", header.ServiceAt(header.ICMP, 0), 41004), "198.51.100.18 203.0.113.9", "answered"},
	}
	for i, c := range cases {
		if r := l.Send(c.connection, i+1, time.Second); r.Answer != Answered {
			t.Errorf("%s -> %s: %s %v", c.connection.Packet.From(), c.connection.Packet.To(), r.Answer, r.Err)
		}
	}
	l.Send(sent(t, e, "203.0.113.7", "198.51.100.18", header.ServiceAt(header.TCP, 22), 41005), 9, 100*time.Millisecond)
	list, err := m.Connections()
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range cases {
		p := c.connection.Packet
		i := slices.IndexFunc(list, func(t kernel.Tracked) bool { return t.Before == p })
		if i < 0 {
			t.Errorf("%s -> %s is not remembered", p.From(), p.To())
			continue
		}
		k := list[i]
		if got := k.After.From() + " " + k.After.To(); got != c.after || k.State != c.state || k.Forth.Packets == 0 || k.Back.Packets == 0 || k.Left <= 0 || k.ID == 0 || time.Since(k.Began) > time.Minute {
			t.Errorf("%s -> %s: %+v, want %s %s", p.From(), p.To(), k, c.after, c.state)
		}
	}
	if n, err := kernel.ConnectionCount(space); err != nil || n != len(list) {
		t.Errorf("%d connections are counted, %d listed: %v", n, len(list), err)
	}
	for range cases {
		select {
		case c := <-began:
			if c.Ended {
				t.Errorf("%+v has ended", c)
			}
		case <-time.After(2 * time.Second):
			t.Fatal("of a connection nobody heard that it began")
		}
	}
	marks := map[string]int{}
	for range 4 {
		select {
		case line := <-lines:
			marks[line.Mark]++
		case <-time.After(2 * time.Second):
			t.Fatalf("the log has only %v", marks)
		}
	}
	if marks["filter/web"] != 3 || marks[kernel.ItselfMark] == 0 {
		t.Errorf("%v", marks)
	}
	for i := range list {
		if err := m.End(&list[i]); err != nil {
			t.Error(err)
		}
		if err := m.End(&list[i]); err != nil {
			t.Errorf("a second time: %v", err)
		}
	}
	if left, err := m.Connections(); err != nil || len(left) != 0 {
		t.Errorf("%+v are left, %v", left, err)
	}
	w.Close()
	listener.Close()
	<-ended
	<-read
}

// Counters go on where those of the program before have stopped, by their names.
func TestCountersGoOnInTheNextProgram(t *testing.T) {
	if testing.Short() {
		t.Skip("it sends packets")
	}
	n := netfiletest.Parse(t, edge)
	e := walk.Compile(n, nil)
	l, err := Build(e, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	m, err := kernel.OpenMachine(l.Space("rim"))
	if err != nil {
		t.Fatal(err)
	}
	defer m.Close()
	counted := func() map[string]uint64 {
		list, err := m.Counters()
		if err != nil {
			t.Fatal(err)
		}
		counts := map[string]uint64{}
		for _, c := range list {
			counts[c.Name] = c.Packets
		}
		return counts
	}
	service := header.ServiceAt(header.TCP, 443)
	for round := range uint16(3) {
		if r := l.Send(sent(t, e, "203.0.113.7", "198.51.100.18", service, 42000+round), 1, time.Second); r.Answer != Answered {
			t.Fatal(r)
		}
		before, err := m.Counters()
		if err != nil {
			t.Fatal(err)
		}
		p, _, err := kernel.Compile(e.Gateway(n.Gateways[0]), kernel.Options{Device: DeviceOf})
		if err != nil {
			t.Fatal(err)
		}
		p.Resume(before)
		if err := m.Apply(p); err != nil {
			t.Fatal(err)
		}
		if got := counted(); got["nat/web"] != uint64(round)+1 || got["filter/web"] != uint64(round)+1 || got["filter/out"] != 0 {
			t.Errorf("round %d: %v", round, got)
		}
	}
}

// A machine's network is read as it is: a gateway of a lab has the devices, addresses and routes
// that it was given.
func TestTheNetworkOfAMachineIsRead(t *testing.T) {
	n := netfiletest.Parse(t, edge)
	e := walk.Compile(n, nil)
	l, err := Build(e, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	host, err := kernel.ReadHost(l.Space("rim"))
	if err != nil {
		t.Fatal(err)
	}
	for _, i := range n.Gateways[0].Interfaces {
		at := slices.IndexFunc(host.Devices, func(d kernel.Device) bool { return d.Name == DeviceOf(i) })
		if at < 0 {
			t.Fatalf("%s is missing in %+v", i, host.Devices)
		}
		d := host.Devices[at]
		for _, p := range i.Addresses {
			if !d.Up || d.Loopback || !slices.ContainsFunc(d.Addresses, func(q netip.Prefix) bool { return q.Addr() == p.Addr() }) {
				t.Errorf("%s: %s is missing in %+v", i, p, d)
			}
		}
	}
	for _, r := range n.Gateways[0].Routes {
		if !slices.ContainsFunc(host.Ways, func(w kernel.Way) bool { return w.To == r.To && w.Via == r.Via && w.Device == DeviceOf(r.Out) }) {
			t.Errorf("the route to %s via %s is missing in %+v", r.To, r.Via, host.Ways)
		}
	}
	if lo := host.Devices[0]; lo.Name != "lo" || !lo.Loopback {
		t.Errorf("%+v", lo)
	}
}
