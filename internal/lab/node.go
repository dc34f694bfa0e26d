package lab

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/kernel"

	rawnetlink "github.com/mdlayher/netlink"
	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"
)

// A node is one machine of a lab: a network namespace with a thread of its own in it.
type node struct {
	name    string
	space   int // the file descriptor of its namespace
	routes  *netlink.Handle
	work    chan func()
	ended   chan struct{}
	links   []*link
	table   int             // in which its IPv4 routes are; 0 is the main one
	machine *kernel.Machine // for its sessions, once it was asked for
}

// A link is one end of a wire, at a node.
type link struct {
	node  *node
	name  string
	index int
	mac   net.HardwareAddr
	about string // for people: the interface's name, or nothing
}

// newNode makes a machine that nothing is connected to.
func newNode(name string) (*node, error) {
	n := &node{name: name, work: make(chan func()), ended: make(chan struct{})}
	made := make(chan error)
	go func() {
		defer close(n.ended)
		runtime.LockOSThread() // never unlocked: the thread ends with the goroutine, and is used for nothing else
		if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
			made <- fmt.Errorf("a network namespace for %s: %w", name, err)
			return
		}
		var err error
		n.space, err = unix.Open("/proc/thread-self/ns/net", unix.O_RDONLY|unix.O_CLOEXEC, 0)
		made <- err
		for do := range n.work {
			do()
		}
	}()
	if err := <-made; err != nil {
		return nil, err
	}
	var err error
	if n.routes, err = netlink.NewHandleAt(netns.NsHandle(n.space), unix.NETLINK_ROUTE); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if err := n.settle(); err != nil {
		return nil, err
	}
	lo, err := n.routes.LinkByName("lo")
	if err != nil {
		return nil, err
	}
	return n, n.routes.LinkSetUp(lo)
}

// do runs a function inside the node's namespace.
func (n *node) do(what func() error) error {
	result := make(chan error)
	n.work <- func() { result <- what() }
	return <-result
}

func (n *node) close() {
	close(n.work)
	<-n.ended
	n.routes.Close()
	if n.machine != nil {
		n.machine.Close()
	}
	unix.Close(n.space)
}

// settings are what the kernel does at every node; those that a kernel does not have are
// passed over.
var settings = map[string]string{
	"ipv4/icmp_ratelimit":                "0", // each error is told, however many there are
	"ipv4/icmp_msgs_per_sec":             "1000000",
	"ipv4/icmp_msgs_burst":               "1000000",
	"ipv6/icmp/ratelimit":                "0",
	"ipv4/conf/all/rp_filter":            "0", // step 1 is in the program
	"ipv4/conf/default/rp_filter":        "0",
	"ipv4/conf/all/send_redirects":       "0",
	"ipv4/conf/default/send_redirects":   "0",
	"ipv4/conf/all/accept_local":         "1",
	"ipv6/conf/all/accept_redirects":     "0", // a trace knows of none
	"ipv6/conf/default/accept_redirects": "0",
	"ipv6/conf/all/accept_dad":           "0",
	"ipv6/conf/default/accept_dad":       "0",
	"ipv6/conf/default/accept_ra":        "0",
	"ipv4/ip_nonlocal_bind":              "1",
	"ipv6/ip_nonlocal_bind":              "1",
	"ipv4/tcp_reflect_tos":               "1",
	"ipv4/tcp_syn_retries":               "1",
	"ipv4/ip_local_port_range":           "61000 64999",
	"ipv4/ping_group_range":              "0 0", // who is root there may ping

	"netfilter/nf_conntrack_acct":      "1",
	"netfilter/nf_conntrack_timestamp": "1",
}

func (n *node) settle() error {
	return n.do(func() error {
		for key, value := range settings {
			err := os.WriteFile(filepath.Join("/proc/sys/net", key), []byte(value), 0)
			if err != nil && !os.IsNotExist(err) {
				return fmt.Errorf("%s: %w", n.name, err)
			}
		}
		return nil
	})
}

