package network

import (
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"

	"hollowbridge/core/header"
)

// A Rule is what NAT rules and filter rules have in common.
type Rule struct {
	Gateway  *Gateway
	Name     string
	Kind     string // the word the rule starts with: port-forward, allow, ...
	Number   int    // place in its list, counted from 1
	Disabled bool
	Log      bool
	Note     string
	Owner    string        // whose it is
	Until    Deadline      // when it is over
	Expired  bool          // it is over now, see Network.On
	Accept   []FindingKind // findings that are meant to be
	When     *Schedule     // nil is always
	Place    Position

	over Moment // from when on it takes no part; 0 is never
	gone bool   // that was before the day that is asked about
}

func (r *Rule) setNow(now Moment) {
	r.over, _ = r.Until.Over()
	r.Expired, r.gone = r.Until.IsOver(now), r.Until.IsOver(now.Date().Begins())
}

// A RuleID is what a rule is known by in all revisions of a network.
type RuleID struct{ Gateway, List, Name string } // List is nat, filter or mapping

// ID returns what the rule is known by.
func (r *Rule) ID() RuleID { return RuleID{r.Gateway.Name, r.List(), r.Name} }

// List returns the list that the rule stands in: nat, filter or mapping.
func (r *Rule) List() string {
	if r.Kind == MappingKind {
		return MappingKind
	}
	if slices.Contains(Verbs, Verb(r.Kind)) {
		return "filter"
	}
	return "nat"
}

// Rules returns the gateway's rules: those of the nat list, then those of the filter.
func (g *Gateway) Rules() iter.Seq[*Rule] {
	return func(yield func(*Rule) bool) {
		for _, r := range g.NAT {
			if !yield(&r.Rule) {
				return
			}
		}
		for _, r := range g.Filter {
			if !yield(&r.Rule) {
				return
			}
		}
	}
}

// Off reports whether the rule takes no part at any moment that is asked about.
func (r *Rule) Off() bool { return r.Disabled || r.gone }

// Active reports whether the rule takes part at that moment.
func (r *Rule) Active(at Moment) bool {
	return !r.Off() && (r.over == 0 || at < r.over) && (r.When == nil || r.When.Holds(at))
}

// Timed reports whether the rule takes part at some moments and not at others.
func (r *Rule) Timed() bool { return !r.Off() && (r.When != nil || r.over != 0) }

// Hours is when a timed rule takes part; two that are equal are the same moments.
type Hours struct {
	days        [7]bool
	first, last int
	always      bool // but for over
	over        Moment
}

// Hours returns when the rule takes part, where it is not off.
func (r *Rule) Hours() Hours {
	if r.When == nil {
		return Hours{always: true, over: r.over}
	}
	return Hours{r.When.Days, r.When.First, r.When.Last, false, r.over}
}

// Cover reports whether what has these hours takes part whenever what has others does.
func (h Hours) Cover(other Hours) bool {
	if h.over != 0 && (other.over == 0 || h.over < other.over) {
		return false
	}
	if h.always || h == other {
		return true
	}
	ours, theirs := h.week(), other.week()
	for m := range theirs {
		if theirs[m] && !ours[m] {
			return false
		}
	}
	return true
}

// week returns the minutes of the week that are among the hours.
func (h Hours) week() *week {
	if h.always {
		return (&Schedule{Days: [7]bool{true, true, true, true, true, true, true}, Last: minutesADay}).week()
	}
	return (&Schedule{Days: h.days, First: h.first, Last: h.last}).week()
}

// A NATRule is one rule of a gateway's nat list. Which fields are used depends on Does.
type NATRule struct {
	Rule
	Does NATKind
	On   []*Interface // arrives on, or leaves by; empty for a no-nat rule means any
	From Expression
	To   Expression // source-nat, no-nat: where the packet goes

	// port-forward and destination-nat
	AtText   string
	At       header.Addresses // original destination; unused where AtOwn is set
	AtOwn    bool             // the addresses of the interface it arrives on
	Service  string           // as written; of source-nat and no-nat too
	Ports    []PortMap        // empty: every service, ports kept
	Target   Target
	TargetAs string // as written
	TargetIs string // the host or address in it
	Hairpin  bool

	// one-to-one and prefix-nat
	Outside, Inside header.Range
	Prefixes        header.PrefixPair // prefix-nat only

	// source-nat and no-nat
	Services header.Services // as the packet goes on; empty: every service

	// source-nat
	As            Pool
	SourcePorts   header.Ports // ports to choose from; zero: see WithoutPorts
	Destination   netip.Addr   // rewritten destination, or the zero address
	DestinationAs string       // as written
	DestPort      uint16       // rewritten port, 0 keeps it
}

