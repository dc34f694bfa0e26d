package kernel

import (
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Device is a network device of a machine.
type Device struct {
	Index     int
	Name      string
	Up        bool
	Loopback  bool
	Addresses []netip.Prefix // without link-local ones, and outside addresses that it holds
	VLAN      int            // 0 where it is none
	Parent    string         // that carries the VLAN
}

// A Way is a route of a machine's main table.
type Way struct {
	To        netip.Prefix
	Via       netip.Addr // invalid where the device alone is known
	Device    string
	Metric    int
	Blackhole bool
}

// A Host is the network of a machine as its kernel has it.
type Host struct {
	Devices []Device
	Ways    []Way // without those that belong to the addresses of devices
}

// AddressOf returns the address of a family that an interface has on the machine: that of the file
// where its device has it, else the device's first one.
func (h *Host) AddressOf(device string, f header.Family, i *network.Interface) (first netip.Addr, ok bool) {
	for _, d := range h.Devices {
		if d.Name != device || !d.Up {
			continue
		}
		for _, p := range d.Addresses {
			if header.FamilyOf(p.Addr()) != f {
				continue
			}
			if own, has := i.Address(f); has && own == p.Addr() {
				return own, true
			}
			if !ok {
				first, ok = p.Addr(), true
			}
		}
	}
	return first, ok
}

// ReadHost reads the network of a machine, in a network namespace as in OpenMachine.
func ReadHost(namespace int) (*Host, error) {
	handle, err := handleAt(namespace)
	if err != nil {
		return nil, fmt.Errorf("the machine's interfaces: %w", err)
	}
	defer handle.Close()
	links, err := handle.LinkList()
	if err != nil {
		return nil, fmt.Errorf("the machine's interfaces: %w", err)
	}
	list, err := OpenAddresses(namespace)
	if err != nil {
		return nil, err
	}
	defer list.Close()
	has, err := addresses(list.conn)
	if err != nil {
		return nil, fmt.Errorf("the machine's addresses: %w", err)
	}
	h := &Host{}
	names := map[int]string{}
	for _, l := range links {
		names[l.Attrs().Index] = l.Attrs().Name
	}
	for _, l := range links {
		a := l.Attrs()
		d := Device{Index: a.Index, Name: a.Name, Up: a.RawFlags&1 != 0, Loopback: a.RawFlags&8 != 0} // IFF_UP, IFF_LOOPBACK
		if vlan, ok := l.(*netlink.Vlan); ok {
			d.VLAN, d.Parent = vlan.VlanId, names[a.ParentIndex]
		}
		for _, address := range has {
			if address.device == a.Index && !address.isOurs {
				d.Addresses = append(d.Addresses, address.Prefix)
			}
		}
		h.Devices = append(h.Devices, d)
	}
	for _, family := range []int{netlink.FAMILY_V4, netlink.FAMILY_V6} {
		routes, err := handle.RouteList(nil, family)
		if err != nil {
			return nil, fmt.Errorf("the machine's routes: %w", err)
		}
		for _, r := range routes {
			if w, ok := wayOf(r, family, names); ok {
				h.Ways = append(h.Ways, w)
			}
		}
	}
	return h, nil
}

func handleAt(namespace int) (*netlink.Handle, error) {
	if namespace == 0 {
		return netlink.NewHandle()
	}
	return netlink.NewHandleAt(netns.NsHandle(namespace))
}

// LinkOf returns the link address that a machine knows of a neighbor behind a device, in a network namespace as in OpenMachine; empty where it
// knows none, and then it looks for it.
func LinkOf(namespace int, device string, neighbor netip.Addr) (string, error) {
	handle, err := handleAt(namespace)
	if err != nil {
		return "", fmt.Errorf("the machine's neighbors: %w", err)
	}
	defer handle.Close()
	link, err := handle.LinkByName(device)
	if err != nil {
		return "", fmt.Errorf("%s: %w", device, err)
	}
	family := netlink.FAMILY_V4
	if neighbor.Is6() {
		family = netlink.FAMILY_V6
	}
	list, err := handle.NeighList(link.Attrs().Index, family)
	if err != nil {
		return "", fmt.Errorf("the neighbors of %s: %w", device, err)
	}
	for _, n := range list {
		if a, ok := netip.AddrFromSlice(n.IP); ok && a.Unmap() == neighbor && len(n.HardwareAddr) > 0 {
			return n.HardwareAddr.String(), nil
		}
	}
	err = handle.NeighSet(&netlink.Neigh{LinkIndex: link.Attrs().Index, Family: family, State: netlink.NUD_NONE, Flags: netlink.NTF_USE, IP: neighbor.AsSlice()})
	if err != nil {
		err = fmt.Errorf("looking for %s behind %s: %w", neighbor, device, err)
	}
	return "", err
}

// kernelMade is the origin of routes that belong to addresses (RTPROT_KERNEL of linux/rtnetlink.h).
const kernelMade = 2

// wayOf returns a route. ok is false for what belongs to an address, or to one machine or group
// of machines on a link.
func wayOf(r netlink.Route, family int, names map[int]string) (w Way, ok bool) {
	if int(r.Protocol) == kernelMade || r.Type != 1 && r.Type != 6 { // RTN_UNICAST, RTN_BLACKHOLE
		return w, false
	}
	w = Way{Device: names[r.LinkIndex], Metric: r.Priority, Blackhole: r.Type == 6, To: netip.PrefixFrom(netip.IPv4Unspecified(), 0)}
	if family == netlink.FAMILY_V6 {
		w.To = netip.PrefixFrom(netip.IPv6Unspecified(), 0)
	}
	if r.Dst != nil {
		a, _ := netip.AddrFromSlice(r.Dst.IP)
		bits, _ := r.Dst.Mask.Size()
		w.To = netip.PrefixFrom(a.Unmap(), bits)
	}
	if r.Gw != nil {
		a, _ := netip.AddrFromSlice(r.Gw)
		w.Via = a.Unmap()
	}
	if w.To.Addr().IsLinkLocalUnicast() || w.To.Addr().IsMulticast() {
		return w, false
	}
	return w, true
}

// device returns the device of a name, or nil.
func (h *Host) device(name string) *Device {
	i := slices.IndexFunc(h.Devices, func(d Device) bool { return d.Name == name })
	if i < 0 {
		return nil
	}
	return &h.Devices[i]
}

// A Discrepancy is something that a machine has otherwise than the file says.
type Discrepancy struct {
	Text    string
	Matters bool // rules would mean something else
}

// Compare says what a machine has otherwise than a gateway of the file. What is there besides does
// not matter; a device, an address or a route that is missing does. Device says what interfaces are
// called there.
func (h *Host) Compare(g *network.Gateway, device func(*network.Interface) string) (list []Discrepancy) {
	say := func(matters bool, format string, args ...any) {
		list = append(list, Discrepancy{fmt.Sprintf(format, args...), matters})
	}
	known := map[string]bool{}
	for _, i := range g.Interfaces {
		name := device(i)
		known[name] = true
		d := h.device(name)
		switch {
		case d == nil && i.IsUp():
			say(true, "%s is %s on the machine, which has no such device%s", i, name, deviceHint(i))
			continue
		case d == nil:
			continue
		case d.Up != i.IsUp():
			say(i.IsUp(), "%s is %s on the machine, and %s in the file", name, upText(d.Up), upText(i.IsUp()))
		}
		for _, p := range i.Addresses {
			if i.IsUp() && !slices.Contains(d.Addresses, p) {
				say(true, "%s does not have %s, which %s has in the file", name, p, i)
			}
		}
		for _, p := range d.Addresses {
			if !slices.Contains(i.Addresses, p) {
				say(false, "%s has %s as well, which is not in the file", name, p)
			}
		}
	}
	for _, d := range h.Devices {
		if !known[d.Name] && !d.Loopback && d.Up && len(d.Addresses) > 0 {
			say(false, "%s is no interface of %s in the file: nothing that comes or goes by it is let through", d.Name, g.Name)
		}
	}
	h.compareWays(g, device, say)
	return list
}

func upText(up bool) string {
	if up {
		return "up"
	}
	return "down"
}

func deviceHint(i *network.Interface) string {
	if i.Device == "" {
		return "; say what it is called there, as device: NAME"
	}
	return ""
}

// compareWays says which routes are missing, and which lead elsewhere.
func (h *Host) compareWays(g *network.Gateway, device func(*network.Interface) string, say func(bool, string, ...any)) {
	for _, r := range g.Routes {
		if !r.Blackhole && !r.Out.IsUp() {
			continue
		}
		fits := func(w Way) bool {
			if w.To != r.To || w.Blackhole != r.Blackhole {
				return false
			}
			return r.Blackhole || w.Device == device(r.Out) && w.Via == r.Via
		}
		if !slices.ContainsFunc(h.Ways, fits) {
			say(true, "the machine has no route to %s%s, which %s has in the file", prefixText(r.To), viaText(r, device), g.Name)
		}
	}
	for _, w := range h.Ways {
		if !slices.ContainsFunc(g.Routes, func(r network.Route) bool { return r.To == w.To }) {
			say(false, "the machine has a route to %s by %s, which is not in the file", prefixText(w.To), w.Device)
		}
	}
}

func prefixText(p netip.Prefix) string {
	if p.Bits() == 0 {
		return "default (" + header.FamilyOf(p.Addr()).String() + ")"
	}
	return p.String()
}

func viaText(r network.Route, device func(*network.Interface) string) string {
	switch {
	case r.Blackhole:
		return " into nothing"
	case r.Via.IsValid():
		return " via " + r.Via.String() + " by " + device(r.Out)
	}
	return " by " + device(r.Out)
}

// DefaultGateway returns the next hop of the default route, of the family of an address where there is one; of IPv6 with the device where
// it is link-local. ok is false where there is none.
func (h *Host) DefaultGateway(from netip.Addr) (via netip.Addr, ok bool) {
	var best *Way
	for i := range h.Ways {
		w := &h.Ways[i]
		if w.To.Bits() != 0 || !w.Via.IsValid() || from.IsValid() && w.Via.Is4() != from.Is4() {
			continue
		}
		if best == nil || w.Via.Is4() && !best.Via.Is4() || w.Via.Is4() == best.Via.Is4() && w.Metric < best.Metric {
			best = w
		}
	}
	switch {
	case best == nil:
		return netip.Addr{}, false
	case best.Via.Is6() && best.Via.IsLinkLocalUnicast():
		return best.Via.WithZone(best.Device), true
	}
	return best.Via, true
}

// BootID names the time since the machine started, among all times.
func BootID() string {
	data, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return "unknown"
	}
	return strings.TrimSpace(string(data))
}
