package cli

import (
	"cmp"
	"flag"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
)

var showCommand = &command{
	name: "show", arguments: "[gateways|hosts|groups|services|rules|mappings|expectations|map|rule NAME|kernel GATEWAY]",
	summary: "shows what is defined: gateways, hosts, groups, services, rules, a map",
	help: `Shows what the network file defines, as tables: the whole of it, or one part. Rules stand in
the order in which they are tried, each with the line it is written in. map draws the network;
rule NAME tells everything about one rule; mappings are which programs may open ports. kernel
GATEWAY shows what the Linux kernel would be told for a gateway, chain by chain; with -here instead
of a name, what it has been told on this machine. services -named WORD finds services, the file's
and the registered ones, by a part of their names or by what people call them.`,
	examples: []string{
		"hollowbridge show", "hollowbridge show rules", "hollowbridge show hosts -json", "hollowbridge show map",
		"hollowbridge show rule archive-web", "hollowbridge show kernel keep", "hollowbridge show services -named vnc",
	},
	begin: func(c *call) task { return &showCall{call: c} },
}

// A showCall is a call of show.
type showCall struct {
	*call
	options struct {
		here  bool
		named string
	}
}

func (c *showCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	set.BoolVar(&c.options.here, "here", false, "with kernel: what this machine has")
	set.StringVar(&c.options.named, "named", "", "with services: the file's and the registered ones in whose name is this `WORD`, or that are called so")
}

// A part is one thing that show shows.
type part struct {
	name  string
	print func(*call, *network.Network)
}

var parts = []part{
	{"gateways", (*call).showGateways},
	{"hosts", (*call).showHosts},
	{"groups", (*call).showGroups},
	{"services", (*call).showServices},
	{"rules", (*call).showRules},
	{"mappings", (*call).showMappings},
	{"expectations", (*call).showExpectations},
}

func (c *showCall) run() int {
	isRule := len(c.args) == 2 && c.args[0] == "rule"
	isMap := len(c.args) == 1 && c.args[0] == "map"
	if len(c.args) > 0 && c.args[0] == "kernel" {
		return c.showKernel()
	}
	if c.options.here {
		return c.misused("-here goes with kernel")
	}
	if c.options.named != "" {
		if !slices.Equal(c.args, []string{"services"}) {
			return c.misused("-named goes with services")
		}
		return c.showNamed()
	}
	if len(c.args) > 1 && !isRule {
		return c.misused("one part at a time")
	}
	shown := parts
	if len(c.args) == 1 && !isMap {
		shown = nil
		for _, p := range parts {
			if p.name == c.args[0] {
				shown = []part{p}
			}
		}
		if shown == nil {
			var names []string
			for _, p := range parts {
				names = append(names, p.name)
			}
			return c.misused("%s: no such part%s", c.args[0], netfile.DidYouMean(c.args[0], append(names, "map", "rule", "kernel")))
		}
	}
	n := c.network()
	switch {
	case n == nil:
		return wrong
	case isRule:
		return c.showRule(n, c.args[1])
	case c.json:
		c.printJSON(showResult(n))
		return yes
	}
	fmt.Fprintf(c.Out, "network %s\n", n.Name)
	if isMap {
		c.showMap(n)
		return yes
	}
	for _, p := range shown {
		p.print(c.call, n)
	}
	return yes
}

func (c *call) heading(format string, args ...any) {
	fmt.Fprintf(c.Out, "\n%s\n", c.bold(fmt.Sprintf(format, args...)))
}

