package gateway

import (
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/portmap"
)

// beginMapping starts what programs ask for mappings, with those that were kept. Nobody is listened
// to before a revision is in force.
func (s *Service) beginMapping() error {
	records, epoch, err := s.state.Mappings()
	if err != nil {
		return err
	}
	if epoch.IsZero() || epoch.After(time.Now()) { // the clock was put back: nothing is known of the past
		epoch = time.Now()
		if err := s.state.SetEpoch(epoch); err != nil {
			return err
		}
	}
	seen, err := s.state.Seen()
	if err != nil {
		return err
	}
	blocked, err := s.state.Blocked()
	if err != nil {
		return err
	}
	ports := s.options.Asking
	if ports == (portmap.Ports{}) {
		ports = portmap.StandardPorts
	}
	s.opened = &engine.MappingTable{}
	s.mapping = portmap.NewServer(portmap.Options{
		Gateway: s.options.Gateway, Program: s.options.Program, Ports: ports, Loopback: s.options.Loopback, Within: s.options.Within, Device: s.options.Device,
		External: s.external(), Records: records, Epoch: epoch, SetEpoch: s.state.SetEpoch, Apply: s.openMappings, Save: s.state.SaveMappings,
		Bound: s.backend.Bound, IsTaken: s.backend.IsTaken, Packets: s.packetsBy, Record: s.recordMapping, Trouble: s.options.Trouble,
		Link: s.link(), Host: s.hostAt, Seen: seen, See: s.state.See, Blocked: blocked, Block: s.state.SaveBlocked,
	})
	return nil
}

// packetsBy returns how many packets have come by a mapping.
func (s *Service) packetsBy(mapping string) (int64, error) {
	counts, _, err := s.counts(true)
	return counts[network.RuleID{Gateway: s.options.Gateway, List: network.MappingKind, Name: mapping}].Forth.Packets, err
}

// external returns what says which addresses the outside interface has now, where the machine knows
// it better than the file.
func (s *Service) external() func(*network.Interface, header.Family) (netip.Addr, bool) {
	knows, ok := s.backend.(interface {
		AddressOf(*network.Interface, header.Family) (netip.Addr, bool)
	})
	if !ok {
		return nil
	}
	return knows.AddressOf
}

// link returns what says which link address a neighbor has, where the machine knows.
func (s *Service) link() func(*network.Interface, netip.Addr) string {
	knows, ok := s.backend.(interface {
		LinkOf(*network.Interface, netip.Addr) string
	})
	if !ok {
		return nil
	}
	return knows.LinkOf
}

// hostAt returns the name of the host that has an address in the network in force; empty where none has.
func (s *Service) hostAt(a netip.Addr) string {
	if now := s.current.Load(); now != nil && now.network != nil {
		if at := slices.IndexFunc(now.network.Hosts, func(h *network.Host) bool { return h.Has(a) }); at >= 0 {
			return now.network.Hosts[at].Name
		}
	}
	return ""
}

// openMappings puts mappings into force and takes others out.
func (s *Service) openMappings(open []*network.Mapping, shut []portmap.Shut) error {
	if err := s.backend.Open(open, shut); err != nil {
		return err
	}
	for _, m := range shut {
		s.opened.Remove(m.Protocol, m.Outside)
	}
	for _, m := range open {
		s.opened.Put(m)
	}
	return nil
}

// recordMapping notes what happened to a mapping.
func (s *Service) recordMapping(h portmap.Happening) {
	e := Event{What: mappingEvent, Outcome: h.Outcome, In: h.In, Text: h.Text}
	if h.Mapping != "" {
		e.Rule = network.MappingKind + "/" + h.Mapping
	}
	s.record(e)
}

// A Mapping is one that a program has.
type Mapping struct {
	Gateway  string         `json:"gateway"`
	Name     string         `json:"name"`
	Protocol string         `json:"protocol"`
	Outside  netip.AddrPort `json:"outside"`
	Inside   netip.AddrPort `json:"inside"`
	Senders  []Sender       `json:"senders"` // who may use it; none is everybody
	Peer     bool           `json:"peer"`    // it is for a connection to the one sender
	By       string         `json:"by"`      // pcp, nat-pmp or upnp-igd
	Owner    netip.Addr     `json:"owner"`   // who asked for it
	Text     string         `json:"text"`    // what the program says of itself
	Granted  time.Time      `json:"granted"`
	Until    time.Time      `json:"until"`
	Left     float64        `json:"left"` // seconds
	External string         `json:"external"`
}

// A Sender is some of those who may use a mapping.
type Sender struct {
	From netip.Prefix `json:"from"`
	Port uint16       `json:"port"` // 0 is any
}

