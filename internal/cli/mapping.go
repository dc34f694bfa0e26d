package cli

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/kernel"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/portmap"
)

var mappingCommand = &command{
	name: "mapping", arguments: "find | add SERVICE | list | remove SERVICE | approve N | refuse N | block MACHINE | unblock MACHINE | try SERVICE",
	summary: "asks a gateway for a port mapping, lists them, takes them away, approves what waits",
	help: `As a program on this machine, by the open protocols PCP, NAT-PMP and UPnP IGD:

  find            which gateways answer, by which protocols, with which outside address
  add tcp/2222    asks for an outside port that leads to port 2222 of this machine
  remove tcp/7777 takes away what add was granted, by its outside port
  list            what this machine has at the gateway of -gateway ADDRESS

add tries PCP, then NAT-PMP, then UPnP; -by chooses. -hold renews the mapping until ^C, and then
takes it away. The gateway is this machine's default one, or that of -gateway ADDRESS.

As the administrator of the running gateways of the network file, or of -gateway NAME:

  list            the mappings that programs have, the wishes that wait, and who is blocked
  approve 3       grants the wish that waits by number 3; refuse 3 refuses it
  remove tcp/7777 with -gateway NAME, takes anybody's mapping away
  block spectro   takes all of spectro's away at once, and refuses it others, until unblock
                  spectro, or for as long as -for says; no revision is made
  try tcp/20320   what would become of it if -as ADDRESS asked; nothing is asked

Exit status: 0 yes, 1 nobody answers or it is refused, 2 the call is wrong.`,
	begin: func(c *call) task { return &mappingCall{call: c} },
}

// A mappingCall is a call of mapping.
type mappingCall struct {
	*call
	options struct {
		by, forTime, machine, only, peer, from, asker, note, ports string
		wished                                                     int // the outside port
		watch, hold, exact                                         bool
	}
}

func (c *mappingCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	set.StringVar(&c.gateway, "gateway", "", "the `GATEWAY`: its address to ask it as a program does, its name to ask as its administrator")
	set.StringVar(&c.options.by, "by", "", "only by this `PROTOCOL`: "+strings.Join(network.MappingProtocols, ", "))
	set.StringVar(&c.options.forTime, "for", "", "for how `LONG`: 1h where absent; with block until unblock")
	watchFlag(set, &c.options.watch)
	set.BoolVar(&c.options.hold, "hold", false, "renew it until ^C, then take it away")
	set.IntVar(&c.options.wished, "outside", 0, "the outside `PORT` that is wished for; any where absent")
	set.BoolVar(&c.options.exact, "exact", false, "that outside port or none")
	set.StringVar(&c.options.machine, "machine", "", "for the machine with this `ADDRESS`, not this one")
	set.StringVar(&c.options.only, "only", "", "only these `SENDERS` may use it: addresses or prefixes with commas between")
	set.StringVar(&c.options.peer, "peer", "", "for a connection to this `ADDRESS:PORT` alone, by pcp")
	set.StringVar(&c.options.from, "from", "", "ask from this `ADDRESS` of this machine")
	set.StringVar(&c.options.asker, "as", "", "with try: if this `MACHINE` asked, a host or an address")
	set.StringVar(&c.options.note, "note", "", "what it is for, where the protocol tells")
	portsFlag(set, &c.options.ports)
}

// portsFlag says where a gateway that is a stand-in is asked.
func portsFlag(set *flag.FlagSet, ports *string) {
	set.StringVar(ports, "mapping-ports", "", "other `PORTS` than the standards': of PCP, SSDP and HTTP, as 15351,11900,18080")
}

// mappingVerbs are what mapping does, by the first word.
var mappingVerbs = map[string]struct {
	words int // behind it
	run   func(*mappingCall) int
}{
	"find": {0, (*mappingCall).findMappings}, "add": {1, (*mappingCall).addMapping}, "list": {0, (*mappingCall).listMappings}, "remove": {1, (*mappingCall).removeMapping},
	"approve": {1, (*mappingCall).settleMapping}, "refuse": {1, (*mappingCall).settleMapping}, "block": {1, (*mappingCall).blockMachine}, "unblock": {1, (*mappingCall).blockMachine}, "try": {1, (*mappingCall).tryMapping},
}

