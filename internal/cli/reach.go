package cli

import (
	"encoding/csv"
	"flag"
	"fmt"
	"slices"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/internal/netfile"
)

var reachCommand = &command{
	name:    "reach",
	summary: "lists everything that can get in, and exactly who",
	help: `Lists every service that can be reached, exactly which sources can reach it, by which address
and port, and by which rules. It is complete: what is not listed cannot be reached, there and
back. A star marks what is open to more than half of the internet, a plus what is open to more
than 4096 of its addresses. What gateways answer themselves stands last.

What is let through although nobody is known to answer is listed apart: to an address where the
file has no host, or to a port that the host is not said to serve. Whatever is there, or will be,
can be reached.

-from takes an address expression: internet (where absent), a zone, a group, an address, or any.
-to takes the hosts or addresses it is delivered to, -service the service as it is delivered.
-report text, or markdown, writes one page for somebody who is no administrator: a sentence for each
thing that is open, to whom, by which rules, with their notes, whose they are and until when.

It is about every moment from today on, and says when something is open that is not always; -at asks
about one moment.
` + whatIfHelp[:len(whatIfHelp)-1],
	examples: []string{
		"hollowbridge reach",
		"hollowbridge reach -from visitors",
		"hollowbridge reach -from any -to telescope -service telescope",
		"hollowbridge reach -csv",
		"hollowbridge reach -report markdown",
	},
	begin: func(c *call) task { return &reachCall{call: c} },
}

// A reachCall is a call of reach.
type reachCall struct {
	*call
	options struct {
		page, from, to, service string
		live                    bool
	}
}

func (c *reachCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	set.BoolVar(&c.csv, "csv", false, "print CSV")
	set.StringVar(&c.options.page, "report", "", "write one page in whole sentences, for somebody who is no administrator, as this `FORM`: text or markdown")
	set.StringVar(&c.options.from, "from", "internet", "whose connections, `WHO`")
	set.StringVar(&c.options.to, "to", "", "only what is delivered to these, `WHERE`")
	set.StringVar(&c.options.service, "service", "", "only this `SERVICE`, as it is delivered")
	c.askedFlag(set)
	c.whatIfFlags(set)
	set.BoolVar(&c.options.live, "live", false, "at the running gateways: what is in force there, with the mappings that programs have")
	c.timesFlag(set)
}

func (c *reachCall) run() int {
	if len(c.args) > 0 {
		return c.misused("%s: not expected; name sources with -from", c.args[0])
	}
	if o := &c.options; o.page != "" && (c.json || c.csv) {
		return c.misused("-report, -json and -csv are forms of one answer; give one of them")
	} else if o.page != "" && !slices.Contains(pageForms, o.page) {
		return c.misused("-report %s: there are text and markdown", o.page)
	}
	n, live := c.liveOrFile(c.options.live)
	if n == nil {
		return wrong
	}
	q, err := c.reachQuestion(n)
	if err != nil {
		return c.failed(err)
	}
	e, done := c.compile(n)
	found, err := reach.Find(e, q)
	done()
	if err != nil {
		return c.failed(fmt.Errorf("%w; nothing is claimed", err))
	}
	switch {
	case c.json:
		c.printJSON(c.reachResult(n, c.options.from, &found))
	case c.options.page != "":
		c.printPage(n, live, &found)
	case c.csv:
		return c.reachCSV(n, &found)
	default:
		if live != nil {
			c.sayLive(live)
		}
		c.printReach(n, &found)
	}
	return yes
}

func (c *reachCall) reachQuestion(n *network.Network) (reach.Question, error) {
	var q reach.Question
	from, err := netfile.ParseExpression(n, c.options.from)
	if err != nil {
		return q, fmt.Errorf("-from: %w", err)
	}
	q.From = &from
	if c.options.to != "" {
		to, err := netfile.ParseExpression(n, c.options.to)
		if err != nil {
			return q, fmt.Errorf("-to: %w", err)
		}
		q.To = &to
	}
	if c.options.service != "" {
		if q.Service, err = netfile.ParseService(n, c.options.service); err != nil {
			return q, fmt.Errorf("-service: %w", err)
		}
	}
	q.Times = c.times(n)
	return q, nil
}

