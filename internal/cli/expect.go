package cli

import (
	"encoding/xml"
	"flag"
	"fmt"
	"math/big"
	"strings"

	"hollowbridge/core/engine"
	"hollowbridge/core/reach"
)

var expectCommand = &command{
	name:    "expect",
	summary: "checks what must hold, for all connections",
	help: `Checks the expectations of the network file, each for all connections it is about, not for
samples. One that fails shows a connection that breaks it, as a trace command. -tap and -junit
print what CI systems read: Test Anything Protocol, and JUnit XML.

What the file does not list can't be reached as far as it knows. Where nobody may get there, and
something gets through all the same to an address without a host, or to a port that its host is not
said to serve, that is said with it.

They have to hold at every moment from today on, unless -at names one.
` + whatIfHelp + `
Exit status: 0 all hold, 1 one does not, 2 the call or the file is wrong.`,
	examples: []string{"hollowbridge expect", "hollowbridge expect -tap", "hollowbridge expect -junit"},
	begin: commonly(func(c *call, set *flag.FlagSet) {
		c.fileFlag(set)
		c.jsonFlag(set)
		c.ciFlags(set)
		c.whatIfFlags(set)
		c.timesFlag(set)
	}, runExpect),
}

func runExpect(c *call) int {
	if len(c.args) > 0 {
		return c.misused("%s: not expected; name the file with -f", c.args[0])
	}
	n := c.network()
	if n == nil {
		return wrong
	}
	e, done := c.compile(n)
	results, err := reach.Expect(e, c.times(n))
	done()
	if err != nil {
		return c.failed(fmt.Errorf("%w; nothing is claimed", err))
	}
	failed := 0
	for _, r := range results {
		if !r.Holds || r.Empty {
			failed++
		}
	}
	printed, err := c.printForCI(n.Name, c.checks(results))
	switch {
	case printed || err != nil:
	case c.json:
		c.printJSON(c.expectResult(results))
	default:
		c.printExpect(results, failed)
	}
	if len(results) == 0 { // whoever lets this decide has forgotten something
		fmt.Fprintf(c.Err, "%s expects nothing; see expect in docs/network-file.md\n", c.path())
		return wrong
	}
	return c.ciStatus(failed > 0, err)
}

// printForCI prints checks as the flags want it. It reports whether they do.
func (c *call) printForCI(name string, list []checked) (printed bool, err error) {
	switch {
	case c.tap:
		c.printTAP(list)
	case c.junit:
		err = c.printJUnit(name, list)
	default:
		return false, nil
	}
	return true, err
}

// ciStatus returns the exit status where some check fails, or none could be printed.
func (c *call) ciStatus(fails bool, err error) int {
	switch {
	case err != nil:
		return c.failed(err)
	case fails:
		return no
	}
	return yes
}

// failure says what breaks an expectation, "" where it holds.
func failure(r *reach.Result) string {
	switch {
	case r.Empty:
		return "it is about no connection at all: nothing can be sent from there to there"
	case r.Holds:
		return ""
	case r.Verdict.Outcome == engine.Reached:
		return breaking(r) + "this one reaches " + r.Verdict.To.Name()
	}
	return breaking(r) + "this one is " + r.Verdict.Outcome.String() + " at " + r.Verdict.At.Name()
}

// breaking says how many connections break an expectation, where they are many.
func breaking(r *reach.Result) string {
	when := ""
	if !r.When.IsAlways() {
		when = ", " + r.When.String()
	}
	switch n := r.Breaking; {
	case n.Cmp(big.NewInt(1_000_000_000)) > 0:
		return "more than 1000 million connections break it" + when + "; "
	case n.Cmp(big.NewInt(1)) > 0:
		return n.String() + " connections break it" + when + "; "
	case when != "":
		return "a connection breaks it" + when + "; "
	}
	return ""
}

