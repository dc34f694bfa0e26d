package portmap

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"syscall"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/sys/unix"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/portmap/natpmp"
	"hollowbridge/internal/portmap/pcp"
	"hollowbridge/internal/portmap/ssdp"
)

// A point is where clients ask: an address of an inside interface.
type point struct {
	iface   *network.Interface
	address netip.Addr
	device  string // that its sockets are bound to, or empty
	index   int    // of the device on which multicasts are sent
	asking  *net.UDPConn
	search  *net.UDPConn // of SSDP: where it answers from,
	group   *net.UDPConn // and where searches for everybody come
	http    *http.Server
	closed  chan struct{}
}

// hasDevice reports whether a UPnP device may be called at a point: at what is link-local programs only ask by PCP.
func (p *point) hasDevice() bool { return !p.address.IsLinkLocalUnicast() }

// groupAddress is where those are searched for who may be asked at a point (UPnP Device Architecture, 1 and annex A).
func (p *point) groupAddress() netip.Addr {
	if p.address.Is6() {
		return ssdp.Group6
	}
	return ssdp.Group4
}

// listeners are the points of a server.
type listeners struct {
	points    []*point
	linkLocal map[string][]netip.Addr // of the interfaces, by name
}

// listen opens the points of a setting, and closes those that are no longer among them.
func (v *Server) listen(s *setting) {
	var wanted []*point
	v.listeners.linkLocal = map[string][]netip.Addr{}
	if s != nil {
		for _, i := range s.policy.On {
			if !i.IsUp() {
				continue
			}
			v.listeners.linkLocal[i.Name] = v.linkLocal(i)
			addresses := slices.Clone(v.listeners.linkLocal[i.Name])
			for _, prefix := range i.Addresses {
				addresses = append(addresses, prefix.Addr())
			}
			for _, a := range addresses {
				p := &point{iface: i, address: a, closed: make(chan struct{})}
				if v.options.Loopback {
					if p.address = onLoopback(p.address); !p.address.IsValid() {
						continue
					}
				}
				if v.options.Device != nil {
					p.device = v.options.Device(i)
				}
				wanted = append(wanted, p)
			}
		}
	}
	kept := v.listeners.points[:0:0]
	for _, p := range v.listeners.points {
		speaks := s != nil && (p.asking != nil) == asks(s.policy) && (p.search != nil) == (s.policy.Speaks(network.IGD) && p.hasDevice())
		if at := slices.IndexFunc(wanted, func(w *point) bool {
			return w.address == p.address && w.device == p.device && w.iface.Name == p.iface.Name
		}); speaks && at >= 0 {
			p.iface = wanted[at].iface
			wanted = slices.Delete(wanted, at, at+1)
			kept = append(kept, p)
			continue
		}
		v.shut(p)
	}
	v.listeners.points = kept
	for _, p := range wanted {
		if err := v.open(s, p); err != nil {
			if !errors.Is(err, ErrElsewhere) {
				v.options.Trouble(fmt.Errorf("mappings: %w", err))
			}
			v.shut(p)
			continue
		}
		v.listeners.points = append(v.listeners.points, p)
	}
}

// linkLocal returns the link-local addresses of IPv6 that an interface has on this machine, by which router advertisements name it; they may
// come and go.
func (v *Server) linkLocal(i *network.Interface) (list []netip.Addr) {
	if v.options.Device == nil || v.options.Loopback || !slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return p.Addr().Is6() }) {
		return nil
	}
	v.within(func() error {
		device, err := net.InterfaceByName(v.options.Device(i))
		if err != nil {
			return err
		}
		addresses, err := device.Addrs()
		for _, a := range addresses {
			if p, bad := netip.ParsePrefix(a.String()); bad == nil && p.Addr().Is6() && p.Addr().IsLinkLocalUnicast() && !slices.ContainsFunc(i.Addresses, func(q netip.Prefix) bool { return q.Addr() == p.Addr() }) {
				list = append(list, p.Addr())
			}
		}
		return err
	}) // one that is away is looked for again
	return list
}

