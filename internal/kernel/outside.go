package kernel

import (
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
)

// A gateway answers for the outside addresses of its rules that are in a prefix of a segment, so each is an address of its device
// there: of full length, so that nothing else is taken to be on the segment; deprecated, without a route and of the scope of the
// machine, so that it is never chosen as a source; and marked as ours, so that those of an administrator are never taken away. The
// kernel answers for it then, by ARP and by neighbor discovery, as it does for no proxy on the segment itself and for no local route.

// addressOwner says whose an address is (IFA_PROTO of linux/if_addr.h, which a kernel before 5.18 does not know): ours.
const (
	addressOwner = 11
	ours         = 0x48
)

// MostHeld is how many outside addresses a device holds: each is something that the kernel looks through.
const MostHeld = 4096

// A Held is an outside address that a device holds.
type Held struct {
	Device  string
	Address netip.Addr
}

// Outside returns the outside addresses of a gateway's rules that its devices are to hold at a moment. Of a device that would hold more
// than MostHeld it returns none, and what to do about it.
func Outside(e *walk.Engine, g *engine.Gateway, at network.Moment, device func(*network.Interface) string) (list []Held, unable []string) {
	for _, i := range g.Interfaces {
		held := e.Held(i, at)
		if held.Size().Exceeds(MostHeld) {
			unable = append(unable, fmt.Sprintf("%s would have to answer for %s of its own prefix, and does for %d addresses at most; have them routed to the gateway (upstream: {routes: [...]}), which needs no answer", i, held, MostHeld))
			continue
		}
		for _, r := range held.Ranges() {
			for a := r.First; ; a = a.Next() {
				list = append(list, Held{device(i), a})
				if a == r.Last {
					break
				}
			}
		}
	}
	return list, unable
}

// MarksAddresses reports whether the machine's kernel remembers whose an address is.
func MarksAddresses() bool {
	var name unix.Utsname
	var major, minor int
	if err := unix.Uname(&name); err != nil {
		return false
	}
	fmt.Sscanf(unix.ByteSliceToString(name.Release[:]), "%d.%d", &major, &minor)
	return major > 5 || major == 5 && minor >= 18
}

// A deviceAddress is an address as a machine has it.
type deviceAddress struct {
	device int // by index
	netip.Prefix
	isOurs bool
}

// addresses returns all addresses of a machine but link-local ones.
func addresses(conn *netlink.Conn) (list []deviceAddress, err error) {
	answers, err := conn.Execute(netlink.Message{
		Header: netlink.Header{Type: unix.RTM_GETADDR, Flags: netlink.Request | netlink.Dump}, Data: make([]byte, unix.SizeofIfAddrmsg),
	})
	if err != nil {
		return nil, err
	}
	for _, m := range answers {
		if a, ok := addressOf(m.Data); ok {
			list = append(list, a)
		}
	}
	return list, nil
}

// addressOf reads an address from a message about one (rtnetlink(7)). ok is false for a link-local one.
func addressOf(data []byte) (a deviceAddress, ok bool) {
	if len(data) < unix.SizeofIfAddrmsg {
		return a, false
	}
	d, err := netlink.NewAttributeDecoder(data[unix.SizeofIfAddrmsg:])
	if err != nil {
		return a, false
	}
	var ip netip.Addr
	isLocal := false
	for d.Next() {
		switch d.Type() {
		case unix.IFA_LOCAL: // the machine's own end of a line of two, where IFA_ADDRESS is the other's
			ip, isLocal = netip.AddrFromSlice(d.Bytes())
		case unix.IFA_ADDRESS:
			if !isLocal {
				ip, _ = netip.AddrFromSlice(d.Bytes())
			}
		case addressOwner:
			a.isOurs = len(d.Bytes()) == 1 && d.Bytes()[0] == ours
		}
	}
	a.device, a.Prefix = int(binary.NativeEndian.Uint32(data[4:])), netip.PrefixFrom(ip, int(data[1]))
	return a, d.Err() == nil && ip.IsValid() && !ip.IsLinkLocalUnicast()
}

// Addresses is a connection to what a machine has for addresses. It is not safe for use by several goroutines.
type Addresses struct {
	conn      *netlink.Conn
	namespace int
}

// OpenAddresses connects to the addresses of a machine, in a network namespace as in OpenMachine.
func OpenAddresses(namespace int) (*Addresses, error) {
	conn, err := netlink.Dial(unix.NETLINK_ROUTE, &netlink.Config{NetNS: namespace})
	if err != nil {
		return nil, fmt.Errorf("the machine's addresses: %w", err)
	}
	return &Addresses{conn, namespace}, nil
}

// Close ends the connection.
func (a *Addresses) Close() error { return a.conn.Close() }

