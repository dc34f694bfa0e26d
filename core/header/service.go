package header

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// A Protocol is what runs directly on IP. Zero stands for any.
type Protocol uint8

// The protocols a service can be written with. ICMP stands for ICMP between
// IPv4 addresses and for ICMPv6 between IPv6 addresses. The numbers are IANA's.
const (
	AnyProtocol Protocol = 0
	ICMP        Protocol = 1
	TCP         Protocol = 6
	UDP         Protocol = 17
	GRE         Protocol = 47
	ESP         Protocol = 50
	SCTP        Protocol = 132
)

var protocols = []struct {
	number Protocol
	name   string
	ports  bool
}{
	{TCP, "tcp", true},
	{UDP, "udp", true},
	{SCTP, "sctp", true},
	{ICMP, "icmp", false},
	{GRE, "gre", false},
	{ESP, "esp", false},
}

// String returns the name a protocol has in files.
func (p Protocol) String() string {
	for _, known := range protocols {
		if known.number == p {
			return known.name
		}
	}
	if p == AnyProtocol {
		return "any"
	}
	return strconv.Itoa(int(p))
}

// HasPorts reports whether the protocol's packets carry port numbers.
func (p Protocol) HasPorts() bool {
	for _, known := range protocols {
		if known.number == p {
			return known.ports
		}
	}
	return false
}

// Numbered reports whether connections of the protocol have a source port, or an
// identifier like one (the echo request's, RFC 792).
func (p Protocol) Numbered() bool { return p.HasPorts() || p == ICMP }

// ParseProtocol reads a protocol's name.
func ParseProtocol(text string) (Protocol, bool) {
	for _, known := range protocols {
		if known.name == text {
			return known.number, true
		}
	}
	return 0, false
}

// Protocols returns all protocols that services can name.
func Protocols() []Protocol {
	numbers := make([]Protocol, len(protocols))
	for i, known := range protocols {
		numbers[i] = known.number
	}
	return numbers
}

// ProtocolNames returns the names of all protocols.
func ProtocolNames() []string {
	names := make([]string, len(protocols))
	for i, known := range protocols {
		names[i] = known.name
	}
	return names
}

// Ports is the port numbers from First to Last, both included; First is not above Last.
type Ports struct{ First, Last uint16 }

// AllPorts is every port a connection can use.
var AllPorts = Ports{1, 65535}

// Contains reports whether port is in the range.
func (p Ports) Contains(port uint16) bool { return p.First <= port && port <= p.Last }

// Count returns how many ports there are, 1 to 65536.
func (p Ports) Count() int { return int(p.Last) - int(p.First) + 1 }

func (p Ports) String() string {
	if p.First == p.Last {
		return strconv.Itoa(int(p.First))
	}
	return fmt.Sprintf("%d-%d", p.First, p.Last)
}

// ParsePorts reads PORT or FIRST-LAST, each 1 to 65535.
func ParsePorts(text string) (Ports, error) {
	first, last, isRange := strings.Cut(text, "-")
	if isRange && (first == "" || last == "") {
		return Ports{}, fmt.Errorf("%s: not a port or a range; ports go from 1 to 65535", text)
	}
	a, err := parsePort(first)
	if err != nil {
		return Ports{}, err
	}
	if !isRange {
		return Ports{a, a}, nil
	}
	b, err := parsePort(last)
	if err != nil {
		return Ports{}, err
	}
	if b < a {
		return Ports{}, fmt.Errorf("%s: the range is backwards; write %d-%d", text, b, a)
	}
	return Ports{a, b}, nil
}

// ParsePortList reads ranges of ports with commas between them.
func ParsePortList(text string) ([]Ports, error) {
	var list []Ports
	for part := range strings.SplitSeq(text, ",") {
		ports, err := ParsePorts(strings.TrimSpace(part))
		if err != nil {
			return nil, err
		}
		list = append(list, ports)
	}
	return list, nil
}

func parsePort(text string) (uint16, error) {
	n, err := parseNumber(text, 65535)
	if err != nil || n == 0 {
		return 0, fmt.Errorf("%s: not a port; ports go from 1 to 65535", quoteEmpty(text))
	}
	return uint16(n), nil
}

// parseNumber reads plain digits without sign or leading zero, up to most.
func parseNumber(text string, most int) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > most || strconv.Itoa(n) != text {
		return 0, fmt.Errorf("%s: not a number from 0 to %d", quoteEmpty(text), most)
	}
	return n, nil
}

func quoteEmpty(text string) string {
	if text == "" {
		return `""`
	}
	return text
}