// onLoopback returns where a stand-in for an address is: 10.61.8.1 at 127.61.8.1, and its clients
// likewise. IPv6 has no such place.
func onLoopback(a netip.Addr) netip.Addr {
	if !a.Is4() {
		return netip.Addr{}
	}
	b := a.As4()
	b[0] = 127
	return netip.AddrFrom4(b)
}

// real returns the address that a client of a stand-in stands for. Whoever calls holds the mutex.
func (v *Server) real(a netip.Addr) netip.Addr {
	if !v.options.Loopback || v.setting == nil || !a.Is4() {
		return a
	}
	for _, i := range v.setting.policy.On {
		for _, p := range i.Addresses {
			if !p.Addr().Is4() {
				continue
			}
			b := a.As4()
			b[0] = p.Addr().As4()[0]
			if stands := netip.AddrFrom4(b); p.Contains(stands) && onLoopback(stands) == a {
				return stands
			}
		}
	}
	return a
}

func asks(m *network.Mappings) bool { return m.Speaks(network.PCP) || m.Speaks(network.NATPMP) }

// within does something where the gateway's sockets are.
func (v *Server) within(do func() error) error {
	if v.options.Within == nil {
		return do()
	}
	return v.options.Within(do)
}

// open opens the sockets of a point.
func (v *Server) open(s *setting, p *point) error {
	err := v.within(func() (err error) {
		if p.index, err = indexOf(p); err != nil {
			return err
		}
		if asks(s.policy) {
			at := p.address
			if at.Is6() && at.IsLinkLocalUnicast() {
				at = at.WithZone(p.device)
			}
			if p.asking, err = v.udp(p, netip.AddrPortFrom(at, v.options.Ports.PCP)); err != nil {
				return err
			}
		}
		if s.policy.Speaks(network.IGD) && p.hasDevice() {
			return v.openIGD(p)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if p.asking != nil {
		v.working.Go(func() { v.serveAsking(p) })
	}
	if p.search != nil {
		v.working.Go(func() { v.serveSearches(p, p.search) })
		v.working.Go(func() { v.serveSearches(p, p.group) })
	}
	return nil
}

// ErrElsewhere is the error where the address of a point is none of this machine: then it is a
// simulated gateway, which nobody can ask there.
var ErrElsewhere = errors.New("this is no address of this machine")

// indexOf finds the device on which multicasts of a point go: the one that it is bound to, or the
// one in whose prefix its address lies.
func indexOf(p *point) (int, error) {
	if p.device != "" {
		i, err := net.InterfaceByName(p.device)
		if err != nil {
			return 0, fmt.Errorf("%s: %w", p.device, err)
		}
		return i.Index, nil
	}
	list, err := net.Interfaces()
	if err != nil {
		return 0, err
	}
	for _, i := range list {
		addresses, _ := i.Addrs() // one that is gone by now has none
		for _, a := range addresses {
			if n, err := netip.ParsePrefix(a.String()); err == nil && n.Contains(p.address) {
				return i.Index, nil
			}
		}
	}
	return 0, ErrElsewhere
}

// udp opens a socket of a point, from which multicasts go out on its device.
func (v *Server) udp(p *point, at netip.AddrPort) (*net.UDPConn, error) {
	config := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		var failure error
		err := c.Control(func(fd uintptr) { failure = setUp(int(fd), p, at) })
		return errors.Join(err, failure)
	}}
	conn, err := config.ListenPacket(context.Background(), "udp", at.String())
	if err != nil {
		return nil, fmt.Errorf("%s, where %s is to be asked for mappings: %w", at, p.iface, err)
	}
	return conn.(*net.UDPConn), nil
}

// rooms are how much a socket holds. What is sent to a neighbor that nobody finds is held for three seconds: so that made-up ones do not
// take the room of the others, there is some for 10,000 answers to them a second.
var rooms = []struct{ forced, wished, bytes int }{
	{unix.SO_RCVBUFFORCE, unix.SO_RCVBUF, 4 << 20},
	{unix.SO_SNDBUFFORCE, unix.SO_SNDBUF, 16 << 20},
}

// say sends datagrams, and never waits: those for which the socket has no room are lost, and asked for again.
func say(conn *net.UDPConn, list ...datagram) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return
	}
	raw.Write(func(fd uintptr) bool {
		for _, d := range list {
			unix.Sendto(int(fd), d.data, unix.MSG_DONTWAIT|unix.MSG_NOSIGNAL, sockaddr(d.peer))
		}
		return true
	})
}