// Compare returns those addresses of a list that no device of the machine has, and those that it holds for us and are not in the list.
func (a *Addresses) Compare(list []Held) (missing, more []Held, err error) {
	wires, err := wiresOf(a.namespace)
	if err != nil {
		return nil, nil, err
	}
	has, err := addresses(a.conn)
	if err != nil {
		return nil, nil, fmt.Errorf("the machine's addresses: %w", err)
	}
	wanted := make(map[Held]bool, len(list))
	for _, h := range list {
		wanted[h] = true
	}
	there := map[netip.Addr]bool{}
	for _, one := range has {
		at := slices.IndexFunc(wires, func(w wire) bool { return w.Index == one.device })
		if at < 0 {
			continue
		}
		if h := (Held{wires[at].Name, one.Addr()}); one.isOurs && !wanted[h] {
			more = append(more, h)
			continue
		}
		there[one.Addr()] = true
	}
	for _, h := range list {
		if !there[h.Address] {
			missing = append(missing, h)
		}
	}
	return missing, more, nil
}

// Take gives the machine's devices addresses to hold: all that it can, and the first error of each device.
func (a *Addresses) Take(list []Held) error { return a.change(unix.RTM_NEWADDR, netlink.Create, list) }

// Give takes addresses away from devices that they hold. One that is not there is no error.
func (a *Addresses) Give(list []Held) error { return a.change(unix.RTM_DELADDR, 0, list) }

func (a *Addresses) change(message netlink.HeaderType, flags netlink.HeaderFlags, list []Held) error {
	if len(list) == 0 {
		return nil
	}
	wires, err := wiresOf(a.namespace)
	if err != nil {
		return err
	}
	failed := map[string]error{}
	for _, h := range list {
		at := slices.IndexFunc(wires, func(w wire) bool { return w.Name == h.Device })
		if at < 0 {
			failed[h.Device] = fmt.Errorf("%s, an outside address: the machine has no device %s", h.Address, h.Device)
		}
		if failed[h.Device] != nil {
			continue
		}
		data, err := h.message(wires[at].Index)
		if err == nil {
			_, err = a.conn.Execute(netlink.Message{Header: netlink.Header{Type: message, Flags: netlink.Request | netlink.Acknowledge | flags}, Data: data})
		}
		if err != nil && !errors.Is(err, unix.EEXIST) && !errors.Is(err, unix.EADDRNOTAVAIL) { // it is so already
			failed[h.Device] = fmt.Errorf("%s, an outside address on %s: %w", h.Address, h.Device, err)
		}
	}
	return errors.Join(slices.Collect(maps.Values(failed))...)
}

// Lifetimes of an address (struct ifa_cacheinfo): it is valid for ever, and preferred for no time.
var heldForever = binary.NativeEndian.AppendUint32(binary.NativeEndian.AppendUint32(nil, 0), 0xffffffff)

// message is an address as the kernel takes it.
func (h Held) message(device int) ([]byte, error) {
	family, bits := byte(unix.AF_INET), byte(32)
	if h.Address.Is6() {
		family, bits = unix.AF_INET6, 128
	}
	head := binary.NativeEndian.AppendUint32([]byte{family, bits, 0, unix.RT_SCOPE_HOST}, uint32(device))
	e := netlink.NewAttributeEncoder()
	e.Bytes(unix.IFA_LOCAL, h.Address.AsSlice())
	e.Bytes(unix.IFA_ADDRESS, h.Address.AsSlice())
	e.Uint32(unix.IFA_FLAGS, unix.IFA_F_NODAD|unix.IFA_F_NOPREFIXROUTE) // it was asked for already
	e.Bytes(unix.IFA_CACHEINFO, append(slices.Clip(heldForever), make([]byte, 8)...))
	e.Uint8(addressOwner, ours)
	attributes, err := e.Encode()
	return append(head, attributes...), err
}

// Watch waits until an address or a device of a machine changes, or the connection is closed, which is an error.
func (a *Addresses) Watch() error {
	for {
		messages, err := a.conn.Receive()
		if len(messages) > 0 || errors.Is(err, unix.ENOBUFS) { // more than it had room for
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// WatchAddresses connects to what the kernel says of changes of a machine's addresses and devices.
func WatchAddresses(namespace int) (*Addresses, error) {
	const links, four, six = 1, 1 << (unix.RTNLGRP_IPV4_IFADDR - 1), 1 << (unix.RTNLGRP_IPV6_IFADDR - 1)
	conn, err := netlink.Dial(unix.NETLINK_ROUTE, &netlink.Config{NetNS: namespace, Groups: links | four | six})
	if err != nil {
		return nil, fmt.Errorf("the machine's addresses: %w", err)
	}
	return &Addresses{conn, namespace}, nil
}