func (c *mappingCall) run() int {
	if len(c.args) == 0 {
		return c.misused("it needs find, add, list, remove, approve, refuse, block, unblock or try")
	}
	verb, ok := mappingVerbs[c.args[0]]
	if !ok {
		return c.misused("%s: there are find, add, list, remove, approve, refuse, block, unblock and try%s", c.args[0], netfile.DidYouMean(c.args[0], slices.Collect(maps.Keys(mappingVerbs))))
	}
	switch o := &c.options; {
	case len(c.args) != 1+verb.words:
		return c.misused("%s: %s behind it", c.args[0], count(verb.words, "word"))
	case o.by != "" && !slices.Contains(network.MappingProtocols, o.by):
		return c.misused("-by %s: there are %s%s", o.by, strings.Join(network.MappingProtocols, ", "), netfile.DidYouMean(o.by, network.MappingProtocols))
	case o.wished < 0 || o.wished > 65535:
		return c.misused("-outside %d: a port is 1 to 65535", o.wished)
	case o.watch && c.args[0] != "list":
		return c.misused("-watch goes with list")
	}
	return verb.run(c)
}

// mappedService reads the protocol and port of a mapping.
func (c *call) mappedService(text string) (header.Protocol, uint16, error) {
	services, err := header.ParseService(text, func(name string) (header.Services, error) {
		known, found, err := header.NamedService(name)
		if err == nil && !found {
			err = netfile.NoSuchService(name, func(func(string) bool) {})
		}
		return known, err
	})
	if err != nil {
		return 0, 0, err
	}
	if len(services) != 1 || services[0].Protocol != header.TCP && services[0].Protocol != header.UDP || services[0].Ports.Count() != 1 || services[0].Ports.First == 0 {
		return 0, 0, fmt.Errorf("%s: a mapping is for one port, as tcp/2222", text)
	}
	return services[0].Protocol, services[0].Ports.First, nil
}

// parsePorts reads -mapping-ports.
func parsePorts(text string) (portmap.Ports, error) {
	if text == "" {
		return portmap.StandardPorts, nil
	}
	var ports [3]uint16
	words := strings.Split(text, ",")
	if len(words) != len(ports) {
		return portmap.Ports{}, fmt.Errorf("-mapping-ports %s: three ports, of PCP, SSDP and HTTP", text)
	}
	for i, word := range words {
		n, err := strconv.ParseUint(word, 10, 16)
		if err != nil || n == 0 {
			return portmap.Ports{}, fmt.Errorf("-mapping-ports %s: %s is no port", text, word)
		}
		ports[i] = uint16(n)
	}
	return portmap.Ports{PCP: ports[0], SSDP: ports[1], HTTP: ports[2]}, nil
}

// asClient returns what asks as a program: the gateway of -gateway, or the default one.
func (c *mappingCall) asClient() (*portmap.Client, error) {
	o := &c.options
	ports, err := parsePorts(o.ports)
	if err != nil {
		return nil, err
	}
	client := &portmap.Client{Ports: ports}
	if o.from != "" {
		if client.From, err = header.ParseAddress(o.from); err != nil {
			return nil, fmt.Errorf("-from: %w", err)
		}
	}
	if c.gateway != "" {
		if client.Gateway, err = gatewayAddress(c.gateway); err != nil {
			return nil, fmt.Errorf("-gateway: %w", err)
		}
	} else if client.Gateway, err = defaultGateway(client.From); err != nil {
		return nil, err
	}
	if client.Secret, err = c.mappingSecret(); err != nil {
		return nil, err
	}
	return client, nil
}

// gatewayAddress reads the address of a gateway: fe80::1%eth0 is on the link of that interface.
func gatewayAddress(text string) (netip.Addr, error) {
	address, zone, found := strings.Cut(text, "%")
	a, err := header.ParseAddress(address)
	switch linkLocal := a.Is6() && a.IsLinkLocalUnicast(); {
	case err != nil:
		return a, err
	case linkLocal && zone == "":
		return a, fmt.Errorf("%s: say by which interface, as %s%%eth0", text, address)
	case found && !linkLocal:
		return a, fmt.Errorf("%s: only a link-local address names an interface", text)
	}
	return a.WithZone(zone), nil
}

