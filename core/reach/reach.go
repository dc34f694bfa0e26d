// Package reach answers the questions that are about all connections: who reaches
// what, what must hold, what differs. The answers are exact.
package reach

import (
	"cmp"
	"fmt"
	"iter"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"

	"hollowbridge/core/engine"
	"hollowbridge/core/explore"
	"hollowbridge/core/flow"
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
)

// MostPieces is how many pieces of sets an analysis may hold before it gives up;
// it bounds memory to about 2 GB.
const MostPieces = 60_000_000

// MostKinds is how many kinds of connections, which go one way each, an analysis holds before it gives up;
// they take some 3 GB.
const MostKinds = 1_500_000

// TooManyKinds is the error where there are more kinds of connections.
type TooManyKinds struct{ Most int }

func (t TooManyKinds) Error() string {
	return fmt.Sprintf("there are more than %d kinds of connections, as where thousands of rules stop an address each in front of thousands of forwards; one rule for a group of them all is one kind", t.Most)
}

// A Question narrows what is asked about. The zero Question is about everything.
type Question struct {
	From    *network.Expression // whose connections; nil is everybody
	To      *network.Expression // delivered to whom; nil is everybody inside
	Service header.Services     // as delivered; empty is every service
	Times   network.Times       // the moments that are asked about; the zero Times are all
	Most    int                 // pieces of sets that the answer may take; 0 is MostPieces
}

// An Answer is every way in.
type Answer struct {
	Reached    []Access // there and back
	LetThrough []Access // to an address where no host is listed, or a port that its host is not said to serve
}

// An Access is some sources that get to one service of one host in one way.
type Access struct {
	On        *network.Segment // the segment the sources are on, set only where their addresses are elsewhere too
	Sender    Straight         // set where machines beside an uplink hand the packets to the gateway
	Host      string           // or the gateway that answers itself; empty where nobody is known to have the address
	Gateway   bool
	Services  header.Services  // as the host serves them
	To        header.Addresses // the addresses the sources connect to
	Delivered header.Addresses // what these become
	Sent      header.Services  // as the sources send it
	From      header.Addresses
	AllPorts  bool           // whatever the source's own port, else:
	Ports     []header.Ports // the source's own ports, for all sources together
	Rules     []*network.Rule
	When      network.When // at which of the moments that are asked about
	Example   Example

	Inside []Straight // who also gets there by an inside address, by nothing that is not open anyway
}

// Find returns every way in which the sources of a question reach services inside the
// network, and the ways that are let through although nobody is known to answer there. Machines
// on the internet, and those that the file does not name, count as services only where the
// question names them.
func Find(e *walk.Engine, q Question) (Answer, error) {
	explorer := explore.New(e, q.Times.Or(e.Network()), cmp.Or(q.Most, MostPieces))
	explorer.StopAlike() // what is stopped is not listed
	return FindIn(e, explorer, q, func(b explore.Beginning) iter.Seq2[*explore.Region, error] { return explorer.Explore(b.From, b.Set) })
}

// FindIn is Find by an explorer that the engine has already: for its moments, and within its limit. What becomes
// of connections is taken from explored, which may know it already.
func FindIn(e *walk.Engine, explorer *explore.Explorer, q Question, explored func(explore.Beginning) iter.Seq2[*explore.Region, error]) (Answer, error) {
	var rules network.RuleLists
	ways, most := map[wayKey]*merged{}, mostWays+4*e.Network().RuleCount()
	var order []*merged
	count := map[bool]int{} // of those that are reached, and those that are not
	for _, b := range explorer.Beginnings(q.among()) {
		on := sharedOn(&b)
		for r, err := range explored(b) {
			if err != nil {
				return Answer{}, err
			}
			reached := r.Verdict.Outcome == engine.Reached && (q.To != nil || !r.To.Internet && isNamed(&r.Verdict.To))
			if !reached && !(isLetThrough(r) && (q.To != nil || !isOutside(r))) {
				continue
			}
			members := asked(e, explorer.Space, r, q)
			if members == flowset.Nothing {
				continue
			}
			key := keyOfWay(&rules, r, &b, on)
			w := ways[key]
			if w == nil && count[reached] == most {
				return Answer{}, TooMany{most}
			}
			if w == nil {
				w = newMerged(r, on, senderOf(b.From))
				ways[key], count[reached] = w, count[reached]+1
				order = append(order, w)
			}
			w.sets = append(w.sets, members)
			w.meetings = append(w.meetings, r.Meetings...)
		}
	}
	ways = nil // the space and they take most of the memory, and more is to come
	reached, through := make([]Access, 0, count[true]), make([]Access, 0, count[false])
	for i, w := range order {
		into := &reached
		if w.outcome != engine.Reached {
			into = &through
		}
		*into = append(*into, w.accesses(e, explorer)...)
		order[i] = nil
		if max(len(reached), len(through)) > most {
			return Answer{}, TooMany{most}
		}
		if i%untilMeasured == 0 {
			explorer.Space.Measure()
		}
		if err := explorer.Space.Err(); err != nil {
			return Answer{}, err
		}
	}
	return Answer{folded(e.Network(), merge(sorted(reached))), folded(e.Network(), merge(sorted(through)))}, nil
}

