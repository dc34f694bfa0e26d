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
	"hollowbridge/internal/netfile"
)

var addCommand = &command{
	name: "add", arguments: "KIND NAME [VALUE...]",
	summary: "adds a rule, route, host, group or service to the file",
	help: `Adds to the network file and keeps everything else in it as it is: comments, order and style.
KIND is port-forward, destination-nat, one-to-one, prefix-nat, source-nat, no-nat (NAT rules),
allow, drop, reject (filter rules), route, host, group or service. A flag sets the key of the same
name; commas stand between several values. The members of a group and the ports of a service stand
behind the name; the name of a route is where it leads to, a prefix or default. A rule goes to the
end of its list, or where -before or -after says.

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
		"hollowbridge add service beacon tcp/7000 udp/7000-7009 -dry-run",
	},
	flags: func(set *flag.FlagSet, o *options) {
		editFlags(set, o)
		keyFlags(set, o)
		set.StringVar(&o.before, "before", "", "put the rule before this `RULE`")
		set.StringVar(&o.behind, "after", "", "put the rule after this `RULE`")
		set.BoolVar(&o.allow, "allow", false, "add the filter rule that a forward needs as well")
	},
	run: runAdd,
}

var changeCommand = &command{
	name: "change", arguments: "[KIND] NAME KEY=VALUE...",
	summary: "gives keys of a rule, route, host, group or service new values",
	help: `Gives keys of something in the network file new values; KEY= takes a key away. Commas stand
between several values. A group has the key members, a service the key ports. Where several
things have the name, put the kind in front, or name the gateway.`,
	examples: []string{
		"hollowbridge change port-forward archive-shell to=archive:22 -dry-run",
		"hollowbridge change allow archive-web from=fronts,remote-observers log= -dry-run",
		"hollowbridge change remote-observers members=203.0.113.64/27 -dry-run",
	},
	flags: editFlags,
	run:   runChange,
}

var moveCommand = &command{
	name: "move", arguments: "[KIND] NAME before|after OTHER",
	summary:  "moves a rule within its list",
	help:     `Moves a rule before or after another rule of the same list, with the comments above it.`,
	examples: []string{"hollowbridge move allow camera before archive-web -dry-run"},
	flags:    editFlags,
	run:      runMove,
}

var enableCommand = &command{
	name: "enable", arguments: "[KIND] NAME",
	summary:  "lets a disabled rule take part again",
	help:     `Takes "disabled: true" off a rule.`,
	examples: []string{"hollowbridge enable weather-page -dry-run"},
	flags:    editFlags,
	run:      func(c *call) int { return runSwitch(c, "") },
}

var disableCommand = &command{
	name: "disable", arguments: "[KIND] NAME",
	summary:  "takes a rule out without removing it",
	help:     `Puts "disabled: true" on a rule.`,
	examples: []string{"hollowbridge disable weather-page -dry-run"},
	flags:    editFlags,
	run:      func(c *call) int { return runSwitch(c, "true") },
}

var removeCommand = &command{
	name: "remove", arguments: "[KIND] NAME",
	summary: "removes a rule, route, host, group or service",
	help: `Removes something from the network file, with the comments right above it. What other parts of
the file use is not removed: remove says what uses it.`,
	examples: []string{"hollowbridge remove weather-page -dry-run", "hollowbridge remove host institute -dry-run"},
	flags:    editFlags,
	run:      runRemove,
}

func editFlags(set *flag.FlagSet, o *options) {
	fileFlag(set, o)
	jsonFlag(set, o)
	set.BoolVar(&o.dryRun, "dry-run", false, "show what would change and write nothing")
	set.StringVar(&o.gateway, "gateway", "", "the `GATEWAY` of a rule, where there are several; the default gateway of a host")
}

// A keyFlag sets one key of what is added.
type keyFlag struct {
	key      string
	flag     bool
	settings *[]netfile.Setting
}

func (k keyFlag) String() string   { return "" }
func (k keyFlag) IsBoolFlag() bool { return k.flag }
func (k keyFlag) Set(value string) error {
	*k.settings = append(*k.settings, netfile.Setting{Key: k.key, Value: value})
	return nil
}

// keyFlags declares a flag for every key that something can be added with.
func keyFlags(set *flag.FlagSet, o *options) {
	for _, kind := range netfile.Kinds() {
		for _, k := range netfile.EditableKeys(kind) {
			if set.Lookup(k.Name) == nil {
				set.Var(keyFlag{k.Name, k.Flag, &o.settings}, k.Name, k.Meaning)
			}
		}
	}
}

func runAdd(c *call) int {
	if len(c.args) < 2 {
		return c.misused("it needs KIND and NAME; kinds are %s", strings.Join(netfile.Kinds(), ", "))
	}
	kind, name, values := c.args[0], c.args[1], c.args[2:]
	if !slices.Contains(netfile.Kinds(), kind) {
		return c.misused("%s: no such kind%s", kind, netfile.DidYouMean(kind, netfile.Kinds()))
	}
	if err := c.checkKeys(kind, values); err != nil {
		return c.misused("%s", err)
	}
	return c.edit(func(e *netfile.Editor) error {
		switch kind {
		case "group", "service":
			return e.AddEntry(kind, name, netfile.ListText(values))
		case "host":
			settings := c.options.settings
			if c.options.gateway != "" {
				settings = append(settings, netfile.Setting{Key: "gateway", Value: c.options.gateway})
			}
			return e.AddEntry(kind, name, netfile.MappingText(settings))
		}
		gateway, err := c.gatewayFor(e)
		if err != nil {
			return err
		}
		if err := e.AddRule(gateway, kind, name, c.options.settings, c.options.before, c.options.behind); err != nil {
			return err
		}
		return c.afterForward(e, gateway, kind, name)
	})
}

// checkKeys reports flags and values that the kind has no use for.
func (c *call) checkKeys(kind string, values []string) error {
	simple := kind == "group" || kind == "service"
	switch {
	case simple && len(values) == 0:
		return fmt.Errorf("a %s needs what it holds behind its name", kind)
	case !simple && len(values) > 0:
		return fmt.Errorf("%s: not expected; keys are set by flags", values[0])
	case simple && len(c.options.settings) > 0:
		return fmt.Errorf("-%s: a %s has no keys", c.options.settings[0].Key, kind)
	case (simple || kind == "host" || kind == "route") && c.options.before+c.options.behind != "":
		return fmt.Errorf("only rules have an order")
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
		if !slices.Contains(names, s.Key) {
			return fmt.Errorf("-%s: a %s has no such key; it has %s", s.Key, kind, strings.Join(names, ", "))
		}
	}
	for _, k := range keys {
		if k.Required && !slices.ContainsFunc(c.options.settings, func(s netfile.Setting) bool { return s.Key == k.Name }) {
			return fmt.Errorf("a %s needs -%s: %s", kind, k.Name, k.Meaning)
		}
	}
	return nil
}

// gatewayFor returns the gateway that a rule is for: the one named, or the only one.
func (c *call) gatewayFor(e *netfile.Editor) (string, error) {
	n, err := e.Network()
	if err != nil {
		return "", err
	}
	var names []string
	for _, g := range n.Gateways {
		names = append(names, g.Name)
	}
	switch {
	case c.options.gateway != "" && !slices.Contains(names, c.options.gateway):
		return "", fmt.Errorf("%s: no such gateway%s", c.options.gateway, netfile.DidYouMean(c.options.gateway, names))
	case c.options.gateway != "":
		return c.options.gateway, nil
	case len(names) == 1:
		return names[0], nil
	}
	return "", fmt.Errorf("there are several gateways; say which with -gateway: %s", strings.Join(names, ", "))
}

// afterForward adds the filter rule a forward needs, if asked to, and traces a
// connection through the new forward.
func (c *call) afterForward(e *netfile.Editor, gateway, kind, name string) error {
	if kind != "port-forward" && kind != "destination-nat" {
		return nil
	}
	t, rule, err := c.tryForward(e, gateway, name)
	if err != nil || t == nil {
		return err
	}
	g := t.Network.Gateway(gateway)
	missing := t.Outcome == engine.Dropped && t.Step == engine.StepFilter && t.At.Name() == gateway
	need := advice.PermissionFor(g, rule)
	if missing && c.options.allow {
		settings := []netfile.Setting{{Key: "from", Value: need.From}, {Key: "to", Value: need.To}}
		if need.Service != "" {
			settings = append(settings, netfile.Setting{Key: "service", Value: need.Service})
		}
		before := ""
		if t.Rule != nil {
			before = t.Rule.Name
		}
		if err := e.AddRule(gateway, "allow", name, settings, before, ""); err != nil {
			return err
		}
		if t, _, err = c.tryForward(e, gateway, name); err != nil || t == nil {
			return err
		}
	} else if missing {
		if t.Rule == nil {
			c.remark("%s needs a filter rule as well, or nothing gets through: add -allow, or", gateway)
		} else {
			c.remark("%s of %s stops it, so it needs a filter rule before that: add -allow, or", t.Rule.Name, gateway)
		}
		command := fmt.Sprintf("hollowbridge add allow %s -from %s -to %s", name, need.From, need.To)
		if len(t.Network.Gateways) > 1 {
			command += " -gateway " + gateway
		}
		if need.Service != "" {
			command += " -service " + need.Service
		}
		if t.Rule != nil {
			command += " -before " + t.Rule.Name
		}
		c.remark("  %s", c.typed(command))
	}
	c.remark("%s -> %s %s: %s", t.Connection.Packet.From(), t.Connection.Packet.To(), t.Connection.Packet.Protocol, c.verdictLine(t.Trace))
	return nil
}

// A tried forward is a trace through it, and the network it was traced in.
type tried struct {
	*engine.Trace
	Network *network.Network
}

func (c *call) tryForward(e *netfile.Editor, gateway, name string) (*tried, *network.NATRule, error) {
	n, err := e.Network()
	if err != nil {
		return nil, nil, err
	}
	g := n.Gateway(gateway)
	at := slices.IndexFunc(g.NAT, func(r *network.NATRule) bool { return r.Name == name })
	compiled := engine.Compile(n)
	connection, ok := advice.Sample(compiled, g.NAT[at], momentOf(c.Now()))
	if !ok {
		return nil, nil, nil
	}
	return &tried{compiled.NewWalk().Trace(connection), n}, g.NAT[at], nil
}

// named finds what the arguments name: NAME, or KIND NAME. rest is what follows.
func (c *call) named(e *netfile.Editor, rest int) (netfile.Thing, []string, error) {
	args := c.args
	kind := ""
	if len(args) > rest+1 || len(args) > 1 && slices.Contains(netfile.Kinds(), args[0]) {
		if !slices.Contains(netfile.Kinds(), args[0]) {
			return netfile.Thing{}, nil, fmt.Errorf("%s: no such kind%s", args[0], netfile.DidYouMean(args[0], netfile.Kinds()))
		}
		kind, args = args[0], args[1:]
	}
	t, err := e.Find(kind, args[0], c.options.gateway)
	return t, args[1:], err
}

func runChange(c *call) int {
	var settings []netfile.Setting
	for len(c.args) > 0 {
		key, value, found := strings.Cut(c.args[len(c.args)-1], "=")
		if !found {
			break
		}
		settings = append([]netfile.Setting{{Key: key, Value: value}}, settings...)
		c.args = c.args[:len(c.args)-1]
	}
	if len(settings) == 0 {
		return c.misused("it needs NAME and KEY=VALUE")
	}
	return c.editNamed(0, "NAME and KEY=VALUE", func(e *netfile.Editor, t netfile.Thing, _ []string) error {
		return e.Change(t, settings)
	})
}

func runMove(c *call) int {
	return c.editNamed(2, "NAME before|after OTHER", func(e *netfile.Editor, t netfile.Thing, rest []string) error {
		if rest[0] != "before" && rest[0] != "after" {
			return fmt.Errorf("write NAME before OTHER, or NAME after OTHER")
		}
		return e.Move(t, rest[0] == "after", rest[1])
	})
}

func runSwitch(c *call, disabled string) int {
	return c.editNamed(0, "NAME", func(e *netfile.Editor, t netfile.Thing, _ []string) error {
		if !t.IsRule() {
			return fmt.Errorf("%s is no rule; only rules are enabled and disabled", t)
		}
		return e.Change(t, []netfile.Setting{{Key: "disabled", Value: disabled}})
	})
}

func runRemove(c *call) int {
	return c.editNamed(0, "NAME", func(e *netfile.Editor, t netfile.Thing, _ []string) error { return e.Remove(t) })
}

// editNamed edits what the arguments name: [KIND] NAME and as many more. needs says
// what has to be there.
func (c *call) editNamed(more int, needs string, change func(e *netfile.Editor, t netfile.Thing, rest []string) error) int {
	if len(c.args) < 1+more || len(c.args) > 2+more {
		return c.misused("it needs %s", needs)
	}
	return c.edit(func(e *netfile.Editor) error {
		t, rest, err := c.named(e, more)
		switch {
		case err != nil:
			return err
		case len(rest) != more:
			return fmt.Errorf("it needs %s", needs)
		}
		return change(e, t, rest)
	})
}

type editJSON struct {
	File       string   `json:"file"`
	Written    bool     `json:"written"`
	Difference []string `json:"difference"`
	Remarks    []string `json:"remarks"`
	Effects    []string `json:"effects"`
	Text       string   `json:"text,omitempty"` // of a file that came from standard input
}

// remark keeps a line to be printed below the difference.
func (c *call) remark(format string, args ...any) {
	c.remarks = append(c.remarks, fmt.Sprintf(format, args...))
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
	if err == nil {
		_, err = e.Network()
	}
	var wrongs netfile.Errors
	switch {
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
	printed := c.path() == netfile.StandardInput && !c.options.dryRun
	if !c.options.dryRun && !printed && len(changes) > 0 {
		if err := e.Save(); err != nil {
			return c.failed(err)
		}
	}
	if printed && !c.options.json { // the edited file is the result; what is said about it goes elsewhere
		c.Out.Write(e.Text())
		c.Environment = &Environment{Out: c.Err, Err: c.Err, Width: c.Width, Getenv: c.Getenv, Now: c.Now}
	}
	if c.options.json {
		result := editJSON{File: c.path(), Written: !c.options.dryRun && !printed && len(changes) > 0, Difference: append([]string{}, changes...), Remarks: append([]string{}, c.remarks...), Effects: consequences}
		if printed {
			result.Text = string(e.Text())
		}
		c.printJSON(result)
		return yes
	}
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
	for _, line := range c.remarks {
		if command, is := strings.CutPrefix(line, "  "); is { // a command can be copied over several lines
			line = "  " + c.commandText(command, 2)
		} else {
			line = strings.Join(wrap(line, c.Width), "\n  ")
		}
		fmt.Fprintln(c.Out, line)
	}
	for _, line := range consequences {
		fmt.Fprintln(c.Out, strings.Join(wrap(line, c.Width), "\n          "))
	}
	switch {
	case printed:
	case len(changes) == 0:
		fmt.Fprintf(c.Out, "%s is so already; nothing was written\n", c.path())
	case c.options.dryRun:
		fmt.Fprintf(c.Out, "a dry run: %s was not written\n", c.path())
	default:
		fmt.Fprintf(c.Out, "wrote %s\n", c.path())
	}
	return yes
}
