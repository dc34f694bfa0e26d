package portmap

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/portmap/igd"
	"hollowbridge/internal/portmap/natpmp"
	"hollowbridge/internal/portmap/pcp"
	"hollowbridge/internal/portmap/ssdp"
)

// A standIn is a gateway that answers what a test wants, and keeps what it was asked.
type standIn struct {
	mutex sync.Mutex
	asked [][]byte
}

func (s *standIn) count() int {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return len(s.asked)
}

// standsIn listens at 127.0.0.1, and returns a client of its.
func standsIn(t *testing.T, answer func(asked []byte) []byte) (*standIn, *Client) {
	t.Helper()
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	s := &standIn{}
	go func() {
		data := make([]byte, 2000)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(data)
			if err != nil {
				return
			}
			asked := append([]byte(nil), data[:n]...)
			s.mutex.Lock()
			s.asked = append(s.asked, asked)
			s.mutex.Unlock()
			if a := answer(asked); a != nil {
				conn.WriteToUDPAddrPort(a, from)
			}
		}
	}()
	at := conn.LocalAddr().(*net.UDPAddr).AddrPort()
	return s, &Client{Gateway: at.Addr(), Ports: Ports{PCP: at.Port(), SSDP: 1, HTTP: 1}}
}

func silent([]byte) []byte { return nil }

// At the socket: a request is sent as often as the protocol has it, however it ends (RFC 6887, 8.1.1; RFC 6886, 3.1).
func TestNoMoreIsSentThanTheProtocolsHaveIt(t *testing.T) {
	t.Parallel()
	ask := Ask{Protocol: header.TCP, Port: 2000, Lifetime: time.Minute}
	for by, want := range map[string]int{network.PCP: 1, network.NATPMP: 3} {
		for _, ends := range []string{"deadline", "interrupt"} {
			t.Run(by+" "+ends, func(t *testing.T) {
				t.Parallel()
				s, c := standsIn(t, silent)
				ctx, cancel := context.WithTimeout(context.Background(), 1200*time.Millisecond)
				defer cancel()
				if ends == "interrupt" {
					ctx, cancel = context.WithCancel(context.Background())
					time.AfterFunc(1200*time.Millisecond, cancel)
				}
				begun := time.Now()
				_, err := c.add(ctx, by, ask)
				var unanswered *Unanswered
				if took := time.Since(begun); !errors.As(err, &unanswered) || took > 2*time.Second {
					t.Errorf("%v after %v", err, took)
				}
				time.Sleep(50 * time.Millisecond)
				if n := s.count(); n != want {
					t.Errorf("%d packets, not %d", n, want)
				}
			})
		}
	}
}

// A gateway of NAT-PMP alone says so in its own words to who asks by PCP, and is asked by NAT-PMP at once (RFC 6886, 3.5).
func TestAGatewayOfNATPMPAloneIsAskedSoAtOnce(t *testing.T) {
	s, c := standsIn(t, func(asked []byte) []byte {
		r, err := natpmp.ParseRequest(asked)
		if err != nil || asked[0] != natpmp.Version {
			return natpmp.Refuse(asked, natpmp.UnsupportedVersion, 10)
		}
		told := natpmp.Response{Opcode: r.Opcode, Epoch: 10, Port: r.Port, Mapped: 20007, Lifetime: 60}
		if r.Opcode == natpmp.ExternalAddress {
			told = natpmp.Response{Opcode: r.Opcode, Epoch: 10, External: netip.MustParseAddr("198.51.100.18")}
		}
		return told.Append(nil)
	})
	begun := time.Now()
	got, err := c.Add(t.Context(), "", Ask{Protocol: header.UDP, Port: 2000, Lifetime: time.Minute})
	if err != nil || got.By != network.NATPMP || got.Outside.String() != "198.51.100.18:20007" || time.Since(begun) > time.Second || s.count() != 3 {
		t.Errorf("%+v, %v, after %v and %d packets", got, err, time.Since(begun), s.count())
	}
}

// What is granted otherwise than it was asked for is refused, and taken away again.
func TestWhatWasNotAskedForIsTakenAwayAgain(t *testing.T) {
	for what, grant := range map[string]struct {
		port     uint16
		lifetime uint32
	}{"another port": {20009, 60}, "no time": {20001, 0}} {
		s, c := standsIn(t, func(asked []byte) []byte {
			m, err := pcp.ParseRequest(asked)
			if err != nil {
				return nil
			}
			m.Response, m.External, m.ExternalPort = true, netip.MustParseAddr("198.51.100.18"), grant.port
			m.Lifetime = min(m.Lifetime, grant.lifetime)
			m.PreferFailure = false // it does not know that
			return m.Append(nil)
		})
		_, err := c.Add(t.Context(), network.PCP, Ask{Protocol: header.TCP, Port: 2000, Outside: 20001, Exact: true, Lifetime: time.Minute})
		var denied *Denied
		if !errors.As(err, &denied) || s.count() != 2 {
			t.Fatalf("%s: %v, %d packets", what, err, s.count())
		}
		if last, err := pcp.ParseRequest(s.asked[1]); err != nil || last.Lifetime != 0 || last.InternalPort != 2000 {
			t.Errorf("%s: the last was %+v, %v", what, last, err)
		}
	}
}