// A Wish waits for an administrator.
type Wish struct {
	Gateway  string     `json:"gateway"`
	Number   uint64     `json:"number"`
	By       string     `json:"by"`
	Asker    netip.Addr `json:"asker"`
	Machine  netip.Addr `json:"machine"`
	Protocol string     `json:"protocol"`
	Port     uint16     `json:"port"`
	Outside  uint16     `json:"outside"` // that is wished for; 0 is any
	Text     string     `json:"text"`
	Since    time.Time  `json:"since"`
	Until    time.Time  `json:"until"` // when its client gives up
}

// A BlockedMachine gets no mappings.
type BlockedMachine struct {
	Gateway   string       `json:"gateway"`
	Machine   string       `json:"machine"`   // its link address, host, address or /64, as it is told from others
	Addresses []netip.Addr `json:"addresses"` // by which it was named
	Since     time.Time    `json:"since"`
	Until     *time.Time   `json:"until"` // null is until somebody lets it again
	Who       string       `json:"who"`
}

// Mappings are those of a gateway.
type Mappings struct {
	Mappings []Mapping        `json:"mappings"`
	Waiting  []Wish           `json:"waiting"`
	Blocked  []BlockedMachine `json:"blocked"`
}

// Mappings returns the mappings that programs have, and what waits.
func (s *Service) Mappings() Mappings {
	found := Mappings{Mappings: []Mapping{}, Waiting: []Wish{}, Blocked: []BlockedMachine{}}
	external := ""
	if now := s.current.Load(); now != nil && now.gateway != nil && now.gateway.Mappings != nil {
		external = now.gateway.Mappings.External.Name
	}
	for _, m := range s.mapping.List() {
		made := Mapping{
			Gateway: s.name(), Name: m.Name, Protocol: m.Protocol.String(), Outside: m.Outside, Inside: m.Inside, Senders: []Sender{}, Peer: m.Peer,
			By: m.By, Owner: m.Owner, Text: m.Text, Granted: m.Granted.UTC(), Until: m.Until.UTC(), Left: m.Left.Seconds(), External: external,
		}
		for _, sender := range m.Senders {
			made.Senders = append(made.Senders, Sender{sender.From, sender.Port})
		}
		found.Mappings = append(found.Mappings, made)
	}
	for _, w := range s.mapping.Waiting() {
		found.Waiting = append(found.Waiting, Wish{s.name(), w.Number, w.By, w.Asker, w.Machine, w.Protocol.String(), w.Port, w.Outside, w.Text, w.Since.UTC(), w.Until.UTC()})
	}
	for _, b := range s.mapping.Blocked() {
		machine := BlockedMachine{s.name(), b.Machine, b.Addresses, b.Since.UTC(), nil, b.Who}
		if !b.Until.IsZero() {
			until := b.Until.UTC()
			machine.Until = &until
		}
		found.Blocked = append(found.Blocked, machine)
	}
	return found
}

// A Block is what an administrator wants of machines: that they get no mappings, or may ask again.
type Block struct {
	Addresses []netip.Addr `json:"addresses"` // of the machines
	Blocked   bool         `json:"blocked"`
	For       float64      `json:"for"` // seconds; 0 is until somebody lets them again
	Who       string       `json:"who"`
}

// Block blocks machines, or lets them ask again.
func (s *Service) Block(b Block) error {
	if err := plainText(b.Who); err != nil {
		return err
	}
	bad := func(a netip.Addr) bool { return !a.IsValid() || a.Zone() != "" || a.Is4In6() }
	if len(b.Addresses) == 0 || len(b.Addresses) > mostAddresses || slices.ContainsFunc(b.Addresses, bad) || b.For < 0 || b.For > network.MostLifetime.Seconds() {
		return &refused{http.StatusBadRequest, fmt.Sprintf("1 to %d addresses of machines, and a time of a year at most", mostAddresses), nil}
	}
	var err error
	if b.Blocked {
		until := time.Time{}
		if b.For > 0 {
			until = time.Now().Add(seconds(b.For))
		}
		err = s.mapping.Block(b.Addresses, until, b.Who)
	} else {
		err = s.mapping.Unblock(b.Addresses, b.Who)
	}
	switch {
	case errors.Is(err, portmap.ErrNotBlocked):
		return &refused{http.StatusNotFound, fmt.Sprintf("%s: %s at %s", b.Addresses[0], err, s.options.Gateway), nil}
	case errors.Is(err, portmap.ErrTooManyBlocked):
		return &refused{http.StatusConflict, err.Error(), nil}
	}
	return err
}

// mostAddresses is how many machines are blocked in one go.
const mostAddresses = 64

func originOf(m *portmap.Mapping) *Origin { return &Origin{m.By, m.Owner, m.Left.Seconds()} }