func (c *call) showGateways(n *network.Network) {
	for _, g := range n.Gateways {
		c.heading("gateway %s%s", g.Name, whose(g.Owner, g.Until))
		var rows [][]string
		for _, i := range g.Interfaces {
			rows = append(rows, []string{i.Name, i.Zone, joinPrefixes(i.Addresses), interfaceNotes(i)})
		}
		c.printTable([]string{"interface", "zone", "address", ""}, rows)
		if len(g.Routes) > 0 {
			rows = nil
			for _, r := range g.Routes {
				rows = append(rows, routeRow(r))
			}
			fmt.Fprintln(c.Out)
			c.printTable([]string{"route to", "via", "leaves by", ""}, rows)
		}
		if len(g.Serves) > 0 {
			rows = nil
			for _, s := range g.Serves {
				rows = append(rows, []string{s.Name, strings.Join(network.InterfaceNames(s.On), ", ")})
			}
			fmt.Fprintln(c.Out)
			c.printTable([]string{"answers itself", "on"}, rows)
		}
		if unusual := unusualHandling(g); len(unusual) > 0 {
			fmt.Fprintf(c.Out, "\n  %s\n", strings.Join(wrap("handling: "+strings.Join(unusual, ", "), c.Width-4), "\n    "))
		}
		fmt.Fprintf(c.Out, "\n  %s\n", strings.Join(wrap("logging: "+loggingText(g.Logging), c.Width-4), "\n    "))
		if text := limitsText(g.Limits); text != "" {
			fmt.Fprintf(c.Out, "  limits: %s\n", text)
		}
		fmt.Fprintf(c.Out, "  %s\n", strings.Join(wrap("automatic mappings: "+mappingsText(g.Mappings), c.Width-4), "\n    "))
	}
}

func interfaceNotes(i *network.Interface) string {
	var notes []string
	add := func(on bool, note string) {
		if on {
			notes = append(notes, note)
		}
	}
	add(i.IsUplink(), "to the internet")
	add(!i.IsUp(), "down")
	add(i.Trunk != nil, vlanText(i))
	add(i.Upstream.CarrierNAT, "behind a carrier's NAT")
	add(len(i.Upstream.Blocks) > 0, "upstream blocks "+i.Upstream.BlocksText)
	add(len(i.Upstream.Routes) > 0, "the provider sends "+joinPrefixes(i.Upstream.Routes)+" here")
	add(len(i.Clients) > 0, "VPN clients "+joinPrefixes(i.Clients))
	add(i.Device != "", i.Device)
	return strings.Join(notes, ", ")
}

func vlanText(i *network.Interface) string {
	if i.Trunk == nil {
		return ""
	}
	return fmt.Sprintf("VLAN %d on %s", i.VLAN, i.Trunk.Name)
}

func routeRow(r network.Route) []string {
	to, via, out, note := r.To.String(), r.Via.String(), "", ""
	if r.To.Bits() == 0 {
		to = "default"
		if r.To.Addr().Is6() {
			to = "default (IPv6)"
		}
	}
	if r.Blackhole {
		via = "blackhole"
	} else {
		out = r.Out.Name
	}
	if !r.Blackhole && !r.Via.IsValid() {
		via = "the interface"
	}
	if r.Distance != 1 {
		note = fmt.Sprintf("distance %d", r.Distance)
	}
	return []string{to, via, out, note}
}

func unusualHandling(g *network.Gateway) []string {
	var texts []string
	for _, k := range network.HandlingKeys {
		if n := k.Get(&g.Handling); n > 0 {
			texts = append(texts, k.Key+" "+k.Words[n])
		}
	}
	if h := &g.Handling; len(h.Trust) > 0 {
		texts = append(texts, "trust "+trustText(h))
	}
	return texts
}

// trustText writes the order of trust as the file does.
func trustText(h *network.Handling) string {
	var places []string
	for _, alike := range h.Trust {
		text := strings.Join(alike, ", ")
		if len(alike) > 1 {
			text = "[" + text + "]"
		}
		places = append(places, text)
	}
	return "[" + strings.Join(places, ", ") + "]"
}

func loggingText(l network.Logging) string {
	if !l.Enabled {
		return "off"
	}
	text := "on"
	if l.Unmatched {
		text += ", what no filter rule matches too"
	}
	if l.Syslog != "" {
		text += ", sent to " + l.Syslog
	}
	return text
}