// A device is one that is called as another program's may be.
type otherDevice struct {
	kind    string // of its service
	outside string
	taken   int // how many ports are, before one is free
	calls   []string
}

func (d *otherDevice) client(t *testing.T) *Client {
	t.Helper()
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		kind := "urn:schemas-upnp-org:service:" + d.kind + ":1"
		if r.Method == http.MethodGet {
			fmt.Fprintf(w, `<root><device><serviceList><service><serviceType>%s</serviceType><controlURL>/c</controlURL></service></serviceList></device></root>`, kind)
			return
		}
		_, action, _ := strings.Cut(strings.Trim(r.Header.Get("Soapaction"), `"`), "#")
		d.calls = append(d.calls, action)
		say := func(inner string) {
			fmt.Fprintf(w, `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body>%s</s:Body></s:Envelope>`, inner)
		}
		if action == "AddPortMapping" && d.taken > 0 {
			d.taken--
			w.WriteHeader(http.StatusInternalServerError)
			w.Write(igd.NewFault(igd.Conflict).Append(nil))
			return
		}
		answer := ""
		if action == "GetExternalIPAddress" {
			answer = "<NewExternalIPAddress>" + d.outside + "</NewExternalIPAddress>"
		}
		say(fmt.Sprintf(`<u:%sResponse xmlns:u="%s">%s</u:%sResponse>`, action, kind, answer, action))
	}))
	t.Cleanup(web.Close)
	search, c := standsIn(t, func([]byte) []byte {
		a := ssdp.Advert{Target: igd.DeviceType(igd.GatewayDevice, 1), Name: "uuid:x", Location: web.URL + "/d.xml", Server: "x", MaxAge: 1800}
		return a.AppendResponse(nil)
	})
	_ = search
	c.Ports.SSDP, c.From = c.Ports.PCP, netip.MustParseAddr("127.0.0.1")
	return c
}

// Devices of others: a line that is dialed, a port that is taken, and one without an address, to which nothing is added.
func TestDevicesOfOthersAreCalled(t *testing.T) {
	t.Parallel()
	ask := Ask{Protocol: header.TCP, Port: 2000, Lifetime: time.Minute}
	d := &otherDevice{kind: igd.WANPPPConnection, outside: "198.51.100.18", taken: 2}
	got, err := d.client(t).Add(t.Context(), network.IGD, ask)
	if calls := strings.Join(d.calls, " "); err != nil || got.Outside.Port() < 49152 || !strings.HasPrefix(calls, "GetExternalIPAddress AddPortMapping AddPortMapping AddPortMapping GetSpecific") {
		t.Errorf("%+v, %v, called %s", got, err, calls)
	}
	for _, none := range []string{"", "0.0.0.0"} {
		d = &otherDevice{kind: igd.WANIPConnection, outside: none}
		if _, err = d.client(t).Add(t.Context(), network.IGD, ask); err == nil || len(d.calls) != 1 {
			t.Errorf("without an address: %v, called %v", err, d.calls)
		}
	}
}

// Slow callers of a few addresses do not shut the others out, and one address has no more than its share.
func TestAFewSlowCallersShutNobodyOut(t *testing.T) {
	tcp, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l := fair(tcp, 16, 4)
	server := httptest.Server{Listener: l, Config: &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "here") })}}
	server.Start()
	defer server.Close()
	dial := func(from string) net.Conn {
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}, Timeout: time.Second}
		c, err := d.Dial("tcp4", tcp.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Close() })
		return c
	}
	for i := range 32 {
		dial(fmt.Sprint("127.0.0.", 10+i%8)) // which say nothing
	}
	c := dial("127.0.0.9")
	fmt.Fprint(c, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
	c.SetReadDeadline(time.Now().Add(2 * time.Second))
	answer := make([]byte, 15)
	if _, err := c.Read(answer); err != nil || string(answer) != "HTTP/1.1 200 OK" {
		t.Errorf("%q, %v", answer, err)
	}
	l.mutex.Lock()
	defer l.mutex.Unlock()
	for client, list := range l.of {
		if len(list) > 4 || l.held > 16 {
			t.Errorf("%s has %d of %d", client, len(list), l.held)
		}
	}
}
