package kernel

import (
	"encoding/binary"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"
)

// An expression is one instruction of a rule as the kernel knows it: a name and attributes
// (linux/netfilter/nf_tables.h). It loads a value into a register, changes or compares one,
// or does something with the packet. A comparison that fails ends the rule.
type expression struct {
	name   string
	encode func(*netlink.AttributeEncoder)
}

// Registers are 4 bytes each, of which sixteen lie side by side; a value that is longer takes
// several.
const register0 = unix.NFT_REG32_00

// Keys of the kernel that golang.org/x/sys/unix does not name.
const (
	metaDay        = 31
	metaHour       = 32
	natMapsPrefix  = 1 << 6 // NF_NAT_RANGE_NETMAP
	natRandomPorts = 1 << 4 // NF_NAT_RANGE_PROTO_RANDOM_FULLY
	connLimitCount = 1
	connLimitFlags = 2
	objectCounter  = 1
)

// order is how the kernel keeps numbers that are no part of a packet.
var order, networkByteOrder = binary.NativeEndian, binary.BigEndian

func host32(v uint32) []byte {
	b := make([]byte, 4)
	order.PutUint32(b, v)
	return b
}

// keyed is an expression about a key and a register.
func keyed(name string, keyAttribute uint16, key uint32, registerAttribute uint16, register uint32) expression {
	return expression{name, func(e *netlink.AttributeEncoder) {
		e.Uint32(keyAttribute, key)
		e.Uint32(registerAttribute, register)
	}}
}

// meta loads what the kernel knows of a packet besides its bytes.
func meta(key, register uint32) expression {
	return keyed("meta", unix.NFTA_META_KEY, key, unix.NFTA_META_DREG, register)
}

// setMeta is the opposite of meta.
func setMeta(key, register uint32) expression {
	return keyed("meta", unix.NFTA_META_KEY, key, unix.NFTA_META_SREG, register)
}

// tracked loads what the kernel knows of the connection that a packet belongs to.
func tracked(key, register uint32) expression {
	return keyed("ct", unix.NFTA_CT_KEY, key, unix.NFTA_CT_DREG, register)
}

func setTracked(key, register uint32) expression {
	return keyed("ct", unix.NFTA_CT_KEY, key, unix.NFTA_CT_SREG, register)
}

// trackedOf is tracked of one direction: 0 as the connection began, 1 as it is answered.
func trackedOf(key, register uint32, direction uint8) expression {
	return expression{"ct", func(e *netlink.AttributeEncoder) {
		e.Uint32(unix.NFTA_CT_KEY, key)
		e.Uint32(unix.NFTA_CT_DREG, register)
		e.Uint8(unix.NFTA_CT_DIRECTION, direction)
	}}
}

// payload loads bytes of the packet.
func payload(base, offset, length, register uint32) expression {
	return expression{"payload", func(e *netlink.AttributeEncoder) {
		e.Uint32(unix.NFTA_PAYLOAD_DREG, register)
		e.Uint32(unix.NFTA_PAYLOAD_BASE, base)
		e.Uint32(unix.NFTA_PAYLOAD_OFFSET, offset)
		e.Uint32(unix.NFTA_PAYLOAD_LEN, length)
	}}
}

func value(e *netlink.AttributeEncoder, attribute uint16, data []byte) {
	e.Nested(attribute, func(e *netlink.AttributeEncoder) error {
		e.Bytes(unix.NFTA_DATA_VALUE, data)
		return nil
	})
}

// compare goes on where a register compares with a value so.
func compare(operation, register uint32, data []byte) expression {
	return expression{"cmp", func(e *netlink.AttributeEncoder) {
		e.Uint32(unix.NFTA_CMP_SREG, register)
		e.Uint32(unix.NFTA_CMP_OP, operation)
		value(e, unix.NFTA_CMP_DATA, data)
	}}
}

func equal(register uint32, data []byte) expression { return compare(unix.NFT_CMP_EQ, register, data) }