// A Service is a protocol and the ports it is served on. For a protocol
// without ports Ports is zero; AnyProtocol is any protocol on any port.
type Service struct {
	Protocol Protocol
	Ports    Ports
}

// AnyService is everything.
var AnyService = Service{}

// ServiceAt returns the service on one port of a protocol.
func ServiceAt(protocol Protocol, port uint16) Service {
	return Service{protocol, Ports{port, port}}
}

// Matches reports whether a connection of that protocol to that port is to the service.
func (s Service) Matches(protocol Protocol, port uint16) bool {
	if s.Protocol == AnyProtocol {
		return true
	}
	return s.Protocol == protocol && (!protocol.HasPorts() || s.Ports.Contains(port))
}

func (s Service) String() string {
	switch {
	case !s.Protocol.HasPorts():
		return s.Protocol.String()
	case s.Ports == AllPorts:
		return s.Protocol.String()
	}
	return s.Protocol.String() + "/" + s.Ports.String()
}

// Services is what one of several services matches. Empty matches nothing.
type Services []Service

// Matches reports whether one of the services matches.
func (s Services) Matches(protocol Protocol, port uint16) bool {
	for i := range s {
		if s[i].Matches(protocol, port) {
			return true
		}
	}
	return false
}

// Of returns which ports of a protocol are among the services, sorted and disjoint, or that any
// is: of no services, any, and of a protocol without ports. A protocol that is not among them
// has none.
func (s Services) Of(protocol Protocol) (ports []Ports, any bool) {
	if len(s) == 0 {
		return nil, true
	}
	for _, service := range s {
		switch {
		case service.Protocol == AnyProtocol, service.Protocol == protocol && !protocol.HasPorts():
			return nil, true
		case service.Protocol == protocol:
			ports = append(ports, service.Ports)
		}
	}
	return MergePorts(ports), false
}

// MergePorts returns the same ports as sorted, disjoint ranges with gaps between them.
func MergePorts(list []Ports) (merged []Ports) {
	if len(list) < 2 {
		return list
	}
	for _, p := range slices.SortedFunc(slices.Values(list), func(a, b Ports) int { return int(a.First) - int(b.First) }) {
		if n := len(merged); n > 0 && int(p.First) <= int(merged[n-1].Last)+1 {
			merged[n-1].Last = max(merged[n-1].Last, p.Last)
			continue
		}
		merged = append(merged, p)
	}
	return merged
}

// Merged returns services that match the same, of each protocol sorted and disjoint.
func (s Services) Merged() (merged Services) {
	switch {
	case len(s) == 0:
		return nil
	case slices.Contains(s, AnyService):
		return Services{AnyService}
	}
	for _, protocol := range Protocols() {
		ports, any := s.Of(protocol)
		if any {
			merged = append(merged, Service{Protocol: protocol})
		}
		for _, p := range ports {
			merged = append(merged, Service{protocol, p})
		}
	}
	return merged
}

func (s Services) String() string {
	texts := make([]string, len(s))
	for i := range s {
		texts[i] = s[i].String()
	}
	return strings.Join(texts, ", ")
}

// ParseService reads PROTOCOL[+PROTOCOL][/PORTS] where PORTS is a list of ports
// and ranges with commas, or a name that lookup knows. "any" is every protocol.
func ParseService(text string, lookup func(name string) (Services, error)) (Services, error) {
	if text == "any" {
		return Services{AnyService}, nil
	}
	names, ports, hasPorts := strings.Cut(text, "/")
	first, _, _ := strings.Cut(names, "+")
	if _, known := ParseProtocol(first); !known && !hasPorts && !strings.Contains(names, "+") {
		if _, err := parseNumber(text, 65535); err == nil {
			return nil, fmt.Errorf("%s: a port needs its protocol; write tcp/%s or udp/%s", text, text, text)
		}
		return lookup(text)
	}
	var found Services
	for name := range strings.SplitSeq(names, "+") {
		protocol, known := ParseProtocol(name)
		if !known {
			return nil, fmt.Errorf("%s: no such protocol; there are %s", quoteEmpty(name), strings.Join(ProtocolNames(), ", "))
		}
		switch {
		case !protocol.HasPorts() && hasPorts:
			return nil, fmt.Errorf("%s: %s has no ports", text, name)
		case !protocol.HasPorts():
			found = append(found, Service{Protocol: protocol})
		case !hasPorts:
			found = append(found, Service{protocol, AllPorts})
		default:
			list, err := ParsePortList(ports)
			if err != nil {
				return nil, err
			}
			for _, p := range list {
				found = append(found, Service{protocol, p})
			}
		}
	}
	return found, nil
}