func limitsText(l network.Limits) string {
	var texts []string
	if l.PortForwards > 0 {
		texts = append(texts, count(l.PortForwards, "port forward"))
	}
	if l.Sessions > 0 {
		texts = append(texts, count(l.Sessions, "session"))
	}
	return strings.Join(texts, ", ")
}

func mappingsText(m *network.Mappings) string {
	if m == nil {
		return "off"
	}
	return fmt.Sprintf("%s on %s, opened on %s", strings.Join(m.Protocols, ", "), strings.Join(network.InterfaceNames(m.On), ", "), m.External.Name)
}

// showMappings shows who may ask for mappings.
func (c *call) showMappings(n *network.Network) {
	for _, g := range n.Gateways {
		if g.Mappings == nil {
			continue
		}
		c.heading("mappings of %s", g.Name)
		fmt.Fprintf(c.Out, "  %s, at most %d\n\n", mappingsText(g.Mappings), g.Mappings.AtMost)
		var rows [][]string
		for i := range g.Mappings.Rules {
			r := &g.Mappings.Rules[i]
			rows = append(rows, []string{fmt.Sprint(r.Place.Line), string(r.Verb), r.From.Text, mappingRuleText(r)})
		}
		c.printTable([]string{"line", "verb", "who", "what"}, rows)
		fmt.Fprintln(c.Out, "  what no rule is for is refused")
	}
}

// mappingRuleText says what a rule is for, and what it grants.
func mappingRuleText(r *network.MappingRule) string {
	var texts []string
	add := func(format string, args ...any) { texts = append(texts, fmt.Sprintf(format, args...)) }
	if r.Verb == network.Allow {
		add("ports %s", r.Ports)
	}
	if r.Inside != header.AllPorts {
		add("inside ports %s", r.Inside)
	}
	if len(r.Transport) > 0 {
		names := make([]string, len(r.Transport))
		for i, p := range r.Transport {
			names[i] = p.String()
		}
		add("%s", strings.Join(names, " and "))
	}
	if len(r.By) > 0 {
		add("by %s", strings.Join(r.By, " and "))
	}
	if r.ForOthers {
		add("also for %s", r.For.Text)
	}
	switch {
	case r.Shortest > 0 && r.Lifetime > 0:
		add("for %s to %s", spanText(r.Shortest.Seconds()), spanText(r.Lifetime.Seconds()))
	case r.Lifetime > 0:
		add("for %s at most", spanText(r.Lifetime.Seconds()))
	case r.Shortest > 0:
		add("for %s at least", spanText(r.Shortest.Seconds()))
	}
	if r.AtMost > 0 {
		add("at most %d a machine", r.AtMost)
	}
	if r.Ask {
		add("each approved by hand")
	}
	if len(texts) == 0 {
		return "anything"
	}
	return strings.Join(texts, ", ")
}

func (c *call) showExpectations(n *network.Network) {
	if len(n.Expect) == 0 {
		return
	}
	c.heading("expectations")
	var rows [][]string
	for _, e := range n.Expect {
		rows = append(rows, []string{fmt.Sprint(e.Place.Line), e.Say, expectationText(e)})
	}
	c.printTable([]string{"line", "that", "means"}, rows)
}

func expectationText(e *network.Expectation) string {
	service := cmp.Or(e.Text, "any")
	switch e.Must {
	case network.Reaches:
		return fmt.Sprintf("from %s to %s, %s reaches %s", e.From.Text, e.To.Text, service, e.Host.Name)
	case network.Only:
		return fmt.Sprintf("only %s reach %s, %s", e.From.Text, e.To.Text, service)
	case network.Never:
		return fmt.Sprintf("%s never reach %s, %s", e.From.Text, e.To.Text, service)
	}
	return fmt.Sprintf("from %s to %s, %s stops", e.From.Text, e.To.Text, service)
}

