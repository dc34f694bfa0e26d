package cli

import (
	"errors"
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hollowbridge/core/advice"
	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/repair"
)

var checkCommand = &command{
	name:    "check",
	summary: "says what is wrong with the network file, and what probably is",
	help: `Reads the network file and the lists it names. It prints every error with its file, line
and column, what is wrong and what would be right, all at once. The file is never half-read:
either a whole network or a list of errors.

Where there are no errors it prints findings: what is valid but probably a mistake or a danger,
found by following all connections. -explain says why a finding matters. A rule can accept a
finding that is meant to be, with accept: [NAME], if its note says why. For findings that an edit
mends the edit is listed, as it is typed: it was tried on a copy, on which the finding was gone and
nothing new was wrong, and what it opens and closes is said. -least mistake leaves out what is less
than that; -soon 30d says also what ends within that time, of what has a last day (until:); -tap and
-junit print what CI systems read. It is about every moment from today on; -at asks about one alone.

-live is about what is in force at the running gateways instead, and says also which source-nat
rules have hardly a port left.
` + whatIfHelp + `
Exit status: 0 no errors and no findings, 1 findings, 2 errors.`,
	examples: []string{
		"hollowbridge check",
		"hollowbridge check -explain hidden-rule",
		"hollowbridge check -f fernhollow/hollowbridge.yaml",
	},
	begin: func(c *call) task { return &checkCall{call: c} },
}

// A checkCall is a call of check.
type checkCall struct {
	*call
	options struct {
		explain, soon, least string
		live                 bool
	}
}

func (c *checkCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	set.StringVar(&c.options.explain, "explain", "", "say why the finding `NAME` matters")
	set.StringVar(&c.options.soon, "soon", "", "say also what ends within this `TIME`, in days or weeks, as 30d or 4w")
	set.StringVar(&c.options.least, "least", "", "only findings that are at least of this `SEVERITY`: note, mistake or danger")
	c.ciFlags(set)
	c.timesFlag(set)
	c.whatIfFlags(set)
	c.askedFlag(set)
	set.BoolVar(&c.options.live, "live", false, "at the running gateways: what is in force there, and the ports that are taken")
}

func (c *checkCall) run() int {
	if len(c.args) > 0 {
		return c.misused("%s: not expected; name the file with -f", c.args[0])
	}
	if c.options.explain != "" {
		return c.explain(c.options.explain)
	}
	if _, known := gravity[network.Severity(c.options.least)]; !known && c.options.least != "" {
		return c.misused("-least %s: there are note, mistake and danger", c.options.least)
	}
	if _, err := c.soon("2000-01-01"); err != nil {
		return c.misused("-soon %s", err)
	}
	if c.json {
		return c.checkJSON()
	}
	n, live := c.checked()
	if n == nil {
		return wrong
	}
	found, repairs, err := c.examine(n)
	if err != nil {
		return c.failed(fmt.Errorf("%w; there are no errors, but findings can't be told", err))
	}
	if printed, err := c.printForCI(n.Name, findingChecks(found)); printed || err != nil {
		return c.ciStatus(len(found) > 0, err)
	}
	if live != nil {
		c.sayLive(live)
	}
	fmt.Fprintf(c.Out, "%s: no errors, %s%s\n", live.orFile(c.path()), count(len(found), "finding"), c.severities(found))
	c.say("%s: %s", n.Name, holdings(n))
	if len(found) == 0 {
		return yes
	}
	fmt.Fprintln(c.Out)
	c.printFindings(found)
	c.printProposals(found, repairs)
	fmt.Fprintln(c.Out, "\nhollowbridge check -explain FINDING says why one matters")
	return no
}

// checked returns the network to look at, with what is in force where that is asked about; nil after it has said what is wrong.
func (c *checkCall) checked() (*network.Network, *liveNetwork) {
	n, live := c.liveOrFile(c.options.live)
	if live == nil {
		return n, nil
	}
	for name, pools := range live.pools {
		if g := n.Gateway(name); g != nil {
			for i := range pools {
				g.Taken = append(g.Taken, pools[i].In(g)...)
			}
		}
	}
	return n, live
}

// orFile returns what a network is called that is in force, or else its file.
func (l *liveNetwork) orFile(path string) string {
	if l == nil {
		return path
	}
	return l.name
}

