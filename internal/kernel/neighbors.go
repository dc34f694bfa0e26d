package kernel

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"runtime"
	"slices"
	"time"

	"golang.org/x/net/bpf"
	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"
)

// A wire is a device that a segment is on.
type wire struct {
	net.Interface
	asks bool // machines there ask for each other's link addresses: it is Ethernet, or does as if it were
}

// wiresOf returns the devices of a machine, in a network namespace as in OpenMachine.
func wiresOf(namespace int) (list []wire, err error) {
	handle, err := handleAt(namespace)
	if err != nil {
		return nil, fmt.Errorf("the machine's interfaces: %w", err)
	}
	defer handle.Close()
	links, err := handle.LinkList()
	if err != nil {
		return nil, fmt.Errorf("the machine's interfaces: %w", err)
	}
	for _, l := range links {
		a := l.Attrs()
		list = append(list, wire{
			net.Interface{Index: a.Index, Name: a.Name, HardwareAddr: a.HardwareAddr},
			len(a.HardwareAddr) == 6 && a.RawFlags&unix.IFF_UP != 0 && a.RawFlags&(unix.IFF_NOARP|unix.IFF_LOOPBACK|unix.IFF_POINTOPOINT) == 0,
		})
	}
	return list, nil
}

// within does something in a network namespace, as in OpenMachine.
func within(namespace int, do func() error) error {
	if namespace == 0 {
		return do()
	}
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with the goroutine
		if err := unix.Setns(namespace, unix.CLONE_NEWNET); err != nil {
			done <- err
			return
		}
		done <- do()
	}()
	return <-done
}

// An Other is a machine that has an address which a gateway is to hold.
type Other struct {
	Held
	Link net.HardwareAddr
}

func (o *Other) String() string {
	return fmt.Sprintf("%s has %s on the segment of %s", o.Link, o.Address, o.Device)
}

// ProbeEvery is how long after a probe for an address the next one follows, and half of how long an answer to the last one is waited
// for; there are three (RFC 5227, 1.1; RFC 4862, 5.1).
const ProbeEvery = time.Second

const probes = 3

// Ask asks the segments of a machine's devices who has addresses, three times each, and returns those that another machine has, or asks
// for likewise, by address. Devices on whose segments nobody asks are passed over.
func Ask(namespace int, list []Held, every time.Duration) (others []Other, err error) {
	n, err := openInquiry(namespace, list, true)
	if err != nil || len(n.list) == 0 {
		return nil, err
	}
	defer n.close()
	for k := range probes {
		if err := n.tell(wire.probe); err != nil {
			return nil, err
		}
		wait := every
		if k == probes-1 {
			wait = 2 * every
		}
		if err := n.hear(time.Now().Add(wait)); err != nil {
			return nil, err
		}
	}
	for h, link := range n.others {
		others = append(others, Other{h, link})
	}
	slices.SortFunc(others, func(a, b Other) int { return a.Address.Compare(b.Address) })
	return others, nil
}

// Announce tells the segments of a machine's devices who has addresses now (RFC 5227, 2.3; RFC 4861, 7.2.6).
func Announce(namespace int, list []Held) error {
	n, err := openInquiry(namespace, list, false)
	if err != nil || len(n.list) == 0 {
		return err
	}
	defer n.close()
	return n.tell(wire.announcement)
}

// An inquiry is what can be heard and said on the segments of some devices.
type inquiry struct {
	arp, six int // sockets
	wires    map[string]wire
	list     []Held // of those devices
	others   map[Held]net.HardwareAddr
}

func openInquiry(namespace int, list []Held, hears bool) (n *inquiry, err error) {
	all, err := wiresOf(namespace)
	if err != nil {
		return nil, err
	}
	n = &inquiry{arp: -1, six: -1, wires: map[string]wire{}, others: map[Held]net.HardwareAddr{}}
	for _, w := range all {
		if w.asks {
			n.wires[w.Name] = w
		}
	}
	for _, h := range list {
		if _, ok := n.wires[h.Device]; ok {
			n.list = append(n.list, h)
		}
	}
	if len(n.list) == 0 {
		return n, nil
	}
	if err := within(namespace, func() error { return n.open(hears) }); err != nil {
		n.close()
		if errors.Is(err, unix.EPERM) {
			return nil, errors.New("asking neighbors for outside addresses needs CAP_NET_RAW, which the gateway does not have")
		}
		return nil, fmt.Errorf("asking neighbors for outside addresses: %w", err)
	}
	return n, nil
}

