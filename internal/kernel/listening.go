package kernel

import (
	"encoding/binary"
	"fmt"
	"sync/atomic"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"

	"hollowbridge/core/header"
)

// Messages and attributes of the kernel's log, from linux/netfilter/nfnetlink_log.h.
const (
	logPacket = 0 // NFULNL_MSG_PACKET
	logConfig = 1

	configCommand = 1 // NFULA_CFG_CMD
	configMode    = 2
	configTimeout = 4
	configFlags   = 6
	commandBind   = 1 // NFULNL_CFG_CMD_BIND
	copyPacket    = 2 // NFULNL_COPY_PACKET
	withNumbers   = 1 // NFULNL_CFG_F_SEQ
	withTracking  = 4 // NFULNL_CFG_F_CONNTRACK

	attrInDevice  = 4 // NFULA_IFINDEX_INDEV
	attrOutDevice = 5
	attrPayload   = 9
	attrPrefix    = 10
	attrNumber    = 12 // NFULA_SEQ
	attrTracked   = 18 // NFULA_CT
)

// copied is how many bytes of a packet the log holds: its headers.
const copied = 128

// soonEnough is how long the kernel collects lines before it hands them over, in hundredths of a
// second.
const soonEnough = 5

// A Line is something that a rule of ours wrote into the kernel's log.
type Line struct {
	Mark   string        // of the rule: its counter, or unmatched
	Before header.Packet // the first packet of the connection as it came,
	Now    header.Packet // and this packet as it is
	In     int           // the index of the device it came in by; 0 for none
	Out    int           // likewise
	number uint32        // of the line, of all that the kernel wrote to us
}

// A Listener reads the kernel's log.
type Listener struct {
	conn   *netlink.Conn
	next   uint32 // the number of the next line
	missed atomic.Int64
}

// Missed returns how many lines came faster than they were read.
func (l *Listener) Missed() int64 { return l.missed.Load() }

// Listen begins to read our group of the kernel's log, in a network namespace as in OpenMachine.
// It fails where somebody else reads it.
func Listen(namespace int) (*Listener, error) {
	conn, err := netlink.Dial(unix.NETLINK_NETFILTER, &netlink.Config{NetNS: namespace})
	if err != nil {
		return nil, fmt.Errorf("the kernel's log: %w", err)
	}
	l := &Listener{conn: conn}
	conn.SetReadBuffer(8 << 20)
	// With the connections where the kernel can tell them, else without.
	if err = l.configure(withNumbers | withTracking); err != nil {
		err = l.configure(withNumbers)
	}
	if err != nil {
		conn.Close()
		return nil, fmt.Errorf("the kernel's log: group %d can't be read; does another gateway run on this machine? (%w)", LogGroup, err)
	}
	return l, nil
}

func (l *Listener) configure(flags uint16) error {
	// The mode is a range, a mode and a byte that is not used, which no encoder knows.
	data, err := body(unix.AF_UNSPEC, LogGroup, func(e *netlink.AttributeEncoder) {
		e.Uint8(configCommand, commandBind)
		e.Bytes(configMode, append(binary.BigEndian.AppendUint32(nil, copied), copyPacket, 0))
		e.Uint32(configTimeout, soonEnough)
		e.Uint16(configFlags, flags)
	})
	if err != nil {
		return err
	}
	_, err = l.conn.Execute(netlink.Message{
		Header: netlink.Header{Type: typeOf(unix.NFNL_SUBSYS_ULOG, logConfig), Flags: netlink.Request | netlink.Acknowledge}, Data: data,
	})
	return err
}

// Close ends it, and whoever waits in Next.
func (l *Listener) Close() error { return l.conn.Close() }

// Next waits for lines. After Close it returns an error; ErrMissed where lines came faster than they
// were read.
func (l *Listener) Next() ([]Line, error) {
	messages, err := receive(l.conn)
	var list []Line
	for _, m := range messages {
		if m.Header.Type != typeOf(unix.NFNL_SUBSYS_ULOG, logPacket) {
			continue
		}
		line, ok := lineOf(m)
		l.count(line.number)
		if ok {
			list = append(list, line)
		}
	}
	return list, err
}

// count notes the number of a line: those in between were missed. They are numbered round and round.
func (l *Listener) count(number uint32) {
	if gap := number - l.next; gap < 1<<31 {
		l.missed.Add(int64(gap))
		l.next = number + 1
	}
}

// lineOf reads a line. ok is false for a packet that nobody can name.
func lineOf(m netlink.Message) (line Line, ok bool) {
	var payload []byte
	var original tuple
	err := decode(m, func(d *netlink.AttributeDecoder) {
		switch d.Type() {
		case attrInDevice:
			line.In = int(d.Uint32())
		case attrOutDevice:
			line.Out = int(d.Uint32())
		case attrPayload:
			payload = d.Bytes()
		case attrPrefix:
			line.Mark = d.String()
		case attrNumber:
			line.number = d.Uint32()
		case attrTracked:
			d.Nested(func(d *netlink.AttributeDecoder) error {
				for d.Next() {
					if d.Type() == attrOriginal {
						d.Nested(original.read)
					}
				}
				return nil
			})
		}
	})
	if err != nil {
		return line, false
	}
	if line.Now, ok = headerOf(payload); !ok {
		return line, false
	}
	line.Before = line.Now
	if before, known := original.packet(); known {
		line.Before = before
	}
	return line, true
}

// headerOf reads the beginning of a packet, from its IP header on (RFC 791, RFC 8200).
func headerOf(b []byte) (p header.Packet, ok bool) {
	h, ok := ParseIP(b)
	if !ok {
		return p, false
	}
	p.Source, p.Destination = h.Source, h.Destination
	if p.Protocol, ok = protocolOf(h.Protocol); !ok {
		return p, false
	}
	switch {
	case p.Protocol.HasPorts() && len(h.Rest) >= 4:
		p.SourcePort, p.DestinationPort = binary.BigEndian.Uint16(h.Rest), binary.BigEndian.Uint16(h.Rest[2:])
	case p.Protocol == header.ICMP && len(h.Rest) >= 6:
		p.SourcePort = binary.BigEndian.Uint16(h.Rest[4:])
	}
	return p, true
}