// severities says how many findings are of which severity.
func (c *checkCall) severities(found []advice.Finding) string {
	var texts []string
	for _, s := range network.Severities {
		n := 0
		for i := range found {
			if found[i].Severity() == s {
				n++
			}
		}
		if n > 0 {
			texts = append(texts, count(n, string(s)))
		}
	}
	text := ""
	if len(texts) > 0 {
		text = ": " + strings.Join(texts, ", ")
	}
	return text + map[string]string{string(network.Mistake): " (without notes)", string(network.Danger): " (dangers only)"}[c.options.least]
}

// mostAlike is how many findings of one kind that say the same are named one by one.
const mostAlike = 8

// printFindings prints findings, those of one kind that say the same together.
func (c *call) printFindings(found []advice.Finding) {
	type key struct {
		kind network.FindingKind
		text string
	}
	rows := map[key]int{}
	var table [][]string
	more := map[int]int{}
	alike := map[int]int{}
	for _, f := range found {
		k := key{f.Kind, f.Text}
		at, known := rows[k]
		if !known {
			rows[k] = len(table)
			table = append(table, []string{string(f.Severity()), fmt.Sprint(f.Place.Line), f.Subject, f.Kind.String(), f.Text})
			continue
		}
		if alike[at]++; alike[at] >= mostAlike {
			more[at]++
			continue
		}
		table[at][1] += ", " + fmt.Sprint(f.Place.Line)
		if kind, name, _ := strings.Cut(f.Subject, " "); strings.HasPrefix(table[at][2], kind+" ") && name != "" {
			table[at][2] += ", " + name
		} else {
			table[at][2] += ", " + f.Subject
		}
	}
	for at, n := range more {
		table[at][2] += fmt.Sprintf(" and %d more", n)
	}
	c.printTableWithin([]string{"", "line", "about", "finding", ""}, table, []int{0, 14, 22, 0, 0})
}

// bench returns the network file to try edits on, for some moments.
func (c *call) bench(n *network.Network, times network.Times) (*repair.Bench, error) {
	if c.sketch == nil {
		sketch, err := netfile.Sketch(c.path())
		if err != nil {
			return nil, err
		}
		c.sketch = sketch
	}
	return repair.NewBench(c.sketch, n, times, mostRulesRepaired), nil
}

// examine returns the findings and, for those that an edit mends, the repair.
func (c *checkCall) examine(n *network.Network) (found []advice.Finding, repairs [][]repairJSON, err error) {
	e, done := c.compile(n)
	soon, _ := c.soon(n.Today)
	times := c.times(n)
	found, err = advice.Examine(e, advice.Asked{Times: times, Soon: soon})
	done()
	if err != nil {
		return nil, nil, err
	}
	found = slices.DeleteFunc(found, func(f advice.Finding) bool { return gravity[f.Severity()] < gravity[network.Severity(c.options.least)] })
	repairs = make([][]repairJSON, len(found))
	tries := mostFindingsTried / max(1, n.RuleCount())
	if tries == 0 || !c.whatIf.IsNone() || c.options.live { // edits are of the file as it is
		return found, repairs, nil
	}
	bench, err := c.bench(n, times)
	if err != nil { // it can't be read twice, so it can't be edited either
		return found, repairs, nil
	}
	for i := range found {
		if len(found[i].Proposals) == 0 || tries <= 0 {
			continue
		}
		tries--
		repairs[i] = c.repairEntries(bench.ForFinding(&found[i], found))
	}
	return found, repairs, nil
}

// soon returns the last day of the time that -soon names, none where it is absent.
func (c *checkCall) soon(today network.Date) (network.Date, error) {
	text := c.options.soon
	if text == "" {
		return "", nil
	}
	number, unit := text[:len(text)-1], map[byte]int{'d': 1, 'w': 7}[text[len(text)-1]]
	days, err := strconv.Atoi(number)
	if err != nil || unit == 0 || days < 0 || days > 100_000 {
		return "", fmt.Errorf("%s: write it in days or weeks, as 30d or 4w", text)
	}
	return today.After(days * unit), nil
}

