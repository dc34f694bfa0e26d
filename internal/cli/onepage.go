package cli

import (
	"cmp"
	"fmt"
	"os"
	"slices"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
)

// pageForms are what -report asks for: how a page is written for somebody who is no administrator.
var pageForms = []string{"text", "markdown"}

// A pagePart is a part of the page: a heading, and a sentence for each thing.
type pagePart struct {
	heading   string
	sentences []string
}

// printPage writes one page about everything that can get in, in whole sentences.
func (c *reachCall) printPage(n *network.Network, live *liveNetwork, found *reach.Answer) {
	names := reach.NewNamer(n)
	parts := []pagePart{
		{heading: "Open to everybody on the internet"},
		{heading: fmt.Sprintf("Open to many: more than %d addresses of the internet", reach.ManyAddresses)},
		{heading: "Open to some"},
		{heading: "Answered by the gateways themselves"},
		{heading: "Let through, but nobody is there as far as the network file knows"},
		{heading: "Opened by programs, when they ask for it"},
	}
	if c.options.from != "internet" {
		parts[2].heading = "Open to " + c.options.from
	}
	for _, s := range c.things(names, n, found.Reached) {
		at := map[reach.Exposure]int{reach.OpenToAll: 0, reach.OpenToMany: 1, reach.OpenToFew: 2}[s.exposure]
		if s.gateway {
			at = 3
		}
		parts[at].sentences = append(parts[at].sentences, s.sentence("can "))
	}
	for _, s := range c.things(names, n, found.LetThrough) {
		parts[4].sentences = append(parts[4].sentences, s.sentence("would get to "))
	}
	for _, m := range mayOpen(n) {
		text := fmt.Sprintf("%s may open ports %s for itself at %s", m.Who, m.Ports, m.Gateway)
		if m.For != "" {
			text += ", and for " + m.For
		}
		if m.Asks {
			text += "; each is approved by hand"
		}
		parts[5].sentences = append(parts[5].sentences, text+".")
	}
	title := fmt.Sprintf("What can be reached at %s from %s, %s", n.Name, outsideWord(c.options.from), cmp.Or(c.at, string(n.Today)))
	if c.options.page == "markdown" {
		fmt.Fprintf(c.Out, "# %s\n\n%s\n", title, escaped(c.sourceText(live)))
	} else {
		fmt.Fprintf(c.Out, "%s\n%s\n", c.bold(title), strings.Join(wrap(c.sourceText(live), c.Width), "\n"))
	}
	some := false
	for _, p := range parts {
		if len(p.sentences) == 0 {
			continue
		}
		some = true
		if c.options.page == "markdown" {
			fmt.Fprintf(c.Out, "\n## %s\n\n", p.heading)
			for _, s := range p.sentences {
				fmt.Fprintf(c.Out, "- %s\n", escaped(s))
			}
			continue
		}
		fmt.Fprintf(c.Out, "\n%s\n", c.bold(p.heading))
		for _, s := range p.sentences {
			fmt.Fprintf(c.Out, "  - %s\n", strings.Join(wrap(s, c.Width-4), "\n    "))
		}
	}
	if !some {
		fmt.Fprintln(c.Out, "\nNothing.")
	}
	if o := &c.options; o.to == "" && o.service == "" {
		fmt.Fprintf(c.Out, "\nWhat does not stand here cannot be reached%s.\n", c.atText())
	}
}

// sourceText says of which file or revision an answer is, and whether that one is in force.
func (c *call) sourceText(live *liveNetwork) string {
	if live != nil {
		return "From what is in force: " + strings.Join(live.source, "; ") + "."
	}
	path := c.path()
	about, err := os.Stat(path)
	if err == nil {
		return fmt.Sprintf("From the network file %s, as it was saved at %s.", path, whenText(about.ModTime()))
	}
	name, number, isRevision := revisionOf(path)
	if !isRevision {
		return fmt.Sprintf("From %s.", path)
	}
	r, err := c.fetch(name, number)
	if err != nil {
		return fmt.Sprintf("From %s.", path)
	}
	text := fmt.Sprintf("From revision %d of %s, of %s by %s", r.Number, name, whenText(r.Time), r.Author)
	switch now, err := c.fetch(name, 0); {
	case err != nil:
	case now.Number == r.Number:
		text += ", which is in force there"
	default:
		text += fmt.Sprintf(", which is not in force: revision %d is", now.Number)
	}
	return text + "."
}

func outsideWord(from string) string {
	if from == "internet" {
		return "the internet"
	}
	return from
}

