package kernel

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"runtime"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"

	"hollowbridge/core/header"
)

// Messages and attributes of connection tracking, from linux/netfilter/nfnetlink_conntrack.h.
const (
	trackingNew    = 0 // IPCTNL_MSG_CT_NEW, also the answer to a dump
	trackingGet    = 1
	trackingDelete = 2

	attrOriginal  = 1 // CTA_TUPLE_ORIG
	attrReply     = 2
	attrStatus    = 3
	attrProtocol  = 4 // CTA_PROTOINFO
	attrTimeout   = 7
	attrMark      = 8
	attrCountTo   = 9 // CTA_COUNTERS_ORIG
	attrCountFrom = 10
	attrID        = 12
	attrTimes     = 20 // CTA_TIMESTAMP
	attrFilter    = 25

	filterOriginal = 1                  // CTA_FILTER_ORIG_FLAGS, of bits for what must be the same:
	filterSource   = 1<<0 | 1<<3 | 1<<4 // the source's address, the protocol and the source's port

	tupleAddresses = 1 // CTA_TUPLE_IP
	tupleProtocol  = 2
	source4        = 1 // CTA_IP_V4_SRC
	destination4   = 2
	source6        = 3
	destination6   = 4
	tupleNumber    = 1 // CTA_PROTO_NUM
	sourcePort     = 2
	destPort       = 3
	icmpIdentifier = 4
	icmpv6Identify = 7 // CTA_PROTO_ICMPV6_ID
	tcpInfo        = 1 // CTA_PROTOINFO_TCP
	tcpState       = 1
	countedPackets = 1 // CTA_COUNTERS_PACKETS
	countedBytes   = 2
	timeStart      = 1 // CTA_TIMESTAMP_START

	statusAnswered = 1 << 1 // IPS_SEEN_REPLY
)

// tcpStates are what the kernel knows of TCP connections, in our words.
var tcpStates = []string{"opening", "opening", "opening", "established", "closing", "closing", "closing", "closing", "closing", "opening"}

// A Tracked connection is one that the kernel remembers.
type Tracked struct {
	ID     uint32
	Before header.Packet // the first packet as it came,
	After  header.Packet // and as it left
	Mark   uint32
	State  string // as sessions have it
	Left   time.Duration
	Began  time.Time // zero where the machine does not write that down
	Forth  Counted   // zero likewise
	Back   Counted
	Counts bool // the machine counts packets
}

// Uplink returns the number of the uplink that the connection came in by, among the gateway's,
// counted from 1; 0 where it came in by none.
func (t *Tracked) Uplink() int { return int(t.Mark & uplinkMark >> 4) }

// Connections returns the connections that the machine remembers, of both families.
func (m *Machine) Connections() ([]Tracked, error) { return m.tracked(unix.AF_UNSPEC, nil) }

// ConnectionsFrom returns the connections of a protocol with ports that one address and port has begun. The kernel picks them out.
func (m *Machine) ConnectionsFrom(protocol header.Protocol, from netip.AddrPort) ([]Tracked, error) {
	family, source := byte(unix.AF_INET), uint16(source4)
	if from.Addr().Is6() {
		family, source = unix.AF_INET6, source6
	}
	return m.tracked(family, func(e *netlink.AttributeEncoder) {
		e.Nested(attrOriginal, func(e *netlink.AttributeEncoder) error {
			e.Nested(tupleAddresses, func(e *netlink.AttributeEncoder) error {
				e.Bytes(source, from.Addr().AsSlice())
				return nil
			})
			e.Nested(tupleProtocol, func(e *netlink.AttributeEncoder) error {
				e.Uint8(tupleNumber, protocolNumber(protocol, header.FamilyOf(from.Addr())))
				e.Uint16(sourcePort, from.Port())
				return nil
			})
			return nil
		})
		e.Nested(attrFilter, func(e *netlink.AttributeEncoder) error {
			e.ByteOrder = binary.NativeEndian // which this one is in
			e.Uint32(filterOriginal, filterSource)
			return nil
		})
	})
}

// tracked returns the connections of a family that a filter is for; nil is all.
func (m *Machine) tracked(family byte, filter func(*netlink.AttributeEncoder)) ([]Tracked, error) {
	data, err := body(family, 0, filter)
	if err != nil {
		return nil, err
	}
	answers, err := m.conn.Execute(netlink.Message{
		Header: netlink.Header{Type: typeOf(unix.NFNL_SUBSYS_CTNETLINK, trackingGet), Flags: netlink.Request | netlink.Dump}, Data: data,
	})
	if err != nil {
		return nil, fmt.Errorf("the connections of the kernel: %w", err)
	}
	list := make([]Tracked, 0, len(answers))
	for _, a := range answers {
		t, ok, err := connectionOf(a)
		if err != nil {
			return nil, err
		}
		if ok {
			list = append(list, t)
		}
	}
	return list, nil
}