// mostFindingsTried is for how many findings repairs are tried, times the rules there
// are: about a second's work.
const mostFindingsTried = 5000

// gravity orders the severities.
var gravity = map[network.Severity]int{network.Note: 1, network.Mistake: 2, network.Danger: 3}

// findingChecks returns a check for each finding, none of which passes; where there is none, one that
// does.
func findingChecks(found []advice.Finding) []checked {
	if len(found) == 0 {
		return []checked{{name: "no findings"}}
	}
	var list []checked
	for _, f := range found {
		list = append(list, checked{name: fmt.Sprintf("%s %s: %s", f.Severity(), f.Kind, f.Subject), failure: f.Text, at: f.Place.String()})
	}
	return list
}

// printProposals lists the edits that mend findings.
func (c *call) printProposals(found []advice.Finding, repairs [][]repairJSON) {
	first := true
	for i, list := range repairs {
		for k, r := range list {
			if first {
				fmt.Fprintln(c.Out)
				c.say("Edits that mend these. Each was tried on a copy: the finding was gone, and nothing new was wrong.")
				first = false
			}
			head := fmt.Sprintf("\n  %s, line %d\n", found[i].Kind, found[i].Place.Line)
			if k > 0 {
				head = "    or\n"
			}
			fmt.Fprintf(c.Out, "%s    %s\n", head, c.commandText(r.Command, 4))
			for _, line := range r.lines() {
				fmt.Fprintf(c.Out, "      %s\n", strings.Join(wrap(line, c.Width-6), "\n      "))
			}
		}
	}
}

func (c *call) explain(name string) int {
	f, ok := network.FindingOf(name)
	if !ok {
		return c.misused("%s: no such finding%s", name, netfile.DidYouMean(name, network.FindingNames()))
	}
	fmt.Fprintf(c.Out, "%s (%s): %s\n", f, f.Severity(), f.Why())
	return yes
}

func holdings(n *network.Network) string {
	nat, filter := 0, 0
	for _, g := range n.Gateways {
		nat += len(g.NAT)
		filter += len(g.Filter)
	}
	return fmt.Sprintf("%s, %s, %s, %s, %s, %s", count(len(n.Gateways), "gateway"), count(len(n.Hosts), "host"),
		count(len(n.Groups), "group"), count(len(n.Services), "named service"), count(nat, "NAT rule"), count(filter, "filter rule"))
}

type errorJSON struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Message string `json:"message"`
}

func errorsJSON(wrongs netfile.Errors) []errorJSON {
	list := []errorJSON{}
	for _, e := range wrongs {
		list = append(list, errorJSON{e.Place.File, e.Place.Line, e.Place.Column, e.Message})
	}
	return list
}

type findingJSON struct {
	Name     string `json:"name"`
	Severity string `json:"severity"`
	File     string `json:"file"`
	Line     int    `json:"line"`
	About    string `json:"about"`
	Text     string `json:"text"`
	Why      string `json:"why"`

	Repairs []repairJSON `json:"repairs"`
}

type checkJSON struct {
	File     string        `json:"file"`
	Errors   []errorJSON   `json:"errors"`
	Findings []findingJSON `json:"findings"`
}

func (c *checkCall) checkJSON() int {
	result := checkJSON{File: c.path(), Errors: []errorJSON{}, Findings: []findingJSON{}}
	var n *network.Network
	var err error
	if c.options.live || c.gateway != "" {
		var live *liveNetwork
		if n, live = c.checked(); n == nil {
			return wrong
		}
		result.File = live.name
	} else {
		n, err = c.readNetwork(c.path())
	}
	var wrongs netfile.Errors
	switch {
	case errors.As(err, &wrongs):
		result.Errors = errorsJSON(wrongs)
		c.printJSON(result)
		return wrong
	case err != nil:
		return c.failed(err)
	}
	found, repairs, err := c.examine(n)
	if err != nil {
		return c.failed(err)
	}
	for i, f := range found {
		result.Findings = append(result.Findings, findingJSON{f.Kind.String(), string(f.Severity()), f.Place.File, f.Place.Line, f.Subject, f.Text, f.Kind.Why(), append([]repairJSON{}, repairs[i]...)})
	}
	c.printJSON(result)
	if len(found) > 0 {
		return no
	}
	return yes
}
