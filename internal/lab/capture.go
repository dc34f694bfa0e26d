package lab

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"hollowbridge/core/header"
	"hollowbridge/internal/kernel"
)

// A Sighting is a packet as it was seen at an interface of a machine.
type Sighting struct {
	When   time.Time
	Node   string // the machine
	On     string // its interface, where that has a name
	Leaves bool   // it leaves the machine there, or else arrives
	Packet header.Packet
	Number int // of the connection that it belongs to, as Send was told; 0 on the way back
	Kind   Kind
	Code   string        // of an error: what it says
	Quoted header.Packet // by an error
	node   *node
}

// A Kind is what a packet is.
type Kind uint8

// The kinds of packets.
const (
	Other       Kind = iota
	Begins           // the first of a TCP connection
	Agrees           // the second
	Resets           // a TCP reset
	Asks             // a ping
	Answers          // the answer to one
	Unreachable      // an ICMP error
)

var kinds = [...]string{"goes on", "begins", "agrees", "reset", "ping", "ping answered", "unreachable"}

func (k Kind) String() string { return kinds[k] }

// Words says what the packet is: what an error says, or its kind.
func (s *Sighting) Words() string {
	switch {
	case s.Code != "":
		return s.Code
	case s.Kind == Other && s.Packet.Protocol != header.TCP:
		return ""
	}
	return s.Kind.String()
}

// A capture is what is seen at one node.
type capture struct {
	node   *node
	socket int
	stop   chan struct{}
	done   chan struct{}
}

// sightings are what has been seen, for those who wait.
type sightings struct {
	sync.Mutex
	all []Sighting
}

func (l *Lab) watchNode(n *node) error {
	c := &capture{node: n, stop: make(chan struct{}), done: make(chan struct{})}
	err := n.do(func() error {
		var err error
		c.socket, err = unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, int(bits.ReverseBytes16(unix.ETH_P_ALL)))
		if err != nil {
			return err
		}
		unix.SetsockoptInt(c.socket, unix.SOL_SOCKET, unix.SO_RCVBUF, 4<<20) // as much as it gives
		unix.SetsockoptInt(c.socket, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1)
		return unix.SetsockoptTimeval(c.socket, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Usec: 50_000})
	})
	if err != nil {
		return fmt.Errorf("what %s sees: %w", n.name, err)
	}
	l.captures = append(l.captures, c)
	go c.run(l)
	return nil
}

func (c *capture) close() {
	close(c.stop)
	<-c.done
	unix.Close(c.socket)
}

func (c *capture) run(l *Lab) {
	defer close(c.done)
	buffer, control := make([]byte, 2048), make([]byte, 64)
	for {
		select {
		case <-c.stop:
			return
		default:
		}
		n, controlled, _, from, err := unix.Recvmsg(c.socket, buffer, control, 0)
		if err != nil {
			continue // nothing came in time
		}
		at, ok := from.(*unix.SockaddrLinklayer)
		if !ok {
			continue
		}
		end := c.node.linkOf(at.Ifindex)
		if end == nil {
			continue
		}
		s, ok := parse(buffer[:n])
		if !ok {
			continue
		}
		s.When, s.Node, s.On, s.Leaves, s.node = stamped(control[:controlled]), c.node.name, end.about, at.Pkttype == unix.PACKET_OUTGOING, c.node
		l.seen.Lock()
		l.seen.all = append(l.seen.all, s)
		l.seen.Unlock()
	}
}

// stamped returns when the kernel saw a packet.
func stamped(control []byte) time.Time {
	messages, err := unix.ParseSocketControlMessage(control)
	if err == nil {
		for _, m := range messages {
			if m.Header.Level == unix.SOL_SOCKET && m.Header.Type == unix.SO_TIMESTAMPNS && len(m.Data) >= 16 {
				return time.Unix(int64(binary.NativeEndian.Uint64(m.Data)), int64(binary.NativeEndian.Uint64(m.Data[8:])))
			}
		}
	}
	return time.Now()
}

func (n *node) linkOf(index int) *link {
	for _, l := range n.links {
		if l.index == index {
			return l
		}
	}
	return nil
}

// IsFirst reports whether the packet can be the first of a connection.
func (s *Sighting) IsFirst() bool {
	return s.Kind == Begins || s.Kind == Asks || s.Kind == Other && s.Packet.Protocol != header.TCP
}

// parse reads an IP packet, of which it needs the headers. It returns false for what is none,
// is broken, or is between neighbors.
func parse(b []byte) (s Sighting, ok bool) {
	h, ok := kernel.ParseIP(b)
	if !ok {
		return s, false
	}
	s.Packet.Source, s.Packet.Destination, s.Number = h.Source, h.Destination, h.Service
	protocol, rest := h.Protocol, h.Rest
	switch protocol {
	case unix.IPPROTO_TCP:
		if len(rest) < 14 {
			return s, false
		}
		s.Packet.Protocol = header.TCP
		s.Kind = kindOfTCP(rest[13])
	case unix.IPPROTO_UDP:
		if len(rest) < 8 {
			return s, false
		}
		s.Packet.Protocol = header.UDP
	case unix.IPPROTO_ICMP, unix.IPPROTO_ICMPV6:
		return parseICMP(s, protocol == unix.IPPROTO_ICMPV6, rest)
	case byte(header.SCTP):
		if len(rest) < 4 {
			return s, false
		}
		s.Packet.Protocol = header.SCTP
	default:
		s.Packet.Protocol = header.Protocol(protocol)
		return s, true
	}
	s.Packet.SourcePort, s.Packet.DestinationPort = binary.BigEndian.Uint16(rest), binary.BigEndian.Uint16(rest[2:])
	return s, true
}

func kindOfTCP(flags byte) Kind {
	const syn, reset, ack = 2, 4, 16
	switch {
	case flags&reset != 0:
		return Resets
	case flags&(syn|ack) == syn:
		return Begins
	case flags&(syn|ack) == syn|ack:
		return Agrees
	}
	return Other
}

// What ICMP errors say (RFC 792, RFC 4443).
var errorCodes = [2]map[[2]byte]string{
	{{3, 0}: "no route", {3, 1}: "nobody has that address", {3, 2}: "no such protocol", {3, 3}: "nobody listens", {3, 13}: "prohibited", {11, 0}: "it went round"},
	{{1, 0}: "no route", {1, 1}: "prohibited", {1, 3}: "nobody has that address", {1, 4}: "nobody listens", {3, 0}: "it went round", {4, 1}: "no such protocol"},
}

func parseICMP(s Sighting, six bool, b []byte) (Sighting, bool) {
	if len(b) < 8 {
		return s, false
	}
	s.Packet.Protocol, s.Packet.SourcePort = header.ICMP, binary.BigEndian.Uint16(b[4:])
	family, ask, answer := 0, byte(8), byte(0)
	if six {
		family, ask, answer = 1, 128, 129
	}
	code, isError := errorCodes[family][[2]byte{b[0], b[1]}]
	switch {
	case b[0] == ask:
		s.Kind = Asks
	case b[0] == answer:
		s.Kind = Answers
	case isError:
		quoted, ok := parse(b[8:])
		if !ok {
			return s, false
		}
		s.Kind, s.Code, s.Quoted, s.Packet.SourcePort = Unreachable, code, quoted.Packet, 0
	default:
		return s, false
	}
	return s, true
}
