package kernel

import (
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"hollowbridge/core/header"

	"golang.org/x/sys/unix"
)

// A Program is what the kernel is to do with packets for one gateway: a table of ours with
// chains of rules, sets and counters. It is a value; Apply puts it on a machine.
type Program struct {
	gateway  string
	chains   []*chain
	sets     []*set
	counters []Counted
	known    map[string]*set // by their contents
	named    map[string]*chain
	counts   map[string]bool
}

func newProgram(gateway string) *Program {
	return &Program{gateway: gateway, known: map[string]*set{}, named: map[string]*chain{}, counts: map[string]bool{}}
}

// A chain is rules in order. A base chain is where the kernel hands packets to us.
type chain struct {
	name  string
	about string // for people
	base  *base
	rules []rule
}

// A base says where packets come to a chain.
type base struct {
	kind     string // filter, nat or route
	hook     uint32
	priority int32
	policy   verdict // what becomes of a packet that no rule decides about
}

// A statement is one part of a rule: how it reads, and what the kernel does for it.
type statement struct {
	words       string
	expressions []expression
}

// A rule is statements in order.
type rule []statement

func (r rule) words() string {
	var words []string
	for _, s := range r {
		if s.words != "" {
			words = append(words, s.words)
		}
	}
	return strings.Join(words, " ")
}

// A set is values, or a map from values to others.
type set struct {
	name     string
	keyLen   uint32
	interval bool
	verdicts bool
	open     bool     // elements come and go
	fields   []uint32 // lengths of the values that a key is made of, where it is an interval in each
	dataLen  uint32
	elements []element
	words    string
}

// An element is one value of a set, or, in a set of intervals, all from key to before end.
type element struct {
	key, end []byte // end is nil for one value, or where there is none behind the last
	goes     verdict
	data     []byte
	timeout  time.Duration // of a set that is open, after which it goes by itself; 0 is never
	words    string
}

func (p *Program) chain(name, about string) *chain {
	c := &chain{name: name, about: about}
	p.chains, p.named[name] = append(p.chains, c), c
	return c
}

func (c *chain) add(parts ...[]statement) {
	c.rules = append(c.rules, slices.Concat(parts...))
}

// one is a single statement, to be put together with others.
func one(words string, expressions ...expression) []statement {
	return []statement{{words, expressions}}
}

// set returns a set with these contents: one that there is already, or a new one.
func (p *Program) set(s set) *set {
	var id strings.Builder
	fmt.Fprint(&id, s.keyLen, s.interval, s.verdicts, s.dataLen)
	for _, e := range s.elements {
		fmt.Fprintf(&id, " %x-%x:%d%s%x", e.key, e.end, e.goes.code, e.goes.chain, e.data)
	}
	if known := p.known[id.String()]; known != nil {
		return known
	}
	s.name = fmt.Sprintf("set%d", len(p.sets)+1)
	p.sets = append(p.sets, &s)
	p.known[id.String()] = &s
	return &s
}

// deviceKey is an interface's name on the machine as the kernel compares it.
func deviceKey(name string) []byte {
	b := make([]byte, unix.IFNAMSIZ)
	copy(b, name)
	return b
}

func cameBy(device string) []statement {
	return one("in by "+device, meta(unix.NFT_META_IIFNAME, register0), equal(register0, deviceKey(device)))
}

func sentBy(mac net.HardwareAddr) []statement {
	return one("from "+mac.String(), payload(unix.NFT_PAYLOAD_LL_HEADER, uint32(len(mac)), uint32(len(mac)), register0), equal(register0, mac))
}

func leavesBy(device string) []statement {
	return one("out by "+device, meta(unix.NFT_META_OIFNAME, register0), equal(register0, deviceKey(device)))
}

// families as the kernel numbers them.
var familyNumbers = [2]uint32{unix.NFPROTO_IPV4, unix.NFPROTO_IPV6}

func ofFamily(f header.Family) []statement {
	return one(f.String(), meta(unix.NFT_META_NFPROTO, register0), equal(register0, []byte{byte(familyNumbers[f])}))
}

// protocolNumber is the number of a protocol in a packet of a family: ICMP has two.
func protocolNumber(p header.Protocol, f header.Family) byte {
	if p == header.ICMP && f == header.IPv6 {
		return unix.IPPROTO_ICMPV6
	}
	return byte(p)
}

// protocolOf returns the protocol of a number in an IP header.
func protocolOf(number byte) (header.Protocol, bool) {
	for _, p := range header.Protocols() {
		for _, f := range header.Families {
			if protocolNumber(p, f) == number {
				return p, true
			}
		}
	}
	return header.AnyProtocol, false
}