// ofNeighbors lets what neighbor discovery says about an address pass, of IPv6 packets: solicitations and advertisements.
var ofNeighbors = []bpf.Instruction{
	bpf.LoadAbsolute{Off: 6, Size: 1},
	bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_ICMPV6, SkipTrue: 3},
	bpf.LoadAbsolute{Off: 40, Size: 1},
	bpf.JumpIf{Cond: bpf.JumpEqual, Val: uint32(ipv6.ICMPTypeNeighborSolicitation), SkipTrue: 2},
	bpf.JumpIf{Cond: bpf.JumpEqual, Val: uint32(ipv6.ICMPTypeNeighborAdvertisement), SkipTrue: 1},
	bpf.RetConstant{Val: 0},
	bpf.RetConstant{Val: 512},
}

func (n *inquiry) open(hears bool) (err error) {
	for _, s := range []struct {
		socket   *int
		protocol uint16
	}{{&n.arp, unix.ETH_P_ARP}, {&n.six, unix.ETH_P_IPV6}} {
		protocol := int(wireOrder(s.protocol))
		if !hears {
			protocol = 0
		}
		if *s.socket, err = unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, protocol); err != nil {
			return err
		}
	}
	if !hears {
		return nil
	}
	raw, err := bpf.Assemble(ofNeighbors)
	if err != nil {
		return err
	}
	filter := make([]unix.SockFilter, len(raw))
	for k, r := range raw {
		filter[k] = unix.SockFilter{Code: r.Op, Jt: r.Jt, Jf: r.Jf, K: r.K}
	}
	if err := unix.SetsockoptSockFprog(n.six, unix.SOL_SOCKET, unix.SO_ATTACH_FILTER, &unix.SockFprog{Len: uint16(len(filter)), Filter: &filter[0]}); err != nil {
		return err
	}
	for _, w := range n.wires { // others that ask for an address as well do so by multicast
		if err := unix.SetsockoptPacketMreq(n.six, unix.SOL_PACKET, unix.PACKET_ADD_MEMBERSHIP, &unix.PacketMreq{Ifindex: int32(w.Index), Type: unix.PACKET_MR_ALLMULTI}); err != nil {
			return err
		}
	}
	return nil
}

func (n *inquiry) close() {
	for _, socket := range []int{n.arp, n.six} {
		if socket >= 0 {
			unix.Close(socket)
		}
	}
}

// wireOrder is a number as sockets of packets want it.
func wireOrder(v uint16) uint16 {
	return binary.NativeEndian.Uint16(binary.BigEndian.AppendUint16(nil, v))
}

// tell sends one packet for each address that nobody else is known to have.
func (n *inquiry) tell(say func(wire, netip.Addr) ([]byte, net.HardwareAddr, error)) error {
	for k, h := range n.list {
		w := n.wires[h.Device]
		data, to, err := say(w, h.Address)
		if err != nil {
			return err
		}
		at := unix.SockaddrLinklayer{Protocol: wireOrder(unix.ETH_P_ARP), Ifindex: w.Index, Halen: 6}
		socket := n.arp
		if h.Address.Is6() {
			at.Protocol, socket = wireOrder(unix.ETH_P_IPV6), n.six
		}
		copy(at.Addr[:], to)
		err = unix.Sendto(socket, data, 0, &at)
		for tries := 0; (errors.Is(err, unix.EAGAIN) || errors.Is(err, unix.ENOBUFS)) && tries < 100; tries++ {
			time.Sleep(time.Millisecond)
			err = unix.Sendto(socket, data, 0, &at)
		}
		if errors.Is(err, unix.ENETDOWN) { // nobody is there to hear it
			continue
		}
		if err != nil {
			return fmt.Errorf("asking for %s on %s: %w", h.Address, h.Device, err)
		}
		if k%64 == 63 { // as much as a device takes at once
			time.Sleep(time.Millisecond)
		}
	}
	return nil
}

// hear notes who has the addresses, until a time.
func (n *inquiry) hear(until time.Time) error {
	asked := make(map[Held]bool, len(n.list))
	for _, h := range n.list {
		asked[h] = true
	}
	names := map[int]string{}
	for _, w := range n.wires {
		names[w.Index] = w.Name
	}
	buffer := make([]byte, 512)
	for {
		left := time.Until(until)
		if left <= 0 {
			return nil
		}
		ready := []unix.PollFd{{Fd: int32(n.arp), Events: unix.POLLIN}, {Fd: int32(n.six), Events: unix.POLLIN}}
		if _, err := unix.Poll(ready, int(left/time.Millisecond)+1); err != nil && !errors.Is(err, unix.EINTR) {
			return err
		}
		for k, read := range []func([]byte) (netip.Addr, net.HardwareAddr){saidByARP, saidByNeighbor} {
			for range 256 { // and then the other, and the clock
				size, from, err := unix.Recvfrom(int(ready[k].Fd), buffer, 0)
				if err != nil {
					break // nothing more is there
				}
				at, isLink := from.(*unix.SockaddrLinklayer)
				if !isLink || at.Pkttype == unix.PACKET_OUTGOING {
					continue
				}
				a, link := read(buffer[:size])
				h := Held{names[at.Ifindex], a}
				if link == nil {
					link = slices.Clone(net.HardwareAddr(at.Addr[:6]))
				}
				if asked[h] && !slices.Equal(link, n.wires[h.Device].HardwareAddr) {
					n.others[h] = link
				}
			}
		}
	}
}