// untilMeasured is how many ways in are made between two looks at the process's memory.
const untilMeasured = 1 << 12

// isLetThrough reports whether connections come through a gateway to where nobody is known to
// answer them.
func isLetThrough(r *explore.Region) bool {
	o := r.Verdict.Outcome
	return r.Behind && (o == engine.Absent || o == engine.Refused)
}

// isOutside reports whether connections end on the internet, or on the segment of an uplink.
func isOutside(r *explore.Region) bool {
	s := r.Verdict.At.Segment
	return r.To.Internet || s != nil && s.IsUplink(header.FamilyOf(r.Example.Destination))
}

func sorted(list []Access) []Access {
	slices.SortStableFunc(list, func(a, b Access) int {
		return cmp.Or(compareBool(a.Gateway, b.Gateway), strings.Compare(a.Host, b.Host), compareService(a.Services[0], b.Services[0]))
	})
	return list
}

// mostWays is how many ways in are listed, and four more for each rule. Where there are
// more, rules are so entangled that nobody could read the list.
const mostWays = 20000

// TooMany is the error where there are more ways in than can be listed.
type TooMany struct{ Most int }

func (t TooMany) Error() string {
	return fmt.Sprintf("there are more than %d ways in, too many to list; ask about fewer sources, destinations or services", t.Most)
}

// isNamed reports whether a site is a gateway or host of the file.
func isNamed(s *network.Site) bool { return s.Gateway != nil || s.Machine.Host != nil }

// among returns which addresses of a place the question is about.
func (q *Question) among() func(network.Place) header.Addresses {
	if q.From == nil {
		return nil
	}
	return func(p network.Place) header.Addresses { return membersOf(q.From, p) }
}

// membersOf returns the addresses that an expression stands for among the machines of a place.
func membersOf(x *network.Expression, p network.Place) header.Addresses {
	if p.Through != nil {
		return x.Straight(p.Through)
	}
	return x.Behind(p.Segment, p.Clients)
}

// sharedOn returns the segment of a beginning whose addresses are elsewhere too, else nil.
func sharedOn(b *explore.Beginning) *network.Segment {
	if b.Shared {
		return b.From.Segment
	}
	return nil
}

// merge puts accesses together that differ only in their services, in place.
func merge(list []Access) []Access {
	merged := list[:0]
	var rules network.RuleLists
	type quick struct {
		host, ports string
		all         bool
		from, to    int
		first       netip.Addr
		rules       int
	}
	alike := map[quick][]int{} // by what is quickly compared
	for _, a := range list {
		first, _ := a.To.First()
		key := quick{a.Host, fmt.Sprint(a.Ports), a.AllPorts, len(a.From.Ranges()), len(a.To.Ranges()), first, rules.Number(a.Rules)}
		same := slices.IndexFunc(alike[key], func(i int) bool {
			b := &merged[i]
			return a.On == b.On && a.Sender.like(b.Sender) && a.When.Equal(b.When) && a.From.Equal(b.From) && a.To.Equal(b.To) && a.Delivered.Equal(b.Delivered)
		})
		if same < 0 {
			alike[key] = append(alike[key], len(merged))
			merged = append(merged, a)
			continue
		}
		into := &merged[alike[key][same]]
		into.Services = slices.Concat(into.Services, a.Services)
		into.Sent = slices.Concat(into.Sent, a.Sent)
	}
	return merged
}

