package network

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"hollowbridge/core/header"
)

// The open protocols by which programs ask for mappings: the Port Control Protocol (RFC 6887), the
// NAT Port Mapping Protocol (RFC 6886), and the UPnP Internet Gateway Device.
const (
	PCP    = "pcp"
	NATPMP = "nat-pmp"
	IGD    = "upnp-igd"
)

// MappingProtocols are all of them.
var MappingProtocols = []string{PCP, NATPMP, IGD}

// Ports where a gateway is asked for mappings. That of descriptions and control of a UPnP device
// is any, which its answers name (UPnP Device Architecture); ours is the first of the dynamic ones.
const (
	PCPPort  = 5351 // RFC 6887, 19.1; NAT-PMP has the same
	SSDPPort = 1900
	IGDPort  = 49152
)

// Mappings says who may ask a gateway for automatic port mappings.
type Mappings struct {
	Protocols []string
	On        []*Interface // where it listens
	External  *Interface   // where mappings are opened
	AtMost    int          // of all machines together
	Rules     []MappingRule
	Place     Position
}

// Speaks reports whether a protocol is one by which programs may ask.
func (m *Mappings) Speaks(protocol string) bool { return slices.Contains(m.Protocols, protocol) }

// UsualMappings is how many mappings a gateway has at most where the file does not say.
const UsualMappings = 10_000

// A MappingRule allows or refuses mappings; first match decides, no match is refused.
type MappingRule struct {
	Verb      Verb              // Allow or Drop
	From      Expression        // who asks
	By        []string          // by one of these protocols; empty is any
	Transport []header.Protocol // for one of these; empty is any
	Ports     header.Ports      // outside ones
	Inside    header.Ports      // ports of the machine
	For       Expression        // machines that may be asked for besides the one that asks; see ForOthers
	ForOthers bool              // For is set
	Shortest  time.Duration     // a shorter lifetime becomes that; 0 is as asked for
	Lifetime  time.Duration     // a longer one becomes that; 0 is as asked for
	AtMost    int               // mappings of one machine; 0 is no limit
	Ask       bool              // an administrator approves each
	Place     Position
}

// HighPorts are the outside ports that a rule that names none is for.
var HighPorts = header.Ports{First: 1024, Last: 65535}

// A MappingWish is a mapping that a program asks for.
type MappingWish struct {
	By       string // the protocol that it asks by
	Asker    netip.Addr
	In       *Interface // by which the asker is reached
	Machine  netip.Addr // for which it asks: mostly itself
	Protocol header.Protocol
	Port     uint16        // of the machine
	Lifetime time.Duration // positive
}

// Rule returns the first rule that is for a wish, or nil: then it is refused.
func (m *Mappings) Rule(w *MappingWish) *MappingRule {
	for i := range m.Rules {
		if r := &m.Rules[i]; r.isFor(w) {
			return r
		}
	}
	return nil
}

func (r *MappingRule) isFor(w *MappingWish) bool {
	zone := ""
	if w.In != nil {
		zone = w.In.Zone
	}
	return r.From.In(zone).Contains(w.Asker) &&
		(len(r.By) == 0 || slices.Contains(r.By, w.By)) &&
		(len(r.Transport) == 0 || slices.Contains(r.Transport, w.Protocol)) &&
		r.Inside.Contains(w.Port) &&
		(w.Machine == w.Asker || r.ForOthers && r.For.In(zone).Contains(w.Machine))
}

// Granted returns how long a mapping lives for which somebody asks.
func (r *MappingRule) Granted(lifetime time.Duration) time.Duration {
	longest := r.Lifetime
	if longest == 0 {
		longest = MostLifetime
	}
	return min(max(lifetime, r.Shortest), longest)
}

