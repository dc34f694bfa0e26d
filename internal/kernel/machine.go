package kernel

import (
	"errors"
	"fmt"
	"strings"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"
)

// Table is the name of the one table of ours on a machine. Nothing else there is touched.
const Table = "hollow-bridge"

// A Machine is a connection to the kernel of a network namespace. It is not safe for use by
// several goroutines.
type Machine struct {
	conn *netlink.Conn
	owns bool // the table that it makes
}

// OpenMachine connects to the kernel: that of a network namespace by the file descriptor of
// one, or, where that is 0, to the one that the program runs in.
func OpenMachine(namespace int) (*Machine, error) {
	conn, err := netlink.Dial(unix.NETLINK_NETFILTER, &netlink.Config{NetNS: namespace})
	if err != nil {
		return nil, fmt.Errorf("the kernel's packet tables: %w", err)
	}
	conn.SetOption(netlink.ExtendedAcknowledge, true) // an older kernel says less
	return &Machine{conn: conn}, nil
}

// Close ends the connection.
func (m *Machine) Close() error { return m.conn.Close() }

// A batch is messages that the kernel obeys all or none.
type batch struct {
	messages []netlink.Message
	about    []string // for people
	err      error
}

// typeOf is the type of a message to a subsystem of the kernel's packet filter.
func typeOf(subsystem, message int) netlink.HeaderType {
	return netlink.HeaderType(subsystem<<8 | message)
}

func (b *batch) add(about string, message int, flags netlink.HeaderFlags, encode func(*netlink.AttributeEncoder)) {
	data, err := body(unix.NFPROTO_INET, 0, encode)
	if err != nil && b.err == nil {
		b.err = fmt.Errorf("%s: %w", about, err)
	}
	b.about = append(b.about, about)
	b.messages = append(b.messages, netlink.Message{
		Header: netlink.Header{Type: typeOf(unix.NFNL_SUBSYS_NFTABLES, message), Flags: netlink.Request | flags}, Data: data,
	})
}

// body is a family, a version and a resource, and attributes (linux/netfilter/nfnetlink.h).
func body(family byte, resource uint16, encode func(*netlink.AttributeEncoder)) ([]byte, error) {
	head := []byte{family, 0, byte(resource >> 8), byte(resource)}
	if encode == nil {
		return head, nil
	}
	e := netlink.NewAttributeEncoder()
	e.ByteOrder = networkByteOrder
	encode(e)
	attributes, err := e.Encode()
	return append(head, attributes...), err
}

// Own makes the tables that Apply makes those of this connection alone: nobody else can change or delete them while it is open, and they
// stay when it is closed. A kernel before 6.9 knows no such tables; what Apply makes there is everybody's.
func (m *Machine) Own() { m.owns = true }

// Owns reports whether the table that is there is this connection's alone.
func (m *Machine) Owns() (bool, error) {
	data, err := body(unix.NFPROTO_INET, 0, func(e *netlink.AttributeEncoder) { e.String(unix.NFTA_TABLE_NAME, Table) })
	if err != nil {
		return false, err
	}
	answers, err := m.conn.Execute(netlink.Message{
		Header: netlink.Header{Type: typeOf(unix.NFNL_SUBSYS_NFTABLES, unix.NFT_MSG_GETTABLE), Flags: netlink.Request}, Data: data,
	})
	if errors.Is(err, unix.ENOENT) {
		return false, nil
	}
	if err != nil {
		return false, fmt.Errorf("the kernel's packet tables: %w", err)
	}
	owned := false
	for _, a := range answers {
		if err := decode(a, func(d *netlink.AttributeDecoder) {
			if d.Type() == unix.NFTA_TABLE_FLAGS {
				owned = d.Uint32()&tableOwned != 0 // by us: another's could not have been made anew
			}
		}); err != nil {
			return false, err
		}
	}
	return owned && m.owns, nil
}

