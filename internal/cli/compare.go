package cli

import (
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"
	"sync"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile"
)

var compareCommand = &command{
	name: "compare", arguments: "[OLD] [NEW]",
	summary: "lists exactly the connections that fare differently under two files",
	help: `Lists exactly which connections fare differently under two network files: newly reached, no
longer reached, reached elsewhere, translated differently, or, where it is only who the machine is
that they get to anyway, newly named or no longer named; each with the rules responsible and one
connection to trace. If there are none, the files are proven to do the same: reordering rules that
do not overlap, renaming, or splitting a group changes nothing.

Connections that are stopped under both files count only with -stops, which compares where and
how they are stopped. It is about every moment from today on, and says when, where rules have hours
or a last day; -at asks about one.

-down GATEWAY:INTERFACE, -list GROUP=FILE, -without RULE and -with FILE make NEW another one: an
interface is down, a group holds what stands in another file, a rule is not there, or the rules of a
file are there as well. Then NEW is OLD where it is absent, and OLD the network file. So
compare -down says what a failing uplink takes away, and compare -list whom a changed list lets in.

A file may come by a pipe, as - or as a shell names it; -lists-in names the folder in which its
lists are. So git show main:site.yaml | hollowbridge compare - site.yaml tells what a change does.

-only opens, or closes, lists only what is newly reached, or no longer. -tap and -junit print what
CI systems read.

Exit status: 0 the same, 1 different, 2 the call or a file is wrong.`,
	examples: []string{"hollowbridge compare hollowbridge.yaml hollowbridge.yaml", "hollowbridge compare -down rim:fibre", "hollowbridge compare -without camera"},
	begin:    func(c *call) task { return &compareCall{call: c} },
}

// A compareCall is a call of compare.
type compareCall struct {
	*call
	options struct {
		stops bool
		only  string
	}
}

func (c *compareCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.whatIfFlags(set)
	c.jsonFlag(set)
	set.BoolVar(&c.options.stops, "stops", false, "compare also where connections are stopped, and how")
	set.StringVar(&c.whatIf.ListsIn, "lists-in", "", "name the lists of a file that comes by a pipe from this `FOLDER`")
	set.StringVar(&c.options.only, "only", "", "only what the new file `DOES`: opens or closes")
	c.ciFlags(set)
	c.timesFlag(set)
}

func (c *compareCall) run() int {
	varied := !c.whatIf.IsNone()
	if len(c.args) == 0 && varied {
		c.args = append(c.args, c.path())
	}
	if len(c.args) == 1 && varied {
		c.args = append(c.args, c.args[0])
	}
	switch {
	case len(c.args) != 2:
		return c.misused("it needs two files, OLD and NEW, or one and what is different: -down, -list, -without or -with")
	case c.whatIf.ListsIn != "" && !netfile.IsPiped(c.args[0]) && !netfile.IsPiped(c.args[1]):
		return c.misused("-lists-in goes with a file that comes by a pipe: write it as -, or name the pipe")
	case c.args[0] == netfile.StandardInput && c.args[1] == netfile.StandardInput:
		return c.misused("standard input is one file; name the other one")
	case c.file != "" && c.file != c.args[0]:
		return c.misused("-f names OLD where that is absent")
	}
	if _, known := effects[c.options.only]; !known && c.options.only != "" {
		return c.misused("-only %s: there are opens and closes", c.options.only)
	}
	var engines []*walk.Engine
	var done []func()
	networks, failures := c.readBoth(c.args[0], c.args[1])
	for i, n := range networks {
		if err := failures[i]; err != nil {
			return c.notCompared(c.args[i], err)
		}
		e, d := c.compile(n)
		engines, done = append(engines, e), append(done, d)
	}
	if c.args[1] != defaultFile {
		c.file = c.args[1] // what is to be typed is about the new one
	}
	found, err := reach.Differences(engines[0], engines[1], c.times(networks[1]), c.options.stops)
	for _, d := range done {
		d()
	}
	if err != nil {
		return c.failed(fmt.Errorf("%w; nothing is claimed", err))
	}
	if of := effects[c.options.only]; of != "" {
		found = slices.DeleteFunc(found, func(d reach.Difference) bool { return d.Change != of })
	}
	names := reach.NewNamer(engines[1].Network())
	printed, err := c.printForCI(engines[1].Network().Name, c.differenceChecks(names, found))
	switch {
	case printed || err != nil:
	case c.json:
		result := c.compareResult(found)
		b := beyondOf(networks)
		result.WithSessions, result.Told = b.sessions, b.told
		c.printJSON(result)
	default:
		c.printDifferences(names, found, beyondOf(networks))
	}
	return c.ciStatus(len(found) > 0, err)
}

