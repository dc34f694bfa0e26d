package gateway_test

import (
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/portmap"
	"hollowbridge/internal/portmap/pcp"
)

// opens is house where programs may ask.
var opens = strings.Replace(house, "    nat:", "    mappings: {protocols: [pcp, nat-pmp], on: yard, external: fibre, rules: [{allow: yard, lifetime: 1h}]}\n    nat:", 1)

// asks asks for a mapping from the archive.
func (r *rim) asks(protocol header.Protocol, port uint16) (got *portmap.Got, took time.Duration) {
	r.Helper()
	begun := time.Now()
	c := portmap.Client{Gateway: netip.MustParseAddr("10.61.24.1"), Ports: portmap.StandardPorts}
	if err := r.built.Within("archive", func() (err error) {
		got, err = c.Add(r.Context(), network.PCP, portmap.Ask{Protocol: protocol, Port: port, Lifetime: time.Minute})
		return err
	}); err != nil {
		r.Fatal(err)
	}
	return got, time.Since(begun)
}

// Programs that ask as machines which are not there do not keep others from an answer.
func TestMadeUpMachinesSilenceNobody(t *testing.T) {
	r := startRim(t, opens)
	defer func() { r.Stop(true) }()
	r.apply(opens, nil)
	ghosts := 0
	if err := r.built.Within("archive", func() error {
		fd, err := unix.Socket(unix.AF_INET, unix.SOCK_RAW, unix.IPPROTO_RAW)
		if err != nil {
			return err
		}
		defer unix.Close(fd)
		to := netip.MustParseAddr("10.61.24.1")
		for ; ghosts < 2000; ghosts++ {
			from := netip.AddrFrom4([4]byte{10, 61, 24, byte(7 + ghosts%8)})
			asked := (&pcp.Message{Opcode: pcp.Announce, Client: from}).Append(nil)
			b := append([]byte{0x45, 0, 0, 0, 0, 0, 0, 0, 64, unix.IPPROTO_UDP, 0, 0}, append(from.AsSlice(), to.AsSlice()...)...)
			b = binary.BigEndian.AppendUint16(b, uint16(1024+ghosts))
			b = binary.BigEndian.AppendUint16(b, network.PCPPort)
			b = append(binary.BigEndian.AppendUint16(b, uint16(8+len(asked))), 0, 0)
			if err := unix.Sendto(fd, append(b, asked...), 0, &unix.SockaddrInet4{Addr: to.As4()}); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	for port := range uint16(3) {
		if _, took := r.asks(header.UDP, 4000+port); took > 2*time.Second {
			t.Errorf("an answer took %v", took)
		}
	}
}

// A mapping that is asked for as soon as a connection has begun gets the port that the connection has.
func TestAMappingHasThePortOfANewConnection(t *testing.T) {
	text := strings.Replace(opens, "as: interface", "as: interface, ports: 40000-40100", 1)
	r := startRim(t, text)
	defer func() { r.Stop(true) }()
	r.apply(text, nil)
	for port := range uint16(4) {
		port += 4500
		r.asks(header.UDP, 5000+port) // the connections were just looked at
		if err := r.built.Within("archive", func() error {
			c, err := net.DialUDP("udp4", &net.UDPAddr{IP: net.IPv4(10, 61, 24, 5), Port: int(port)}, &net.UDPAddr{IP: net.IPv4(192, 0, 2, 77), Port: 53})
			if err == nil {
				_, err = c.Write([]byte("x"))
				c.Close()
			}
			return err
		}); err != nil {
			t.Fatal(err)
		}
		got, _ := r.asks(header.UDP, port)
		has := ""
		found, err := r.Sessions(&gateway.Filter{}, 1000)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range found.Sessions {
			if s.Before.SourcePort == port {
				has = fmt.Sprint(s.After.SourcePort)
			}
		}
		if fmt.Sprint(got.Outside.Port()) != has {
			t.Errorf("port %d: the mapping has %v, the connection %s", port, got.Outside, has)
		}
	}
}

// What a gateway has no room for is said before it is applied.
func TestMoreForwardsThanThereIsRoomForAreSaid(t *testing.T) {
	onEach(t, func(b *bench) {
		made, err := b.Prepare(gateway.Proposal{Bundle: bundle(strings.Replace(house, "    nat:", "    limits: {port-forwards: 1}\n    nat:", 1))})
		if err != nil || !strings.Contains(strings.Join(made.Notes, "\n"), "2 port forwards, and by its limits there is room for 1") {
			b.Errorf("%v, %v", made.Notes, err)
		}
	})
}