// mask makes a register (itself and mask) xor with.
func mask(register uint32, mask, xor []byte) expression {
	return expression{"bitwise", func(e *netlink.AttributeEncoder) {
		e.Uint32(unix.NFTA_BITWISE_SREG, register)
		e.Uint32(unix.NFTA_BITWISE_DREG, register)
		e.Uint32(unix.NFTA_BITWISE_LEN, uint32(len(mask)))
		value(e, unix.NFTA_BITWISE_MASK, mask)
		value(e, unix.NFTA_BITWISE_XOR, xor)
	}}
}

// networkOrder turns a number of 4 bytes round, so that ranges of it can be compared.
func networkOrder(register uint32) expression {
	return expression{"byteorder", func(e *netlink.AttributeEncoder) {
		e.Uint32(unix.NFTA_BYTEORDER_SREG, register)
		e.Uint32(unix.NFTA_BYTEORDER_DREG, register)
		e.Uint32(unix.NFTA_BYTEORDER_OP, unix.NFT_BYTEORDER_HTON)
		e.Uint32(unix.NFTA_BYTEORDER_LEN, 4)
		e.Uint32(unix.NFTA_BYTEORDER_SIZE, 4)
	}}
}

// lookup goes on where a register is in a set.
func lookup(set string, register uint32) expression {
	return expression{"lookup", func(e *netlink.AttributeEncoder) {
		e.String(unix.NFTA_LOOKUP_SET, set)
		e.Uint32(unix.NFTA_LOOKUP_SREG, register)
	}}
}

// lookupInto is lookup of a map, whose value is put into a register: the verdict, where that
// is the register of verdicts.
func lookupInto(set string, register, into uint32) expression {
	return expression{"lookup", func(e *netlink.AttributeEncoder) {
		e.String(unix.NFTA_LOOKUP_SET, set)
		e.Uint32(unix.NFTA_LOOKUP_SREG, register)
		e.Uint32(unix.NFTA_LOOKUP_DREG, into)
	}}
}

func immediate(register uint32, data []byte) expression {
	return expression{"immediate", func(e *netlink.AttributeEncoder) {
		e.Uint32(unix.NFTA_IMMEDIATE_DREG, register)
		value(e, unix.NFTA_IMMEDIATE_DATA, data)
	}}
}

// A verdict is what becomes of a packet, or which chain it goes on in.
type verdict struct {
	code  int32
	chain string
}

// The verdicts, from linux/netfilter.h and nf_tables.h.
var (
	drops   = verdict{code: 0}
	accepts = verdict{code: 1}
)

func goesTo(chain string) verdict { return verdict{unix.NFT_GOTO, chain} }

func jumpsTo(chain string) verdict { return verdict{unix.NFT_JUMP, chain} }

func (v verdict) encode(e *netlink.AttributeEncoder, attribute uint16) {
	e.Nested(attribute, func(e *netlink.AttributeEncoder) error {
		e.Nested(unix.NFTA_DATA_VERDICT, func(e *netlink.AttributeEncoder) error {
			e.Uint32(unix.NFTA_VERDICT_CODE, uint32(v.code))
			if v.chain != "" {
				e.String(unix.NFTA_VERDICT_CHAIN, v.chain)
			}
			return nil
		})
		return nil
	})
}

func (v verdict) expression() expression {
	return expression{"immediate", func(e *netlink.AttributeEncoder) {
		e.Uint32(unix.NFTA_IMMEDIATE_DREG, unix.NFT_REG_VERDICT)
		v.encode(e, unix.NFTA_IMMEDIATE_DATA)
	}}
}

// count adds the packet to a named counter.
func count(counter string) expression {
	return expression{"objref", func(e *netlink.AttributeEncoder) {
		e.Uint32(unix.NFTA_OBJREF_IMM_TYPE, objectCounter)
		e.String(unix.NFTA_OBJREF_IMM_NAME, counter)
	}}
}