func (c *call) showHosts(n *network.Network) {
	if len(n.Hosts) == 0 {
		return
	}
	c.heading("hosts")
	var rows [][]string
	for _, h := range n.Hosts {
		where := hostSegment(h)
		if where == "" {
			where = "the internet"
		}
		var serves []string
		for _, s := range h.Serves {
			serves = append(serves, s.Text)
		}
		rows = append(rows, []string{h.Name, joinAddresses(h.Addresses), where, strings.Join(append(serves, hostNotes(h)...), ", ")})
	}
	c.printTable([]string{"host", "address", "segment", "serves"}, rows)
}

// hostSegment returns where a host's first address is, "" for the internet.
func hostSegment(h *network.Host) string {
	a := h.Addresses[0]
	switch s, i := h.Segment(a), h.Clients(a); {
	case s != nil:
		return s.Name
	case i != nil:
		return "VPN clients of " + i.String()
	}
	return ""
}

// whose says whose something is, and until when it is there.
func whose(owner string, until network.Deadline) (text string) {
	if owner != "" {
		text += ", of " + owner
	}
	if until != "" {
		text += ", until " + string(until)
	}
	return text
}

func hostNotes(h *network.Host) []string {
	var notes []string
	if h.Firewall != nil {
		notes = append(notes, "has its own firewall")
	}
	if text := whose(h.Owner, h.Until); text != "" {
		notes = append(notes, strings.TrimPrefix(text, ", "))
	}
	for _, r := range h.Relays {
		notes = append(notes, "relays "+r.Text)
	}
	if h.Assigned != network.Fixed {
		notes = append(notes, "address "+string(h.Assigned))
	}
	if !h.AnswersPing {
		notes = append(notes, "answers no pings")
	}
	return notes
}

func (c *call) showGroups(n *network.Network) {
	if len(n.Groups) == 0 {
		return
	}
	c.heading("groups")
	var rows [][]string
	for _, g := range n.Groups {
		rows = append(rows, []string{g.Name, sizeText(g.Members), g.Text})
	}
	c.printTable([]string{"group", "addresses", "members"}, rows)
}

// sizeText counts addresses; IPv6 prefixes are too large to count and are named
// by the power of two.
func sizeText(set header.Addresses) string {
	v4, v6 := set.Intersect(header.IPv4.All()).Size(), set.Intersect(header.IPv6.All()).Size()
	text := fmt.Sprint(v4.UpTo(1<<33) + v6.UpTo(1<<33))
	if v6.Exceeds(1e6) {
		text = fmt.Sprintf("%d + 2^%.0f", v4.UpTo(1<<33), math.Log2(v6.Float64()))
	}
	return text
}

func (c *call) showServices(n *network.Network) {
	if len(n.Services) == 0 {
		return
	}
	c.heading("services")
	var rows [][]string
	for _, s := range n.Services {
		rows = append(rows, []string{s.Name, foldedServices(s.Services)})
	}
	c.printTable([]string{"service", "protocol and ports"}, rows)
}

// A namedService is one that show services -named finds.
type namedService struct {
	Name     string   `json:"name"`
	Services []string `json:"services"`
	Called   []string `json:"called"` // by which words people call it
	Own      bool     `json:"own"`    // it is the file's
}