// From linux/netfilter/nf_tables.h.
const (
	destroyTable = 26  // a message: delete it, where it is there
	tableOwned   = 0x2 // a flag: of the connection that made it
	tableStays   = 0x4 // a flag: also when that is closed
)

// Apply puts a program on the machine in place of what stood in our table, all or nothing;
// running connections go on with the translation they have.
func (m *Machine) Apply(p *Program) error {
	if m.owns {
		b := &batch{}
		b.begin()
		b.add("our table", destroyTable, 0, func(e *netlink.AttributeEncoder) { e.String(unix.NFTA_TABLE_NAME, Table) })
		b.newTable(tableOwned | tableStays)
		b.program(p)
		b.end()
		err := m.send(b)
		if errors.Is(err, unix.EPERM) {
			return fmt.Errorf("another gateway on this machine has the table %s: %w", Table, err)
		}
		if !errors.Is(err, unix.EOPNOTSUPP) && !errors.Is(err, unix.EINVAL) {
			return err
		}
		m.owns = false // an older kernel
	}
	b := &batch{}
	b.begin()
	b.newTable(0) // so that there is one to delete
	b.deleteTable()
	b.newTable(0)
	b.program(p)
	b.end()
	return m.send(b)
}

// Clear takes our table away. It is no error where there is none.
func (m *Machine) Clear() error {
	if owns, err := m.Owns(); err != nil || owns {
		b := &batch{}
		b.begin()
		b.deleteTable()
		b.end()
		return errors.Join(err, m.send(b))
	}
	b := &batch{}
	b.begin()
	b.newTable(0)
	b.deleteTable()
	b.end()
	return m.send(b)
}

func (b *batch) border(message int) {
	data, _ := body(unix.AF_UNSPEC, unix.NFNL_SUBSYS_NFTABLES, nil)
	b.about = append(b.about, "a batch")
	b.messages = append(b.messages, netlink.Message{Header: netlink.Header{Type: netlink.HeaderType(message), Flags: netlink.Request}, Data: data})
}

func (b *batch) begin() { b.border(unix.NFNL_MSG_BATCH_BEGIN) }

// end closes the batch. The message before it is the one whose answer says that all was done.
func (b *batch) end() {
	b.messages[len(b.messages)-1].Header.Flags |= netlink.Acknowledge
	b.border(unix.NFNL_MSG_BATCH_END)
}

func (b *batch) newTable(flags uint32) {
	b.add("our table", unix.NFT_MSG_NEWTABLE, netlink.Create, func(e *netlink.AttributeEncoder) {
		e.String(unix.NFTA_TABLE_NAME, Table)
		if flags != 0 {
			e.Uint32(unix.NFTA_TABLE_FLAGS, flags)
		}
	})
}

func (b *batch) deleteTable() {
	b.add("our table", unix.NFT_MSG_DELTABLE, 0, func(e *netlink.AttributeEncoder) { e.String(unix.NFTA_TABLE_NAME, Table) })
}

// program adds what makes a program: first what others name.
func (b *batch) program(p *Program) {
	for _, c := range p.counters {
		b.counter(c)
	}
	for _, c := range p.chains {
		b.chain(c)
	}
	for n, s := range p.sets {
		b.set(s, uint32(n+1))
		b.elements(s)
	}
	for _, c := range p.chains {
		for _, r := range c.rules {
			b.rule(c, r)
		}
	}
}

func (b *batch) counter(c Counted) {
	b.add("counter "+c.Name, unix.NFT_MSG_NEWOBJ, netlink.Create, func(e *netlink.AttributeEncoder) {
		e.String(unix.NFTA_OBJ_TABLE, Table)
		e.String(unix.NFTA_OBJ_NAME, c.Name)
		e.Uint32(unix.NFTA_OBJ_TYPE, objectCounter)
		e.Nested(unix.NFTA_OBJ_DATA, func(e *netlink.AttributeEncoder) error {
			e.Uint64(unix.NFTA_COUNTER_BYTES, c.Bytes)
			e.Uint64(unix.NFTA_COUNTER_PACKETS, c.Packets)
			return nil
		})
	})
}