// CountsSessions reports whether the machine counts the packets of sessions.
func CountsSessions() bool {
	data, err := os.ReadFile("/proc/sys/net/netfilter/nf_conntrack_acct")
	return err == nil && strings.TrimSpace(string(data)) != "0"
}

// countFile has how many connections are remembered in the network namespace of whoever reads it.
// (Of the message that asks for it, the kernel marks the answer as one of several and sends no
// last one.)
const countFile = "/proc/sys/net/netfilter/nf_conntrack_count"

// ConnectionCount returns how many connections are remembered in a network namespace, as in
// OpenMachine.
func ConnectionCount(namespace int) (int, error) {
	data, err := readIn(namespace, countFile)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil // nothing tracks connections yet
	}
	if err != nil {
		return 0, fmt.Errorf("the connections of the kernel: %w", err)
	}
	return strconv.Atoi(strings.TrimSpace(string(data)))
}

// readIn reads a file as it is in a network namespace.
func readIn(namespace int, path string) (data []byte, err error) {
	if namespace == 0 {
		return os.ReadFile(path)
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		runtime.LockOSThread() // and never unlocked: the thread ends with the goroutine
		if err = unix.Setns(namespace, unix.CLONE_NEWNET); err == nil {
			data, err = os.ReadFile(path)
		}
	}()
	<-done
	return data, err
}

// End makes the machine forget a connection. It is no error where that is over already.
func (m *Machine) End(t *Tracked) error {
	p := t.Before
	family := byte(unix.AF_INET)
	if p.Source.Is6() {
		family = unix.AF_INET6
	}
	data, err := body(family, 0, func(e *netlink.AttributeEncoder) {
		e.Nested(attrOriginal, func(e *netlink.AttributeEncoder) error {
			e.Nested(tupleAddresses, func(e *netlink.AttributeEncoder) error {
				from, to := uint16(source4), uint16(destination4)
				if p.Source.Is6() {
					from, to = source6, destination6
				}
				e.Bytes(from, p.Source.AsSlice())
				e.Bytes(to, p.Destination.AsSlice())
				return nil
			})
			e.Nested(tupleProtocol, func(e *netlink.AttributeEncoder) error {
				e.Uint8(tupleNumber, protocolNumber(p.Protocol, header.FamilyOf(p.Source)))
				switch {
				case p.Protocol.HasPorts():
					e.Uint16(sourcePort, p.SourcePort)
					e.Uint16(destPort, p.DestinationPort)
				case p.Protocol == header.ICMP:
					encodeEcho(e, p)
				}
				return nil
			})
			return nil
		})
		e.Uint32(attrID, t.ID)
	})
	if err != nil {
		return err
	}
	_, err = m.conn.Execute(netlink.Message{
		Header: netlink.Header{Type: typeOf(unix.NFNL_SUBSYS_CTNETLINK, trackingDelete), Flags: netlink.Request | netlink.Acknowledge}, Data: data,
	})
	if errors.Is(err, unix.ENOENT) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("ending a connection: %w", err)
	}
	return nil
}

// encodeEcho writes the identifier, type and code of an echo request (RFC 792, RFC 4443).
func encodeEcho(e *netlink.AttributeEncoder, p header.Packet) {
	if p.Source.Is4() {
		e.Uint16(icmpIdentifier, p.SourcePort)
		e.Uint8(icmpIdentifier+1, 8)
		e.Uint8(icmpIdentifier+2, 0)
		return
	}
	e.Uint16(icmpv6Identify, p.SourcePort)
	e.Uint8(icmpv6Identify+1, 128)
	e.Uint8(icmpv6Identify+2, 0)
}

// A tuple is addresses, ports and protocol as connection tracking has them.
type tuple struct {
	source, destination netip.Addr
	protocol            byte
	from, to            uint16
}

// packet returns a tuple as a packet. ok is false for a protocol that nobody can name.
func (t *tuple) packet() (p header.Packet, ok bool) {
	protocol, ok := protocolOf(t.protocol)
	p = header.Packet{Source: t.source, Destination: t.destination, Protocol: protocol}
	if protocol.Numbered() {
		p.SourcePort, p.DestinationPort = t.from, t.to
	}
	return p, ok && p.Source.IsValid() && p.Destination.IsValid()
}