func compareBool(a, b bool) int {
	switch {
	case a == b:
		return 0
	case b:
		return -1
	}
	return 1
}

func compareService(a, b header.Service) int {
	return cmp.Or(cmp.Compare(a.Protocol, b.Protocol), cmp.Compare(a.Ports.First, b.Ports.First), cmp.Compare(a.Ports.Last, b.Ports.Last))
}

// asked returns the connections of a region that are delivered to what the question
// asks about. What a relay hands on to a loopback address is delivered to its host.
func asked(e *walk.Engine, s *flowset.Space, r *explore.Region, q Question) flowset.Set {
	all := header.AllAddresses()
	to := all
	if q.To != nil {
		to = q.To.Addresses()
		if r.Verdict.To.Gateway == nil {
			to = q.To.Behind(r.To.Segment, r.To.Clients)
		}
		if r.Terms.Apply(r.Example).Destination.IsLoopback() {
			h := r.Verdict.To.Machine.Host
			if h == nil || !slices.ContainsFunc(h.Addresses, to.Contains) {
				return flowset.Nothing
			}
			to = all
		}
	}
	if at := r.Verdict.At.Segment; at != nil { // nobody is there, and at some addresses nobody can be
		to = to.Minus(at.Unused())
	}
	return s.Preimage(r.Set, delivered(s, to, q.Service), &r.Terms, false)
}

// delivered returns the packets to some addresses for some services, empty for all.
func delivered(s *flowset.Space, to header.Addresses, services header.Services) flowset.Set {
	wanted := flowset.Everything
	if len(services) > 0 {
		wanted = flowset.Nothing
		for _, service := range services {
			one := flowset.Everything
			if service.Protocol.HasPorts() {
				one = s.Where(flowset.Port, []flowset.Span{flowset.PortSpan(service.Ports.First, service.Ports.Last)}, one)
			}
			if service.Protocol != header.AnyProtocol {
				one = s.Where(flowset.Protocol, []flowset.Span{flowset.PortSpan(uint16(service.Protocol), uint16(service.Protocol))}, one)
			}
			wanted = s.Overlay(wanted, one)
		}
	}
	if !to.IsAll() {
		wanted = s.Restrict(s.Where(flowset.Destination, flowset.AddressSpans(to), flowset.Everything), wanted)
	}
	return wanted
}

// A merged one is regions that go to one host by the same rules and are changed alike.
type merged struct {
	outcome engine.Outcome
	gateway bool   // answers itself
	host    string // or the gateway; empty where nobody is there
	terms   flowset.Terms
	rules   []*network.Rule
	on      *network.Segment // see Access
	sender  Straight
	sets    []flowset.Set

	meetings []flow.Meeting // of connections that it is not said of
}

// newMerged returns one without any set yet, like a region.
func newMerged(r *explore.Region, on *network.Segment, sender Straight) *merged {
	to := &r.Verdict.To
	w := &merged{outcome: r.Verdict.Outcome, gateway: to.Gateway != nil, host: to.Name(), terms: r.Terms, rules: slices.Clone(r.Rules), on: on, sender: sender}
	if w.outcome == engine.Absent {
		w.host = ""
	}
	return w
}

// A wayKey is what regions have in common that are one way.
type wayKey struct {
	outcome           engine.Outcome
	on                *network.Segment
	through           *network.Interface
	hop               bool
	site              string
	destination, port flowset.Term
	protocol          header.Protocol
	rules             int
}

func keyOfWay(rules *network.RuleLists, r *explore.Region, begins *explore.Beginning, on *network.Segment) wayKey {
	return wayKey{r.Verdict.Outcome, on, begins.From.Through, senderOf(begins.From).Hop, siteKey(r), r.Terms[flowset.Destination], r.Terms[flowset.Port], r.Example.Protocol, rules.Number(r.Rules)}
}

// siteKey tells where a region ends from elsewhere.
func siteKey(r *explore.Region) string {
	if r.Verdict.Outcome == engine.Absent {
		return "nobody on " + r.Verdict.At.Name()
	}
	return r.Verdict.To.Name()
}