func sockaddr(at netip.AddrPort) unix.Sockaddr {
	if a := at.Addr().Unmap(); a.Is4() {
		return &unix.SockaddrInet4{Port: int(at.Port()), Addr: a.As4()}
	}
	return &unix.SockaddrInet6{Port: int(at.Port()), Addr: at.Addr().As16()} // a socket that is bound to a device needs no zone
}

func setUp(fd int, p *point, at netip.AddrPort) error {
	if at.Addr().IsLinkLocalUnicast() { // it may be new, and not be looked for by others yet
		if err := unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_FREEBIND, 1); err != nil {
			return err
		}
	}
	if p.device != "" {
		if err := unix.BindToDevice(fd, p.device); err != nil {
			return err
		}
	}
	for _, room := range rooms {
		if unix.SetsockoptInt(fd, unix.SOL_SOCKET, room.forced, room.bytes) != nil {
			unix.SetsockoptInt(fd, unix.SOL_SOCKET, room.wished, room.bytes) // as much as the machine gives
		}
	}
	if at.Addr().Is6() {
		return unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_MULTICAST_IF, p.index)
	}
	return errors.Join(
		unix.SetsockoptIPMreqn(fd, unix.IPPROTO_IP, unix.IP_MULTICAST_IF, &unix.IPMreqn{Address: p.address.As4(), Ifindex: int32(p.index)}),
		unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_MULTICAST_TTL, 2)) // UPnP Device Architecture, 1.1.2
}

// openIGD opens what a UPnP device needs: where it is searched for, and where it is called.
func (v *Server) openIGD(p *point) (err error) {
	if p.search, err = v.udp(p, netip.AddrPortFrom(p.address, v.options.Ports.SSDP)); err != nil {
		return err
	}
	if p.group, err = groupSocket(p, v.options.Ports.SSDP); err != nil {
		return fmt.Errorf("searches for %s: %w", p.iface, err)
	}
	config := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		var failure error
		err := c.Control(func(fd uintptr) {
			if p.device != "" {
				failure = unix.BindToDevice(int(fd), p.device)
			}
		})
		return errors.Join(err, failure)
	}}
	l, err := config.Listen(context.Background(), "tcp", netip.AddrPortFrom(p.address, v.options.Ports.HTTP).String())
	if err != nil {
		return fmt.Errorf("where %s is to be called: %w", p.iface, err)
	}
	p.http = v.device(p)
	v.working.Go(func() {
		if err := p.http.Serve(fair(l, mostCallers, mostCallersOf)); !errors.Is(err, http.ErrServerClosed) {
			v.options.Trouble(fmt.Errorf("mappings: %w", err))
		}
	})
	return nil
}