// Rewritten returns the destination and port that a source-nat rule gives a packet: the
// packet's own where it rewrites neither.
func (r *NATRule) Rewritten(p header.Packet) (netip.Addr, uint16) {
	if !r.Destination.IsValid() {
		return p.Destination, p.DestinationPort
	}
	if r.DestPort != 0 && p.Protocol.HasPorts() {
		return r.Destination, r.DestPort
	}
	return r.Destination, p.DestinationPort
}

// Names returns the words by which the rule says whom it is for and where they go, names and addresses alike.
func (r *Rule) Names() []string {
	var texts []string
	switch {
	case r.Gateway == nil || r.Number < 1:
	case r.List() == "nat" && r.Number <= len(r.Gateway.NAT):
		n := r.Gateway.NAT[r.Number-1]
		texts = []string{n.From.Text, n.To.Text, n.AtText}
	case r.List() == "filter" && r.Number <= len(r.Gateway.Filter):
		f := r.Gateway.Filter[r.Number-1]
		texts = []string{f.From.Text, f.To.Text}
	}
	return strings.FieldsFunc(strings.Join(texts, ","), func(c rune) bool { return strings.ContainsRune(" ,[]", c) })
}

// Sources returns the addresses that a source-nat rule gives to sources.
func (r *NATRule) Sources() header.Addresses {
	if !r.As.Interface {
		return r.As.Set
	}
	var ranges []header.Range
	for _, i := range r.On {
		for _, family := range header.Families {
			if a, has := i.Address(family); has {
				ranges = append(ranges, header.Range{First: a, Last: a})
			}
		}
	}
	return header.AddressesOf(ranges...)
}

// PortsTaken are how many ports of a source-nat rule's addresses sessions of a running gateway have.
type PortsTaken struct {
	Rule     *NATRule
	Family   string         // IPv4 or IPv6
	Protocol string         // as header.Protocol is written
	To       netip.AddrPort // of those to one destination; zero: to all together
	Used, Of int
}

// IsNearlyFull reports whether at least four fifths of the ports are taken: what is left is gone in a busy hour.
func (p PortsTaken) IsNearlyFull() bool { return p.Used*5 >= p.Of*4 }

// String says how many are taken, of what.
func (p PortsTaken) String() string {
	to := ""
	if p.To.IsValid() {
		to = " to " + p.To.String()
	}
	return fmt.Sprintf("%d of %d ports are taken for %s of %s%s", p.Used, p.Of, p.Protocol, p.Family, to)
}

// WithoutPorts says which ports a source-nat rule that names none uses.
const WithoutPorts = "where absent, a source keeps its own port if that is free, whatever it is, and else gets the next free one of 1024-65535"

// A Target is where a forward leads: one address of each family at most.
type Target struct{ V4, V6 netip.Addr }

// Of returns the target's address of the family of a.
func (t Target) Of(a netip.Addr) (netip.Addr, bool) {
	if a.Is4() {
		return t.V4, t.V4.IsValid()
	}
	return t.V6, t.V6.IsValid()
}

// A PortMap is a range of ports that the outsider connects to, and the first of
// as many ports it becomes. Ports is zero for protocols without ports.
type PortMap struct {
	Protocol header.Protocol
	Ports    header.Ports
	ToFirst  uint16
}

// Matches reports whether a connection of the protocol to the port is mapped.
func (m PortMap) Matches(protocol header.Protocol, port uint16) bool {
	return header.Service{Protocol: m.Protocol, Ports: m.Ports}.Matches(protocol, port)
}

// Apply returns what the port becomes.
func (m PortMap) Apply(port uint16) uint16 {
	if !m.Protocol.HasPorts() {
		return port
	}
	return m.ToFirst + (port - m.Ports.First)
}

// A Pool is what a source-nat rule hides sources behind.
type Pool struct {
	Text      string
	Interface bool // the first address of the interface it leaves by
	Set       header.Addresses
}

// Verb is what a filter rule does.
type Verb string

// The verbs of the filter.
const (
	Allow  Verb = "allow"
	Drop   Verb = "drop"
	Reject Verb = "reject"
)

// Verbs lists the verbs of the filter.
var Verbs = []Verb{Allow, Drop, Reject}

// A FilterRule is one rule of a gateway's filter.
type FilterRule struct {
	Rule
	Verb        Verb
	From, To    Expression
	Services    header.Services // empty: every service
	ServiceText string
	SourcePorts []header.Ports // empty: every port
	Redirected  bool           // only what a NAT rule, or a mapping, led where it goes
}

// Families returns all addresses of the families the target has an address of.
func (t Target) Families() header.Addresses {
	families := header.Addresses{}
	if t.V4.IsValid() {
		families = families.Union(header.IPv4.All())
	}
	if t.V6.IsValid() {
		families = families.Union(header.IPv6.All())
	}
	return families
}