// A Mapping is a forward that a program asked for: what comes to an outside address and port goes
// to a machine. It is a rule of its own kind, behind all of the administrator's.
type Mapping struct {
	NATRule
	Protocol        header.Protocol // TCP or UDP
	Outside, Inside netip.AddrPort  // the same where it only opens the way, of IPv6
	Senders         []Sender        // who may use it; empty is everybody
	By              string          // the protocol that it was asked for by
	Owner           netip.Addr      // who asked for it
	Left            time.Duration   // of its lifetime, where that is known
}

// A Sender is some of those who may use a mapping.
type Sender struct {
	From netip.Prefix
	Port uint16 // that it sends from; 0 is any
}

// NewMapping makes a mapping of a gateway, between two addresses and ports.
func NewMapping(external *Interface, protocol header.Protocol, outside, inside netip.AddrPort, senders []Sender, by string, owner netip.Addr) *Mapping {
	m := &Mapping{Protocol: protocol, Outside: outside, Inside: inside, Senders: senders, By: by, Owner: owner}
	m.Rule = Rule{Gateway: external.Gateway, Name: MappingName(protocol, outside), Kind: MappingKind, Place: external.Gateway.Place}
	m.Does, m.On = Mapped, []*Interface{external}
	m.At, m.AtText = header.Single(outside.Addr()), outside.Addr().String()
	m.Ports = []PortMap{{Protocol: protocol, Ports: header.Ports{First: outside.Port(), Last: outside.Port()}, ToFirst: inside.Port()}}
	m.Service = header.ServiceAt(protocol, outside.Port()).String()
	m.TargetAs, m.TargetIs = inside.String(), inside.Addr().String()
	if inside.Addr().Is4() {
		m.Target.V4 = inside.Addr()
	} else {
		m.Target.V6 = inside.Addr()
	}
	return m
}

// MappingKind is the kind of a mapping, and the name of the list that mappings stand in.
const MappingKind = "mapping"

// MappingName returns what a mapping is known by: its outside service, and, of IPv6, where every
// machine has its own, the address.
func MappingName(protocol header.Protocol, outside netip.AddrPort) string {
	name := header.ServiceAt(protocol, outside.Port()).String()
	if outside.Addr().Is6() {
		name += "@" + outside.Addr().String()
	}
	return name
}

// Admits reports whether somebody may use the mapping.
func (m *Mapping) Admits(sender netip.Addr, port uint16) bool {
	return len(m.Senders) == 0 || slices.ContainsFunc(m.Senders, func(s Sender) bool {
		return s.From.Contains(sender) && (s.Port == 0 || s.Port == port)
	})
}

// MostLifetime is the longest lifetime a mapping may have.
const MostLifetime = 365 * 24 * time.Hour

// ParseLifetime reads a number of seconds, minutes, hours or days, as 90s, 30m, 1h, 7d.
func ParseLifetime(text string) (time.Duration, error) {
	units := map[byte]time.Duration{'s': time.Second, 'm': time.Minute, 'h': time.Hour, 'd': 24 * time.Hour}
	if len(text) >= 2 {
		unit := units[text[len(text)-1]]
		n, err := strconv.ParseUint(text[:len(text)-1], 10, 32)
		if life := time.Duration(n) * unit; unit > 0 && err == nil && n > 0 && life <= MostLifetime {
			return life, nil
		}
	}
	return 0, fmt.Errorf("%s: not a lifetime; write 90s, 30m, 1h or 7d, at most a year", text)
}

// An Expectation is something that must hold of the network.
type Expectation struct {
	Say     string
	From    Expression // who; of Only, the only ones
	To      Expression
	Service header.Services
	Text    string // the service as written
	Must    Must
	Host    *Host // for Reaches: the host that must be reached
	Place   Position
}

// Must is what an expectation demands.
type Must string

// What an expectation can demand of connections from From to To.
const (
	Reaches Must = "reaches" // all of them reach Host
	Stops   Must = "stops"   // none of them reaches anything
	Only    Must = "only"    // nobody but From reaches To
	Never   Must = "never"   // none of From ever reaches To, by whatever address
)