// notCompared says why a file can't be compared.
func (c *call) notCompared(path string, err error) int {
	var wrongs netfile.Errors
	switch {
	case errors.As(err, &wrongs) && c.json:
		c.printJSON(map[string]any{"errors": errorsJSON(wrongs)})
	case errors.As(err, &wrongs):
		text := "Nothing was compared."
		if c.whatIf.ListsIn == "" && netfile.IsPiped(path) {
			text += " Lists of what comes by a pipe are named from the folder that -lists-in says."
		}
		c.printErrors(wrongs, text)
	default:
		return c.failed(err)
	}
	return wrong
}

// Beyond are the keys of gateways in which two networks differ, although no connection by itself need fare differently.
type beyond struct {
	sessions []string // that only connections with earlier sessions show
	told     []string // by which clients are told otherwise that they don't get there
}

func beyondOf(networks [2]*network.Network) beyond {
	b := beyond{[]string{}, []string{}}
	renamed := network.FindRenamed(networks[0], networks[1])
	for _, g := range networks[0].Gateways {
		if other := renamed.Gateway(g); other != nil {
			b.sessions = append(b.sessions, network.OnlySessionsShow(g, other)...)
			b.told = append(b.told, network.ToldOtherwise(g, other)...)
		}
	}
	slices.Sort(b.sessions)
	slices.Sort(b.told)
	return beyond{slices.Compact(b.sessions), slices.Compact(b.told)}
}

// text says what differs, if anything does; atText says when that is.
func (b beyond) text(atText string) string {
	told := "what clients are told where they don't get there differs: " + strings.Join(b.told, ", ")
	switch {
	case len(b.sessions) > 0:
		text := fmt.Sprintf("connections alone are the same%s; with earlier sessions they differ: %s", atText, strings.Join(b.sessions, ", "))
		if len(b.told) > 0 {
			text += "; " + told
		}
		return text
	case len(b.told) > 0:
		return fmt.Sprintf("connections fare the same%s; %s", atText, told)
	}
	return ""
}

// effects are what -only asks for.
var effects = map[string]reach.Change{"opens": reach.NewlyReached, "closes": reach.NoLonger}

// differenceChecks returns a check for each difference, none of which passes; where there is none,
// one that does.
func (c *call) differenceChecks(names *reach.Namer, found []reach.Difference) []checked {
	if len(found) == 0 {
		return []checked{{name: "no connection fares differently"}}
	}
	var list []checked
	found = reach.Alike(names, found)
	for i := range found {
		d := &found[i]
		list = append(list, checked{
			name: fmt.Sprintf("%s to %s", differenceFrom(names, d), differenceTo(names, d)), failure: fmt.Sprintf("%s: was %s, is %s", d.Change, wasText(d), isText(d)),
			at: c.args[1], trace: c.traceLine(d.Example),
		})
	}
	return list
}

// readBoth reads two network files at once, the second one as the flags want it.
func (c *call) readBoth(old, new string) (networks [2]*network.Network, failures [2]error) {
	asItIs := *c
	asItIs.whatIf = netfile.Variation{ListsIn: c.whatIf.ListsIn}
	var reading sync.WaitGroup
	reading.Go(func() { networks[0], failures[0] = asItIs.readNetwork(old) })
	networks[1], failures[1] = c.readNetwork(new)
	reading.Wait()
	return networks, failures
}

func (c *compareCall) printDifferences(names *reach.Namer, found []reach.Difference, more beyond) {
	if len(found) == 0 && c.options.only != "" {
		fmt.Fprintf(c.Out, "it %s nothing%s\n", c.options.only, c.atText())
		return
	}
	text := more.text(c.atText())
	switch {
	case len(found) > 0:
	case text != "":
		fmt.Fprintln(c.Out, text)
		return
	case c.at != "":
		fmt.Fprintf(c.Out, "the same%s: no connection fares differently then\n", c.atText())
		return
	default:
		fmt.Fprintln(c.Out, "proven the same: no connection fares differently")
		return
	}
	found = reach.Alike(names, found)
	var counts []string
	for _, change := range reach.Changes {
		n := 0
		for i := range found {
			if found[i].Change == change {
				n++
			}
		}
		if n > 0 {
			counts = append(counts, fmt.Sprintf("%d %s", n, change))
		}
	}
	fmt.Fprintf(c.Out, "%s%s: %s\n", count(len(found), "difference"), c.atText(), strings.Join(counts, ", "))
	var change reach.Change
	for i := range found {
		d := &found[i]
		if d.Change != change {
			change = d.Change
			fmt.Fprintf(c.Out, "\n%s\n", c.bold(string(change)))
		}
		c.printDifference(names, d)
	}
}

func (c *call) printDifference(names *reach.Namer, d *reach.Difference) {
	fmt.Fprintf(c.Out, "  %s\n", strings.Join(wrap(fmt.Sprintf("%s to %s", differenceFrom(names, d), differenceTo(names, d)), c.Width-4), "\n    "))
	if was, is := wasText(d), isText(d); was != is {
		c.printLabelled("  was", was)
		c.printLabelled("  is", is)
	}
	fmt.Fprintf(c.Out, "    try   %s\n", c.traceLine(d.Example))
}

