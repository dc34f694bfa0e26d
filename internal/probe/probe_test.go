package probe

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"testing"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/internal/lab"
)

// Tests send packets on the loopback of a network of their own.
func TestMain(m *testing.M) {
	os.Exit(lab.Main(func() int {
		if err := lab.Loopback(); err != nil {
			fmt.Println(err)
			return 1
		}
		return m.Run()
	}))
}

func TestWhatComesBackIsSaid(t *testing.T) {
	if testing.Short() {
		t.Skip("it sends packets")
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	open := listener.Addr().(*net.TCPAddr).AddrPort().Port()
	packets, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer packets.Close()
	echoes := packets.LocalAddr().(*net.UDPAddr).AddrPort().Port()
	go func() {
		data := make([]byte, 100)
		for {
			n, from, err := packets.ReadFrom(data)
			if err != nil {
				return
			}
			packets.WriteTo(data[:n], from)
		}
	}()
	silent, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	hushed := silent.LocalAddr().(*net.UDPAddr).AddrPort().Port()
	loopback, six := netip.MustParseAddr("127.0.0.1"), netip.MustParseAddr("::1")
	for _, c := range []struct {
		to      netip.Addr
		service header.Service
		answer  Answer
		why     Why
	}{
		{loopback, header.ServiceAt(header.TCP, open), Answered, ""},
		{loopback, header.ServiceAt(header.TCP, 9), Reset, ""},
		{six, header.ServiceAt(header.TCP, 9), Reset, ""},
		{loopback, header.ServiceAt(header.UDP, echoes), Answered, ""},
		{loopback, header.ServiceAt(header.UDP, 9), Unreachable, NoPort},
		{six, header.ServiceAt(header.UDP, 9), Unreachable, NoPort},
		{loopback, header.ServiceAt(header.UDP, hushed), Silence, ""},
	} {
		r, err := Try(c.to, c.service, 300*time.Millisecond)
		if err != nil || r.Answer != c.answer || r.Why != c.why {
			t.Errorf("%s %s: %+v, %v; want %s %s", c.to, c.service, r, err, c.answer, c.why)
		}
		if c.why != "" && r.By != c.to {
			t.Errorf("%s %s: told by %s", c.to, c.service, r.By)
		}
	}
	if _, err := Try(netip.MustParseAddr("203.0.113.9"), header.ServiceAt(header.TCP, 9), time.Second); err == nil {
		t.Error("there is no way to it")
	}
}

// Whatever stands in the queue of errors, it is read or passed over.
func FuzzErrors(f *testing.F) {
	f.Add([]byte{111, 0, 0, 0, 2, 3, 3, 0, 0, 0, 0, 0, 0, 0, 0, 0, 2, 0, 0, 0, 127, 0, 0, 1}, false)
	f.Fuzz(func(t *testing.T, data []byte, v6 bool) {
		if by, why, ok := errorOf(data, v6); ok && why == "" {
			t.Error(by)
		}
	})
}