func ofProtocol(p header.Protocol, f header.Family) []statement {
	return one(p.String(), meta(unix.NFT_META_L4PROTO, register0), equal(register0, []byte{protocolNumber(p, f)}))
}

// An end is one end of a packet, as it is or as it was when its connection began, or as that
// is answered.
type end uint8

const (
	source end = iota
	destination
	destinationBefore // of the first packet, before anything was translated
	destinationOfAnswer
)

var endWords = [...]string{"from", "to", "first sent to", "first answered to"}

// address loads the address of an end.
func (e end) address(f header.Family, register uint32) expression {
	switch e {
	case destinationBefore, destinationOfAnswer:
		key := [2]uint32{unix.NFT_CT_DST_IP, unix.NFT_CT_DST_IP6}[f]
		return trackedOf(key, register, uint8(e-destinationBefore))
	}
	offset, length := uint32(12), uint32(4)
	if f == header.IPv6 {
		offset, length = 8, 16
	}
	if e == destination {
		offset += length
	}
	return payload(unix.NFT_PAYLOAD_NETWORK_HEADER, offset, length, register)
}

// port loads the port of an end.
func (e end) port(register uint32) expression {
	switch e {
	case destinationBefore, destinationOfAnswer:
		return trackedOf(unix.NFT_CT_PROTO_DST, register, uint8(e-destinationBefore))
	case destination:
		return payload(unix.NFT_PAYLOAD_TRANSPORT_HEADER, 2, 2, register)
	}
	return payload(unix.NFT_PAYLOAD_TRANSPORT_HEADER, 0, 2, register)
}

// among asks whether the address of an end is in a set; nothing for all of the family.
func (p *Program) among(e end, f header.Family, all header.Addresses) []statement {
	set := all.Intersect(f.All())
	if set.Equal(f.All()) {
		return nil
	}
	var elements []element
	for _, r := range set.Ranges() {
		elements = append(elements, element{key: r.First.AsSlice(), end: after(r.Last.AsSlice()), words: r.String()})
	}
	words := endWords[e] + " " + set.String()
	return p.inside(words, e.address(f, register0), uint32(len(elements[0].key)), elements)
}

// ports asks whether the port of an end is among some.
func (p *Program) ports(e end, list []header.Ports) []statement {
	var elements []element
	var words []string
	for _, ports := range list {
		elements = append(elements, element{key: port(ports.First), end: after(port(ports.Last)), words: ports.String()})
		words = append(words, ports.String())
	}
	what := "port "
	if e == source {
		what = "source port "
	}
	return p.inside(what+strings.Join(words, ", "), e.port(register0), 2, elements)
}

func port(n uint16) []byte { return []byte{byte(n >> 8), byte(n)} }

// after returns the next value, or nil behind the last.
func after(value []byte) []byte {
	next := slices.Clone(value)
	for i := len(next) - 1; i >= 0; i-- {
		if next[i]++; next[i] != 0 {
			return next
		}
	}
	return nil
}

// inside asks whether what is loaded lies in one of some intervals.
func (p *Program) inside(words string, load expression, length uint32, elements []element) []statement {
	if len(elements) == 1 {
		e := elements[0]
		last := before(e.end, len(e.key))
		if slices.Equal(e.key, last) {
			return one(words, load, equal(register0, e.key))
		}
		return one(words, load, compare(unix.NFT_CMP_GTE, register0, e.key), compare(unix.NFT_CMP_LTE, register0, last))
	}
	s := p.set(set{keyLen: length, interval: true, elements: elements, words: words})
	return one(words, load, lookup(s.name, register0))
}

// before is the opposite of after.
func before(end []byte, length int) []byte {
	last := make([]byte, length)
	copy(last, end)
	for i := length - 1; i >= 0; i-- {
		if last[i]--; last[i] != 255 {
			break
		}
	}
	return last
}

// States of connections, from linux/netfilter/nf_conntrack_common.h.
const (
	invalidState     = 1
	establishedState = 2
	relatedState     = 4
	newState         = 8
)

var stateWords = map[uint32]string{
	invalidState: "of no connection", establishedState | relatedState: "of a known connection",
	establishedState: "of a known connection itself", relatedState: "about a known connection", newState: "of a new connection",
}

func inState(state uint32) []statement {
	return one(stateWords[state], tracked(unix.NFT_CT_STATE, register0), mask(register0, host32(state), host32(0)), compare(unix.NFT_CMP_NEQ, register0, host32(0)))
}