// logTo sends the beginning of the packet to those who read a log group, with a prefix.
func logTo(group uint16, prefix string) expression {
	return expression{"log", func(e *netlink.AttributeEncoder) {
		e.Uint16(unix.NFTA_LOG_GROUP, group)
		e.String(unix.NFTA_LOG_PREFIX, prefix)
		e.Uint32(unix.NFTA_LOG_SNAPLEN, 128)
	}}
}

// reject drops the packet and tells its sender.
func reject(kind uint32, code uint8) expression {
	return expression{"reject", func(e *netlink.AttributeEncoder) {
		e.Uint32(unix.NFTA_REJECT_TYPE, kind)
		e.Uint8(unix.NFTA_REJECT_ICMP_CODE, code)
	}}
}

// A translation is what the kernel is asked to make of one end of a connection: an address
// between two registers and, where they are set, a port between two others.
type translation struct {
	kind, family        uint32
	first, last         uint32 // registers of the addresses
	firstPort, lastPort uint32 // registers of the ports, or 0
	flags               uint32
}

func (t translation) expression() expression {
	return expression{"nat", func(e *netlink.AttributeEncoder) {
		e.Uint32(unix.NFTA_NAT_TYPE, t.kind)
		e.Uint32(unix.NFTA_NAT_FAMILY, t.family)
		if t.first != 0 {
			e.Uint32(unix.NFTA_NAT_REG_ADDR_MIN, t.first)
			e.Uint32(unix.NFTA_NAT_REG_ADDR_MAX, t.last)
		}
		if t.firstPort != 0 {
			e.Uint32(unix.NFTA_NAT_REG_PROTO_MIN, t.firstPort)
			e.Uint32(unix.NFTA_NAT_REG_PROTO_MAX, t.lastPort)
		}
		if t.flags != 0 {
			e.Uint32(unix.NFTA_NAT_FLAGS, t.flags)
		}
	}}
}

// hashOf loads a number below modulus that a register decides.
func hashOf(register, length, modulus, into uint32) expression {
	return expression{"hash", func(e *netlink.AttributeEncoder) {
		e.Uint32(unix.NFTA_HASH_SREG, register)
		e.Uint32(unix.NFTA_HASH_DREG, into)
		e.Uint32(unix.NFTA_HASH_LEN, length)
		e.Uint32(unix.NFTA_HASH_MODULUS, modulus)
		e.Uint32(unix.NFTA_HASH_TYPE, unix.NFT_HASH_JENKINS)
	}}
}

// handTo gives the packet to a local socket at the port in a register, whatever port it is for.
func handTo(family, portRegister uint32) expression {
	const familyAttribute, portAttribute = 1, 3 // NFTA_TPROXY_FAMILY, NFTA_TPROXY_REG_PORT
	return expression{"tproxy", func(e *netlink.AttributeEncoder) {
		e.Uint32(familyAttribute, family)
		e.Uint32(portAttribute, portRegister)
	}}
}

// routeKind loads what kind of address the destination is, as routes say.
func routeKind(register uint32) expression {
	return expression{"fib", func(e *netlink.AttributeEncoder) {
		e.Uint32(unix.NFTA_FIB_DREG, register)
		e.Uint32(unix.NFTA_FIB_RESULT, unix.NFT_FIB_RESULT_ADDRTYPE)
		e.Uint32(unix.NFTA_FIB_FLAGS, unix.NFTA_FIB_F_DADDR)
	}}
}

// routeOut loads the name of the interface by which the packet's destination is reached.
func routeOut(register uint32) expression {
	return expression{"fib", func(e *netlink.AttributeEncoder) {
		e.Uint32(unix.NFTA_FIB_DREG, register)
		e.Uint32(unix.NFTA_FIB_RESULT, unix.NFT_FIB_RESULT_OIFNAME)
		e.Uint32(unix.NFTA_FIB_FLAGS, unix.NFTA_FIB_F_DADDR)
	}}
}

// moreConnections goes on where more than so many connections have come here.
func moreConnections(than uint32) expression {
	return expression{"connlimit", func(e *netlink.AttributeEncoder) {
		e.Uint32(connLimitCount, than)
		e.Uint32(connLimitFlags, 1) // over, not up to
	}}
}
