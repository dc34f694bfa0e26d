package cli

import (
	"errors"
	"flag"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

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
	via, ok := host.DefaultGateway(from)
	if !ok {
		return netip.Addr{}, errors.New("this machine has no default gateway; name one with -gateway ADDRESS")
	}
	return via, nil
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

func addressText(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
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
