package cli

import (
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"

	"hollowbridge/core/advice"
	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/netfile"
)

var addCommand = &command{
	name: "add", arguments: "KIND NAME [VALUE...]",
	summary: "adds a rule, route, host, group or service to the file",
	help: `Adds to the network file and keeps everything else in it as it is: comments, order and style.
KIND is port-forward, destination-nat, one-to-one, prefix-nat, source-nat, no-nat (NAT rules),
allow, drop, reject (filter rules), route, host, group, service, gateway, interface (as
GATEWAY:INTERFACE), expectation (its sentence is its name), host-rule and relay (behind a HOST),
or mapping-rule (behind a GATEWAY). A flag, or KEY=VALUE, sets the key of that name, with a dot
before what stands in another one, as upstream.blocks; commas stand between several values. The
members of a group and the ports of a service stand behind the name, and -file adds a list of
addresses to a group; the name of a route is where it leads to, a prefix or default. A rule goes
to the end of its list, or where -before or -after says.

A forward opens nothing by itself where the gateway wants a filter rule as well: add says so, and
with -allow adds that rule too. -dry-run shows what would change and writes nothing. What would
leave the file wrong is not written.`,
	examples: []string{
		"hollowbridge add port-forward weather-tls -on fibre -service tcp/8444 -to hut:443 -gateway rim -allow -dry-run",
		"hollowbridge add allow night-ping -from remote-observers -to night-desk -service icmp -gateway rim -before not-the-fronts -dry-run",
		"hollowbridge add source-nat yard-out -gateway rim -on fibre -from 10.61.24.0/28 -as interface -dry-run",
		"hollowbridge add route 10.70.0.0/16 -via 10.61.15.2 -gateway rim -dry-run",
		"hollowbridge add host easel -address 10.61.8.77 -serves https,tcp/9000 -dry-run",
		"hollowbridge add group lenders 203.0.113.9 192.0.2.0/26 -dry-run",
		"hollowbridge add group front-servers -file fronts.txt -dry-run",
		"hollowbridge add service beacon tcp/7000 udp/7000-7009 -dry-run",
		"hollowbridge add interface rim:lab -vlan.on trunk -vlan.id 40 -address 10.61.40.1/24 -zone lab -dry-run",
		"hollowbridge add relay archive -listen tcp/8443 -to notice:8080 -dry-run",
	},
	begin: editing(func(c *editCall, set *flag.FlagSet) {
		set.Var(atFlag{c}, "at", "an original destination; or only this `TIME`, as \"mon 14:00\", for what it says of the change")
		keyFlags(set, &c.options.settings)
		set.StringVar(&c.options.before, "before", "", "put the rule before this `RULE`")
		set.StringVar(&c.options.behind, "after", "", "put the rule after this `RULE`")
		allowFlag(c, set)
	}),
}

var changeCommand = &command{
	name: "change", arguments: "[KIND] NAME KEY=VALUE...",
	summary: "gives keys of a rule, route, host, group or service new values",
	help: `Gives keys of something in the network file new values; KEY= takes a key away. Commas stand
between several values. A group has the key members, a service the key ports. A dot stands before a
key in another one, as handling.turn-back of a gateway. What has no name has a number: HOST/2 is the
second relay or host-rule of a host, GATEWAY/2 the second mapping-rule. Where several
things have the name, put the kind in front, or name the gateway.`,
	examples: []string{
		"hollowbridge change port-forward archive-shell to=archive:22 -dry-run",
		"hollowbridge change allow archive-web from=fronts,remote-observers log= -dry-run",
		"hollowbridge change remote-observers members=203.0.113.64/27 -dry-run",
		"hollowbridge change gateway rim handling.unreachable=silent logging.unmatched= -dry-run",
		"hollowbridge change interface rim:spare state= -dry-run",
	},
	begin: editing(noMoreFlags),
}

var moveCommand = &command{
	name: "move", arguments: "[KIND] NAME before|after OTHER",
	summary:  "moves a rule within its list",
	help:     `Moves a rule before or after another rule of the same list, with the comments above it.`,
	examples: []string{"hollowbridge move allow camera before archive-web -dry-run"},
	begin:    editing(noMoreFlags),
}