// forwards makes the node hand on what is not for it.
func (n *node) forwards() error { return n.sets("ipv4/ip_forward", "ipv6/conf/all/forwarding") }

// sets turns settings of the kernel on.
func (n *node) sets(keys ...string) error {
	return n.do(func() error {
		for _, key := range keys {
			if err := os.WriteFile(filepath.Join("/proc/sys/net", key), []byte("1"), 0); err != nil && !os.IsNotExist(err) {
				return err
			}
		}
		return nil
	})
}

// connect lays a wire between two nodes and returns its end at the first.
func connect(a, b *node, nameA, nameB, about string) (*link, *link, error) {
	veth := &netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: nameA}, PeerName: nameB, PeerNamespace: netlink.NsFd(b.space)}
	if err := a.routes.LinkAdd(veth); err != nil {
		return nil, nil, fmt.Errorf("a wire from %s to %s: %w", a.name, b.name, err)
	}
	var both [2]*link
	for i, n := range []*node{a, b} {
		name := [2]string{nameA, nameB}[i]
		l, err := n.routes.LinkByName(name)
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", n.name, err)
		}
		both[i] = &link{node: n, name: name, index: l.Attrs().Index, mac: l.Attrs().HardwareAddr, about: about}
		if err := n.routes.LinkSetUp(l); err != nil {
			return nil, nil, fmt.Errorf("%s: %w", n.name, err)
		}
		n.links = append(n.links, both[i])
	}
	return both[0], both[1], nil
}

// address gives a link an address without a route to its prefix.
func (l *link) address(a netip.Addr) error {
	address := &netlink.Addr{
		IPNet: prefixOf(netip.PrefixFrom(a, a.BitLen())), Flags: unix.IFA_F_NODAD | unix.IFA_F_NOPREFIXROUTE,
	}
	if err := l.node.routes.AddrReplace(&netlink.GenericLink{LinkAttrs: netlink.LinkAttrs{Index: l.index, Name: l.name}}, address); err != nil {
		return fmt.Errorf("%s: %s: %w", l.node.name, a, err)
	}
	return nil
}

func prefixOf(p netip.Prefix) *net.IPNet {
	return &net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}
}

// A way is a route of a node.
type way struct {
	to     netip.Prefix
	out    *link
	via    netip.Addr
	kind   int // a type of route, 0 for one that leads somewhere
	table  int // 0 is the main one
	metric int
	source netip.Addr // that packets have where their sender says none
}

func (n *node) route(w way) error {
	r := netlink.Route{Dst: prefixOf(w.to), Type: w.kind, Table: w.table, Priority: w.metric, Scope: unix.RT_SCOPE_UNIVERSE}
	if w.source.IsValid() {
		r.Src = w.source.AsSlice()
	}
	if w.table == 0 && w.to.Addr().Is4() {
		r.Table = n.table
	}
	switch {
	case w.kind == unix.RTN_LOCAL:
		lo, err := n.routes.LinkByName("lo")
		if err != nil {
			return err
		}
		r.LinkIndex, r.Scope = lo.Attrs().Index, unix.RT_SCOPE_HOST
	case w.kind != 0:
	case w.via.IsValid():
		r.Gw, r.LinkIndex, r.Flags = w.via.AsSlice(), w.out.index, int(netlink.FLAG_ONLINK)
	default:
		r.LinkIndex, r.Scope = w.out.index, unix.RT_SCOPE_LINK
	}
	if err := n.routes.RouteReplace(&r); err != nil {
		return fmt.Errorf("%s: route to %s: %w", n.name, w.to, err)
	}
	return nil
}

// knows tells a node who has an address on a link, without asking there.
func (l *link) knows(a netip.Addr, mac net.HardwareAddr) error {
	family := unix.AF_INET
	if a.Is6() {
		family = unix.AF_INET6
	}
	err := l.node.routes.NeighSet(&netlink.Neigh{LinkIndex: l.index, Family: family, State: netlink.NUD_PERMANENT, IP: a.AsSlice(), HardwareAddr: mac})
	if err != nil {
		return fmt.Errorf("%s: neighbor %s: %w", l.node.name, a, err)
	}
	return nil
}