func (c *call) printExpect(results []reach.Result, failed int) {
	for i := range results {
		r := &results[i]
		if text := failure(r); text == "" {
			fmt.Fprintf(c.Out, "%s     %s\n", c.green("holds"), strings.Join(wrap(r.Expectation.Say, c.Width-10), "\n          "))
			if r.Nobody != "" {
				fmt.Fprintf(c.Out, "          about nobody just now: %s is empty\n", r.Nobody)
			}
			if r.LetThrough != nil {
				fmt.Fprintf(c.Out, "          but this gets through to where nobody is, as far as this file knows:\n          %s\n", c.traceLine(*r.LetThrough))
			}
		} else {
			fmt.Fprintf(c.Out, "%s    %s (line %d)\n", c.red("broken"), r.Expectation.Say, r.Expectation.Place.Line)
			fmt.Fprintf(c.Out, "          %s\n", strings.Join(wrap(text, c.Width-10), "\n          "))
			if !r.Empty {
				fmt.Fprintf(c.Out, "          %s\n", c.traceLine(r.Counter))
			}
		}
	}
	if len(results) == 0 {
		return
	}
	fmt.Fprintf(c.Out, "\n%s, %d broken%s\n", count(len(results), "expectation"), failed, c.atText())
}

// A checked is one line of TAP, or one test of JUnit.
type checked struct {
	name, failure, at, trace string // no failure where it passes
}

func (c *call) checks(results []reach.Result) []checked {
	list := make([]checked, len(results))
	for i := range results {
		r := &results[i]
		list[i] = checked{name: r.Expectation.Say, failure: failure(r), at: r.Expectation.Place.String()}
		if !r.Empty && !r.Holds {
			list[i].trace = c.traceLine(r.Counter)
		}
	}
	return list
}

func (c *call) printTAP(list []checked) {
	fmt.Fprintf(c.Out, "TAP version 13\n1..%d\n", len(list))
	for i, r := range list {
		name := strings.ReplaceAll(r.name, "#", "\\#")
		if r.failure == "" {
			fmt.Fprintf(c.Out, "ok %d - %s\n", i+1, name)
			continue
		}
		fmt.Fprintf(c.Out, "not ok %d - %s\n  ---\n  message: %q\n  at: %q\n", i+1, name, r.failure, r.at)
		if r.trace != "" {
			fmt.Fprintf(c.Out, "  trace: %q\n", r.trace)
		}
		fmt.Fprintln(c.Out, "  ...")
	}
}

type junitSuite struct {
	XMLName  xml.Name    `xml:"testsuite"`
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Class   string        `xml:"classname,attr"`
	Name    string        `xml:"name,attr"`
	Failure *junitFailure `xml:"failure"`
}

type junitFailure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

func (c *call) printJUnit(name string, list []checked) error {
	suite := junitSuite{Name: name, Tests: len(list)}
	for _, r := range list {
		entry := junitCase{Class: name, Name: r.name}
		if r.failure != "" {
			suite.Failures++
			entry.Failure = &junitFailure{Message: r.failure, Text: strings.TrimRight(r.at+"\n"+r.trace, "\n")}
		}
		suite.Cases = append(suite.Cases, entry)
	}
	fmt.Fprint(c.Out, xml.Header)
	encoder := xml.NewEncoder(c.Out)
	encoder.Indent("", "  ")
	if err := encoder.Encode(suite); err != nil {
		return err
	}
	fmt.Fprintln(c.Out)
	return nil
}

type expectationJSON struct {
	Say     string `json:"say"`
	Place   string `json:"place"`
	Holds   bool   `json:"holds"`
	Message string `json:"message"`
	Trace   string `json:"trace"`

	Breaking   *big.Int `json:"breaking"`
	When       string   `json:"when"`        // it is broken; empty: at every moment that is asked about, or never
	Nobody     string   `json:"nobody"`      // the empty group because of which it is about nobody just now, or empty
	LetThrough string   `json:"let-through"` // a trace of what gets through to where nobody is known to answer, or empty
}

type expectJSON struct {
	Expectations []expectationJSON `json:"expectations"`
}

func (c *call) expectResult(results []reach.Result) expectJSON {
	found := expectJSON{[]expectationJSON{}}
	for i := range results {
		r := &results[i]
		entry := expectationJSON{Say: r.Expectation.Say, Place: r.Expectation.Place.String(), Message: failure(r), Breaking: r.Breaking, When: r.When.String(), Nobody: r.Nobody}
		entry.Holds = entry.Message == ""
		if !entry.Holds && !r.Empty {
			entry.Trace = c.traceLine(r.Counter)
		}
		if r.LetThrough != nil {
			entry.LetThrough = c.traceLine(*r.LetThrough)
		}
		found.Expectations = append(found.Expectations, entry)
	}
	return found
}
