// Package probe tries one real connection from the machine it runs on, and says what came back.
package probe

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"golang.org/x/sys/unix"

	"hollowbridge/core/header"
)

// An Answer is what came back.
type Answer string

// The answers.
const (
	Answered    Answer = "answered"
	Reset       Answer = "reset"
	Unreachable Answer = "unreachable"
	Silence     Answer = "silence"
)

// A Why is what an ICMP error says (RFC 792, RFC 1812, RFC 4443).
type Why string

// What errors say.
const (
	NoRoute    Why = "there is no route to it"
	NoHost     Why = "nobody has that address"
	NoPort     Why = "nobody listens there"
	Prohibited Why = "it is prohibited"
	Expired    Why = "it has gone round too long"
	Other      Why = "it can't be reached"
)

// A Result is what became of a connection.
type Result struct {
	Sent   header.Packet
	Answer Answer
	By     netip.Addr // who said that it is unreachable
	Why    Why        // and what that said
	After  time.Duration
}

// Try tries a connection over TCP, UDP or as a ping, and waits as long for an answer. An error
// says that nothing could be sent.
func Try(to netip.Addr, service header.Service, wait time.Duration) (Result, error) {
	r := Result{Sent: header.Packet{Destination: to, Protocol: service.Protocol, DestinationPort: service.Ports.First}}
	kind, number := unix.SOCK_STREAM, 0
	switch service.Protocol {
	case header.UDP:
		kind = unix.SOCK_DGRAM
	case header.ICMP:
		kind, number = unix.SOCK_DGRAM, unix.IPPROTO_ICMP
		if to.Is6() {
			number = unix.IPPROTO_ICMPV6
		}
	}
	s, err := open(to, kind, number)
	if err != nil && service.Protocol == header.ICMP {
		return r, fmt.Errorf("a ping: %w; sysctl net.ipv4.ping_group_range says who may send one", err)
	}
	if err != nil {
		return r, err
	}
	defer s.close()
	begun := time.Now()
	err = unix.Connect(s.fd, address(to, service.Ports.First))
	if err != nil && !errors.Is(err, unix.EINPROGRESS) {
		if r.Answer = refused(err); r.Answer != Reset { // it is this machine that says so
			return r, fmt.Errorf("%s: %w", to, err)
		}
	}
	r.Sent.Source, r.Sent.SourcePort = s.own()
	if service.Protocol != header.TCP {
		message := []byte("hollowbridge probe\n")
		if service.Protocol == header.ICMP {
			message = echo(to)
		}
		if _, err := unix.Write(s.fd, message); err != nil && refused(err) == "" {
			return r, fmt.Errorf("%s: %w", to, err)
		}
	}
	if r.Answer == "" {
		r.Answer = s.await(service.Protocol, wait)
	}
	r.After = time.Since(begun)
	if r.Answer == Unreachable || r.Answer == Reset && service.Protocol != header.TCP {
		r.Answer, r.By, r.Why = Unreachable, netip.Addr{}, Other
	}
	if by, why, ok := s.error(to.Is6()); ok {
		r.Answer, r.By, r.Why = Unreachable, by, why
	}
	return r, nil
}

// refused returns what an error of a socket means, empty where it is none of the network.
func refused(err error) Answer {
	switch {
	case errors.Is(err, unix.ECONNREFUSED):
		return Reset
	case errors.Is(err, unix.EHOSTUNREACH), errors.Is(err, unix.ENETUNREACH), errors.Is(err, unix.EACCES), errors.Is(err, unix.EPROTO), errors.Is(err, unix.ENOPROTOOPT):
		return Unreachable
	}
	return ""
}

// A socket is one that says of errors who sent them.
type socket struct {
	fd int
	v6 bool
}

func open(to netip.Addr, kind, protocol int) (*socket, error) {
	s := &socket{v6: to.Is6()}
	domain, level, option := unix.AF_INET, unix.SOL_IP, unix.IP_RECVERR
	if s.v6 {
		domain, level, option = unix.AF_INET6, unix.SOL_IPV6, unix.IPV6_RECVERR
	}
	var err error
	if s.fd, err = unix.Socket(domain, kind|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, protocol); err != nil {
		return nil, err
	}
	if err := unix.SetsockoptInt(s.fd, level, option, 1); err != nil {
		s.close()
		return nil, err
	}
	return s, nil
}