var enableCommand = &command{
	name: "enable", arguments: "[KIND] NAME",
	summary:  "lets a disabled rule take part again",
	help:     `Takes "disabled: true" off a rule.`,
	examples: []string{"hollowbridge enable weather-page -dry-run"},
	begin:    editing(noMoreFlags),
}

var disableCommand = &command{
	name: "disable", arguments: "[KIND] NAME",
	summary:  "takes a rule out without removing it",
	help:     `Puts "disabled: true" on a rule.`,
	examples: []string{"hollowbridge disable weather-page -dry-run"},
	begin:    editing(noMoreFlags),
}

var removeCommand = &command{
	name: "remove", arguments: "[KIND] NAME",
	summary: "removes something from the file",
	help: `Removes something from the network file, with the comments right above it. What other parts of
the file use is not removed: remove says what uses it.`,
	examples: []string{"hollowbridge remove weather-page -dry-run", "hollowbridge remove host institute -dry-run"},
	begin:    editing(noMoreFlags),
}

// An editCall is a call of a command that edits one thing.
type editCall struct {
	*call
	declare func(*editCall, *flag.FlagSet)
	options struct {
		allow          bool
		before, behind string
		settings       []network.Setting
	}
}

// editing begins calls of such a command, with the flags that it has beside those of all.
func editing(declare func(*editCall, *flag.FlagSet)) func(*call) task {
	return func(c *call) task { return &editCall{call: c, declare: declare} }
}

func (c *editCall) flags(set *flag.FlagSet) {
	c.writeFlags(set)
	set.StringVar(&c.gateway, "gateway", "", "the `GATEWAY` of a rule, where there are several; the default gateway of a host")
	c.declare(c, set)
	if set.Lookup("at") == nil {
		c.timesFlag(set)
	}
}

// allowFlag is of what can bring a forward.
func allowFlag(c *editCall, set *flag.FlagSet) {
	set.BoolVar(&c.options.allow, "allow", false, "add the filter rule that a forward needs as well")
}

func noMoreFlags(*editCall, *flag.FlagSet) {}

// An atFlag is -at of add, which has two meanings: a time, as for other edits, or else the key of that name.
type atFlag struct{ c *editCall }

func (f atFlag) String() string { return "" }

func (f atFlag) Set(value string) error {
	if _, err := readMoment(value); err == nil && value != "" {
		f.c.at = value
		return nil
	}
	return keyFlag{key: "at", settings: &f.c.options.settings}.Set(value)
}

// A keyFlag sets one key of what is added.
type keyFlag struct {
	key      string
	flag     bool
	settings *[]network.Setting
}

func (k keyFlag) String() string   { return "" }
func (k keyFlag) IsBoolFlag() bool { return k.flag }
func (k keyFlag) Set(value string) error {
	*k.settings = append(*k.settings, network.Setting{Key: network.Key(k.key), Value: value})
	return nil
}

// keyFlags declares a flag for every key that something can be added with.
func keyFlags(set *flag.FlagSet, settings *[]network.Setting) {
	for _, kind := range netfile.Kinds() {
		for _, k := range netfile.EditableKeys(kind) {
			if verb := slices.Contains(network.Verbs, network.Verb(k.Name)); set.Lookup(k.Name) == nil && !verb { // -allow is another thing
				set.Var(keyFlag{k.Name, k.Flag, settings}, k.Name, k.Meaning)
			}
		}
	}
}

// editAsked reads the edit that a call is.
func (c *editCall) editAsked() (network.Edit, error) {
	switch verb := network.EditVerb(c.command.name); verb {
	case network.Add:
		return c.addition()
	case network.Rename:
		return c.renaming(network.Edit{Verb: verb}, netfile.NamedKinds())
	case network.Copy:
		settings := c.settingsBehind()
		return c.renaming(network.Edit{Verb: verb, Settings: settings}, append([]string{"rule"}, netfile.RuleKinds()...))
	case network.Change:
		settings := c.settingsBehind()
		if len(settings) == 0 {
			return network.Edit{}, fmt.Errorf("it needs NAME and KEY=VALUE")
		}
		return c.named(network.Edit{Verb: verb, Settings: settings}, 0, "NAME and KEY=VALUE")
	case network.Move:
		return c.named(network.Edit{Verb: verb}, 2, "NAME before|after OTHER")
	default:
		return c.named(network.Edit{Verb: verb}, 0, "NAME")
	}
}

