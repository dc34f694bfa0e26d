package lab

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"sync"
	"syscall"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/kernel"

	"golang.org/x/sys/unix"
)

// A station is who answers at a node.
type station struct {
	node *node
	lab  *answerers
	host *network.Host // whose relays and services count, or nil
	tcp  []net.Listener
	udp  []*net.UDPConn
	wait sync.WaitGroup

	mutex  sync.Mutex
	open   map[net.Conn]bool // connections that are answered
	closed bool
}

// patience is how long a station waits for a client, or for another machine.
const patience = 2 * time.Second

// listen opens a TCP and a UDP port of a station, for both families; what comes there is handed
// to the relay of a number, or answered where that is negative.
func (s *station) listen(port uint16, relay int) error {
	config := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		return c.Control(func(fd uintptr) {
			unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1) // answers are sent from the same port
			unix.SetsockoptInt(int(fd), unix.SOL_IP, unix.IP_RECVORIGDSTADDR, 1)
			unix.SetsockoptInt(int(fd), unix.SOL_IPV6, unix.IPV6_RECVORIGDSTADDR, 1)
			unix.SetsockoptInt(int(fd), unix.SOL_IP, unix.IP_TRANSPARENT, 1)
			unix.SetsockoptInt(int(fd), unix.SOL_IPV6, unix.IPV6_TRANSPARENT, 1)
		})
	}}
	return s.node.do(func() error {
		for _, family := range []string{"4", "6"} {
			at := fmt.Sprintf("0.0.0.0:%d", port)
			if family == "6" {
				at = fmt.Sprintf("[::]:%d", port)
			}
			listener, err := config.Listen(context.Background(), "tcp"+family, at)
			if err != nil {
				return fmt.Errorf("%s: %w", s.node.name, err)
			}
			s.tcp = append(s.tcp, listener)
			packets, err := config.ListenPacket(context.Background(), "udp"+family, at)
			if err != nil {
				return fmt.Errorf("%s: %w", s.node.name, err)
			}
			s.udp = append(s.udp, packets.(*net.UDPConn))
			s.wait.Add(2)
			go s.serve(listener, relay)
			go s.servePackets(packets.(*net.UDPConn), relay)
		}
		return nil
	})
}

// station opens the ports at which a machine of the lab answers, see kernel.Served.
func (l *Lab) station(n *node, ports int, h *network.Host) error {
	s := &station{node: n, lab: &l.answered, host: h}
	l.stations = append(l.stations, s)
	for k := range ports {
		if err := s.listen(uint16(kernel.Served+k), k-1); err != nil {
			return err
		}
	}
	return nil
}

// mostOwnPorts is how many ports a gateway of the lab serves itself.
const mostOwnPorts = 64

// stationOf opens the ports that a gateway itself serves.
func (l *Lab) stationOf(g *network.Gateway, n *node) error {
	s := &station{node: n, lab: &l.answered}
	l.stations = append(l.stations, s)
	var ports []uint16
	for _, served := range g.Serves {
		for _, one := range served.Services {
			if one.Protocol != header.TCP && one.Protocol != header.UDP || one.Ports.Count() > mostOwnPorts {
				continue
			}
			for p := int(one.Ports.First); p <= int(one.Ports.Last); p++ {
				ports = append(ports, uint16(p))
			}
		}
	}
	slices.Sort(ports)
	ports = slices.Compact(ports)
	own := slices.DeleteFunc(rawProtocols(), func(p header.Protocol) bool {
		return !slices.ContainsFunc(g.Serves, func(s network.GatewayService) bool { return servesSome(s.Services, p) })
	})
	if err := l.answersRaw(n, nil, own); err != nil {
		return err
	}
	for _, p := range ports[:min(len(ports), mostOwnPorts)] {
		if err := s.listen(p, -1); err != nil {
			return err
		}
	}
	return nil
}