// connectionOf reads a connection. ok is false for one that is not ours to tell of.
func connectionOf(m netlink.Message) (t Tracked, ok bool, err error) {
	var original, reply tuple
	var status uint32
	state := 0
	err = decode(m, func(d *netlink.AttributeDecoder) {
		switch d.Type() {
		case attrOriginal:
			d.Nested(original.read)
		case attrReply:
			d.Nested(reply.read)
		case attrStatus:
			status = d.Uint32()
		case attrProtocol:
			d.Nested(func(d *netlink.AttributeDecoder) error {
				for d.Next() {
					if d.Type() == tcpInfo {
						d.Nested(func(d *netlink.AttributeDecoder) error {
							for d.Next() {
								if d.Type() == tcpState {
									state = int(d.Uint8())
								}
							}
							return nil
						})
					}
				}
				return nil
			})
		case attrTimeout:
			t.Left = time.Duration(d.Uint32()) * time.Second
		case attrMark:
			t.Mark = d.Uint32()
		case attrID:
			t.ID = d.Uint32()
		case attrCountTo:
			t.Counts = true
			d.Nested(t.Forth.read)
		case attrCountFrom:
			d.Nested(t.Back.read)
		case attrTimes:
			d.Nested(func(d *netlink.AttributeDecoder) error {
				for d.Next() {
					if d.Type() == timeStart {
						t.Began = time.Unix(0, int64(d.Uint64()))
					}
				}
				return nil
			})
		}
	})
	if err != nil {
		return t, false, err
	}
	back, ok1 := reply.packet()
	t.Before, ok = original.packet()
	t.After = header.Packet{Source: back.Destination, Destination: back.Source, SourcePort: back.DestinationPort, DestinationPort: back.SourcePort, Protocol: back.Protocol}
	if t.After.Protocol == header.ICMP {
		t.After.SourcePort, t.After.DestinationPort = back.SourcePort, 0
	}
	switch {
	case t.Before.Protocol == header.TCP && state < len(tcpStates):
		t.State = tcpStates[state]
	case status&statusAnswered != 0:
		t.State = "answered"
	default:
		t.State = "unanswered"
	}
	return t, ok && ok1, nil
}

func (t *tuple) read(d *netlink.AttributeDecoder) error {
	for d.Next() {
		switch d.Type() {
		case tupleAddresses:
			d.Nested(func(d *netlink.AttributeDecoder) error {
				for d.Next() {
					a, _ := netip.AddrFromSlice(d.Bytes())
					switch d.Type() {
					case source4, source6:
						t.source = a
					case destination4, destination6:
						t.destination = a
					}
				}
				return nil
			})
		case tupleProtocol:
			d.Nested(func(d *netlink.AttributeDecoder) error {
				for d.Next() {
					switch d.Type() {
					case tupleNumber:
						t.protocol = d.Uint8()
					case sourcePort, icmpIdentifier, icmpv6Identify:
						t.from = d.Uint16()
					case destPort:
						t.to = d.Uint16()
					}
				}
				return nil
			})
		}
	}
	return nil
}

func (c *Counted) read(d *netlink.AttributeDecoder) error {
	for d.Next() {
		switch d.Type() {
		case countedPackets:
			c.Packets = d.Uint64()
		case countedBytes:
			c.Bytes = d.Uint64()
		}
	}
	return nil
}

// A Change is that a connection began or ended.
type Change struct {
	Tracked
	Ended bool
}

// A Watcher hears of connections that begin and end.
type Watcher struct {
	conn    *netlink.Conn
	waiting atomic.Bool // in Next, for more
}

// Watch begins to hear of connections, in a network namespace as in OpenMachine.
func Watch(namespace int) (*Watcher, error) {
	conn, err := netlink.Dial(unix.NETLINK_NETFILTER, &netlink.Config{NetNS: namespace})
	if err != nil {
		return nil, fmt.Errorf("the connections of the kernel: %w", err)
	}
	for _, group := range []uint32{unix.NFNLGRP_CONNTRACK_NEW, unix.NFNLGRP_CONNTRACK_DESTROY} {
		if err := conn.JoinGroup(group); err != nil {
			conn.Close()
			return nil, fmt.Errorf("the connections of the kernel: %w", err)
		}
	}
	conn.SetReadBuffer(8 << 20) // what a burst does not leave room for is missed, and said by Next
	return &Watcher{conn: conn}, nil
}

// Close ends it, and whoever waits in Next.
func (w *Watcher) Close() error { return w.conn.Close() }

// ErrMissed is the error where connections came faster than they were read.
var ErrMissed = errors.New("some connections were missed")

// HasMore reports whether there are connections to hear of that nobody has read, or whoever reads is at work.
func (w *Watcher) HasMore() bool {
	return !w.waiting.Load() || hasMore(w.conn)
}

// Next waits for connections that begin or end. After Close it returns an error.
func (w *Watcher) Next() ([]Change, error) {
	w.waiting.Store(true)
	messages, err := receive(w.conn)
	w.waiting.Store(false)
	var list []Change
	for _, m := range messages {
		if int(m.Header.Type)>>8 != unix.NFNL_SUBSYS_CTNETLINK {
			continue
		}
		t, ok, err := connectionOf(m)
		if err != nil || !ok {
			continue // of a protocol that nobody can name
		}
		list = append(list, Change{t, int(m.Header.Type)&0xff == trackingDelete})
	}
	return list, err
}

// receive waits for messages that nobody has asked for one by one.
func receive(conn *netlink.Conn) ([]netlink.Message, error) {
	messages, err := conn.Receive()
	if errors.Is(err, unix.ENOBUFS) {
		return nil, ErrMissed
	}
	return messages, err
}
