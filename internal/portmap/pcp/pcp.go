// Package pcp is the messages of the Port Control Protocol (RFC 6887): what stands on the wire,
// and nothing else.
package pcp

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
)

// Version is the version of the protocol.
const Version = 2

// Sizes of messages, in bytes (RFC 6887, 7).
const (
	HeaderSize = 24
	MostSize   = 1100
	mapSize    = 36
	peerSize   = 56
)

// An Opcode says what is asked for.
type Opcode uint8

// The opcodes (RFC 6887, 19.2).
const (
	Announce Opcode = 0
	Map      Opcode = 1
	Peer     Opcode = 2
)

var opcodes = [...]struct {
	name string
	size int // of what stands behind the header, before the options
}{{"announce", 0}, {"map", mapSize}, {"peer", peerSize}}

func (o Opcode) String() string {
	if o.Known() {
		return opcodes[o].name
	}
	return fmt.Sprintf("opcode %d", uint8(o))
}

// Known reports whether the opcode is one of the three.
func (o Opcode) Known() bool { return int(o) < len(opcodes) }

// A Result is a result code (RFC 6887, 7.4).
type Result uint8

// The result codes.
const (
	Success Result = iota
	UnsupportedVersion
	NotAuthorized
	MalformedRequest
	UnsupportedOpcode
	UnsupportedOption
	MalformedOption
	NetworkFailure
	NoResources
	UnsupportedProtocol
	UserExceedsQuota
	CannotProvideExternal
	AddressMismatch
	ExcessiveRemotePeers
)

// results are the codes' names and how long a client is told that the answer stays the same, in
// seconds: RFC 6887, 7.4, asks for 30 minutes where only an administrator can change it, and for
// 30 seconds else.
var results = [...]struct {
	name  string
	lasts uint32
}{
	{"success", 0}, {"unsupported version", 1800}, {"not authorized", 1800}, {"malformed request", 1800}, {"unsupported opcode", 1800},
	{"unsupported option", 1800}, {"malformed option", 1800}, {"network failure", 30}, {"no resources", 30}, {"unsupported protocol", 1800},
	{"user exceeds quota", 30}, {"cannot provide external address or port", 30}, {"address mismatch", 1800}, {"excessive remote peers", 30},
}

func (r Result) String() string {
	if int(r) < len(results) {
		return results[r].name
	}
	return fmt.Sprintf("result %d", uint8(r))
}

// Lasts returns for how many seconds a client may count on a refusal.
func (r Result) Lasts() uint32 {
	if int(r) < len(results) {
		return results[r].lasts
	}
	return 30
}

// A Nonce is what the owner of a mapping is known by.
type Nonce [12]byte

// An OptionCode says what an option is.
type OptionCode uint8

// The options (RFC 6887, 19.4). Those below 128 must be understood.
const (
	ThirdParty     OptionCode = 1
	PreferFailure  OptionCode = 2
	FilterOption   OptionCode = 3
	firstUnneeded  OptionCode = 128
	thirdPartySize            = 16
	filterSize                = 20
)

// A Filter says who may use a mapping. A prefix of length 0 with port 0 takes all filters away.
type Filter struct {
	From netip.Prefix
	Port uint16 // 0 is any
}

// A Message is a request, or an answer.
type Message struct {
	Opcode   Opcode
	Response bool
	Result   Result     // of an answer
	Lifetime uint32     // seconds: as asked for, as granted, or how long a refusal lasts
	Client   netip.Addr // of a request: whose it says it is
	Epoch    uint32     // of an answer: seconds since the server knows its mappings

	// Of map and peer.
	Nonce        Nonce
	Protocol     uint8 // 0 is all
	InternalPort uint16
	ExternalPort uint16     // wished, or assigned
	External     netip.Addr // likewise; unspecified is any
	PeerPort     uint16
	Peer         netip.Addr

	Party         netip.Addr // of the option THIRD_PARTY
	PreferFailure bool
	Filters       []Filter
}

// ErrSilence is the error for what gets no answer at all.
var ErrSilence = errors.New("no request")

// A Refusal is why a request can't be understood.
type Refusal struct{ Result Result }

func (r *Refusal) Error() string { return r.Result.String() }

func refuse(r Result) error { return &Refusal{r} }

