package lab

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/walk"

	"golang.org/x/sys/unix"
)

func domain(a netip.Addr) int {
	if a.Is4() {
		return unix.AF_INET
	}
	return unix.AF_INET6
}

func sockaddr(a netip.Addr, port uint16) unix.Sockaddr {
	if a.Is4() {
		return &unix.SockaddrInet4{Addr: a.As4(), Port: int(port)}
	}
	return &unix.SockaddrInet6{Addr: a.As16(), Port: int(port)}
}

// A socket is one that belongs to a node, used from anywhere. It waits at most patience.
type socket struct {
	fd   int
	node *node
}

func (s *socket) wait(events int16, most time.Duration) bool {
	poll := []unix.PollFd{{Fd: int32(s.fd), Events: events}}
	until := time.Now().Add(most)
	for {
		left := time.Until(until)
		if left < 0 {
			left = 0
		}
		n, err := unix.Poll(poll, int(left/time.Millisecond))
		if err == unix.EINTR {
			continue
		}
		return err == nil && n > 0 && poll[0].Revents&events != 0
	}
}

func (s *socket) Write(b []byte) (int, error) {
	if !s.wait(unix.POLLOUT, patience) {
		return 0, unix.ETIMEDOUT
	}
	return unix.Write(s.fd, b)
}

func (s *socket) Read(b []byte) (int, error) {
	if !s.wait(unix.POLLIN, patience) {
		return 0, unix.ETIMEDOUT
	}
	n, err := unix.Read(s.fd, b)
	if n == 0 && err == nil {
		return 0, io.EOF
	}
	return max(n, 0), err
}

func (s *socket) Close() error                     { return unix.Close(s.fd) }
func (s *socket) LocalAddr() net.Addr              { return nil }
func (s *socket) RemoteAddr() net.Addr             { return nil }
func (s *socket) SetDeadline(time.Time) error      { return nil }
func (s *socket) SetReadDeadline(time.Time) error  { return nil }
func (s *socket) SetWriteDeadline(time.Time) error { return nil }

// An Answer is what a client meets.
type Answer uint8

// The answers.
const (
	Silence    Answer = iota
	Answered          // by the service
	Taken             // the connection was taken, but nobody answered what was sent
	WasReset          // a TCP reset
	WasRefused        // an ICMP error
	Unsent            // the machine could not send it
)

var answers = [...]struct{ word, meets string }{
	{"silence", "silence"}, {"answered", "an answer"}, {"taken", "somebody who takes the connection and says nothing"},
	{"reset", "a reset"}, {"unreachable", "the word that it is unreachable"}, {"unsent", "nothing: it was not sent"},
}

// String returns the answer in a word.
func (a Answer) String() string { return answers[a].word }

// Meets returns what the client meets.
func (a Answer) Meets() string { return answers[a].meets }

// A Result is what became of a connection that was sent.
type Result struct {
	Answer Answer
	By     netip.Addr // who told it, where it was told by an ICMP error
	Code   string     // what that said
	Served string     // where a relay has handed it on: who answered, as "archive port 443"; empty where that is not known
	Err    error      // why it was not sent
}

// MostNumbers is how many connections of one protocol may be on their way at a time: their
// packets are known by a number in the header's class of service (RFC 2474).
const MostNumbers = 62

// Send sends a connection and waits until it is answered, or for as long; then it ends it. Its
// number, from 1, is that of no other connection of its protocol that is on its way.
func (l *Lab) Send(c walk.Connection, number int, wait time.Duration) Result {
	o, r := l.Open(c, number, wait)
	if o != nil {
		o.Close()
	}
	return r
}

// An Opened connection is one that was sent and is open still.
type Opened struct {
	socket *socket
	packet header.Packet
}

// Open is Send, but leaves the connection open. Where it could not be sent, it is nil.
func (l *Lab) Open(c walk.Connection, number int, wait time.Duration) (*Opened, Result) {
	if err := l.Watch(); err != nil {
		return nil, Result{Answer: Unsent, Err: err}
	}
	s, err := l.open(c, number)
	if err != nil {
		return nil, Result{Answer: Unsent, Err: err}
	}
	return &Opened{s, c.Packet}, l.await(c, s, wait)
}