// hurries makes a link give up soon on neighbors that do not answer.
func (l *link) hurries() error {
	conn, err := rawnetlink.Dial(unix.NETLINK_ROUTE, &rawnetlink.Config{NetNS: l.node.space})
	if err != nil {
		return err
	}
	defer conn.Close()
	for _, table := range []struct {
		family byte
		name   string
	}{{unix.AF_INET, "arp_cache"}, {unix.AF_INET6, "ndisc_cache"}} {
		e := rawnetlink.NewAttributeEncoder()
		e.String(ndtaName, table.name)
		e.Nested(ndtaParms, func(e *rawnetlink.AttributeEncoder) error {
			e.Uint32(ndtpaIndex, uint32(l.index))
			e.Uint64(ndtpaRetransTime, 50) // milliseconds
			e.Uint32(ndtpaMulticastProbes, 5)
			e.Uint32(ndtpaUnicastProbes, 1)
			e.Uint64(ndtpaDelayProbe, 100)
			e.Uint64(ndtpaReachable, 600_000)
			return nil
		})
		data, err := e.Encode()
		if err != nil {
			return err
		}
		if _, err := conn.Execute(rawnetlink.Message{
			Header: rawnetlink.Header{Type: unix.RTM_SETNEIGHTBL, Flags: rawnetlink.Request | rawnetlink.Acknowledge},
			Data:   append([]byte{table.family, 0, 0, 0}, data...),
		}); err != nil {
			return fmt.Errorf("%s: how long neighbors are waited for: %w", l.node.name, err)
		}
	}
	return nil
}

// From linux/neighbour.h.
const (
	ndtaName             = 1
	ndtaParms            = 6
	ndtpaIndex           = 1
	ndtpaReachable       = 4
	ndtpaRetransTime     = 5
	ndtpaDelayProbe      = 7
	ndtpaUnicastProbes   = 10
	ndtpaMulticastProbes = 11
)

// follows gives packets with a mark a table of routes of their own.
func (n *node) follows(mark, mask uint32, table int, family header.Family) error {
	rule := netlink.NewRule()
	rule.Mark, rule.Mask, rule.Table, rule.Priority = mark, &mask, table, 100
	rule.Family = [2]int{unix.AF_INET, unix.AF_INET6}[family]
	if err := n.routes.RuleAdd(rule); err != nil {
		return fmt.Errorf("%s: routes for a mark: %w", n.name, err)
	}
	return nil
}

// isEverybody makes all IPv4 addresses the node's own, but those to which it has routes, also where it follows rules. As soon as
// there is one, the kernel keeps the table of what is local apart from the others, and finds only there what a node may
// answer from: so all its routes are there. It is asked first, and here only behind what has a mark; that of IPv6, where own
// addresses are, likewise.
func (n *node) isEverybody() error {
	n.table = unix.RT_TABLE_LOCAL
	const behindMarks = 200
	for _, family := range []int{unix.AF_INET, unix.AF_INET6} {
		for _, change := range []struct {
			priority int
			make     func(*netlink.Rule) error
		}{{behindMarks, n.routes.RuleAdd}, {0, n.routes.RuleDel}} {
			rule := netlink.NewRule()
			rule.Table, rule.Priority, rule.Family = unix.RT_TABLE_LOCAL, change.priority, family
			if err := change.make(rule); err != nil {
				return fmt.Errorf("%s: the order of its tables: %w", n.name, err)
			}
		}
	}
	return n.route(way{to: header.IPv4.Prefix(), kind: unix.RTN_LOCAL})
}