// defaultGateway returns the next hop of this machine's default route, of the family of an address
// where there is one.
func defaultGateway(from netip.Addr) (netip.Addr, error) {
	host, err := kernel.ReadHost(0)
	if err != nil {
		return netip.Addr{}, err
	}
	var best *kernel.Way
	for i := range host.Ways {
		w := &host.Ways[i]
		if w.To.Bits() != 0 || !w.Via.IsValid() || from.IsValid() && w.Via.Is4() != from.Is4() {
			continue
		}
		if best == nil || w.Via.Is4() && !best.Via.Is4() || w.Via.Is4() == best.Via.Is4() && w.Metric < best.Metric {
			best = w
		}
	}
	if best == nil {
		return netip.Addr{}, errors.New("this machine has no default gateway; name one with -gateway ADDRESS")
	}
	if best.Via.Is6() && best.Via.IsLinkLocalUnicast() {
		return best.Via.WithZone(best.Device), nil
	}
	return best.Via, nil
}

// isAddress reports whether -gateway names an address.
func (c *mappingCall) isAddress() bool {
	_, err := netip.ParseAddr(c.gateway)
	return err == nil
}

// asAdministrator returns what asks the running gateways. It returns nil after it has said what is
// wrong.
func (c *mappingCall) asAdministrator() []*gateway.Client {
	if c.isAddress() {
		c.misused("-gateway %s: an administrator names a gateway of the network file", c.gateway)
		return nil
	}
	return c.running()
}

type foundJSON struct {
	Gateway  string `json:"gateway"`
	By       string `json:"by"`
	External string `json:"external"`
	Is       string `json:"is"` // public, private, carrier, none, or empty where the address is not known
	Epoch    uint32 `json:"epoch"`
	Device   string `json:"device"`
}

func (c *mappingCall) findMappings() int {
	client, err := c.asClient()
	if err != nil {
		return c.failed(err)
	}
	ctx, stop := untilInterrupt()
	defer stop()
	found, failures := client.Find(ctx, c.options.by, c.gateway == "")
	result := []foundJSON{}
	var rows [][]string
	notes := map[string]bool{}
	for _, f := range found {
		is, note := addressIs(f.External)
		result = append(result, foundJSON{f.Gateway.String(), f.By, addressText(f.External), is, f.Epoch, f.Device})
		external := addressText(f.External)
		if external == "" {
			external = "told with a mapping"
		}
		since := ""
		if f.Epoch > 0 {
			since = spanText(float64(f.Epoch))
		}
		rows = append(rows, []string{f.Gateway.String(), f.By, external, is, since, f.Device})
		if note != "" {
			notes[f.External.String()+" "+note] = true
		}
	}
	if c.json {
		c.printJSON(map[string]any{"found": result})
	} else {
		if len(rows) > 0 {
			c.printTable([]string{"gateway", "by", "outside", "", "epoch", "device"}, rows)
		}
		for note := range notes {
			fmt.Fprintf(c.Out, "\n%s\n", strings.Join(wrap(note, c.Width), "\n"))
		}
	}
	for _, err := range splitErrors(failures) {
		fmt.Fprintf(c.Err, "%s\n", err)
	}
	if len(found) == 0 {
		return no
	}
	return yes
}