func (s *socket) close() { unix.Close(s.fd) }

func address(a netip.Addr, port uint16) unix.Sockaddr {
	if a.Is4() {
		return &unix.SockaddrInet4{Addr: a.As4(), Port: int(port)}
	}
	return &unix.SockaddrInet6{Addr: a.As16(), Port: int(port)}
}

// own returns the address and port that the socket has.
func (s *socket) own() (netip.Addr, uint16) {
	name, err := unix.Getsockname(s.fd)
	if err != nil {
		return netip.Addr{}, 0
	}
	switch n := name.(type) {
	case *unix.SockaddrInet4:
		return netip.AddrFrom4(n.Addr), uint16(n.Port)
	case *unix.SockaddrInet6:
		return netip.AddrFrom16(n.Addr).Unmap(), uint16(n.Port)
	}
	return netip.Addr{}, 0
}

// await waits for what comes back.
func (s *socket) await(protocol header.Protocol, wait time.Duration) Answer {
	events := int16(unix.POLLIN)
	if protocol == header.TCP {
		events = unix.POLLOUT
	}
	poll := []unix.PollFd{{Fd: int32(s.fd), Events: events}}
	for until := time.Now().Add(wait); ; {
		left := max(time.Until(until), 0)
		n, err := unix.Poll(poll, int(left.Milliseconds()))
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil || n == 0 {
			return Silence
		}
		break
	}
	code, err := unix.GetsockoptInt(s.fd, unix.SOL_SOCKET, unix.SO_ERROR)
	if err != nil {
		return Silence
	}
	if code != 0 {
		if what := refused(unix.Errno(code)); what != "" {
			return what
		}
		return Silence
	}
	if protocol != header.TCP {
		if _, err := unix.Read(s.fd, make([]byte, 64)); err != nil {
			if what := refused(err); what != "" {
				return what
			}
			return Silence
		}
	}
	return Answered
}

// error returns who said by an ICMP error that it can't be reached, and what that said.
func (s *socket) error(v6 bool) (by netip.Addr, why Why, ok bool) {
	control := make([]byte, 512)
	_, n, _, _, err := unix.Recvmsg(s.fd, make([]byte, 64), control, unix.MSG_ERRQUEUE)
	if err != nil {
		return by, why, false
	}
	messages, err := unix.ParseSocketControlMessage(control[:n])
	if err != nil {
		return by, why, false
	}
	for _, m := range messages {
		if by, why, ok := errorOf(m.Data, v6); ok {
			return by, why, true
		}
	}
	return by, why, false
}

// Sizes and places in an extended error and the address behind it (linux/errqueue.h).
const (
	extendedSize = 16
	originICMP   = 2
	originICMP6  = 3
)

// errorOf reads an extended error. ok is false where it is not from the network.
func errorOf(data []byte, v6 bool) (by netip.Addr, why Why, ok bool) {
	if len(data) < extendedSize || data[4] != originICMP && data[4] != originICMP6 {
		return by, why, false
	}
	kind, code, rest := data[5], data[6], data[extendedSize:]
	if v6 && len(rest) >= 24 {
		by, _ = netip.AddrFromSlice(rest[8:24])
	} else if !v6 && len(rest) >= 8 {
		by, _ = netip.AddrFromSlice(rest[4:8])
	}
	return by, whyOf(v6, kind, code), true
}

// whyOf returns what an ICMP error of a type and code says.
func whyOf(v6 bool, kind, code byte) Why {
	type message struct{ kind, code byte }
	known := map[message]Why{
		{3, 0}: NoRoute, {3, 1}: NoHost, {3, 3}: NoPort, {3, 9}: Prohibited, {3, 10}: Prohibited, {3, 13}: Prohibited, {11, 0}: Expired,
	}
	if v6 {
		known = map[message]Why{{1, 0}: NoRoute, {1, 1}: Prohibited, {1, 3}: NoHost, {1, 4}: NoPort, {3, 0}: Expired}
	}
	if why, ok := known[message{kind, code}]; ok {
		return why
	}
	return Other
}

// echo returns an echo request; the kernel gives it its identifier and checksum.
func echo(to netip.Addr) []byte {
	b := make([]byte, 16)
	b[0] = 8
	if to.Is6() {
		b[0] = 128
	}
	binary.BigEndian.PutUint16(b[6:], 1)
	return b
}