var everybody = net.HardwareAddr{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}

// probe asks who has an address, as somebody who has none yet: an ARP probe (RFC 5227, 2.1.1), or a solicitation of the unspecified
// address (RFC 4862, 5.4.2).
func (w wire) probe(a netip.Addr) ([]byte, net.HardwareAddr, error) {
	if a.Is4() {
		return w.arp(netip.IPv4Unspecified(), a), everybody, nil
	}
	raw := a.As16()
	group := [16]byte{0: 0xff, 1: 0x02, 11: 1, 12: 0xff, 13: raw[13], 14: raw[14], 15: raw[15]} // RFC 4291, 2.7.1
	data, err := discovery(netip.IPv6Unspecified(), netip.AddrFrom16(group), ipv6.ICMPTypeNeighborSolicitation, 0, a, nil)
	return data, net.HardwareAddr{0x33, 0x33, group[12], group[13], group[14], group[15]}, err
}

// announcement says that the device has an address.
func (w wire) announcement(a netip.Addr) ([]byte, net.HardwareAddr, error) {
	if a.Is4() {
		return w.arp(a, a), everybody, nil
	}
	const routerOverrides = 0x80 | 0x20 // not solicited
	option := append([]byte{2, 1}, w.HardwareAddr...)
	data, err := discovery(a, netip.IPv6LinkLocalAllNodes(), ipv6.ICMPTypeNeighborAdvertisement, routerOverrides, a, option)
	return data, net.HardwareAddr{0x33, 0x33, 0, 0, 0, 1}, err
}

// arp is an ARP request (RFC 826).
func (w wire) arp(sender, target netip.Addr) []byte {
	b := append([]byte{0, 1, 8, 0, 6, 4, 0, 1}, w.HardwareAddr...)
	b = append(append(b, sender.AsSlice()...), 0, 0, 0, 0, 0, 0)
	return append(b, target.AsSlice()...)
}

// discovery is a packet of neighbor discovery about an address (RFC 4861, 4.3 and 4.4).
func discovery(from, to netip.Addr, kind ipv6.ICMPType, flags byte, about netip.Addr, options []byte) ([]byte, error) {
	content := slices.Concat([]byte{flags, 0, 0, 0}, about.AsSlice(), options)
	message := icmp.Message{Type: kind, Body: &icmp.RawBody{Data: content}}
	data, err := message.Marshal(icmp.IPv6PseudoHeader(from.AsSlice(), to.AsSlice()))
	head := []byte{0: 0x60, 4: byte(len(data) >> 8), 5: byte(len(data)), 6: unix.IPPROTO_ICMPV6, 7: 255}
	return slices.Concat(head, from.AsSlice(), to.AsSlice(), data), err
}

// saidByARP returns the address that an ARP packet says its sender has, or asks for to have it.
func saidByARP(b []byte) (a netip.Addr, link net.HardwareAddr) {
	if len(b) < 28 || b[4] != 6 || b[5] != 4 {
		return a, nil
	}
	a, _ = netip.AddrFromSlice(b[14:18])
	if a.IsUnspecified() {
		a, _ = netip.AddrFromSlice(b[24:28])
	}
	return a, slices.Clone(net.HardwareAddr(b[8:14]))
}

// saidByNeighbor returns the address that a packet of neighbor discovery says its sender has, or asks for to have it.
func saidByNeighbor(b []byte) (a netip.Addr, link net.HardwareAddr) {
	if len(b) < 64 {
		return a, nil
	}
	from, _ := netip.AddrFromSlice(b[8:24])
	a, _ = netip.AddrFromSlice(b[48:64])
	if ipv6.ICMPType(b[40]) == ipv6.ICMPTypeNeighborSolicitation && !from.IsUnspecified() {
		return from, nil // who asks for somebody else's has its own
	}
	return a, nil
}