func notInState(state uint32, words string) []statement {
	return one(words, tracked(unix.NFT_CT_STATE, register0), mask(register0, host32(state), host32(0)), equal(register0, host32(0)))
}

func inDirection(answers bool) []statement {
	words, direction := "as it began", byte(0)
	if answers {
		words, direction = "answering", 1
	}
	return one(words, tracked(unix.NFT_CT_DIRECTION, register0), equal(register0, []byte{direction}))
}

// notBeginning asks whether a TCP packet is none that begins a connection.
func notBeginning() []statement {
	const syn, flags = 2, 0x17 // FIN, SYN, RST, ACK (RFC 9293)
	return one("tcp that begins nothing", meta(unix.NFT_META_L4PROTO, register0), equal(register0, []byte{unix.IPPROTO_TCP}),
		payload(unix.NFT_PAYLOAD_TRANSPORT_HEADER, 13, 1, register0), mask(register0, []byte{flags}, []byte{0}), compare(unix.NFT_CMP_NEQ, register0, []byte{syn}))
}

// marked asks whether the bits of a connection's mark are these.
func marked(words string, bits, are uint32) []statement {
	return one(words, tracked(unix.NFT_CT_MARK, register0), mask(register0, host32(bits), host32(0)), equal(register0, host32(are)))
}

// marks gives some bits of a connection's mark a value.
func marks(words string, bits, become uint32) []statement {
	return one(words, tracked(unix.NFT_CT_MARK, register0), mask(register0, host32(^bits), host32(become)), setTracked(unix.NFT_CT_MARK, register0))
}

func ends(v verdict) []statement {
	words := "drop"
	switch {
	case v.chain != "":
		words = "-> " + v.chain
	case v == accepts:
		words = "pass"
	}
	return one(words, v.expression())
}

// logged sends the packet to the log, with a mark by which its rule is known.
func logged(mark string) []statement { return one("log", logTo(LogGroup, mark)) }

// counted counts the packet for a rule.
func (p *Program) counted(counter string) []statement {
	if !p.counts[counter] {
		p.counters, p.counts[counter] = append(p.counters, Counted{Name: counter}), true
	}
	return one("count "+counter, count(counter))
}

// LogGroup is the number of the kernel's log group that rules of ours log to.
const LogGroup = 0x4842

// byPair returns a map from two interfaces, the one that a packet came by and the one it leaves
// by, to a verdict.
func (p *Program) byPair(elements []element, via expression) []statement {
	s := p.set(set{keyLen: 2 * unix.IFNAMSIZ, verdicts: true, elements: elements, words: "by the two interfaces"})
	return one("by the two interfaces "+s.name, meta(unix.NFT_META_IIFNAME, register0), via, lookupInto(s.name, register0, unix.NFT_REG_VERDICT))
}

func pairKey(in, out string) []byte { return append(deviceKey(in), deviceKey(out)...) }

// Words returns the program for people, a line a rule.
func (p *Program) Words() []string {
	var lines []string
	for _, c := range p.chains {
		head := c.name
		if c.about != "" {
			head += ": " + c.about
		}
		lines = append(lines, head)
		for _, r := range c.rules {
			lines = append(lines, "  "+r.words())
		}
	}
	for _, s := range p.sets {
		if !s.verdicts && s.dataLen == 0 {
			continue
		}
		lines = append(lines, s.name+": "+s.words)
		for _, e := range s.elements {
			words := e.words
			if s.verdicts {
				words += " " + ends(e.goes)[0].words
			}
			lines = append(lines, "  "+words)
		}
	}
	return lines
}

// A Counted is what a counter of the program has counted.
type Counted struct {
	Name           string
	Packets, Bytes uint64
}

// Counters returns what its counters begin with.
func (p *Program) Counters() []Counted { return slices.Clone(p.counters) }

// Resume makes counters begin where those of the same names have stopped.
func (p *Program) Resume(before []Counted) {
	known := map[string]Counted{}
	for _, c := range before {
		known[c.Name] = c
	}
	for i := range p.counters {
		c := &p.counters[i]
		c.Packets, c.Bytes = known[c.Name].Packets, known[c.Name].Bytes
	}
}

// Size returns how many rules and elements of sets the program has.
func (p *Program) Size() (rules, elements int) {
	for _, c := range p.chains {
		rules += len(c.rules)
	}
	for _, s := range p.sets {
		elements += len(s.elements)
	}
	return rules, elements
}