func (b *batch) chain(c *chain) {
	b.add("chain "+c.name, unix.NFT_MSG_NEWCHAIN, netlink.Create, func(e *netlink.AttributeEncoder) {
		e.String(unix.NFTA_CHAIN_TABLE, Table)
		e.String(unix.NFTA_CHAIN_NAME, c.name)
		if c.base == nil {
			return
		}
		e.Nested(unix.NFTA_CHAIN_HOOK, func(e *netlink.AttributeEncoder) error {
			e.Uint32(unix.NFTA_HOOK_HOOKNUM, c.base.hook)
			e.Uint32(unix.NFTA_HOOK_PRIORITY, uint32(c.base.priority))
			return nil
		})
		e.Uint32(unix.NFTA_CHAIN_POLICY, uint32(c.base.policy.code))
		e.String(unix.NFTA_CHAIN_TYPE, c.base.kind)
	})
}

// Kinds of values, which the kernel keeps for others to read.
const (
	verdictType = 0xffffff00
	valueType   = 0
)

func (b *batch) set(s *set, id uint32) {
	flags := uint32(unix.NFT_SET_CONSTANT)
	if s.open {
		flags = unix.NFT_SET_TIMEOUT
	}
	if len(s.fields) > 0 {
		flags |= setConcat
	}
	if s.interval {
		flags |= unix.NFT_SET_INTERVAL
	}
	if s.verdicts || s.dataLen > 0 {
		flags |= unix.NFT_SET_MAP
	}
	b.add(s.name, unix.NFT_MSG_NEWSET, netlink.Create, func(e *netlink.AttributeEncoder) {
		e.String(unix.NFTA_SET_TABLE, Table)
		e.String(unix.NFTA_SET_NAME, s.name)
		e.Uint32(unix.NFTA_SET_ID, id)
		e.Uint32(unix.NFTA_SET_FLAGS, flags)
		e.Uint32(unix.NFTA_SET_KEY_TYPE, valueType)
		e.Uint32(unix.NFTA_SET_KEY_LEN, s.keyLen)
		switch {
		case s.verdicts:
			e.Uint32(unix.NFTA_SET_DATA_TYPE, verdictType)
		case s.dataLen > 0:
			e.Uint32(unix.NFTA_SET_DATA_TYPE, valueType)
			e.Uint32(unix.NFTA_SET_DATA_LEN, s.dataLen)
		}
		s.describe(e)
	})
}

// mostElements is how many elements go into one message: an attribute has at most 64 KiB.
const mostElements = 300

func (b *batch) elements(s *set) {
	if s.open {
		b.openElements(unix.NFT_MSG_NEWSETELEM, netlink.Create, s.name, s.elements)
		return
	}
	type entry struct {
		element
		isEnd bool
	}
	var all []entry
	for _, el := range s.elements {
		all = append(all, entry{element: el})
		if s.interval && el.end != nil {
			all = append(all, entry{element{key: el.end}, true})
		}
	}
	for len(all) > 0 {
		part := all[:min(len(all), mostElements)]
		all = all[len(part):]
		b.add("elements of "+s.name, unix.NFT_MSG_NEWSETELEM, netlink.Create, func(e *netlink.AttributeEncoder) {
			e.String(unix.NFTA_SET_ELEM_LIST_TABLE, Table)
			e.String(unix.NFTA_SET_ELEM_LIST_SET, s.name)
			e.Nested(unix.NFTA_SET_ELEM_LIST_ELEMENTS, func(e *netlink.AttributeEncoder) error {
				for _, el := range part {
					e.Nested(unix.NFTA_LIST_ELEM, func(e *netlink.AttributeEncoder) error {
						value(e, unix.NFTA_SET_ELEM_KEY, el.key)
						switch {
						case el.isEnd:
							e.Uint32(unix.NFTA_SET_ELEM_FLAGS, unix.NFT_SET_ELEM_INTERVAL_END)
						case s.verdicts:
							el.goes.encode(e, unix.NFTA_SET_ELEM_DATA)
						case s.dataLen > 0:
							value(e, unix.NFTA_SET_ELEM_DATA, el.data)
						}
						return nil
					})
				}
				return nil
			})
		})
	}
}