// escaped writes a text so that Markdown shows it as it is.
func escaped(text string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "_", `\_`, "`", "\\`", "<", `\<`, "[", `\[`).Replace(text)
}

// A thing is one service that somebody can reach, by whatever addresses.
type thing struct {
	access
	gateway  bool
	exposure reach.Exposure
	at       []string
	rules    []*network.Rule
}

// An access is who can use what, and when; empty where always.
type access struct{ who, what, when string }

// things puts ways in together that are for the same people to the same service.
func (c *call) things(names *reach.Namer, n *network.Network, list []reach.Access) (things []*thing) {
	known := map[access]*thing{}
	for i := range list {
		a := &list[i]
		key := access{accessFrom(names, a), thingText(names, n, a), whenOnly(a.When)}
		if a.Sender.By != nil && !a.Sender.Hop {
			key.who = "A machine " + key.who
		}
		t := known[key]
		if t == nil {
			t = &thing{access: key, gateway: a.Gateway, exposure: exposureOf(names, a)}
			known[key], things = t, append(things, t)
		}
		text := throughText(names, a.To, a.Sent)
		if len(a.Sent) == 1 && a.Sent[0].Protocol == header.ICMP {
			text = strings.TrimSuffix(text, " "+servicesText(a.Sent))
		}
		text += insideText(a.Inside, a.Sent)
		if !slices.Contains(t.at, text) {
			t.at = append(t.at, text)
		}
		for _, r := range a.Rules {
			if !slices.Contains(t.rules, r) {
				t.rules = append(t.rules, r)
			}
		}
	}
	return things
}

// thingText says what can be used, and of whom.
func thingText(names *reach.Namer, n *network.Network, a *reach.Access) string {
	of := a.Host
	switch {
	case a.Gateway:
		of = "the gateway " + a.Host
	case a.Host == "":
		of = names.About(a.Rules).Name(a.Delivered)
	}
	if len(a.Services) == 1 && a.Services[0].Protocol == header.ICMP {
		return "ping " + of
	}
	return plainServices(n, a.Services) + " of " + of
}

// sentence says who can use what, where they find it, and why that is so.
func (t *thing) sentence(can string) string {
	if !strings.HasPrefix(t.what, "ping ") && can == "can " {
		can += "use "
	}
	text := fmt.Sprintf("%s %s%s, at %s%s.", t.who, can, t.what, strings.Join(t.at, "; "), t.when)
	if rest, all := strings.CutPrefix(text, "everybody"); all { // names stay as they are
		text = "Everybody" + rest
	}
	var because, notes []string
	for _, r := range t.rules {
		if slices.Contains(because, r.Name) && r.Note == "" && r.Owner == "" && r.Until == "" && r.When == nil {
			continue
		}
		if !slices.Contains(because, r.Name) {
			because = append(because, r.Name)
		}
		var said []string
		if r.Note != "" {
			said = append(said, r.Note)
		}
		if r.Owner != "" {
			said = append(said, "it belongs to "+r.Owner)
		}
		if r.When != nil {
			said = append(said, "only "+r.When.Text)
		}
		if r.Until != "" {
			said = append(said, "it ends with "+string(r.Until))
		}
		if len(said) > 0 {
			notes = append(notes, fmt.Sprintf("%s: %s.", r.Name, strings.Join(said, "; ")))
		}
	}
	switch len(because) {
	case 0:
	case 1:
		text += fmt.Sprintf(" The rule %s is for this.", because[0])
	default:
		text += fmt.Sprintf(" The rules %s are for this.", strings.Join(because, ", "))
	}
	return strings.Join(append([]string{text}, slices.Compact(notes)...), " ")
}

// plainServices names services as people call them, where they have a name.
func plainServices(n *network.Network, services header.Services) string {
	if text := servicesText(services); text == "any service" {
		return text
	}
	for _, own := range n.Services {
		if slices.Equal(own.Services, services) {
			return fmt.Sprintf("%s (%s)", own.Name, services)
		}
	}
	var texts []string
	for _, s := range services {
		text := s.String()
		switch name := header.NameOf(s.Protocol, s.Ports.First); {
		case s.Protocol == header.ICMP:
			text = "ping"
		case s.Protocol.HasPorts() && s.Ports == header.AllPorts:
			text = "every " + s.Protocol.String() + " port"
		case name != "" && s.Ports.First == s.Ports.Last:
			text = fmt.Sprintf("%s (%s)", name, text)
		}
		if !slices.Contains(texts, text) {
			texts = append(texts, text)
		}
	}
	return strings.Join(texts, ", ")
}
