package gateway_test

import (
	"encoding/binary"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"hollowbridge/internal/gateway"
	"hollowbridge/internal/lab"
)

// streams has services that never answer.
const streams = `network: house
hosts:
  sink: {address: 10.61.24.5, serves: [ssh]}
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      yard: {address: 10.61.24.1/28, zone: yard}
    routes: [{to: default, via: 198.51.100.17}]
    logging: {enabled: true, unmatched: true}
    nat:
      - {port-forward: syslog, on: fibre, service: udp/514, to: sink, log: true}
      - {port-forward: closed, on: fibre, service: udp/515, to: 'sink:515', log: true}
    filter:
      - {drop: stopped, from: outside, to: sink, service: udp/515}
      - {allow: syslog, from: outside, to: sink, service: udp/514, log: true}
`

// pour sends packets of udp from outside: from so many ports, each so often.
func (r *rim) pour(to string, ports, times int) {
	r.Helper()
	err := r.built.Within(lab.InternetName, func() error {
		for port := range ports {
			fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
			if err != nil {
				return err
			}
			unix.SetsockoptInt(fd, unix.SOL_IP, unix.IP_TRANSPARENT, 1)
			a := netip.MustParseAddrPort(to)
			if err := unix.Bind(fd, &unix.SockaddrInet4{Addr: [4]byte{203, 0, 113, byte(1 + port>>12)}, Port: 10000 + port&0xfff}); err != nil {
				return err
			}
			for range times {
				if err := unix.Sendto(fd, []byte("x"), unix.MSG_DONTWAIT, &unix.SockaddrInet4{Addr: a.Addr().As4(), Port: int(a.Port())}); err != nil && err != unix.ECONNREFUSED && err != unix.EAGAIN {
					return err
				}
			}
			unix.Close(fd)
		}
		return nil
	})
	if err != nil {
		r.Fatal(err)
	}
}

func (r *rim) hit(list, rule string) gateway.Hit {
	r.Helper()
	found, err := r.Hits()
	if err != nil {
		r.Fatal(err)
	}
	k := slices.IndexFunc(found.Hits, func(h gateway.Hit) bool { return h.List == list && h.Rule == rule })
	if k < 0 {
		r.Fatalf("%s/%s is not among %+v", list, rule, found.Hits)
	}
	return found.Hits[k]
}