func (b *batch) rule(c *chain, r rule) {
	b.add("a rule of "+c.name, unix.NFT_MSG_NEWRULE, netlink.Create|netlink.Append, func(e *netlink.AttributeEncoder) {
		e.String(unix.NFTA_RULE_TABLE, Table)
		e.String(unix.NFTA_RULE_CHAIN, c.name)
		e.Nested(unix.NFTA_RULE_EXPRESSIONS, func(e *netlink.AttributeEncoder) error {
			for _, s := range r {
				for _, x := range s.expressions {
					e.Nested(unix.NFTA_LIST_ELEM, func(e *netlink.AttributeEncoder) error {
						e.String(unix.NFTA_EXPR_NAME, x.name)
						e.Nested(unix.NFTA_EXPR_DATA, func(e *netlink.AttributeEncoder) error {
							x.encode(e)
							return nil
						})
						return nil
					})
				}
			}
			return nil
		})
		if words := r.words(); words != "" {
			e.Bytes(unix.NFTA_RULE_USERDATA, []byte(cut(words, 250)))
		}
	})
}

func cut(text string, most int) string {
	if len(text) > most {
		return text[:most]
	}
	return text
}

// send sends a batch and waits for its answer.
func (m *Machine) send(b *batch) error {
	if b.err != nil {
		return fmt.Errorf("the kernel's packet tables: %w", b.err)
	}
	size := 0
	for _, message := range b.messages {
		size += len(message.Data) + 32
	}
	if err := m.conn.SetWriteBuffer(max(2*size, 1<<16)); err != nil {
		return fmt.Errorf("room for %d KiB of rules: %w", size>>10, err)
	}
	if err := m.conn.SetReadBuffer(1 << 20); err != nil { // each message that fails is answered, with itself
		return fmt.Errorf("room for the kernel's answer: %w", err)
	}
	sent, err := m.conn.SendMessages(b.messages)
	if errors.Is(err, unix.EMSGSIZE) {
		return fmt.Errorf("the rules are %d KiB, more than this machine takes at once from an ordinary user; run it as root, or let net.core.wmem_max be that much", size>>10)
	}
	if err != nil {
		return fmt.Errorf("the kernel's packet tables, %d KiB: %w", size>>10, err)
	}
	_, err = m.conn.Receive()
	if err != nil {
		m.drain()
	}
	var failed *netlink.OpError
	if errors.As(err, &failed) && failed.Sequence != 0 {
		for i := range sent {
			if sent[i].Header.Sequence == failed.Sequence {
				return fmt.Errorf("the kernel does not take %s: %w", b.about[i], err)
			}
		}
	}
	if err != nil {
		return fmt.Errorf("the kernel does not take the rules: %w", err)
	}
	return nil
}

// drain throws away what the kernel says besides of a batch that it does not obey: each message that
// it dislikes is answered, by the time that the batch is sent.
func (m *Machine) drain() {
	for hasMore(m.conn) {
		m.conn.Receive()
	}
}

// hasMore reports whether there is something to receive.
func hasMore(conn *netlink.Conn) (more bool) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return false
	}
	raw.Control(func(fd uintptr) {
		ready := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}
		n, err := unix.Poll(ready, 0)
		more = err == nil && n > 0
	})
	return more
}