// answersBy makes what a machine sends from an address leave by a link, to a next hop, whatever
// its other links are; and so what it sends without one, where it has no other way yet.
func (n *node) answersBy(a netip.Addr, out *link, via netip.Addr, table int) error {
	family := header.FamilyOf(a)
	if err := n.route(way{to: family.Prefix(), out: out, via: via, table: table}); err != nil {
		return err
	}
	if err := n.route(way{to: family.Prefix(), out: out, via: via, metric: 1000 + table}); err != nil {
		return err
	}
	rule := netlink.NewRule()
	rule.Src, rule.Table, rule.Priority = prefixOf(netip.PrefixFrom(a, a.BitLen())), table, 90
	rule.Family = [2]int{unix.AF_INET, unix.AF_INET6}[family]
	if err := n.routes.RuleAdd(rule); err != nil {
		return fmt.Errorf("%s: the way from %s: %w", n.name, a, err)
	}
	return nil
}

// sendsFrom makes a router send what comes from an address, and is for nobody near it, to a next hop of its own.
func (n *node) sendsFrom(a netip.Addr, out *link, via netip.Addr, table int) error {
	family := header.FamilyOf(a)
	if err := n.route(way{to: family.Prefix(), out: out, via: via, table: table}); err != nil {
		return err
	}
	for priority, table := range map[int]int{80: unix.RT_TABLE_MAIN, 90: table} {
		rule := netlink.NewRule()
		rule.Src, rule.Table, rule.Priority = prefixOf(netip.PrefixFrom(a, a.BitLen())), table, priority
		if table == unix.RT_TABLE_MAIN {
			rule.SuppressPrefixlen = 0 // but for its default route
		}
		rule.Family = [2]int{unix.AF_INET, unix.AF_INET6}[family]
		if err := n.routes.RuleAdd(rule); err != nil {
			return fmt.Errorf("%s: the way from %s: %w", n.name, a, err)
		}
	}
	return nil
}

// tableOfNear is where a router looks for what gateways send it.
const tableOfNear = 99

// takesFrom makes a router say of what gateways send it by mistake, to what it has not, that it can't be reached.
func (n *node) takesFrom(near, behind *link, mistaken, has []netip.Prefix) error {
	if len(mistaken) == 0 {
		return nil
	}
	for _, p := range mistaken {
		if err := n.route(way{to: p, out: near, kind: unix.RTN_UNREACHABLE, table: tableOfNear}); err != nil {
			return err
		}
	}
	for _, p := range has {
		if err := n.route(way{to: p, out: behind, table: tableOfNear}); err != nil {
			return err
		}
	}
	rule := netlink.NewRule()
	rule.IifName, rule.Table, rule.Priority, rule.Family = near.name, tableOfNear, 70, unix.AF_INET
	if mistaken[0].Addr().Is6() {
		rule.Family = unix.AF_INET6
	}
	if err := n.routes.RuleAdd(rule); err != nil {
		return fmt.Errorf("%s: what comes by %s: %w", n.name, near.name, err)
	}
	return nil
}

// DeviceOf is what the interfaces of gateways are called in a lab.
func DeviceOf(i *network.Interface) string { return fmt.Sprintf("if%d", i.Index) }

// holds gives a gateway outside addresses of its rules.
func (n *node) holds(list []kernel.Held) error {
	addresses, err := kernel.OpenAddresses(n.space)
	if err != nil {
		return err
	}
	defer addresses.Close()
	return addresses.Take(list)
}

// bridge makes the switch of a segment.
func (l *Lab) bridge(number int) error {
	b := &netlink.Bridge{LinkAttrs: netlink.LinkAttrs{Name: bridgeOf(number)}}
	if err := l.wires.routes.LinkAdd(b); err != nil {
		return err
	}
	return l.wires.routes.LinkSetUp(b)
}

// plug puts an end of a wire into the switch of a segment.
func (l *Lab) plug(end *link, number int) error {
	b, err := l.wires.routes.LinkByName(bridgeOf(number))
	if err != nil {
		return err
	}
	return l.wires.routes.LinkSetMasterByIndex(&netlink.GenericLink{LinkAttrs: netlink.LinkAttrs{Index: end.index, Name: end.name}}, b.Attrs().Index)
}