// await waits until a connection is answered, or for as long.
func (l *Lab) await(c walk.Connection, s *socket, wait time.Duration) (r Result) {
	p := c.Packet
	until := time.Now().Add(wait)
	asked, from := false, 0
	for {
		if p.Protocol == header.TCP && !asked && s.wait(unix.POLLOUT, 0) {
			if code, err := unix.GetsockoptInt(s.fd, unix.SOL_SOCKET, unix.SO_ERROR); err == nil && code == 0 {
				asked = true
				unix.Write(s.fd, []byte{plain})
			}
		}
		if s.wait(unix.POLLIN, 5*time.Millisecond) && (p.Protocol == header.TCP || p.Protocol == header.UDP) {
			b := make([]byte, 8)
			if n, err := unix.Read(s.fd, b); err == nil && n > 0 {
				r.Answer, r.Served = Answered, l.answered.name(b[0])
				break
			}
		}
		if told, ok := l.told(c, s, &from); ok {
			r.Answer, r.By, r.Code = told.Answer, told.By, told.Code
			if r.Answer != Taken {
				break
			}
		}
		if time.Now().After(until) {
			break
		}
	}
	return r
}

// MostInPacket is how many bytes a packet of a connection carries at most.
const MostInPacket = 1400

// Carry sends bytes over a connection that was answered, and waits for the machine behind it to
// send as many back, packet for packet. Of a protocol without ports, nobody answers but pings.
func (o *Opened) Carry(bytes int) error {
	p := o.packet
	for left := bytes; left > 0; left -= MostInPacket {
		data := make([]byte, min(left, MostInPacket))
		if isRaw(p.Protocol) || p.Protocol == header.ICMP {
			head := firstOf(p)
			if p.Protocol == header.ICMP {
				head = ping(p)
			}
			if err := o.socket.node.do(func() error { return unix.Sendto(o.socket.fd, append(head, data...), 0, sockaddr(p.Destination, 0)) }); err != nil {
				return err
			}
			continue
		}
		if _, err := o.socket.Write(data); err != nil {
			return fmt.Errorf("%s: the connection breaks: %w", p.To(), err)
		}
		if err := o.readBack(data); err != nil {
			return fmt.Errorf("%s: the answer stays out: %w", p.To(), err)
		}
	}
	return nil
}

// readBack reads an answer that is as long as what was sent.
func (o *Opened) readBack(data []byte) error {
	if o.packet.Protocol == header.UDP { // one packet
		_, err := o.socket.Read(data)
		return err
	}
	_, err := io.ReadFull(o.socket, data)
	return err
}

// Close ends the connection.
func (o *Opened) Close() error { return o.socket.Close() }

// told looks in what the client's machine has seen, from a place on, for what it was told.
func (l *Lab) told(c walk.Connection, s *socket, from *int) (r Result, ok bool) {
	p := c.Packet
	answer := p.Answer()
	l.seen.Lock()
	defer l.seen.Unlock()
	for ; *from < len(l.seen.all); *from++ {
		e := &l.seen.all[*from]
		if e.Leaves || e.node != s.node {
			continue
		}
		switch {
		case e.Kind == Unreachable && e.Quoted == p:
			return Result{Answer: WasRefused, By: e.Packet.Source, Code: e.Code}, true
		case e.Packet != answer:
		case e.Kind == Resets:
			return Result{Answer: WasReset}, true
		case e.Kind == Answers, isRaw(p.Protocol):
			return Result{Answer: Answered}, true
		case e.Kind == Agrees:
			r, ok = Result{Answer: Taken}, true
		}
	}
	return r, ok
}

// Seen returns what was seen of a connection, by its number: its packets, those that answer
// them, and errors about them, each once where it passed. Those that have just passed may be
// missing; that the client closes the connection is not there.
func (l *Lab) Seen(protocol header.Protocol, number int) (all []Sighting) {
	l.seen.Lock()
	defer l.seen.Unlock()
	var sent []header.Packet
	for _, e := range l.seen.all {
		if e.Number == number && e.Packet.Protocol == protocol && e.IsFirst() {
			sent = append(sent, e.Packet)
		}
	}
	type sight struct {
		node *node
		Sighting
	}
	known := map[sight]bool{}
	for _, e := range l.seen.all {
		same := e
		same.When, same.Number = time.Time{}, 0
		if known[sight{e.node, same}] || e.Kind == Resets && slices.Contains(sent, e.Packet) {
			continue
		}
		known[sight{e.node, same}] = true
		for _, p := range sent {
			if e.Packet == p || e.Packet == p.Answer() || e.Kind == Unreachable && e.Quoted == p {
				all = append(all, e)
				break
			}
		}
	}
	slices.SortStableFunc(all, func(a, b Sighting) int { return a.When.Compare(b.When) })
	return all
}