// EndSessions makes the machine forget all connections.
func (m *Machine) EndSessions() error {
	data, err := body(unix.AF_UNSPEC, 0, nil)
	if err != nil {
		return err
	}
	const deleteConnection = 2 // IPCTNL_MSG_CT_DELETE of linux/netfilter/nfnetlink_conntrack.h
	if _, err := m.conn.Execute(netlink.Message{
		Header: netlink.Header{Type: typeOf(unix.NFNL_SUBSYS_CTNETLINK, deleteConnection), Flags: netlink.Request | netlink.Acknowledge}, Data: data,
	}); err != nil {
		return fmt.Errorf("ending sessions: %w", err)
	}
	return nil
}

// Counters returns what the rules of ours on the machine have counted.
func (m *Machine) Counters() ([]Counted, error) {
	data, err := body(unix.NFPROTO_INET, 0, func(e *netlink.AttributeEncoder) {
		e.String(unix.NFTA_OBJ_TABLE, Table)
		e.Uint32(unix.NFTA_OBJ_TYPE, objectCounter)
	})
	if err != nil {
		return nil, err
	}
	answers, err := m.dump(unix.NFT_MSG_GETOBJ, data)
	if err != nil {
		return nil, err
	}
	var list []Counted
	for _, a := range answers {
		var c Counted
		err := decode(a, func(d *netlink.AttributeDecoder) {
			switch d.Type() {
			case unix.NFTA_OBJ_NAME:
				c.Name = d.String()
			case unix.NFTA_OBJ_DATA:
				d.Nested(func(d *netlink.AttributeDecoder) error {
					for d.Next() {
						switch d.Type() {
						case unix.NFTA_COUNTER_PACKETS:
							c.Packets = d.Uint64()
						case unix.NFTA_COUNTER_BYTES:
							c.Bytes = d.Uint64()
						}
					}
					return nil
				})
			}
		})
		if err != nil {
			return nil, err
		}
		list = append(list, c)
	}
	return list, nil
}

// Words returns what stands in our table on the machine, chain by chain, as Program.Words says
// it; nothing where there is no such table.
func (m *Machine) Words() ([]string, error) {
	data, err := body(unix.NFPROTO_INET, 0, func(e *netlink.AttributeEncoder) { e.String(unix.NFTA_RULE_TABLE, Table) })
	if err != nil {
		return nil, err
	}
	answers, err := m.dump(unix.NFT_MSG_GETRULE, data)
	if err != nil {
		return nil, err
	}
	var lines []string
	last := ""
	for _, a := range answers {
		var chain, table, words string
		if err := decode(a, func(d *netlink.AttributeDecoder) {
			switch d.Type() {
			case unix.NFTA_RULE_TABLE:
				table = d.String()
			case unix.NFTA_RULE_CHAIN:
				chain = d.String()
			case unix.NFTA_RULE_USERDATA:
				words = string(d.Bytes())
			}
		}); err != nil {
			return nil, err
		}
		if table != Table {
			continue
		}
		if chain != last {
			lines, last = append(lines, chain), chain
		}
		lines = append(lines, "  "+strings.TrimSpace(words))
	}
	return lines, nil
}

// dump asks for all there is of something.
func (m *Machine) dump(message int, data []byte) ([]netlink.Message, error) {
	answers, err := m.conn.Execute(netlink.Message{
		Header: netlink.Header{Type: typeOf(unix.NFNL_SUBSYS_NFTABLES, message), Flags: netlink.Request | netlink.Dump}, Data: data,
	})
	if errors.Is(err, unix.ENOENT) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the kernel's packet tables: %w", err)
	}
	return answers, nil
}

// decode reads the attributes of an answer, behind its family and resource.
func decode(m netlink.Message, each func(*netlink.AttributeDecoder)) error {
	if len(m.Data) < 4 {
		return errors.New("the kernel's answer is too short")
	}
	d, err := netlink.NewAttributeDecoder(m.Data[4:])
	if err != nil {
		return err
	}
	d.ByteOrder = networkByteOrder
	for d.Next() {
		each(d)
	}
	return d.Err()
}