// sayOrigins says of sessions whose mappings they go by.
func (s *Service) sayOrigins(list []Session) {
	var origins map[string]*Origin
	for i := range list {
		name, ok := strings.CutPrefix(list[i].Redirect, network.MappingKind+"/")
		if !ok {
			continue
		}
		if origins == nil {
			origins = map[string]*Origin{}
			for _, m := range s.mapping.List() {
				origins[m.Name] = originOf(&m)
			}
		}
		list[i].Mapping = origins[name]
	}
}

// In returns the mapping as part of a network, or what is wrong with it.
func (m *Mapping) In(n *network.Network) (*network.Mapping, error) {
	g := n.Called(m.Gateway)
	if g == nil {
		return nil, fmt.Errorf("%s: no such gateway", m.Gateway)
	}
	external := g.Interface(m.External)
	protocol, ok := header.ParseProtocol(m.Protocol)
	if external == nil || !ok || !m.Outside.IsValid() || !m.Inside.IsValid() || m.Outside.Addr().Is4() != m.Inside.Addr().Is4() {
		return nil, fmt.Errorf("%s: a mapping that can't be: %s", m.Gateway, m.Name)
	}
	var senders []network.Sender
	for _, s := range m.Senders {
		senders = append(senders, network.Sender{From: s.From, Port: s.Port})
	}
	made := network.NewMapping(external, protocol, m.Outside, m.Inside, senders, m.By, m.Owner)
	made.Left = seconds(m.Left)
	return made, nil
}

// A Settlement is what an administrator makes of a wish that waits.
type Settlement struct {
	Number  uint64 `json:"number"`
	Approve bool   `json:"approve"`
	Who     string `json:"who"`
}

// Settle approves or refuses a wish.
func (s *Service) Settle(d Settlement) error {
	if err := plainText(d.Who); err != nil {
		return err
	}
	err := s.mapping.Settle(d.Number, d.Approve, d.Who)
	switch {
	case errors.Is(err, portmap.ErrNotWaiting):
		return &refused{http.StatusNotFound, fmt.Sprintf("%d: %s", d.Number, err), nil}
	case err != nil:
		return &refused{http.StatusConflict, err.Error(), nil}
	}
	return nil
}

// RemoveMapping ends a mapping, as an administrator wants it.
func (s *Service) RemoveMapping(name, who string) error {
	if err := plainText(who); err != nil {
		return err
	}
	err := s.mapping.Remove(name, who)
	if errors.Is(err, portmap.ErrNoMapping) {
		var names []string
		for _, m := range s.mapping.List() {
			names = append(names, m.Name)
		}
		return &refused{http.StatusNotFound, fmt.Sprintf("%s: %s has no such mapping%s", name, s.options.Gateway, netfile.DidYouMean(name, names)), nil}
	}
	return err
}

// A MappingTrial is a wish that is only tried.
type MappingTrial struct {
	By       string     `json:"by"`
	Asker    netip.Addr `json:"asker"`
	Machine  netip.Addr `json:"machine"` // empty is the one that asks
	Protocol string     `json:"protocol"`
	Port     uint16     `json:"port"`
	Outside  uint16     `json:"outside"`  // 0 is any
	Exact    bool       `json:"exact"`    // that outside port or none
	Lifetime float64    `json:"lifetime"` // seconds
}

// A MappingVerdict is what would become of a wish.
type MappingVerdict struct {
	Granted  bool    `json:"granted"`
	Asks     bool    `json:"asks"`     // once an administrator has approved it
	Outside  string  `json:"outside"`  // address and port, empty where it gets none
	Lifetime float64 `json:"lifetime"` // seconds
	Line     int     `json:"line"`     // of the rule; 0 for none
	Why      string  `json:"why"`      // it is refused
}

// TryMapping says what would become of a wish.
func (s *Service) TryMapping(t MappingTrial) (MappingVerdict, error) {
	protocol, ok := header.ParseProtocol(t.Protocol)
	switch {
	case !ok || protocol != header.TCP && protocol != header.UDP || t.Port == 0 || !t.Asker.IsValid() || t.Lifetime < 1 || t.Lifetime > network.MostLifetime.Seconds():
		return MappingVerdict{}, &refused{http.StatusBadRequest, "a mapping is for tcp or udp, a port, an address, and a lifetime of 1s to a year", nil}
	}
	got := s.mapping.Try(portmap.Trial{By: t.By, Asker: t.Asker, Machine: t.Machine, Protocol: protocol, Port: t.Port, Outside: t.Outside, Exact: t.Exact, Lifetime: seconds(t.Lifetime)})
	v := MappingVerdict{Granted: got.Granted, Asks: got.Asks, Lifetime: got.Lifetime.Seconds(), Line: got.Line, Why: got.Why}
	if got.Granted {
		v.Outside = got.Outside.String()
	}
	return v, nil
}