// open makes the client's socket and sends its first packet.
func (l *Lab) open(c walk.Connection, number int) (*socket, error) {
	p := c.Packet
	n, err := l.nodeAt(c.From, p.Source)
	if err != nil {
		return nil, err
	}
	if n == nil {
		return nil, fmt.Errorf("the lab has no machine for %s", c.From.Name())
	}
	mark, err := l.handsTo(n, c)
	if err != nil {
		return nil, err
	}
	kind, protocol := unix.SOCK_STREAM, 0
	switch p.Protocol {
	case header.UDP:
		kind = unix.SOCK_DGRAM
	case header.TCP:
	case header.ICMP:
		kind, protocol = unix.SOCK_RAW, map[bool]int{true: unix.IPPROTO_ICMP, false: unix.IPPROTO_ICMPV6}[p.Source.Is4()]
	default:
		kind, protocol = unix.SOCK_RAW, int(p.Protocol)
	}
	s := &socket{fd: -1, node: n}
	err = n.do(func() error {
		if s.fd, err = unix.Socket(domain(p.Source), kind|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, protocol); err != nil {
			return err
		}
		level, transparent, class := unix.SOL_IP, unix.IP_TRANSPARENT, unix.IP_TOS
		if p.Source.Is6() {
			level, transparent, class = unix.SOL_IPV6, unix.IPV6_TRANSPARENT, unix.IPV6_TCLASS
		}
		for _, option := range [][3]int{{unix.SOL_SOCKET, unix.SO_REUSEADDR, 1}, {level, transparent, 1}, {level, class, number << 2}} {
			if err := unix.SetsockoptInt(s.fd, option[0], option[1], option[2]); err != nil {
				return err
			}
		}
		if mark != 0 {
			if err := unix.SetsockoptInt(s.fd, unix.SOL_SOCKET, unix.SO_MARK, int(mark)); err != nil {
				return err
			}
		}
		if kind == unix.SOCK_STREAM {
			unix.SetsockoptLinger(s.fd, unix.SOL_SOCKET, unix.SO_LINGER, &unix.Linger{Onoff: 1})
		}
		port, to := p.SourcePort, p.DestinationPort
		if kind == unix.SOCK_RAW {
			port, to = 0, 0
		}
		if err := unix.Bind(s.fd, sockaddr(p.Source, port)); err != nil {
			return fmt.Errorf("%s sends from %s: %w", n.name, p.From(), err)
		}
		switch p.Protocol {
		case header.ICMP:
			return unix.Sendto(s.fd, ping(p), 0, sockaddr(p.Destination, 0))
		case header.UDP:
			if err := unix.Connect(s.fd, sockaddr(p.Destination, to)); err != nil {
				return err
			}
			_, err := unix.Write(s.fd, []byte{plain})
			return err
		case header.TCP:
		default:
			return unix.Sendto(s.fd, firstOf(p), 0, sockaddr(p.Destination, 0))
		}
		if err := unix.Connect(s.fd, sockaddr(p.Destination, to)); err != nil && err != unix.EINPROGRESS {
			return err
		}
		return nil
	})
	if err != nil && !errors.Is(err, unix.EPERM) { // its own machine, the internet, drops it
		if s.fd >= 0 {
			s.Close()
		}
		return nil, err
	}
	return s, nil
}

// ping is an echo request (RFC 792, RFC 4443), behind which zeros may follow; its identifier
// is the source port.
func ping(p header.Packet) []byte {
	b := make([]byte, 12)
	b[0] = 8
	if p.Source.Is6() {
		b[0] = 128 // the kernel writes its checksum
	}
	binary.BigEndian.PutUint16(b[4:], p.SourcePort)
	binary.BigEndian.PutUint16(b[6:], 1)
	if p.Source.Is4() {
		sum := uint32(0)
		for i := 0; i < len(b); i += 2 {
			sum += uint32(binary.BigEndian.Uint16(b[i:]))
		}
		sum = sum>>16 + sum&0xffff
		binary.BigEndian.PutUint16(b[2:], ^uint16(sum+sum>>16))
	}
	return b
}