// differenceFrom says whose connections fare differently, from which ports, and when, where that is not always so.
func differenceFrom(names *reach.Namer, d *reach.Difference) string {
	about := names.About(d.New.Rules, d.Old.Rules)
	who := about.NameOn(d.From, d.On)
	if d.Sender.By != nil {
		who = about.Senders(d.Sender, d.From)
	}
	return who + portsOnly(d.AllPorts, d.FromPorts) + whenOnly(d.When)
}

func differenceTo(names *reach.Namer, d *reach.Difference) string {
	return throughText(names, d.To, d.Services) + insideText(d.Inside, d.Services)
}

// wasText and isText say what became of connections, with the translation where that is another.
func wasText(d *reach.Difference) string { return fateText(d.Old) + translationText(d, d.Was) }
func isText(d *reach.Difference) string  { return fateText(d.New) + translationText(d, d.Is) }

func translationText(d *reach.Difference, t reach.Translation) string {
	if d.Change != reach.Otherwise && d.Change != reach.Elsewhere {
		return ""
	}
	return ", " + t.String()
}

func fateText(f *reach.Fate) string {
	text := f.Outcome.String()
	if f.Outcome == engine.Reached {
		text += " " + f.Host
	} else {
		text += " at " + f.At
	}
	others := f.Rules
	if f.Rule != nil {
		text += " by " + f.Rule.Name
		others = slices.DeleteFunc(slices.Clone(others), func(r *network.Rule) bool { return r == f.Rule })
	}
	if rules := ruleNames(others); rules != "" {
		text += ", through " + rules
	}
	return text
}

type fateJSON struct {
	Outcome string   `json:"outcome"`
	At      string   `json:"at"`
	Host    string   `json:"host"`
	Rule    string   `json:"rule"`
	Rules   []string `json:"rules"`

	Translated *translatedJSON `json:"translated"` // of the example; null where no other translation is the difference
}

// A translatedJSON is what a translation makes of a connection; what it keeps is empty or 0.
type translatedJSON struct {
	From string `json:"from"`
	To   string `json:"to"`
	Port uint16 `json:"port"`
}

type differenceJSON struct {
	Change    string   `json:"change"`
	Protocol  string   `json:"protocol"`
	On        string   `json:"on"`
	Beside    string   `json:"beside"`   // the uplink beside which the senders are that hand it to the gateway, or empty
	NextHop   bool     `json:"next-hop"` // that is its next hop, with these addresses
	From      []string `json:"from"`
	AllPorts  bool     `json:"all-source-ports"`
	FromPorts []string `json:"source-ports"`
	To        []string `json:"to"`
	Ports     string   `json:"ports"`
	When      string   `json:"when"` // empty: at every moment that is asked about
	Old       fateJSON `json:"old"`
	New       fateJSON `json:"new"`
	Example   string   `json:"example"`
}

type compareJSON struct {
	Old         string           `json:"old"`
	New         string           `json:"new"`
	Differences []differenceJSON `json:"differences"`

	WithSessions []string `json:"with-sessions"` // the keys in which they differ and that only earlier sessions show
	Told         []string `json:"told"`          // the keys by which clients are told otherwise where they don't get there
}

func (c *call) compareResult(found []reach.Difference) compareJSON {
	result := compareJSON{Old: c.args[0], New: c.args[1], Differences: []differenceJSON{}}
	for _, d := range found {
		result.Differences = append(result.Differences, differenceJSON{
			string(d.Change), d.Services[0].Protocol.String(), segmentText(d.On), besideText(d.Sender.By), d.Sender.Hop, rangeTexts(d.From), d.AllPorts, portTexts(d.FromPorts), rangeTexts(d.To), portList(d.Services), d.When.String(),
			fateEntry(&d, d.Old, d.Was), fateEntry(&d, d.New, d.Is), c.traceLine(d.Example),
		})
	}
	return result
}

// portList writes the ports of services, with commas between them.
func portList(services header.Services) string {
	var texts []string
	for _, s := range services {
		if s.Protocol.HasPorts() {
			texts = append(texts, s.Ports.String())
		}
	}
	return strings.Join(texts, ",")
}

func fateEntry(d *reach.Difference, f *reach.Fate, t reach.Translation) fateJSON {
	entry := fateJSON{f.Outcome.String(), f.At, f.Host, "", []string{}, nil}
	if d.Change == reach.Otherwise || d.Change == reach.Elsewhere {
		entry.Translated = &translatedJSON{Port: t.Port}
		if t.Source.IsValid() {
			entry.Translated.From = t.Source.String()
		}
		if t.Destination.IsValid() {
			entry.Translated.To = t.Destination.String()
		}
	}
	if f.Rule != nil {
		entry.Rule = f.Rule.Name
	}
	for _, r := range f.Rules {
		entry.Rules = append(entry.Rules, r.Name)
	}
	return entry
}