// Packets of one stream that nobody answers are one connection, counted and logged once.
func TestAStreamIsOneConnection(t *testing.T) {
	r := startRim(t, streams)
	defer func() { r.Stop(true) }()
	r.apply(streams, nil)
	r.pour("198.51.100.18:514", 1, 50)
	r.soon("it is counted", func() bool { return r.hit("filter", "syslog").Connections > 0 })
	for _, list := range []string{"nat", "filter"} {
		if h := r.hit(list, "syslog"); h.Connections != 1 || h.Stopped != 0 || h.Open != 1 || h.Forth.Packets != 50 {
			t.Errorf("%s: %+v", list, h)
		}
	}
	time.Sleep(200 * time.Millisecond) // what is logged comes by itself
	f, err := gateway.ParseFilter(nil, nil, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	found, err := r.Log(f, 100, false, 0)
	if err != nil {
		t.Fatal(err)
	}
	if found.Events = slices.DeleteFunc(found.Events, func(e gateway.Event) bool { return e.What != "connection" }); len(found.Events) != 2 {
		t.Errorf("%d lines: %+v", len(found.Events), found.Events) // of the forward, and of the filter
	}
	r.pour("198.51.100.18:515", 3, 4)
	r.soon("what a later step stops is counted", func() bool { return r.hit("nat", "closed").Stopped == 12 })
	if h := r.hit("filter", "stopped"); h.Connections != 12 || h.Stopped != 0 {
		t.Errorf("%+v", h)
	}
}

// Connections that come faster than they are read are counted and said to be unseen; none of them is said to be stopped.
func TestMissedConnectionsAreNotStopped(t *testing.T) {
	t.Parallel()
	r := startRim(t, streams)
	defer func() { r.Stop(true) }()
	r.expected = func(err error) bool { return strings.Contains(err.Error(), "missed") }
	r.apply(streams, nil)
	const all = 20000 // more than the socket's buffer has room for, and made before the first sessions run out
	r.kernel.Stalled(func() { r.pour("198.51.100.18:514", all, 1) })
	var h gateway.Hit
	r.soon("what is missed is counted", func() bool { h = r.hit("filter", "syslog"); return h.Unseen >= 1000 })
	if h.Stopped != 0 || h.Connections != all || h.Open != all || r.hit("nat", "syslog").Connections != all {
		t.Errorf("%+v", h)
	}
	if lost := r.Status().Lost; lost < h.Unseen {
		t.Errorf("%d are lost, %d unseen", lost, h.Unseen)
	}
	if err := r.ResetHits(); err != nil {
		t.Fatal(err)
	}
	r.pour("198.51.100.18:515", 3, 4)
	r.soon("it counts on", func() bool { return r.hit("nat", "closed").Stopped == 12 })
	if h := r.hit("filter", "syslog"); h.Connections != 0 || h.Stopped != 0 || h.Unseen != 0 {
		t.Errorf("reset, it is %+v", h)
	}
}

// segment is a TCP segment in an IPv4 packet (RFC 791, RFC 9293).
func segment(from, to netip.AddrPort, number, acknowledged uint32, flags byte) []byte {
	tcp := binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(nil, from.Port()), to.Port())
	tcp = binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(tcp, number), acknowledged)
	tcp = append(tcp, 5<<4, flags, 0x20, 0, 0, 0, 0, 0)
	pseudo := slices.Concat(from.Addr().AsSlice(), to.Addr().AsSlice(), []byte{0, unix.IPPROTO_TCP, 0, byte(len(tcp))}, tcp)
	sum := uint32(0)
	for k := 0; k < len(pseudo); k += 2 {
		sum += uint32(binary.BigEndian.Uint16(pseudo[k:]))
	}
	sum = sum>>16 + sum&0xffff
	binary.BigEndian.PutUint16(tcp[16:], ^uint16(sum>>16+sum))
	return slices.Concat([]byte{0x45, 0, 0, byte(20 + len(tcp)), 0, 0, 0, 0, 64, unix.IPPROTO_TCP, 0, 0}, from.Addr().AsSlice(), to.Addr().AsSlice(), tcp)
}

// Where the gateway is loose about TCP, all packets of a connection that it saw no answer to, or no beginning of, are one, and whoever
// ends its session is told that it may come again.
func TestALooseConnectionIsOne(t *testing.T) {
	text := strings.NewReplacer("serves: [ssh]", "serves: [ssh], firewall: [{drop: ssh}]", "    logging:", "    handling: {tcp-state: loose}\n    logging:", "udp/514", "tcp/22").Replace(streams)
	r := startRim(t, text)
	defer func() { r.Stop(true) }()
	r.apply(text, nil)
	const begins, goesOn = 2, 16
	for n, flags := range [][]byte{{begins, goesOn, goesOn, goesOn, goesOn}, {goesOn, goesOn, goesOn, goesOn, goesOn}} {
		from, to := netip.AddrPortFrom(netip.MustParseAddr("203.0.113.9"), uint16(41000+n)), netip.MustParseAddrPort("198.51.100.18:22")
		if err := r.built.Within(lab.InternetName, func() error {
			fd, err := unix.Socket(unix.AF_INET, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.IPPROTO_RAW)
			if err != nil {
				return err
			}
			defer unix.Close(fd)
			for k, f := range flags {
				if err := unix.Sendto(fd, segment(from, to, 1000+uint32(min(k, 1)), 5000, f), 0, &unix.SockaddrInet4{Addr: to.Addr().As4()}); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		want := int64(n + 1)
		r.soon("it is counted", func() bool { return r.hit("nat", "syslog").Connections == want })
		for _, list := range []string{"nat", "filter"} {
			if h := r.hit(list, "syslog"); h.Connections != want || h.Stopped != 0 || h.Open != want {
				t.Errorf("%d: %s: %+v", n, list, h)
			}
		}
	}
	answer := httptest.NewRecorder()
	gateway.NewServer(r.Service).Handler().ServeHTTP(answer, httptest.NewRequest("DELETE", "/v1/sessions?rule=syslog", nil))
	if text := answer.Body.String(); !strings.Contains(text, `"ended":2`) || !strings.Contains(text, "a session again with its next packet") {
		t.Errorf("%d %s", answer.Code, text)
	}
}