func (c *reachCall) printReach(n *network.Network, found *reach.Answer) {
	names := reach.NewNamer(n)
	open, many := 0, 0
	for i, part := range [][]reach.Access{found.Reached, found.LetThrough} {
		var rows [][]string
		for _, a := range part {
			exposure := exposureOf(names, &a)
			if i == 0 && exposure == reach.OpenToAll {
				open++
			} else if i == 0 && exposure == reach.OpenToMany {
				many++
			}
			rows = append(rows, []string{exposureMarks[exposure], accessHost(names, &a), servicesText(a.Services), accessWho(names, &a), accessThrough(names, &a), ruleNames(a.Rules)})
		}
		switch {
		case len(part) > 0 && i == 0:
			fmt.Fprintf(c.Out, "what can be reached from %s%s\n\n", c.options.from, c.atText())
		case len(part) > 0:
			head := fmt.Sprintf("let through from %s, but nobody is there as far as this file knows", c.options.from)
			fmt.Fprintf(c.Out, "\n%s\n\n", strings.Join(wrap(head, c.Width), "\n"))
		case i == 0:
			fmt.Fprintf(c.Out, "nothing can be reached from %s%s\n", c.options.from, c.atText())
			continue
		default:
			continue
		}
		c.printTableWithin([]string{"", "host", "service", "who", "through", "rules"}, rows, []int{1, 12, 14, 19, 23, 0})
	}
	if len(found.Reached)+len(found.LetThrough) == 0 {
		return
	}
	if o := &c.options; o.from == "internet" && o.to == "" && o.service == "" {
		c.printMayOpen(n)
	}
	c.printOpened(n)
	text := fmt.Sprintf("%s in, %d of them (*) open to the internet at large", count(len(found.Reached), "way"), open)
	if many > 0 {
		text += fmt.Sprintf(", %d (+) to more than %d of its addresses", many, reach.ManyAddresses)
	}
	if len(found.LetThrough) > 0 {
		text += fmt.Sprintf("; %d more to where nobody is known to be", len(found.LetThrough))
	}
	fmt.Fprintf(c.Out, "\n%s\n", strings.Join(wrap(text, c.Width), "\n"))
}

// exposureMarks stand in front of a way in.
var exposureMarks = [...]string{reach.OpenToFew: "", reach.OpenToMany: "+", reach.OpenToAll: "*"}

// printOpened says whose the mappings are that programs have.
func (c *call) printOpened(n *network.Network) {
	for _, g := range n.Gateways {
		for i, m := range g.Opened {
			if i == 0 {
				fmt.Fprintln(c.Out)
			}
			fmt.Fprintf(c.Out, "mapping %s at %s: by %s for %s, %s left\n", m.Name, g.Name, m.By, machineName(n, m.Owner), spanText(m.Left.Seconds()))
		}
	}
}

func accessHost(names *reach.Namer, a *reach.Access) string {
	switch {
	case a.Gateway:
		return a.Host + " itself"
	case a.Host == "":
		return names.About(a.Rules).Name(a.Delivered)
	}
	return a.Host
}

// accessWho says who gets in, and when that is not always.
func accessWho(names *reach.Namer, a *reach.Access) string {
	return accessFrom(names, a) + whenOnly(a.When)
}

func accessFrom(names *reach.Namer, a *reach.Access) string {
	if a.Sender.By != nil {
		return names.About(a.Rules).Senders(a.Sender, a.From) + portsOnly(a.AllPorts, a.Ports)
	}
	who := names.About(a.Rules).NameOn(a.From, a.On)
	if names.Exposure(a.From) == reach.OpenToMany {
		who += ": " + names.Count(a.From)
	}
	return who + portsOnly(a.AllPorts, a.Ports)
}