// Yield leaves the ports at which programs ask a gateway for mappings to whoever answers them really.
func (l *Lab) Yield(g *network.Gateway) {
	for _, s := range l.stations {
		if s.node != l.gateways[g] {
			continue
		}
		for _, t := range s.tcp {
			if t.Addr().(*net.TCPAddr).Port == network.IGDPort {
				t.Close()
			}
		}
		for _, u := range s.udp {
			if port := u.LocalAddr().(*net.UDPAddr).Port; port == network.PCPPort || port == network.SSDPPort {
				u.Close()
			}
		}
	}
}

func (s *station) close() {
	for _, t := range s.tcp {
		t.Close()
	}
	for _, u := range s.udp {
		u.Close()
	}
	s.mutex.Lock()
	s.closed = true
	for conn := range s.open {
		conn.Close()
	}
	s.mutex.Unlock()
	s.wait.Wait()
}

// keep notes a connection that is open, which close ends; not where it was called already.
func (s *station) keep(conn net.Conn) bool {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.closed {
		conn.Close()
		return false
	}
	if s.open == nil {
		s.open = map[net.Conn]bool{}
	}
	s.open[conn] = true
	return true
}

func (s *station) forget(conn net.Conn) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	delete(s.open, conn)
}

func (s *station) serve(listener net.Listener, relay int) {
	defer s.wait.Done()
	for {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		if !s.keep(conn) {
			return
		}
		s.wait.Add(1)
		go func() {
			defer s.wait.Done()
			defer s.forget(conn)
			s.answer(conn.(*net.TCPConn), relay)
		}()
	}
}

// answer sends back the first byte, where a relay's target answers the number of that, and then whatever comes.
func (s *station) answer(conn *net.TCPConn, relay int) {
	defer conn.Close()
	conn.SetLinger(0)
	conn.SetDeadline(time.Now().Add(patience))
	b := make([]byte, 1)
	if _, err := conn.Read(b); err != nil {
		return
	}
	if s.answers("tcp", conn.LocalAddr().(*net.TCPAddr).AddrPort().Port(), relay, b) {
		conn.Write(b)
		conn.SetDeadline(time.Time{})
		io.Copy(conn, conn) // until the client closes, or the station
	}
}

// Answerers are who answered a relay, by numbers: a relay's client gets the number as the first byte.
type answerers struct {
	mutex sync.Mutex
	names []string
}

// The first byte that a machine is sent: a client's, which it gets back, or a relay's, which asks who answers. Numbers of
// answerers are between.
const (
	plain   = 1
	asksWho = 255
)

// number returns the number of who answers at a port of a node; that of nobody where there are too many.
func (a *answerers) number(node string, port uint16) byte {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	name := fmt.Sprintf("%s port %d", node, port)
	at := slices.Index(a.names, name)
	if at < 0 {
		at = len(a.names)
		if at >= asksWho-plain-1 {
			return plain
		}
		a.names = append(a.names, name)
	}
	return byte(at + plain + 1)
}

// name returns who has a number, or nothing.
func (a *answerers) name(number byte) string {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if at := int(number) - plain - 1; at >= 0 && at < len(a.names) {
		return a.names[at]
	}
	return ""
}

// answers reports whether what came to a port is answered, and makes the first byte the answer's.
func (s *station) answers(protocol string, port uint16, relay int, b []byte) (answered bool) {
	switch {
	case relay >= 0:
		b[0], answered = s.handOn(protocol, port, relay)
		return answered
	case b[0] == asksWho:
		b[0] = s.lab.number(s.node.name, port)
	}
	return true
}

// handOn does what a relay does, and the others of its host that it leads to. It reports
// whether somebody answered, and who by number.
func (s *station) handOn(protocol string, port uint16, relay int) (who byte, answered bool) {
	number := header.TCP
	if protocol == "udp" {
		number = header.UDP
	}
	for range 32 {
		r := &s.host.Relays[relay]
		to := r.To
		if r.ToPort != 0 {
			port = r.ToPort
		}
		if !to.IsLoopback() && !s.host.Has(to) {
			return s.dial(protocol, to, port)
		}
		next := slices.IndexFunc(s.host.Relays, func(r network.Relay) bool { return r.Listen.Matches(number, port) })
		if next < 0 {
			return s.lab.number(s.node.name, port), slices.ContainsFunc(s.host.Serves, func(v network.HostService) bool {
				return (!v.At.IsValid() || v.At == to) && v.Services.Matches(number, port)
			})
		}
		relay = next
	}
	return plain, false
}