// ParseRequest reads a request. What no answer is due to is ErrSilence, and any other error a
// Refusal, which Refuse answers.
func ParseRequest(b []byte) (*Message, error) {
	if len(b) < 2 || b[1]&0x80 != 0 { // 8.2: shorter than two bytes, or an answer
		return nil, ErrSilence
	}
	if b[0] != Version {
		return nil, refuse(UnsupportedVersion)
	}
	if len(b) < HeaderSize { // 8.2
		return nil, ErrSilence
	}
	if len(b) > MostSize || len(b)%4 != 0 {
		return nil, refuse(MalformedRequest)
	}
	m := &Message{Opcode: Opcode(b[1] & 0x7f), Lifetime: binary.BigEndian.Uint32(b[4:])}
	m.Client = address(b[8:24])
	if !m.Opcode.Known() {
		return nil, refuse(UnsupportedOpcode)
	}
	return m, m.body(b[HeaderSize:])
}

// ParseResponse reads an answer.
func ParseResponse(b []byte) (*Message, error) {
	switch {
	case len(b) >= 4 && b[0] == 0 && b[1]&0x80 != 0 && b[2] == 0 && Result(b[3]) == UnsupportedVersion: // of NAT-PMP alone (RFC 6886, 3.5)
		return &Message{Response: true, Result: UnsupportedVersion}, errors.New("version 0")
	case len(b) < HeaderSize || len(b) > MostSize || len(b)%4 != 0:
		return nil, errors.New("a message of a wrong length")
	case b[0] != Version:
		return &Message{Response: true, Result: UnsupportedVersion}, fmt.Errorf("version %d", b[0])
	case b[1]&0x80 == 0:
		return nil, errors.New("no answer")
	}
	m := &Message{Opcode: Opcode(b[1] & 0x7f), Response: true, Result: Result(b[3]), Lifetime: binary.BigEndian.Uint32(b[4:]), Epoch: binary.BigEndian.Uint32(b[8:])}
	if !m.Opcode.Known() {
		return nil, errors.New("an unknown opcode")
	}
	err := m.body(b[HeaderSize:])
	if m.Result != Success && len(b) >= HeaderSize+opcodes[m.Opcode].size { // what was wrong with the options of the request is no matter
		err = nil
	}
	return m, err
}

// body reads what stands behind the header.
func (m *Message) body(b []byte) error {
	size := opcodes[m.Opcode].size
	if len(b) < size {
		return refuse(MalformedRequest)
	}
	if m.Opcode != Announce {
		copy(m.Nonce[:], b)
		m.Protocol = b[12]
		m.InternalPort, m.ExternalPort = binary.BigEndian.Uint16(b[16:]), binary.BigEndian.Uint16(b[18:])
		m.External = address(b[20:36])
	}
	if m.Opcode == Peer {
		m.PeerPort, m.Peer = binary.BigEndian.Uint16(b[36:]), address(b[40:56])
	}
	return m.options(b[size:])
}

// options reads the options (RFC 6887, 7.3).
func (m *Message) options(b []byte) error {
	for len(b) > 0 {
		if len(b) < 4 {
			return refuse(MalformedOption)
		}
		code, length := OptionCode(b[0]), int(binary.BigEndian.Uint16(b[2:]))
		if b = b[4:]; length > len(b) {
			return refuse(MalformedOption)
		}
		data := b[:length]
		b = b[min(len(b), (length+3)&^3):]
		if err := m.option(code, data); err != nil {
			return err
		}
	}
	return nil
}

func (m *Message) option(code OptionCode, data []byte) error {
	switch code {
	case ThirdParty:
		if len(data) != thirdPartySize || m.Party.IsValid() || m.Opcode == Announce {
			return refuse(MalformedOption)
		}
		m.Party = address(data)
	case PreferFailure:
		if len(data) != 0 || m.PreferFailure || m.Opcode != Map {
			return refuse(MalformedOption)
		}
		m.PreferFailure = true
	case FilterOption:
		if len(data) != filterSize || m.Opcode != Map {
			return refuse(MalformedOption)
		}
		from, ok := prefix(address(data[4:]), int(data[1]))
		if !ok {
			return refuse(MalformedOption)
		}
		m.Filters = append(m.Filters, Filter{from, binary.BigEndian.Uint16(data[2:])})
	default:
		if code < firstUnneeded {
			return refuse(UnsupportedOption)
		}
	}
	return nil
}