// showNamed shows the services in whose name is a word, or that are called so.
func (c *showCall) showNamed() int {
	n := c.network()
	if n == nil {
		return wrong
	}
	word := strings.ToLower(c.options.named)
	called := map[string][]string{}
	for _, w := range header.CalledServices() {
		called[header.RegisteredName(w)] = append(called[header.RegisteredName(w)], w)
	}
	has := func(w string) bool { return strings.Contains(strings.ToLower(w), word) }
	found := []namedService{}
	for _, s := range n.Services {
		if has(s.Name) {
			found = append(found, namedService{s.Name, serviceTexts(s.Services), []string{}, true})
		}
	}
	for _, name := range header.ServiceNames() {
		if services, _, err := header.NamedService(name); err == nil && (has(name) || slices.ContainsFunc(called[name], has)) {
			found = append(found, namedService{name, serviceTexts(services), slices.Concat([]string{}, called[name]), false})
		}
	}
	status := yes
	if len(found) == 0 {
		status = no
	}
	if c.json {
		c.printJSON(map[string]any{"services": found})
		return status
	}
	if status == no {
		c.say("no service is called %s; a port is written as tcp/PORT or udp/PORT, and a name for it can be given under services", c.options.named)
		return no
	}
	var rows [][]string
	for _, s := range found {
		where := "registered"
		if s.Own {
			where = "of the file"
		}
		rows = append(rows, []string{s.Name, strings.Join(s.Services, ", "), where, strings.Join(s.Called, ", ")})
	}
	c.printTable([]string{"service", "protocol and ports", "name", "also called"}, rows)
	return yes
}

func serviceTexts(services header.Services) []string {
	texts := make([]string, len(services))
	for i, s := range services {
		texts[i] = s.String()
	}
	return texts
}

func (c *call) showRules(n *network.Network) {
	for _, g := range n.Gateways {
		var rows [][]string
		for _, r := range g.NAT {
			rows = append(rows, []string{fmt.Sprint(r.Place.Line), r.Kind, r.Name, natText(r) + ruleNotes(&r.Rule)})
		}
		if len(rows) > 0 {
			c.heading("nat rules of %s", g.Name)
			c.printTable([]string{"line", "kind", "name", "does"}, rows)
		}
		c.heading("filter rules of %s", g.Name)
		rows = nil
		for _, r := range g.Filter {
			rows = append(rows, []string{fmt.Sprint(r.Place.Line), string(r.Verb), r.Name, filterText(r) + ruleNotes(&r.Rule)})
		}
		if len(rows) > 0 {
			c.printTable([]string{"line", "verb", "name", "what"}, rows)
		}
		unmatched := "dropped"
		if g.Handling.UnmatchedByTrust {
			unmatched = "let through to a zone that stands behind in trust, else dropped"
		}
		fmt.Fprintf(c.Out, "  %s\n", strings.Join(wrap("what matches none is "+unmatched, c.Width-2), "\n  "))
	}
}

// natText says in half a sentence what a NAT rule does.
func natText(r *network.NATRule) string {
	text := r.Text()
	if r.Hairpin {
		text += ", from inside too"
	}
	return text
}

func filterText(r *network.FilterRule) string {
	text := fmt.Sprintf("from %s to %s, %s", cmp.Or(r.From.Text, "any"), cmp.Or(r.To.Text, "any"), cmp.Or(r.ServiceText, "any"))
	if len(r.SourcePorts) > 0 {
		var ports []string
		for _, p := range r.SourcePorts {
			ports = append(ports, p.String())
		}
		text += ", source ports " + strings.Join(ports, ", ")
	}
	if r.Redirected {
		text += ", redirected"
	}
	return text
}

func ruleNotes(r *network.Rule) string {
	text := ""
	if r.When != nil {
		text += ", " + r.When.Text
	}
	if r.Log {
		text += ", logged"
	}
	switch {
	case r.Disabled:
		text += ", DISABLED"
	case r.Expired:
		text += ", OVER since " + string(r.Until)
	default:
		text += whose("", r.Until)
	}
	text += whose(r.Owner, "")
	if r.Note != "" {
		text += " (" + r.Note + ")"
	}
	return text
}

func joinPrefixes(list []netip.Prefix) string {
	var texts []string
	for _, p := range list {
		texts = append(texts, p.String())
	}
	return strings.Join(texts, ", ")
}

func joinAddresses(list []netip.Addr) string {
	var texts []string
	for _, a := range list {
		texts = append(texts, a.String())
	}
	return strings.Join(texts, ", ")
}