// exposureOf says to how many a way in is open; what only machines beside an uplink can use is open to few.
func exposureOf(names *reach.Namer, a *reach.Access) reach.Exposure {
	if a.Sender.By != nil {
		return reach.OpenToFew
	}
	return names.Exposure(a.From)
}

// accessThrough says what sources connect to, and who else gets there by an inside address.
func accessThrough(names *reach.Namer, a *reach.Access) string {
	return throughText(names, a.To, a.Sent) + insideText(a.Inside, a.Sent)
}

// insideText says who gets to the same by an inside address, and by which services, where they send others than
// whoever else gets there.
func insideText(list []reach.Straight, sent header.Services) string {
	var to header.Addresses
	var services header.Services
	var names []string
	for _, s := range list {
		to, services = to.Union(s.To), append(services, s.Sent...)
		if name := s.By.String(); !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	if len(list) == 0 {
		return ""
	}
	text := to.String()
	if ranges := to.Ranges(); len(ranges) > 1 {
		text = fmt.Sprintf("%s and %d more", ranges[0], len(ranges)-1)
	}
	if services = services.Merged(); !slices.Equal(services, sent.Merged()) {
		text += " " + services.String()
	}
	return fmt.Sprintf(" (beside %s also %s)", strings.Join(names, ", "), text)
}

// portsOnly says from which ports of their own sources get through, where not from all.
func portsOnly(all bool, ports []header.Ports) string {
	if all {
		return ""
	}
	var texts []string
	for _, p := range ports[:min(len(ports), mostPortsSaid)] {
		texts = append(texts, p.String())
	}
	text := strings.Join(texts, ", ")
	if more := len(ports) - mostPortsSaid; more > 0 {
		text += fmt.Sprintf(" and %d more ranges", more)
	}
	return ", from source port " + text + " only"
}

// mostPortsSaid is how many ranges of source ports are written out.
const mostPortsSaid = 4

// throughText says what the sources connect to: addresses and services.
func throughText(names *reach.Namer, to header.Addresses, services header.Services) string {
	text := to.String()
	switch {
	case names.Open(to):
		text = "anything outside"
		if family := names.OnlyFamily(to); family != "" {
			text += " (" + family + ")"
		}
	case len(to.Ranges()) > 3:
		text = fmt.Sprintf("%s and %d more", to.Ranges()[0], len(to.Ranges())-1)
	}
	return text + " " + servicesText(services)
}

// servicesText writes services; all there are as any service.
func servicesText(services header.Services) string {
	for _, p := range header.Protocols() {
		whole := slices.ContainsFunc(services, func(s header.Service) bool {
			return s.Protocol == p && (!p.HasPorts() || s.Ports == header.AllPorts)
		})
		if !whole {
			return foldedServices(services)
		}
	}
	return "any service"
}

// How many services of one protocol stand each for itself, and how many ports behind one protocol, so that lines can break there.
const (
	mostApart    = 3
	mostTogether = 4
)

// foldedServices writes services as files take them, the ports of a protocol that has many of them together: tcp/80,443,8000-8080.
func foldedServices(services header.Services) string {
	var texts []string
	for i := 0; i < len(services); {
		p, last := services[i].Protocol, i+1
		for last < len(services) && services[last].Protocol == p && p.HasPorts() {
			last++
		}
		if last-i <= mostApart {
			for ; i < last; i++ {
				texts = append(texts, services[i].String())
			}
			continue
		}
		for some := range slices.Chunk(services[i:last], mostTogether) {
			var ports []string
			for _, s := range some {
				ports = append(ports, s.Ports.String())
			}
			texts = append(texts, p.String()+"/"+strings.Join(ports, ","))
		}
		i = last
	}
	return strings.Join(texts, ", ")
}

func ruleNames(rules []*network.Rule) string {
	var names []string
	for _, r := range rules {
		name := r.Name
		if r.Kind == network.MappingKind {
			name = r.Kind + " " + name
		}
		if !slices.Contains(names, name) { // a forward and its filter rule often share their name
			names = append(names, name)
		}
	}
	return strings.Join(names, ", ")
}

type accessJSON struct {
	Host     string   `json:"host"`
	Gateway  bool     `json:"gateway"`
	Service  string   `json:"service"`
	Who      string   `json:"who"`
	Open     bool     `json:"open"`
	On       string   `json:"on"`
	Beside   string   `json:"beside"`   // the uplink beside which the senders are that hand it to the gateway, or empty
	NextHop  bool     `json:"next-hop"` // that is its next hop, with these addresses
	From     []string `json:"from"`
	AllPorts bool     `json:"all-source-ports"`
	Ports    []string `json:"source-ports"`
	When     string   `json:"when"` // empty: at every moment that is asked about
	To       []string `json:"to"`
	Sent     string   `json:"sent"`
	Rules    []string `json:"rules"`
	Example  string   `json:"example"`

	Delivered []string `json:"delivered"`
	Addresses uint64   `json:"internet-addresses"`     // of IPv4, among those it is from
	Sites     uint64   `json:"internet-ipv6-networks"` // of /48

	Inside []insideJSON `json:"also-inside"` // who gets there by an inside address too
}

// An insideJSON is machines beside an uplink that get to what is open to them anyway by an inside address too.
type insideJSON struct {
	Beside  string   `json:"beside"`
	NextHop bool     `json:"next-hop"`
	To      []string `json:"to"`
	Sent    string   `json:"sent"` // the services, as they send them
}

type reachJSON struct {
	From       string        `json:"from"`
	Accesses   []accessJSON  `json:"accesses"`
	LetThrough []accessJSON  `json:"let-through"`
	MayOpen    []mayOpenJSON `json:"may-open"`
}

// Whose programs may open ports for themselves, by the rules of a gateway's mappings.
type mayOpenJSON struct {
	Gateway string `json:"gateway"`
	Who     string `json:"who"`
	Ports   string `json:"ports"`
	For     string `json:"for"` // further machines, or empty
	Asks    bool   `json:"asks"`
	Line    int    `json:"line"`
}

// mayOpen returns whose programs may open ports for the internet.
func mayOpen(n *network.Network) []mayOpenJSON {
	list := []mayOpenJSON{}
	for _, g := range n.Gateways {
		if g.Mappings == nil {
			continue
		}
		for i := range g.Mappings.Rules {
			if r := &g.Mappings.Rules[i]; r.Verb == network.Allow {
				made := mayOpenJSON{Gateway: g.Name, Who: r.From.Text, Ports: r.Ports.String(), Asks: r.Ask, Line: r.Place.Line}
				if r.ForOthers {
					made.For = r.For.Text
				}
				list = append(list, made)
			}
		}
	}
	return list
}

// printMayOpen says whose programs may open ports, of what can get in from outside.
func (c *call) printMayOpen(n *network.Network) {
	var texts []string
	for _, m := range mayOpen(n) {
		text := fmt.Sprintf("%s ports %s at %s", m.Who, m.Ports, m.Gateway)
		if m.For != "" {
			text += ", also for " + m.For
		}
		if m.Asks {
			text += ", each approved by hand"
		}
		texts = append(texts, text)
	}
	if len(texts) > 0 {
		fmt.Fprintf(c.Out, "\n%s\n", strings.Join(wrap("Programs may open ports for themselves: "+strings.Join(texts, "; ")+".", c.Width), "\n"))
	}
}

func (c *call) reachResult(n *network.Network, from string, found *reach.Answer) reachJSON {
	names := reach.NewNamer(n)
	return reachJSON{From: from, Accesses: c.accessEntries(names, found.Reached), LetThrough: c.accessEntries(names, found.LetThrough), MayOpen: mayOpen(n)}
}

func (c *call) accessEntries(names *reach.Namer, list []reach.Access) []accessJSON {
	entries := []accessJSON{}
	for _, a := range list {
		entry := accessJSON{
			Host: a.Host, Gateway: a.Gateway, Service: a.Services.String(), Who: accessWho(names, &a), Open: a.Sender.By == nil && names.Open(a.From),
			On: segmentText(a.On), Beside: besideText(a.Sender.By), NextHop: a.Sender.Hop, Inside: insideEntries(a.Inside), From: rangeTexts(a.From), AllPorts: a.AllPorts, Ports: portTexts(a.Ports), When: a.When.String(), To: rangeTexts(a.To), Sent: a.Sent.String(), Rules: []string{}, Example: c.traceLine(a.Example), Delivered: rangeTexts(a.Delivered),
		}
		entry.Addresses, entry.Sites = names.Outsiders(a.From)
		for _, r := range a.Rules {
			entry.Rules = append(entry.Rules, r.Name)
		}
		entries = append(entries, entry)
	}
	return entries
}

func insideEntries(list []reach.Straight) []insideJSON {
	entries := []insideJSON{}
	for _, s := range list {
		entries = append(entries, insideJSON{besideText(s.By), s.Hop, rangeTexts(s.To), s.Sent.String()})
	}
	return entries
}

func besideText(i *network.Interface) string {
	if i == nil {
		return ""
	}
	return i.String()
}

func segmentText(s *network.Segment) string {
	if s == nil {
		return ""
	}
	return s.Name
}

func portTexts(list []header.Ports) []string {
	texts := []string{}
	for _, p := range list {
		texts = append(texts, p.String())
	}
	return texts
}

func rangeTexts(set header.Addresses) []string {
	texts := []string{}
	for _, r := range set.Ranges() {
		texts = append(texts, r.String())
	}
	return texts
}

// traceLine is the command that traces an example.
func (c *call) traceLine(x reach.Example) string {
	p := x.Packet
	service := header.Service{Protocol: p.Protocol, Ports: header.Ports{First: p.DestinationPort, Last: p.DestinationPort}}
	line := fmt.Sprintf("hollowbridge trace %s %s %s", x.Sender, p.Destination, service)
	if p.SourcePort != header.UsualSourcePort && p.SourcePort != 0 {
		line += fmt.Sprintf(" -sport %d", p.SourcePort)
	}
	if x.In != nil {
		line += " -in " + x.In.String()
	}
	if c.at != "" {
		line += " -at " + netfile.Quoted(c.at)
	} else if x.At != "" {
		line += " -at " + netfile.Quoted(x.At)
	}
	return c.typed(line)
}

// typed returns a command so that it is about the same file when it is typed.
func (c *call) typed(command string) string {
	if c.file != "" {
		command += " -f " + netfile.Quoted(c.file)
	}
	v := &c.whatIf
	for _, f := range []struct {
		name string
		list []string
	}{{"is", v.Is}, {"down", v.Down}, {"list", v.Lists}, {"without", v.Without}, {"with", v.With}} {
		for _, value := range f.list {
			command += " -" + f.name + " " + netfile.Quoted(value)
		}
	}
	return command
}

func (c *call) reachCSV(n *network.Network, found *reach.Answer) int {
	names := reach.NewNamer(n)
	w := csv.NewWriter(c.Out)
	rows := [][]string{{"host", "service", "who", "open", "from", "to", "sent", "rules", "delivered", "known", "when", "beside"}}
	for i, part := range [][]reach.Access{found.Reached, found.LetThrough} {
		for _, a := range part {
			rows = append(rows, []string{a.Host, a.Services.String(), accessWho(names, &a), fmt.Sprint(a.Sender.By == nil && names.Open(a.From)), a.From.String(), a.To.String(), a.Sent.String(), ruleNames(a.Rules),
				a.Delivered.String(), fmt.Sprint(i == 0), a.When.String(), besideText(a.Sender.By)})
		}
	}
	if err := w.WriteAll(rows); err != nil {
		return c.failed(err)
	}
	return yes
}