func (w *merged) accesses(e *walk.Engine, explorer *explore.Explorer) []Access {
	var found []Access
	set := explorer.Space.OverlayAll(w.sets)
	for _, box := range explorer.Space.Boxes(set) {
		a := Access{
			Host: w.host, Gateway: w.gateway,
			To: box.To, From: box.From, On: w.on, Sender: w.sender, AllPorts: box.AllPorts, Ports: box.SourcePorts, Rules: w.rules,
		}
		a.Delivered = w.terms[flowset.Destination].Addresses(box.To)
		if w.terms[flowset.Destination].Field == flowset.Source { // a relay's connection that is an answer to the client's
			a.Delivered = w.terms[flowset.Destination].Addresses(box.From)
		}
		a.Sent = sentTo(&box)
		if len(box.Ports) == 0 {
			a.Services = a.Sent
		}
		if len(box.Ports) > 0 {
			a.Services = servedBy(&w.terms, &box)
		}
		a.When = whenOf(explorer.Times, box.Moments)
		a.Example = exampleFrom(e, explorer.Times, w.on, w.sender, exampleOf(explorer.Space, explorer.Times, set, &box, w.meetings), a.When)
		found = append(found, a)
	}
	return found
}

// servedBy returns the services of a box with ports, as they are delivered by some terms.
func servedBy(terms *flowset.Terms, b *flowset.Box) (services header.Services) {
	var own header.Ports
	if len(b.SourcePorts) > 0 {
		own = b.SourcePorts[0]
	}
	for _, p := range b.Ports {
		served := header.Service{Protocol: b.Protocol}
		served.Ports.First = terms.Apply(header.Packet{SourcePort: own.First, DestinationPort: p.First}).DestinationPort
		served.Ports.Last = terms.Apply(header.Packet{SourcePort: own.Last, DestinationPort: p.Last}).DestinationPort
		if !slices.Contains(services, served) {
			services = append(services, served)
		}
	}
	return services
}

// sentTo returns the services of a box, as the sources send them.
func sentTo(b *flowset.Box) header.Services {
	if len(b.Ports) == 0 {
		return header.Services{{Protocol: b.Protocol}}
	}
	services := make(header.Services, len(b.Ports))
	for i, p := range b.Ports {
		services[i] = header.Service{Protocol: b.Protocol, Ports: p}
	}
	return services
}

// exampleOf returns a connection of a box that can be traced, none by which a machine
// meets itself.
func exampleOf(s *flowset.Space, times network.Times, set flowset.Set, b *flowset.Box, meetings []flow.Meeting) flowset.Member {
	p := flowset.Member{Packet: header.Packet{Protocol: b.Protocol}}
	if len(b.Moments) > 0 {
		p.Moment = times.Usual(stretchesOf(b.Moments))
	}
	p.Destination, _ = b.To.Usual(header.IPv4)
	if !p.Destination.IsValid() {
		p.Destination, _ = b.To.Usual(header.IPv6)
	}
	p.Source, _ = b.From.Usual(header.FamilyOf(p.Destination))
	if b.Protocol.Numbered() {
		p.SourcePort = header.UsualSourcePort
	}
	if len(b.Ports) > 0 {
		p.DestinationPort = b.Ports[0].First
	}
	if s.Contains(set, p) && flow.Claims(meetings, p.Packet) {
		return p
	}
	only := flowset.Everything
	if len(b.Moments) > 0 {
		only = s.Where(flowset.Time, b.Moments, only)
	}
	only = s.Where(flowset.Destination, flowset.AddressSpans(b.To), s.Where(flowset.Source, flowset.AddressSpans(b.From), only))
	if only = s.Restrict(only, set); only == flowset.Nothing {
		return p // the space has outgrown its limit
	}
	random := rand.New(rand.NewPCG(1, 1))
	p, _ = s.Usual(only)
	for tries := 0; tries < mostTries && !flow.Claims(meetings, p.Packet); tries++ {
		p, _ = s.Sample(only, random.Uint64)
	}
	return p
}

// mostTries is how many members are tried to find one that a set is right about.
const mostTries = 200