// dial asks another machine, and reports whether it answers, and who by number.
func (s *station) dial(protocol string, to netip.Addr, port uint16) (who byte, answered bool) {
	var conn net.Conn
	err := s.node.do(func() error { // the socket is made here, and belongs to the node
		fd, err := unix.Socket(domain(to), map[string]int{"tcp": unix.SOCK_STREAM, "udp": unix.SOCK_DGRAM}[protocol]|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
		if err != nil {
			return err
		}
		conn = &socket{fd, s.node}
		if from, has := s.host.AddressOf(header.FamilyOf(to)); has {
			if err := unix.Bind(fd, sockaddr(from, 0)); err != nil {
				return err
			}
		}
		err = unix.Connect(fd, sockaddr(to, port))
		if err == unix.EINPROGRESS {
			return nil
		}
		return err
	})
	if conn != nil {
		defer conn.Close()
	}
	if err != nil {
		return plain, false
	}
	b := []byte{asksWho}
	if _, err := conn.Write(b); err != nil {
		return plain, false
	}
	n, err := conn.Read(b)
	return b[0], err == nil && n == 1
}

func (s *station) servePackets(conn *net.UDPConn, relay int) {
	defer s.wait.Done()
	buffer, oob := make([]byte, MostInPacket), make([]byte, 256)
	for {
		n, oobn, _, from, err := conn.ReadMsgUDPAddrPort(buffer, oob)
		if err != nil {
			return
		}
		if n == 0 {
			continue
		}
		data, control := slices.Clone(buffer[:n]), slices.Clone(oob[:oobn])
		s.wait.Add(1)
		go func() {
			defer s.wait.Done()
			to, ok := originalDestination(control)
			if !ok || !s.answers("udp", to.Port(), relay, data) {
				return
			}
			s.answerPacket(data, to, from)
		}()
	}
}

// answerPacket sends an answer from where the packet was for.
func (s *station) answerPacket(data []byte, from, to netip.AddrPort) {
	s.node.do(func() error { // an answer that can't be sent is none
		fd, err := unix.Socket(domain(from.Addr()), unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
		if err != nil {
			return err
		}
		defer unix.Close(fd)
		unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
		unix.SetsockoptInt(fd, unix.SOL_IP, unix.IP_TRANSPARENT, 1)
		unix.SetsockoptInt(fd, unix.SOL_IPV6, unix.IPV6_TRANSPARENT, 1)
		if err := unix.Bind(fd, sockaddr(from.Addr(), from.Port())); err != nil {
			return err
		}
		return unix.Sendto(fd, data, 0, sockaddr(to.Addr().Unmap(), to.Port()))
	})
}

// originalDestination returns where a packet was for, before it was handed over.
func originalDestination(control []byte) (netip.AddrPort, bool) {
	messages, err := unix.ParseSocketControlMessage(control)
	if err != nil {
		return netip.AddrPort{}, false
	}
	for _, m := range messages {
		four := m.Header.Level == unix.SOL_IP && m.Header.Type == unix.IP_ORIGDSTADDR && len(m.Data) >= 8
		six := m.Header.Level == unix.SOL_IPV6 && m.Header.Type == unix.IPV6_ORIGDSTADDR && len(m.Data) >= 24
		if !four && !six {
			continue
		}
		from, to := 4, 8
		if six {
			from, to = 8, 24
		}
		a, _ := netip.AddrFromSlice(m.Data[from:to])
		return netip.AddrPortFrom(a, uint16(m.Data[2])<<8|uint16(m.Data[3])), true
	}
	return netip.AddrPort{}, false
}