func addressText(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

// carrierPrefix is of addresses between a carrier's NAT and its customers (RFC 6598).
var carrierPrefix = netip.MustParsePrefix("100.64.0.0/10")

// sharedPrefix is of the two ends of IPv4 over a carrier's IPv6 (RFC 7335), and testPrefix of tests (RFC 2544).
var (
	sharedPrefix = netip.MustParsePrefix("192.0.0.0/24")
	testPrefix   = netip.MustParsePrefix("198.18.0.0/15")
)

// addressIs says what an outside address is, and, where it is none of the internet, what that means.
func addressIs(a netip.Addr) (is, note string) {
	switch {
	case !a.IsValid():
		return "", ""
	case a.IsUnspecified():
		return "none", "says that the gateway has no outside address now: its uplink is away."
	case sharedPrefix.Contains(a):
		return "carrier", "is an address between a carrier's gateway and its customers (RFC 7335): the carrier translates once more, and nobody on the internet can begin a connection to a mapping."
	case testPrefix.Contains(a):
		return "private", "is an address for tests of networks (RFC 2544), which the internet does not carry: nobody there can begin a connection to a mapping."
	case carrierPrefix.Contains(a):
		return "carrier", "is an address of a carrier's NAT (RFC 6598): the carrier translates once more, and nobody on the internet can begin a connection to a mapping."
	case a.Is6() && !network.Carried(a):
		return "private", "is a private address of IPv6, which the internet does not carry (RFC 4193): nobody there can begin a connection to a mapping."
	case !network.Carried(a):
		return "private", "is a private address: another gateway in front of this one translates once more (double NAT). A mapping is reached from the internet only if that one has a forward for it, or is asked too."
	}
	return "public", ""
}

// splitErrors takes joined errors apart.
func splitErrors(err error) []error {
	if err == nil {
		return nil
	}
	if joined, ok := err.(interface{ Unwrap() []error }); ok {
		var all []error
		for _, e := range joined.Unwrap() {
			all = append(all, splitErrors(e)...)
		}
		return all
	}
	return []error{err}
}

// usualLifetime is how long a mapping is asked for where nobody says.
const usualLifetime = "1h"

// ask reads what add and remove are about.
func (c *mappingCall) ask(text string) (a portmap.Ask, err error) {
	o := &c.options
	if a.Protocol, a.Port, err = c.mappedService(text); err != nil {
		return a, err
	}
	if a.Lifetime, err = network.ParseLifetime(cmp.Or(o.forTime, usualLifetime)); err != nil {
		return a, fmt.Errorf("-for %w", err)
	}
	a.Outside, a.Exact, a.Text = uint16(o.wished), o.exact, o.note
	if o.exact && o.wished == 0 {
		return a, errors.New("-exact goes with -outside PORT")
	}
	if o.exact && o.peer != "" {
		return a, errors.New("-exact does not go with -peer: a connection has the port that it has")
	}
	if o.machine != "" {
		if a.Machine, err = header.ParseAddress(o.machine); err != nil {
			return a, fmt.Errorf("-machine: %w", err)
		}
	}
	if o.peer != "" {
		if a.Peer, err = netip.ParseAddrPort(o.peer); err != nil || a.Peer.Port() == 0 {
			return a, fmt.Errorf("-peer %s: write ADDRESS:PORT", o.peer)
		}
	}
	if o.only != "" {
		for _, text := range strings.Split(o.only, ",") {
			p, err := header.ParsePrefix(text)
			if err != nil {
				single, bad := header.ParseAddress(text)
				if bad != nil {
					return a, fmt.Errorf("-only: %w", err)
				}
				p = netip.PrefixFrom(single, single.BitLen())
			}
			a.Only = append(a.Only, p)
		}
	}
	if a.Text == "" {
		a.Text = "hollowbridge"
	}
	return a, nil
}

type gotJSON struct {
	By       string  `json:"by"`
	Protocol string  `json:"protocol"`
	Outside  string  `json:"outside"`
	Inside   string  `json:"inside"`
	Lifetime float64 `json:"lifetime"`
	Text     string  `json:"text"`
}

func gotOf(g *portmap.Got) gotJSON {
	return gotJSON{g.By, g.Protocol.String(), g.Outside.String(), g.Inside.String(), g.Lifetime.Seconds(), g.Text}
}

func (c *mappingCall) addMapping() int {
	a, err := c.ask(c.args[1])
	if err != nil {
		return c.misused("%s", err)
	}
	client, err := c.asClient()
	if err != nil {
		return c.failed(err)
	}
	ctx, stop := untilInterrupt()
	defer stop()
	got, err := client.Add(ctx, c.options.by, a)
	if ctx.Err() != nil && err != nil {
		return c.refusedMapping(errors.New("interrupted before the gateway answered; what it grants all the same ends by itself"))
	}
	if err != nil {
		return c.refusedMapping(err)
	}
	if err := c.rememberMapping(client, &a, got); err != nil {
		fmt.Fprintf(c.Err, "hollowbridge mapping: it can't be remembered for remove: %s\n", err)
	}
	c.printGot(got)
	if !c.options.hold {
		return yes
	}
	return c.holdMapping(ctx, client, &a, got)
}

func (c *call) printGot(got *portmap.Got) {
	if c.json {
		c.printJSONLine(gotOf(got))
	} else {
		arrow := got.Outside.String()
		if got.Outside != got.Inside {
			arrow += " -> " + got.Inside.String()
		}
		fmt.Fprintf(c.Out, "%s  %s %s, by %s, for %s, until %s\n", c.green("opened"), arrow, got.Protocol, got.By, spanText(got.Lifetime.Seconds()), c.Now().Add(got.Lifetime).Format("15:04:05"))
		if _, note := addressIs(got.Outside.Addr()); note != "" {
			fmt.Fprintf(c.Out, "%s\n", strings.Join(wrap(got.Outside.Addr().String()+" "+note, c.Width), "\n"))
		}
	}
	c.flush()
}

// refusedMapping says why a gateway did not do what it was asked.
func (c *call) refusedMapping(err error) int {
	for _, e := range splitErrors(err) {
		fmt.Fprintf(c.Err, "%s\n", strings.Join(wrap(e.Error(), c.Width), "\n"))
	}
	return no
}

// renewal returns how long is waited until a mapping is asked for again that has so long left: from a half to five eighths of that, at least
// four seconds (RFC 6887, 11.2.1).
func renewal(left time.Duration) time.Duration {
	return max(left/2+time.Duration(rand.Float64()*float64(left)/8), 4*time.Second)
}

// holdMapping renews a mapping until ^C, and then takes it away.
func (c *call) holdMapping(ctx context.Context, client *portmap.Client, a *portmap.Ask, got *portmap.Got) int {
	by, until, isOver := got.By, c.Now().Add(got.Lifetime), false
	again := *a
	again.Outside = got.Outside.Port()
	wait := renewal(got.Lifetime)
	var held atomic.Pointer[portmap.Got]
	held.Store(got)
	lost := client.Lost(ctx, &held)
	say := func(text string) {
		if !c.json {
			fmt.Fprintln(c.Out, text)
			c.flush()
		}
	}
	for {
		select {
		case <-lost:
			say("the gateway has begun anew: asking again")
		case <-ctx.Done():
			return c.letGo(client, by, again, got, until)
		case <-time.After(wait):
		}
		next, err := client.Add(ctx, by, again)
		var denied *portmap.Denied
		switch left := until.Sub(c.Now()); {
		case ctx.Err() != nil:
			continue
		case err != nil && left <= 0 && !isOver:
			isOver = true
			fmt.Fprintf(c.Err, "%s: ran out at %s, not renewed: %s\n", got.Outside, until.Format("15:04:05"), err)
			wait = afterRunningOut
		case err != nil:
			fmt.Fprintf(c.Err, "not renewed yet: %s\n", err)
			if wait = renewal(max(left, 0)); left <= 0 {
				wait = afterRunningOut
			}
		}
		if err != nil {
			if errors.As(err, &denied) && denied.Lasts > wait { // the answer would be the same (RFC 6887, 7.4)
				wait = min(denied.Lasts, 24*time.Hour)
				fmt.Fprintf(c.Err, "the gateway answers the same for %s; asking again at %s\n", spanText(denied.Lasts.Seconds()), c.Now().Add(wait).Format("15:04:05"))
			}
			continue
		}
		if next.Outside != got.Outside || isOver { // the gateway has begun anew
			c.printGot(next)
			again.Outside = next.Outside.Port()
		}
		got, until, isOver = next, c.Now().Add(next.Lifetime), false
		wait = renewal(got.Lifetime)
		held.Store(got)
	}
}

// afterRunningOut is how long is waited before a mapping is asked for again that is there no longer.
const afterRunningOut = 15 * time.Second

// letGo takes a mapping away that was held.
func (c *call) letGo(client *portmap.Client, by string, a portmap.Ask, got *portmap.Got, until time.Time) int {
	a.Lifetime, a.Pinhole = 0, got.Pinhole
	ending, cancel := context.WithTimeout(context.Background(), 900*time.Millisecond)
	defer cancel()
	err := client.Remove(ending, by, a)
	var unanswered *portmap.Unanswered
	switch {
	case errors.Is(err, portmap.ErrEndsItself):
		fmt.Fprintf(c.Err, "%s: %s, at %s\n", got.Outside, err, until.Format("15:04:05"))
		return yes
	case errors.As(err, &unanswered) || errors.Is(err, context.DeadlineExceeded):
		fmt.Fprintf(c.Err, "%s: the gateway does not answer, so it is not taken away; it ends by itself at %s\n", got.Outside, until.Format("15:04:05"))
		return no
	case err != nil:
		return c.refusedMapping(err)
	}
	c.forgetMapping(got)
	if !c.json {
		fmt.Fprintf(c.Out, "taken away\n")
	}
	return yes
}

func (c *mappingCall) removeMapping() int {
	if c.gateway != "" && !c.isAddress() {
		return c.removeAsAdministrator()
	}
	protocol, outside, err := c.mappedService(c.args[1])
	if err != nil {
		return c.misused("%s", err)
	}
	client, err := c.asClient()
	if err != nil {
		return c.failed(err)
	}
	ctx, stop := untilInterrupt()
	defer stop()
	by, a := c.options.by, portmap.Ask{Protocol: protocol, Port: outside, Outside: outside}
	known, ok := c.rememberedMapping(client, protocol, outside)
	if ok {
		a.Port, a.Machine, a.Peer, a.Pinhole = known.Port, known.Machine, known.Peer, known.Pinhole
		if by == "" {
			by = known.By
		}
	}
	if err := client.Remove(ctx, by, a); err != nil {
		return c.refusedMapping(err)
	}
	if ok {
		c.forgetMapping(&portmap.Got{Protocol: protocol, Outside: netip.AddrPortFrom(client.Gateway, outside)})
	}
	switch {
	case c.json:
		c.printJSON(map[string]any{"removed": c.args[1], "known": ok})
	case ok:
		fmt.Fprintf(c.Out, "%s is taken away\n", c.args[1])
	default:
		fmt.Fprintf(c.Out, "this user was granted no %s at %s, as far as is remembered; the gateway agrees that it is not there\n", c.args[1], client.Gateway)
	}
	return yes
}

func (c *mappingCall) removeAsAdministrator() int {
	list := c.asAdministrator()
	if list == nil {
		return wrong
	}
	_, failures := askAll(list, func(g *gateway.Client) (struct{}, error) {
		return struct{}{}, g.RemoveMapping(context.Background(), c.args[1], loginName())
	})
	for i, g := range list {
		if failures[i] == nil && !c.json {
			fmt.Fprintf(c.Out, "%s: %s is taken away\n", g.Gateway, c.args[1])
		}
	}
	return c.sayFailures(failures)
}

func (c *mappingCall) settleMapping() int {
	number, err := strconv.ParseUint(c.args[1], 10, 63)
	if err != nil {
		return c.misused("%s %s: the number that mapping list shows", c.args[0], c.args[1])
	}
	list := c.asAdministrator()
	if list == nil {
		return wrong
	}
	if len(list) > 1 {
		return c.misused("%s: each gateway numbers what waits by itself; say which with -gateway", c.args[0])
	}
	approve := c.args[0] == "approve"
	err = list[0].Settle(context.Background(), gateway.Settlement{Number: number, Approve: approve, Who: loginName()})
	if err != nil {
		var refusal *gateway.Refusal
		if errors.As(err, &refusal) {
			c.failed(err)
			return no
		}
		return c.failed(err)
	}
	if !c.json {
		word := "refused"
		if approve {
			word = "approved"
		}
		fmt.Fprintf(c.Out, "%s: number %d is %s\n", list[0].Gateway, number, word)
	}
	return yes
}

// blockMachine blocks a machine at the gateways where programs may ask, or lets it ask again.
func (c *mappingCall) blockMachine() int {
	b := gateway.Block{Blocked: c.args[0] == "block", Who: loginName()}
	if c.options.forTime != "" {
		if !b.Blocked {
			return c.misused("-for goes with block")
		}
		lifetime, err := network.ParseLifetime(c.options.forTime)
		if err != nil {
			return c.misused("-for %s", err)
		}
		b.For = lifetime.Seconds()
	}
	list := c.asAdministrator()
	if list == nil {
		return wrong
	}
	n := c.network()
	if h := hostOf(n, c.args[1]); h != nil {
		b.Addresses = h.Addresses
	} else {
		a, err := oneAddress(n, c.args[1])
		if err != nil {
			return c.misused("%s", err)
		}
		b.Addresses = []netip.Addr{a}
	}
	list = slices.DeleteFunc(list, func(g *gateway.Client) bool {
		return n != nil && n.Called(g.Gateway) != nil && n.Called(g.Gateway).Mappings == nil
	})
	if len(list) == 0 {
		return c.misused("no gateway of the network file has mappings")
	}
	_, failures := askAll(list, func(g *gateway.Client) (struct{}, error) { return struct{}{}, g.Block(context.Background(), b) })
	for i, g := range list {
		if failures[i] != nil || c.json {
			continue
		}
		text := "may ask again"
		if b.Blocked {
			text = "is blocked until mapping unblock; what it had is taken away"
			if b.For > 0 {
				text = fmt.Sprintf("is blocked for %s; what it had is taken away", spanText(b.For))
			}
		}
		fmt.Fprintf(c.Out, "%s: %s %s\n", g.Gateway, c.args[1], text)
	}
	return c.sayFailures(failures)
}

func hostOf(n *network.Network, name string) *network.Host {
	if n == nil {
		return nil
	}
	return n.Host(name)
}

func (c *mappingCall) listMappings() int {
	if c.isAddress() {
		if c.options.watch {
			return c.misused("-watch is for administrators: name a gateway of the network file")
		}
		return c.listAsClient()
	}
	list := c.asAdministrator()
	if list == nil {
		return wrong
	}
	return c.watched(c.options.watch, func() int { return c.showGranted(list) })
}

func (c *call) showGranted(list []*gateway.Client) int {
	n := c.network()
	answers, failures := askAll(list, func(g *gateway.Client) (gateway.Mappings, error) { return g.Mappings(context.Background()) })
	all := gateway.Mappings{Mappings: []gateway.Mapping{}, Waiting: []gateway.Wish{}, Blocked: []gateway.BlockedMachine{}}
	for i := range answers {
		all.Mappings = append(all.Mappings, answers[i].Mappings...)
		all.Waiting = append(all.Waiting, answers[i].Waiting...)
		all.Blocked = append(all.Blocked, answers[i].Blocked...)
	}
	status := c.sayFailures(failures)
	if c.json {
		c.printJSON(all)
		return status
	}
	rows := [][]string{{"gateway", "mapping", "at", "to", "asked for by", "by", "left", "for", "says"}}
	for _, m := range all.Mappings {
		rows = append(rows, []string{m.Gateway, m.Name, m.Outside.Addr().String(), m.Inside.String(), machineName(n, m.Owner), m.By, spanText(m.Left), sendersText(&m), m.Text})
	}
	if len(rows) > 1 {
		c.printColumns(rows, "left")
	} else if status == yes {
		fmt.Fprintln(c.Out, "no program has a mapping")
	}
	if len(all.Waiting) > 0 {
		fmt.Fprintln(c.Out)
		rows = [][]string{{"gateway", "waits", "asked for by", "by", "for", "since", "gives up in"}}
		for _, w := range all.Waiting {
			rows = append(rows, []string{w.Gateway, fmt.Sprint(w.Number), machineName(n, w.Asker), w.By, wishText(n, &w), spanText(c.Now().Sub(w.Since).Seconds()), spanText(w.Until.Sub(c.Now()).Seconds())})
		}
		c.printColumns(rows, "waits", "since", "gives up in")
	}
	if len(all.Blocked) > 0 {
		fmt.Fprintln(c.Out)
		rows = [][]string{{"gateway", "blocked", "told by", "by", "still for"}}
		for _, b := range all.Blocked {
			left := "until unblock"
			if b.Until != nil {
				left = spanText(b.Until.Sub(c.Now()).Seconds())
			}
			var machines []string
			for _, a := range b.Addresses {
				machines = append(machines, machineName(n, a))
			}
			rows = append(rows, []string{b.Gateway, strings.Join(machines, ", "), b.Machine, b.Who, left})
		}
		c.printColumns(rows)
	}
	return status
}

// machineName returns a machine's address, with its name where the file knows it.
func machineName(n *network.Network, a netip.Addr) string {
	if n != nil {
		for _, h := range n.Hosts {
			if h.Has(a) {
				return h.Name + " " + a.String()
			}
		}
	}
	return a.String()
}

// originText says in brackets whose a mapping is.
func originText(o *gateway.Origin) string {
	if o == nil {
		return ""
	}
	return fmt.Sprintf(" (%s for %s, %s left)", o.By, o.Owner, spanText(o.Left))
}

func sendersText(m *gateway.Mapping) string {
	if len(m.Senders) == 0 {
		return "everybody"
	}
	var list []string
	for _, s := range m.Senders {
		text := s.From.String()
		if s.From.IsSingleIP() {
			text = s.From.Addr().String()
		}
		if s.Port != 0 {
			text += fmt.Sprintf(" port %d", s.Port)
		}
		list = append(list, text)
	}
	return strings.Join(list, ", ")
}

func wishText(n *network.Network, w *gateway.Wish) string {
	text := fmt.Sprintf("%s/%d", w.Protocol, w.Port)
	if w.Machine != w.Asker {
		text += " of " + machineName(n, w.Machine)
	}
	if w.Outside != 0 {
		text += fmt.Sprintf(" as %d", w.Outside)
	}
	if w.Text != "" {
		text += " (" + w.Text + ")"
	}
	return text
}

func (c *mappingCall) listAsClient() int {
	client, err := c.asClient()
	if err != nil {
		return c.failed(err)
	}
	ctx, stop := untilInterrupt()
	defer stop()
	list, err := client.List(ctx)
	if err != nil {
		return c.refusedMapping(err)
	}
	result := []gotJSON{}
	var rows [][]string
	for i := range list {
		g := &list[i]
		result = append(result, gotOf(g))
		rows = append(rows, []string{fmt.Sprintf("%s/%d", g.Protocol, g.Outside.Port()), g.Outside.String() + " -> " + g.Inside.String(), spanText(g.Lifetime.Seconds()), g.Text})
	}
	switch {
	case c.json:
		c.printJSON(map[string]any{"mappings": result})
	case len(rows) == 0:
		fmt.Fprintf(c.Out, "%s tells of no mapping of this machine\n", client.Gateway)
	default:
		c.printTable([]string{"mapping", "leads", "left", "says"}, rows)
	}
	return yes
}

func (c *mappingCall) tryMapping() int {
	protocol, port, err := c.mappedService(c.args[1])
	if err != nil {
		return c.misused("%s", err)
	}
	lifetime, err := network.ParseLifetime(cmp.Or(c.options.forTime, usualLifetime))
	if err != nil {
		return c.misused("-for %s", err)
	}
	if c.options.exact && c.options.wished == 0 {
		return c.misused("-exact goes with -outside PORT")
	}
	if c.options.asker == "" {
		return c.misused("try needs -as MACHINE, who would ask")
	}
	list := c.asAdministrator()
	if list == nil {
		return wrong
	}
	n := c.network()
	asker, err := oneAddress(n, c.options.asker)
	if err != nil {
		return c.misused("-as %s", err)
	}
	trial := gateway.MappingTrial{By: c.options.by, Asker: asker, Protocol: protocol.String(), Port: port, Outside: uint16(c.options.wished), Exact: c.options.exact, Lifetime: lifetime.Seconds()}
	if c.options.machine != "" {
		if trial.Machine, err = oneAddress(n, c.options.machine); err != nil {
			return c.misused("-machine %s", err)
		}
	}
	type tried struct {
		Gateway string `json:"gateway"`
		By      string `json:"by"`
		gateway.MappingVerdict
	}
	results := []tried{}
	status := no
	for _, g := range list {
		own := n.Called(g.Gateway)
		if own == nil || own.Mappings == nil {
			continue
		}
		for _, by := range own.Mappings.Protocols {
			if c.options.by != "" && by != c.options.by {
				continue
			}
			trial.By = by
			verdict, err := g.TryMapping(context.Background(), trial)
			if err != nil {
				return c.failed(err)
			}
			results = append(results, tried{g.Gateway, by, verdict})
			if verdict.Granted {
				status = yes
			}
		}
	}
	if c.json {
		c.printJSON(map[string]any{"tried": results})
		return status
	}
	if len(results) == 0 {
		fmt.Fprintln(c.Out, "no gateway lets programs ask for mappings that way")
		return no
	}
	var rows [][]string
	for _, t := range results {
		what, line := "refused: "+t.Why, ""
		if t.Granted {
			what = fmt.Sprintf("granted: %s for %s", t.Outside, spanText(t.Lifetime))
		}
		if t.Asks {
			what = "waits for an administrator, then " + what
		}
		if t.Line > 0 {
			line = fmt.Sprintf("line %d", t.Line)
		}
		rows = append(rows, []string{t.Gateway, t.By, what, line})
	}
	c.printTable([]string{"gateway", "by", fmt.Sprintf("%s for %s", machineName(n, asker), header.ServiceAt(protocol, port)), "rule"}, rows)
	return status
}

// oneAddress reads a host or an address.
func oneAddress(n *network.Network, text string) (netip.Addr, error) {
	if n != nil {
		if h := n.Host(text); h != nil {
			return h.Addresses[0], nil
		}
	}
	a, err := header.ParseAddress(text)
	if err != nil && n != nil {
		var names []string
		for _, h := range n.Hosts {
			names = append(names, h.Name)
		}
		return a, fmt.Errorf("%s: neither a host nor an address%s", text, netfile.DidYouMean(text, names))
	}
	return a, err
}

// stateFolder is where this program remembers things of a user (XDG Base Directory).
func (c *call) stateFolder() (string, error) {
	folder := c.Getenv("XDG_STATE_HOME")
	if folder == "" {
		home := c.Getenv("HOME")
		if home == "" {
			return "", errors.New("neither XDG_STATE_HOME nor HOME says where mappings are to be remembered")
		}
		folder = home + "/.local/state"
	}
	folder += "/hollowbridge"
	return folder, os.MkdirAll(folder, 0o700)
}