// settingsBehind takes the settings, KEY=VALUE, off the end of the arguments.
func (c *call) settingsBehind() (settings []network.Setting) {
	for len(c.args) > 0 {
		key, value, found := strings.Cut(c.args[len(c.args)-1], "=")
		if !found {
			break
		}
		settings = append([]network.Setting{{Key: network.Key(key), Value: value}}, settings...)
		c.args = c.args[:len(c.args)-1]
	}
	return settings
}

// addition reads an edit that adds something.
func (c *editCall) addition() (network.Edit, error) {
	if len(c.args) < 2 {
		return network.Edit{}, fmt.Errorf("it needs KIND and NAME; kinds are %s", strings.Join(netfile.Kinds(), ", "))
	}
	kind, name, values := c.args[0], c.args[1], c.args[2:]
	if !slices.Contains(netfile.Kinds(), kind) {
		return network.Edit{}, fmt.Errorf("%s: no such kind%s", kind, nearKind(kind))
	}
	if kind != "group" && kind != "service" { // keys can be given as change takes them
		for len(values) > 0 {
			key, value, found := strings.Cut(values[0], "=")
			if !found {
				break
			}
			c.options.settings, values = append(c.options.settings, network.Setting{Key: network.Key(key), Value: value}), values[1:]
		}
	}
	if err := c.checkKeys(kind, values); err != nil {
		return network.Edit{}, err
	}
	return network.Edit{Verb: network.Add, Kind: kind, Name: name, Gateway: c.gateway, Values: values, Settings: c.options.settings, Before: c.options.before, After: c.options.behind}, nil
}

// nearKind says which kind was probably meant: also by the last of the words it is made of.
func nearKind(word string) string {
	for _, kind := range netfile.Kinds() {
		if _, last, _ := strings.Cut(kind, "-"); last == word {
			return "; did you mean " + kind + "?"
		}
	}
	if near := netfile.DidYouMean(word, netfile.Kinds()); near != "" {
		return near
	}
	return "; kinds are " + strings.Join(netfile.Kinds(), ", ")
}

// make makes an edit that was asked for.
func (c *editCall) make(e *netfile.Editor, edit network.Edit) error {
	if err := e.Apply(edit); err != nil {
		return err
	}
	return c.after(e, edit)
}

// after adds what an edit that was made wants besides itself, and says what follows from it.
func (c *editCall) after(e *netfile.Editor, edit network.Edit) error {
	switch edit.Verb {
	case "add":
		return c.afterForward(e, edit)
	case "rename":
		c.afterRename(e, edit)
	case "copy":
		made, err := e.Find(edit.Kind, edit.Values[0], edit.Gateway)
		if err != nil {
			return nil // a later edit has changed it
		}
		return c.afterForward(e, network.Edit{Kind: made.Kind, Name: made.Name, Gateway: made.Gateway})
	}
	return nil
}

// runEdit makes the edit that the call is.
func (c *editCall) run() int {
	edit, err := c.editAsked()
	if err != nil {
		return c.misused("%s", err)
	}
	return c.edit(func(e *netfile.Editor) error { return c.make(e, edit) })
}

// hasOrder reports whether things of a kind stand in an order that matters.
func hasOrder(kind string) bool {
	return slices.Contains(netfile.RuleKinds(), kind) || strings.HasSuffix(kind, "-rule")
}

// checkKeys reports flags and values that the kind has no use for.
func (c *editCall) checkKeys(kind string, values []string) error {
	simple := kind == "group" || kind == "service"
	switch {
	case simple && len(values)+len(c.options.settings) == 0:
		return fmt.Errorf("a %s needs what it holds behind its name", kind)
	case !simple && len(values) > 0:
		return fmt.Errorf("%s: not expected; keys are set by flags, or as KEY=VALUE", values[0])
	case kind == "service" && len(c.options.settings) > 0:
		return fmt.Errorf("-%s: a %s has no keys", c.options.settings[0].Key, kind)
	case !hasOrder(kind) && c.options.before+c.options.behind != "":
		return fmt.Errorf("a %s has no order; rules have", kind)
	case c.options.before != "" && c.options.behind != "":
		return fmt.Errorf("give either -before or -after")
	case c.options.allow && kind != "port-forward" && kind != "destination-nat":
		return fmt.Errorf("-allow goes with forwards")
	}
	keys := netfile.EditableKeys(kind)
	var names []string
	for _, k := range keys {
		names = append(names, k.Name)
	}
	for _, s := range c.options.settings {
		if !slices.Contains(names, string(s.Key)) {
			return fmt.Errorf("-%s: a %s has no such key; it has %s", s.Key, kind, strings.Join(names, ", "))
		}
	}
	for _, k := range keys {
		if k.Required && !slices.ContainsFunc(c.options.settings, func(s network.Setting) bool { return string(s.Key) == k.Name }) {
			return fmt.Errorf("a %s needs -%s: %s", kind, k.Name, k.Meaning)
		}
	}
	return nil
}

