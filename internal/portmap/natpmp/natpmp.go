// Package natpmp is the messages of the NAT Port Mapping Protocol (RFC 6886): what stands on the
// wire, and nothing else.
package natpmp

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
)

// Version is the version of the protocol. The Port Control Protocol, on the same port, has others.
const Version = 0

// An Opcode says what is asked for.
type Opcode uint8

// The opcodes (RFC 6886, 3.2 and 3.3).
const (
	ExternalAddress Opcode = 0
	MapUDP          Opcode = 1
	MapTCP          Opcode = 2
	response        Opcode = 128
)

// Sizes of messages, in bytes.
const (
	askSize      = 2
	mapSize      = 12
	addressSize  = 12
	mappedSize   = 16
	refusalSize  = 8
	mostRequests = 1100 // as of the Port Control Protocol
)

// A Result is a result code (RFC 6886, 3.5).
type Result uint16

// The result codes.
const (
	Success Result = iota
	UnsupportedVersion
	NotAuthorized
	NetworkFailure
	OutOfResources
	UnsupportedOpcode
)

var results = [...]string{"success", "unsupported version", "not authorized", "network failure", "out of resources", "unsupported opcode"}

func (r Result) String() string {
	if int(r) < len(results) {
		return results[r]
	}
	return fmt.Sprintf("result %d", uint16(r))
}

// A Request is what a client asks for. Port, Wished and Lifetime are those of a mapping.
type Request struct {
	Opcode   Opcode
	Port     uint16 // of the client; 0 with lifetime 0 is all of them
	Wished   uint16 // outside; 0 is any
	Lifetime uint32 // seconds; 0 takes the mapping away
}

// A Response is the answer to a request.
type Response struct {
	Opcode   Opcode
	Result   Result
	Epoch    uint32 // seconds since the server knows its mappings
	External netip.Addr
	Port     uint16
	Mapped   uint16
	Lifetime uint32
}

// ErrSilence is the error for what gets no answer at all.
var ErrSilence = errors.New("no request")

// A Refusal is why a request can't be understood.
type Refusal struct{ Result Result }

func (r *Refusal) Error() string { return r.Result.String() }

// ParseRequest reads a request. What no answer is due to is ErrSilence, and any other error a
// Refusal, which Refuse answers.
func ParseRequest(b []byte) (r Request, err error) {
	switch {
	case len(b) < askSize || len(b) > mostRequests || Opcode(b[1]) >= response:
		return r, ErrSilence
	case b[0] != Version:
		return r, &Refusal{UnsupportedVersion}
	}
	switch r.Opcode = Opcode(b[1]); r.Opcode {
	case ExternalAddress:
		return r, nil
	case MapUDP, MapTCP:
		if len(b) < mapSize {
			return r, ErrSilence
		}
		r.Port, r.Wished = binary.BigEndian.Uint16(b[4:]), binary.BigEndian.Uint16(b[6:])
		r.Lifetime = binary.BigEndian.Uint32(b[8:])
		return r, nil
	}
	return r, &Refusal{UnsupportedOpcode}
}

// Append appends a request as it stands on the wire.
func (r *Request) Append(b []byte) []byte {
	b = append(b, Version, byte(r.Opcode))
	if r.Opcode == ExternalAddress {
		return b
	}
	b = append(b, 0, 0)
	b = binary.BigEndian.AppendUint16(b, r.Port)
	b = binary.BigEndian.AppendUint16(b, r.Wished)
	return binary.BigEndian.AppendUint32(b, r.Lifetime)
}

// Append appends an answer as it stands on the wire.
func (r *Response) Append(b []byte) []byte {
	b = append(b, Version, byte(r.Opcode|response))
	b = binary.BigEndian.AppendUint16(b, uint16(r.Result))
	b = binary.BigEndian.AppendUint32(b, r.Epoch)
	switch r.Opcode {
	case ExternalAddress:
		a := [4]byte{}
		if r.External.Is4() {
			a = r.External.As4()
		}
		return append(b, a[:]...)
	case MapUDP, MapTCP:
		b = binary.BigEndian.AppendUint16(b, r.Port)
		b = binary.BigEndian.AppendUint16(b, r.Mapped)
		return binary.BigEndian.AppendUint32(b, r.Lifetime)
	}
	return b
}

// Refuse answers a request that can't be granted, or not even be understood (RFC 6886, 3.5): with
// as much of it as there is.
func Refuse(request []byte, result Result, epoch uint32) []byte {
	r := Response{Opcode: Opcode(request[1]) &^ response, Result: result, Epoch: epoch}
	if parsed, err := ParseRequest(request); err == nil {
		r.Port = parsed.Port
	}
	return r.Append(nil)
}

// ParseResponse reads an answer.
func ParseResponse(b []byte) (r Response, err error) {
	if len(b) < refusalSize || Opcode(b[1]) < response {
		return r, errors.New("no answer")
	}
	r.Opcode, r.Result, r.Epoch = Opcode(b[1])&^response, Result(binary.BigEndian.Uint16(b[2:])), binary.BigEndian.Uint32(b[4:])
	if b[0] != Version { // of a server that speaks something newer: the code stands at the same place
		return r, fmt.Errorf("version %d", b[0])
	}
	switch {
	case r.Opcode == ExternalAddress && len(b) >= addressSize:
		r.External = netip.AddrFrom4([4]byte(b[8:12]))
	case r.Opcode != ExternalAddress && len(b) >= mappedSize:
		r.Port, r.Mapped = binary.BigEndian.Uint16(b[8:]), binary.BigEndian.Uint16(b[10:])
		r.Lifetime = binary.BigEndian.Uint32(b[12:])
	case r.Result == Success:
		return r, errors.New("an answer that is too short")
	}
	return r, nil
}

// Lost reports whether a server has lost its mappings between two answers of some seconds apart by
// the client's clock: its epoch is not where seven eighths of that time would have brought it
// (RFC 6886, 3.6).
func Lost(before, now uint32, apart int64) bool {
	return int64(now)+2 < int64(before)+apart*7/8
}
