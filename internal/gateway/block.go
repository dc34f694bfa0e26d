package gateway

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"time"
)

// A block is events one after the other, as they stand in the state: thousands of small rows
// would cost more than what is in them. It begins with its version. Whole numbers are varints;
// a text is its number in the block, and stands behind that where it is new; an address is its
// length and bytes.
const blockVersion = 1

// mostInBlock is how many events stand in one.
const mostInBlock = 1024

type blockWriter struct {
	data  []byte
	texts map[string]uint64
	last  int64 // nanoseconds of the event before
	count int
}

func newBlock() *blockWriter {
	return &blockWriter{data: []byte{blockVersion}, texts: map[string]uint64{}}
}

func (w *blockWriter) number(n uint64) { w.data = binary.AppendUvarint(w.data, n) }

func (w *blockWriter) text(s string) {
	known, ok := w.texts[s]
	if ok {
		w.number(known)
		return
	}
	w.number(uint64(len(w.texts)))
	w.texts[s] = uint64(len(w.texts))
	w.number(uint64(len(s)))
	w.data = append(w.data, s...)
}

func (w *blockWriter) address(a netip.Addr) {
	bytes := a.AsSlice()
	w.number(uint64(len(bytes)))
	w.data = append(w.data, bytes...)
}

func (w *blockWriter) packet(p *Packet) {
	if p == nil {
		w.text("")
		return
	}
	w.text(p.Protocol)
	w.address(p.Source)
	w.number(uint64(p.SourcePort))
	w.address(p.Destination)
	w.number(uint64(p.DestinationPort))
}

// add adds an event. Its number is not kept: events are numbered one after the other.
func (w *blockWriter) add(e *Event) {
	w.count++
	at := e.Time.UnixNano()
	w.data = binary.AppendVarint(w.data, at-w.last)
	w.last = at
	for _, s := range []string{e.What, e.Outcome, e.Rule, e.In, e.Out, e.InDevice, e.OutDevice, e.Text} {
		w.text(s)
	}
	w.packet(e.Before)
	w.packet(e.After)
}

// A blockReader reads what a blockWriter wrote; what it did not write is an error, never more.
type blockReader struct {
	data  []byte
	texts []string
	last  int64
	err   error
}

var errBlock = errors.New("the events of the state are damaged")

func readBlock(data []byte) *blockReader {
	if len(data) == 0 || data[0] != blockVersion {
		return &blockReader{err: fmt.Errorf("%w: another version", errBlock)}
	}
	return &blockReader{data: data[1:]}
}

func (r *blockReader) fail() uint64 {
	r.data, r.err = nil, errBlock
	return 0
}

func (r *blockReader) number() uint64 {
	n, size := binary.Uvarint(r.data)
	if size <= 0 {
		return r.fail()
	}
	r.data = r.data[size:]
	return n
}

func (r *blockReader) bytes(n uint64) []byte {
	if n > uint64(len(r.data)) {
		r.fail()
		return nil
	}
	b := r.data[:n]
	r.data = r.data[n:]
	return b
}

func (r *blockReader) text() string {
	switch n := r.number(); {
	case n < uint64(len(r.texts)):
		return r.texts[n]
	case n > uint64(len(r.texts)):
		r.fail()
		return ""
	}
	s := string(r.bytes(r.number()))
	if r.err == nil {
		r.texts = append(r.texts, s)
	}
	return s
}

func (r *blockReader) address() netip.Addr {
	b := r.bytes(r.number())
	if len(b) == 0 {
		return netip.Addr{}
	}
	a, ok := netip.AddrFromSlice(b)
	if !ok {
		r.fail()
	}
	return a
}

func (r *blockReader) port() uint16 {
	n := r.number()
	if n > 65535 {
		r.fail()
	}
	return uint16(n)
}

// packet reads a packet into p, and reports whether there is one.
func (r *blockReader) packet(p *Packet) bool {
	protocol := r.text()
	if protocol == "" {
		return false
	}
	p.Protocol = protocol
	p.Source, p.SourcePort = r.address(), r.port()
	p.Destination, p.DestinationPort = r.address(), r.port()
	return true
}

// A stored event holds its packets itself, so that reading one allocates nothing.
type stored struct {
	Event
	before, after Packet
}

// next reads the next event. It returns false behind the last one, and where r.err says why.
func (r *blockReader) next(e *stored) bool {
	if len(r.data) == 0 || r.err != nil {
		return false
	}
	delta, size := binary.Varint(r.data)
	if size <= 0 {
		r.fail()
		return false
	}
	r.data = r.data[size:]
	r.last += delta
	e.Event = Event{Time: time.Unix(0, r.last).UTC()}
	for _, s := range []*string{&e.What, &e.Outcome, &e.Rule, &e.In, &e.Out, &e.InDevice, &e.OutDevice, &e.Text} {
		*s = r.text()
	}
	if r.packet(&e.before) {
		e.Before = &e.before
	}
	if r.packet(&e.after) {
		e.After = &e.after
	}
	return r.err == nil
}

// own returns an event that is the caller's to keep.
func (e *stored) own() Event {
	made := e.Event
	if made.Before != nil {
		p := e.before
		made.Before = &p
	}
	if made.After != nil {
		p := e.after
		made.After = &p
	}
	return made
}