// prefix reads the prefix of a filter: its length counts the 96 bits in front of an IPv4 address
// (RFC 6887, 13.3); 0 is nobody in particular.
func prefix(a netip.Addr, bits int) (netip.Prefix, bool) {
	if bits == 0 {
		return netip.PrefixFrom(a, 0).Masked(), true
	}
	if a.Is4() {
		bits -= 96
	}
	p, err := a.Prefix(bits)
	return p, err == nil
}

// address reads an address of 16 bytes: one of IPv4 stands in its mapped form.
func address(b []byte) netip.Addr {
	a, _ := netip.AddrFromSlice(b[:16])
	return a.Unmap()
}

func appendAddress(b []byte, a netip.Addr) []byte {
	if !a.IsValid() {
		a = netip.IPv6Unspecified()
	}
	bytes := a.As16()
	return append(b, bytes[:]...)
}

// Append appends a message as it stands on the wire.
func (m *Message) Append(b []byte) []byte {
	op := byte(m.Opcode)
	if m.Response {
		op |= 0x80
	}
	b = append(b, Version, op, 0, 0)
	if m.Response {
		b[len(b)-1] = byte(m.Result)
	}
	b = binary.BigEndian.AppendUint32(b, m.Lifetime)
	if m.Response {
		b = binary.BigEndian.AppendUint32(b, m.Epoch)
		b = append(b, make([]byte, 12)...)
	} else {
		b = appendAddress(b, m.Client)
	}
	if m.Opcode != Announce {
		b = append(b, m.Nonce[:]...)
		b = append(b, m.Protocol, 0, 0, 0)
		b = binary.BigEndian.AppendUint16(b, m.InternalPort)
		b = binary.BigEndian.AppendUint16(b, m.ExternalPort)
		b = appendAddress(b, m.External)
	}
	if m.Opcode == Peer {
		b = binary.BigEndian.AppendUint16(b, m.PeerPort)
		b = append(b, 0, 0)
		b = appendAddress(b, m.Peer)
	}
	return m.appendOptions(b)
}

func (m *Message) appendOptions(b []byte) []byte {
	option := func(code OptionCode, length int) {
		b = append(b, byte(code), 0)
		b = binary.BigEndian.AppendUint16(b, uint16(length))
	}
	if m.Party.IsValid() {
		option(ThirdParty, thirdPartySize)
		b = appendAddress(b, m.Party)
	}
	if m.PreferFailure {
		option(PreferFailure, 0)
	}
	for _, f := range m.Filters {
		option(FilterOption, filterSize)
		bits := f.From.Bits()
		if f.From.Addr().Is4() && bits > 0 {
			bits += 96
		}
		b = append(b, 0, byte(bits))
		b = binary.BigEndian.AppendUint16(b, f.Port)
		b = appendAddress(b, f.From.Addr())
	}
	return b
}

// Refuse answers a request that can't be granted, or not even be understood: with itself, as an
// answer (RFC 6887, 8.2).
func Refuse(request []byte, result Result, epoch uint32) []byte {
	b := append([]byte(nil), request[:min(len(request), MostSize)]...)
	for len(b) < HeaderSize || len(b)%4 != 0 {
		b = append(b, 0)
	}
	b[0], b[1], b[2], b[3] = Version, b[1]|0x80, 0, byte(result)
	binary.BigEndian.PutUint32(b[4:], result.Lasts())
	binary.BigEndian.PutUint32(b[8:], epoch)
	clear(b[12:24])
	return b
}

// Epochs are what a client knows of a server's epoch: from two answers it tells whether the
// server has lost its mappings between them (RFC 6887, 8.5).
type Epochs struct {
	known  bool
	server uint32
	client int64 // seconds, by a clock that never goes back
}

// Lost takes the epoch of an answer that came at a second of the client's clock, and reports
// whether mappings that were granted before must be asked for anew.
func (e *Epochs) Lost(server uint32, client int64) bool {
	before := *e
	*e = Epochs{true, server, client}
	if !before.known {
		return false
	}
	if int64(server)+1 < int64(before.server) {
		return true
	}
	clientDelta, serverDelta := client-before.client, int64(server)-int64(before.server)
	return clientDelta+2 < serverDelta-serverDelta/16 || serverDelta+2 < clientDelta-clientDelta/16
}
