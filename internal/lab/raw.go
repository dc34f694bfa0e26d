package lab

import (
	"encoding/binary"
	"hash/crc32"
	"net/netip"
	"slices"

	"hollowbridge/core/header"
	"hollowbridge/core/network"

	"golang.org/x/sys/unix"
)

// isRaw reports whether the lab itself writes the packets of a protocol: the kernel has no
// sockets for it.
func isRaw(p header.Protocol) bool { return p != header.TCP && p != header.UDP && p != header.ICMP }

// rawProtocols are those protocols.
func rawProtocols() []header.Protocol {
	return slices.DeleteFunc(header.Protocols(), func(p header.Protocol) bool { return !isRaw(p) })
}

// firstOf is what the first packet of a connection carries behind its IP header: the beginning
// of an association (RFC 9260, 3.3.2), or a packet without contents (RFC 2784, RFC 4303).
func firstOf(p header.Packet) []byte {
	switch p.Protocol {
	case header.SCTP:
		return sctp(p, 0, 1)
	case header.GRE:
		return append([]byte{0, 0, 8, 0}, make([]byte, 20)...) // the kernel translates none without contents
	}
	return []byte{0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0}
}

const tag = 0x48420001 // with which the lab's own associations are told apart

// sctp is a packet with one chunk: 1 begins an association, 2 agrees to one.
func sctp(p header.Packet, verification uint32, chunk byte) []byte {
	b := make([]byte, 32)
	binary.BigEndian.PutUint16(b, p.SourcePort)
	binary.BigEndian.PutUint16(b[2:], p.DestinationPort)
	binary.BigEndian.PutUint32(b[4:], verification)
	b[12], b[15] = chunk, 20
	binary.BigEndian.PutUint32(b[16:], tag)
	binary.BigEndian.PutUint32(b[20:], 1<<16)
	b[25], b[27], b[31] = 1, 1, 1
	binary.LittleEndian.PutUint32(b[8:], crc32.Checksum(b, crc32.MakeTable(crc32.Castagnoli)))
	return b
}

// answersRaw makes a node answer packets of protocols that the kernel has no sockets for: all
// that come, or what a host serves.
func (l *Lab) answersRaw(n *node, h *network.Host, protocols []header.Protocol) error {
	for _, p := range protocols {
		if h != nil && !slices.ContainsFunc(h.Serves, func(s network.HostService) bool { return servesSome(s.Services, p) }) {
			continue // then the kernel itself says that it does not have the protocol
		}
		for _, family := range header.Families {
			r := &rawStation{node: n, protocol: p, family: family, stop: make(chan struct{}), done: make(chan struct{})}
			if err := n.do(r.open); err != nil {
				return err
			}
			l.raws = append(l.raws, r)
			go r.run()
		}
	}
	return nil
}

// servesSome reports whether some of a protocol is among services.
func servesSome(services header.Services, p header.Protocol) bool {
	return slices.ContainsFunc(services, func(s header.Service) bool { return s.Protocol == p || s.Protocol == header.AnyProtocol })
}

// A rawStation answers packets of one protocol and family.
type rawStation struct {
	node     *node
	protocol header.Protocol
	family   header.Family
	fd       int
	stop     chan struct{}
	done     chan struct{}
}

func (r *rawStation) open() error {
	var err error
	domain := [2]int{unix.AF_INET, unix.AF_INET6}[r.family]
	if r.fd, err = unix.Socket(domain, unix.SOCK_RAW|unix.SOCK_CLOEXEC, int(r.protocol)); err != nil {
		return err
	}
	if r.family == header.IPv6 {
		if err := unix.SetsockoptInt(r.fd, unix.SOL_IPV6, unix.IPV6_RECVPKTINFO, 1); err != nil {
			return err
		}
	}
	return unix.SetsockoptTimeval(r.fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Usec: 50_000})
}

func (r *rawStation) close() {
	close(r.stop)
	<-r.done
	unix.Close(r.fd)
}

func (r *rawStation) run() {
	defer close(r.done)
	buffer, control := make([]byte, 2048), make([]byte, 256)
	for {
		select {
		case <-r.stop:
			return
		default:
		}
		n, controlled, _, from, err := unix.Recvmsg(r.fd, buffer, control, 0)
		if err != nil {
			continue // nothing came in time
		}
		if p, carried, ok := r.read(buffer[:n], control[:controlled], from); ok {
			r.answer(p, carried)
		}
	}
}

// read returns a packet, and what it carries. An IPv4 socket hands over the header too.
func (r *rawStation) read(b, control []byte, from unix.Sockaddr) (p header.Packet, carried []byte, ok bool) {
	if r.family == header.IPv4 {
		s, ok := parse(b)
		if !ok {
			return p, nil, false
		}
		return s.Packet, b[int(b[0]&15)*4:], true
	}
	p.Protocol = r.protocol
	at, isSix := from.(*unix.SockaddrInet6)
	messages, err := unix.ParseSocketControlMessage(control)
	if !isSix || err != nil {
		return p, nil, false
	}
	p.Source = netip.AddrFrom16(at.Addr)
	for _, m := range messages {
		if m.Header.Level == unix.SOL_IPV6 && m.Header.Type == unix.IPV6_PKTINFO && len(m.Data) >= 16 {
			p.Destination = netip.AddrFrom16([16]byte(m.Data[:16]))
		}
	}
	if r.protocol == header.SCTP && len(b) >= 4 {
		p.SourcePort, p.DestinationPort = binary.BigEndian.Uint16(b), binary.BigEndian.Uint16(b[2:])
	}
	return p, b, p.Destination.IsValid()
}

// answer answers the first packet of a connection.
func (r *rawStation) answer(p header.Packet, carried []byte) {
	back := p.Answer()
	data := carried
	if r.protocol == header.SCTP {
		if len(carried) < 20 || carried[12] != 1 {
			return
		}
		data = sctp(back, binary.BigEndian.Uint32(carried[16:]), 2)
	}
	r.node.do(func() error { // an answer that can't be sent is none
		fd, err := rawSocket(back.Source, r.protocol)
		if err != nil {
			return err
		}
		defer unix.Close(fd)
		return unix.Sendto(fd, data, 0, sockaddr(back.Destination, 0))
	})
}

// rawSocket returns a socket of the thread's namespace that sends from any address.
func rawSocket(from netip.Addr, p header.Protocol) (int, error) {
	fd, err := unix.Socket(domain(from), unix.SOCK_RAW|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, int(p))
	if err != nil {
		return -1, err
	}
	unix.SetsockoptInt(fd, unix.SOL_IP, unix.IP_TRANSPARENT, 1)
	unix.SetsockoptInt(fd, unix.SOL_IPV6, unix.IPV6_TRANSPARENT, 1)
	if err := unix.Bind(fd, sockaddr(from, 0)); err != nil {
		unix.Close(fd)
		return -1, err
	}
	return fd, nil
}