// mostTried is how many connections through a new forward are traced.
const mostTried = 8

// afterForward adds the filter rule a forward needs, if asked to, and traces a connection through the
// new forward for each range of its ports that no earlier forward has.
func (c *editCall) afterForward(e *netfile.Editor, edit network.Edit) error {
	if edit.Kind != "port-forward" && edit.Kind != "destination-nat" {
		return nil
	}
	gateway, err := e.GatewayFor(edit.Gateway)
	if err != nil {
		return err
	}
	rule, traces, err := c.tryForward(e, gateway, edit.Name)
	if err != nil || rule == nil { // a later edit has taken it away
		return err
	}
	clashes, rest := advice.Clashes(rule)
	for _, clash := range clashes {
		c.remark("%s (line %d) has %s already, so that does not come to %s", clash.By.Name, clash.By.Place.Line, clash.Services, rule.Name)
	}
	var stopped []*words.Trace
	for _, t := range traces {
		if t.Outcome == engine.Dropped && t.Step == engine.StepFilter && t.EndedAt(rule.Gateway) {
			stopped = append(stopped, t)
		}
	}
	if len(stopped) > 0 {
		permit := advice.PermitFor(rule, rest, stopped)
		if len(e.GatewayNames()) == 1 {
			permit.Gateway = ""
		}
		switch t := stopped[0]; {
		case c.options.allow:
			if err := e.Apply(permit); err != nil {
				return err
			}
			if _, traces, err = c.tryForward(e, gateway, edit.Name); err != nil {
				return err
			}
		case permit.Before == "":
			c.remark("%s needs a filter rule as well, or nothing gets through: add -allow, or", gateway)
			c.remarkCommand(c.typed(netfile.Command(permit)))
		default:
			if t.Rule == nil {
				t = stopped[slices.IndexFunc(stopped, func(t *words.Trace) bool { return t.Rule != nil })]
			}
			c.remark("%s of %s stops it, so it needs a filter rule before that: add -allow, or", t.Rule.Name, gateway)
			c.remarkCommand(c.typed(netfile.Command(permit)))
		}
	}
	for _, t := range traces {
		c.remark("%s -> %s %s: %s", t.Connection.Packet.From(), t.Connection.Packet.To(), t.Connection.Packet.Protocol, c.verdictLine(t))
	}
	c.afterHairpin(e, rule, traces)
	return nil
}

// afterHairpin says which zones the filter keeps from a forward that is meant for people inside too, and the edit for them.
func (c *call) afterHairpin(e *netfile.Editor, r *network.NATRule, traces []*words.Trace) {
	n, err := e.Network()
	if err != nil || !r.Hairpin || len(traces) == 0 {
		return
	}
	shut := advice.ShutHairpin(walk.Compile(n, nil), r, traces)
	if len(shut.Zones) == 0 {
		return
	}
	text := fmt.Sprintf("the filter keeps people in %s from it", strings.Join(shut.Zones, ", "))
	permit := shut.Permit
	if permit == nil {
		c.remark("%s", text)
		return
	}
	from := ""
	for _, f := range permit.Gateway.Filter {
		if &f.Rule == permit {
			from = strings.ReplaceAll(f.From.Text, ", ", ",")
		}
	}
	c.remark("%s; if they may use it too:", text)
	edit := network.Edit{Verb: network.Change, Kind: permit.Kind, Name: permit.Name, Gateway: permit.Gateway.Name,
		Settings: []network.Setting{{Key: network.KeyFrom, Value: from + "," + strings.Join(shut.Zones, ",")}}}
	c.remarkCommand(c.typed(netfile.Command(edit)))
	c.afterPermit(e, edit, &shut)
}