// groupSocket opens a socket for what is sent to the group of those that are searched for, and for
// nothing else: package net would listen at all addresses.
func groupSocket(p *point, port uint16) (*net.UDPConn, error) {
	family := unix.AF_INET
	if p.address.Is6() {
		family = unix.AF_INET6
	}
	fd, err := unix.Socket(family, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	err = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
	if err == nil && p.device != "" {
		err = unix.BindToDevice(fd, p.device)
	}
	group := p.groupAddress()
	var at unix.Sockaddr = &unix.SockaddrInet6{Port: int(port), Addr: group.As16(), ZoneId: uint32(p.index)}
	switch {
	case err != nil:
	case family == unix.AF_INET:
		at = &unix.SockaddrInet4{Port: int(port), Addr: group.As4()}
		err = unix.SetsockoptIPMreqn(fd, unix.IPPROTO_IP, unix.IP_ADD_MEMBERSHIP, &unix.IPMreqn{Multiaddr: group.As4(), Address: p.address.As4(), Ifindex: int32(p.index)})
	default:
		err = unix.SetsockoptIPv6Mreq(fd, unix.IPPROTO_IPV6, unix.IPV6_JOIN_GROUP, &unix.IPv6Mreq{Multiaddr: group.As16(), Interface: uint32(p.index)})
	}
	if err == nil {
		err = unix.Bind(fd, at)
	}
	if err != nil {
		unix.Close(fd)
		return nil, err
	}
	f := os.NewFile(uintptr(fd), "searches")
	defer f.Close()
	conn, err := net.FilePacketConn(f)
	if err != nil {
		return nil, err
	}
	return conn.(*net.UDPConn), nil
}

// shut closes a point.
func (v *Server) shut(p *point) {
	if p.search != nil && p.group != nil {
		v.notify(p, ssdp.ByeBye)
	}
	close(p.closed)
	for _, c := range []*net.UDPConn{p.asking, p.search, p.group} {
		if c != nil {
			c.Close()
		}
	}
	if p.http != nil {
		p.http.Close()
	}
}

// atOnce is how many datagrams are read and answered together: what they are granted is kept in one
// go.
const atOnce = 256

// serveAsking answers PCP and NAT-PMP at a point until it is closed.
func (v *Server) serveAsking(p *point) {
	conn := ipv4.NewPacketConn(p.asking) // of IPv6 too: reading and writing many is the same
	in := make([]ipv4.Message, atOnce)
	for i := range in {
		in[i].Buffers = [][]byte{make([]byte, pcp.MostSize+4)}
	}
	send := func(d datagram) { say(p.asking, d) }
	for {
		n, err := conn.ReadBatch(in, 0)
		if err != nil {
			if v.isClosed(p, err) {
				return
			}
			continue
		}
		asked := make([]datagram, 0, n)
		for _, m := range in[:n] {
			if from, ok := m.Addr.(*net.UDPAddr); ok {
				peer := from.AddrPort()
				asked = append(asked, datagram{peer: netip.AddrPortFrom(peer.Addr().Unmap().WithZone(""), peer.Port()), data: append([]byte(nil), m.Buffers[0][:m.N]...)})
			}
		}
		say(p.asking, v.answer(asked, send)...)
	}
}

// isClosed reports whether a point is closed; else it waits a moment, so that an error that stays
// does not keep the machine busy.
func (v *Server) isClosed(p *point, err error) bool {
	if errors.Is(err, net.ErrClosed) {
		return true
	}
	select {
	case <-p.closed:
		return true
	case <-time.After(10 * time.Millisecond):
		return false
	}
}

// noticePort is where clients of PCP and NAT-PMP hear that the epoch or the address is another
// (RFC 6887, 19.1; RFC 6886, 3.2.1).
const noticePort = 5350

// notices is how often that is said, each time after twice as long, and firstNotice how long after
// the first time.
const (
	notices     = 10
	firstNotice = 250 * time.Millisecond
)

var (
	allHosts4 = netip.MustParseAddr("224.0.0.1")
	allHosts6 = netip.MustParseAddr("ff02::1")
)

// announce tells clients on all points that the mappings are known since another time, or the
// address is another. Whoever calls holds the mutex.
func (v *Server) announce() {
	for _, p := range v.listeners.points {
		v.working.Go(func() {
			wait := firstNotice
			for range notices {
				v.sendNotices(p)
				select {
				case <-p.closed:
					return
				case <-v.ctx.Done():
					return
				case <-time.After(wait):
				}
				wait *= 2
			}
		})
	}
}

func (v *Server) sendNotices(p *point) {
	v.mutex.Lock()
	s := v.setting
	if s == nil || p.asking == nil {
		v.mutex.Unlock()
		return
	}
	epoch, external := v.seconds(v.now()), s.address[header.IPv4]
	v.mutex.Unlock()
	to := netip.AddrPortFrom(allHosts4, noticePort)
	if p.address.Is6() {
		to = netip.AddrPortFrom(allHosts6, noticePort)
	}
	if s.policy.Speaks(network.PCP) {
		m := pcp.Message{Opcode: pcp.Announce, Response: true, Epoch: epoch}
		say(p.asking, datagram{peer: to, data: m.Append(nil)}) // it is said ten times
	}
	if s.policy.Speaks(network.NATPMP) && p.address.Is4() && external.IsValid() {
		r := natpmp.Response{Opcode: natpmp.ExternalAddress, Epoch: epoch, External: external}
		say(p.asking, datagram{peer: to, data: r.Append(nil)})
	}
}