// afterPermit says which zones' connections, that an edit is to let through, the gateway does not turn back, and the edit for that.
func (c *call) afterPermit(e *netfile.Editor, edit network.Edit, shut *advice.Shut) {
	e = e.Copy()
	if e.Apply(edit) != nil {
		return
	}
	n, err := e.Network()
	if err != nil {
		return
	}
	kept, at := shut.NotTurned(walk.Compile(n, nil))
	if len(kept) == 0 {
		return
	}
	c.remark("and for people in %s, beside the host, as %s turns nothing back:", strings.Join(kept, ", "), at.Name)
	c.remarkCommand(c.typed(netfile.Command(network.Edit{Verb: network.Change, Kind: "gateway", Name: at.Name, Settings: []network.Setting{{Key: network.KeyHandlingTurnBack, Value: "allow"}}})))
}

// tryForward traces a connection through a forward for each range of ports that earlier ones leave it.
func (c *editCall) tryForward(e *netfile.Editor, gateway, name string) (*network.NATRule, []*words.Trace, error) {
	n, err := e.Network()
	if err != nil {
		return nil, nil, err
	}
	g := n.Gateway(gateway)
	k := slices.IndexFunc(g.NAT, func(r *network.NATRule) bool { return r.Name == name })
	if k < 0 {
		return nil, nil, nil
	}
	r := g.NAT[k]
	return r, advice.TryForward(walk.Compile(n, nil), r, c.moment().in(n), mostTried, !c.options.allow), nil
}

// named reads an edit of what the arguments name: [KIND] NAME, and as many more, which say where it
// goes. needs says what has to be there.
func (c *call) named(edit network.Edit, more int, needs string) (network.Edit, error) {
	if len(c.args) < 1+more || len(c.args) > 2+more {
		return edit, fmt.Errorf("it needs %s", needs)
	}
	args := c.args
	if len(args) > more+1 || len(args) > 1 && slices.Contains(netfile.Kinds(), args[0]) {
		if !slices.Contains(netfile.Kinds(), args[0]) {
			return edit, fmt.Errorf("%s: no such kind%s", args[0], nearKind(args[0]))
		}
		edit.Kind, args = args[0], args[1:]
	}
	edit.Name, edit.Gateway = args[0], c.gateway
	if rest := args[1:]; len(rest) != more {
		return edit, fmt.Errorf("it needs %s", needs)
	} else if more == 2 {
		switch rest[0] {
		case "before":
			edit.Before = rest[1]
		case "after":
			edit.After = rest[1]
		default:
			return edit, fmt.Errorf("write NAME before OTHER, or NAME after OTHER")
		}
	}
	return edit, nil
}

type editJSON struct {
	File       string   `json:"file"`
	Written    bool     `json:"written"`
	Difference []string `json:"difference"`
	Remarks    []string `json:"remarks"`
	Effects    []string `json:"effects"`
	Text       string   `json:"text,omitempty"` // of a file that came from standard input
}

// A remark is a line printed below the difference.
type remark struct {
	text    string
	command bool // it is to be typed
}

// String returns the line; commands are indented.
func (r remark) String() string {
	if r.command {
		return "  " + r.text
	}
	return r.text
}

func (c *call) remark(format string, args ...any) {
	c.remarks = append(c.remarks, remark{text: fmt.Sprintf(format, args...)})
}

func (c *call) remarkCommand(text string) {
	c.remarks = append(c.remarks, remark{text, true})
}

// mostUses is how many uses of a thing are listed.
const mostUses = 40

// sayInUse says what uses a thing that was to be removed, with the edits that take the uses away.
func (c *call) sayInUse(u *netfile.InUse) int {
	text := fmt.Sprintf("hollowbridge %s: %s is in use, so nothing was written. These edits take its uses away, and then it:", c.command.name, u.Thing)
	fmt.Fprintln(c.Err, strings.Join(wrap(text, c.Width), "\n  "))
	var lines [][]string
	more := 0
	for _, by := range u.Uses {
		what := ""
		if by.Line > 0 {
			what = fmt.Sprintf("line %d", by.Line)
		}
		switch {
		case len(lines) == mostUses:
			more++
		case by.Edit.Verb == "":
			lines = append(lines, []string{"", strings.TrimSuffix("by hand: "+by.In.String()+", "+what, ", ")})
		default:
			lines = append(lines, []string{c.typed(netfile.Command(by.Edit)), what})
		}
	}
	last := network.Edit{Verb: network.Remove, Kind: u.Thing.Kind, Name: u.Thing.Name}
	lines = append(lines, []string{c.typed(netfile.Command(last)), ""})
	width := 0
	for _, line := range lines {
		width = max(width, len(line[0]))
	}
	for i, line := range lines {
		if more > 0 && i == len(lines)-1 {
			fmt.Fprintf(c.Err, "  # and %d more\n", more)
		}
		if line[1] != "" {
			line[1] = "  # " + line[1]
		}
		fmt.Fprintln(c.Err, strings.TrimRight(fmt.Sprintf("  %-*s%s", width, line[0], line[1]), " "))
	}
	return wrong
}

// edit opens the file, changes it, and writes it unless it is a dry run.
func (c *call) edit(change func(*netfile.Editor) error) int {
	e, err := netfile.Edit(c.path())
	if err != nil {
		return c.readFailed(err)
	}
	defer e.Close()
	return c.finish(e, change(e))
}

// finish writes an edited file and says what changed.
func (c *call) finish(e *netfile.Editor, err error) int {
	var edited *network.Network
	if err == nil {
		edited, err = e.Network()
	}
	var wrongs netfile.Errors
	var used *netfile.InUse
	switch {
	case errors.As(err, &used):
		return c.sayInUse(used)
	case errors.As(err, &wrongs):
		c.printErrors(wrongs, "The file would have become so; nothing was written.")
		return wrong
	case err != nil:
		return c.failed(err)
	}
	changes := e.Difference()
	consequences := []string{}
	if len(changes) > 0 {
		consequences = append(consequences, c.consequences(e)...)
	}
	for i := range consequences {
		consequences[i] = named(standIns(edited), consequences[i])
	}
	remarks := []string{}
	for i := range c.remarks {
		c.remarks[i].text = named(standIns(edited), c.remarks[i].text)
		remarks = append(remarks, c.remarks[i].String())
	}
	printed := c.path() == netfile.StandardInput && !c.dryRun
	if !c.dryRun && !printed && len(changes) > 0 {
		if err := e.Save(); err != nil {
			return c.failed(err)
		}
	}
	if printed && !c.json { // the edited file is the result; what is said about it goes elsewhere
		c.asFile().Write(e.Text())
		c.Environment = &Environment{Out: c.Err, Err: c.Err, Width: c.Width, Getenv: c.Getenv, Now: c.Now}
	}
	if c.json {
		result := editJSON{File: c.path(), Written: !c.dryRun && !printed && len(changes) > 0, Difference: append([]string{}, changes...), Remarks: remarks, Effects: consequences}
		if printed {
			result.Text = string(e.Text())
		}
		c.printJSON(result)
		return yes
	}
	c.printEdit(changes, consequences)
	switch {
	case printed:
	case len(changes) == 0:
		fmt.Fprintf(c.Out, "%s is so already; nothing was written\n", c.path())
	case c.dryRun:
		fmt.Fprintf(c.Out, "a dry run: %s was not written\n", c.path())
	default:
		fmt.Fprintf(c.Out, "wrote %s\n", c.path())
	}
	return yes
}

// printEdit prints the lines that an edit takes out and puts in, what is to be said about it, and what it opens and closes.
func (c *call) printEdit(changes, consequences []string) {
	for _, line := range changes {
		switch line[0] {
		case '+':
			line = c.added(line)
		case '-':
			line = c.removed(line)
		}
		fmt.Fprintln(c.Out, line)
	}
	if len(changes) > 0 {
		fmt.Fprintln(c.Out)
	}
	for _, r := range c.remarks {
		if r.command { // it can be copied over several lines
			fmt.Fprintln(c.Out, "  "+c.commandText(r.text, 2))
			continue
		}
		fmt.Fprintln(c.Out, strings.Join(wrap(r.text, c.Width), "\n  "))
	}
	for _, line := range consequences {
		fmt.Fprintln(c.Out, strings.Join(wrap(line, c.Width), "\n          "))
	}
}
