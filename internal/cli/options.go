package cli

import (
	"flag"
	"strings"

	"hollowbridge/internal/netfile"
)

// A fileOption names the network file.
type fileOption struct{ file string }

func (o *fileOption) fileFlag(set *flag.FlagSet) {
	set.StringVar(&o.file, "f", "", "the network `FILE`; else HOLLOWBRIDGE_FILE, else "+defaultFile)
}

// answerOptions say in which form a program gets the answer; a person where none is asked for.
type answerOptions struct {
	json, tap, junit, csv bool
	quiet                 bool // a line a question, or the command runs itself again: nothing is said beside the answer
}

func (o *answerOptions) jsonFlag(set *flag.FlagSet) {
	set.BoolVar(&o.json, "json", false, "print JSON")
}

// ciFlags are for systems that run checks whenever a file changes.
func (o *answerOptions) ciFlags(set *flag.FlagSet) {
	set.BoolVar(&o.tap, "tap", false, "print TAP")
	set.BoolVar(&o.junit, "junit", false, "print JUnit XML")
}

// forms returns in how many forms that exclude each other the answer is asked for.
func (o *answerOptions) forms() (n int) {
	for _, asked := range []bool{o.json, o.tap, o.junit} {
		if asked {
			n++
		}
	}
	return n
}

// isForPerson reports whether more may be said than the answer.
func (o *answerOptions) isForPerson() bool { return o.forms() == 0 && !o.csv && !o.quiet }

// A momentOption is a time for rules with hours.
type momentOption struct{ at string }

func (o *momentOption) timesFlag(set *flag.FlagSet) {
	set.StringVar(&o.at, "at", "", "only this `TIME`, as \"mon 14:00\" or \"2026-11-23 14:00\"; every moment where absent")
}

// A gatewayOption names gateways: those that are asked, or the one that an edit is about.
type gatewayOption struct{ gateway string }

func (o *gatewayOption) onlyFlag(set *flag.FlagSet) {
	set.StringVar(&o.gateway, "gateway", "", "only these `GATEWAYS`, with commas between several")
}

// askedFlag names those that -live asks.
func (o *gatewayOption) askedFlag(set *flag.FlagSet) {
	set.StringVar(&o.gateway, "gateway", "", "with -live, ask only these `GATEWAYS`, with commas between several")
}

// whatIfOptions ask about the network as it would be.
type whatIfOptions struct{ whatIf netfile.Variation }

func (o *whatIfOptions) whatIfFlags(set *flag.FlagSet) {
	set.Var((*repeated)(&o.whatIf.Down), "down", "as if this `INTERFACE` of a gateway were down; repeatable")
	set.Var((*repeated)(&o.whatIf.Lists), "list", "as if a group held what stands in a file, `GROUP=FILE`; repeatable")
	set.Var((*repeated)(&o.whatIf.Is), "is", "what an address is now that the provider gives, `GATEWAY:INTERFACE=ADDRESS`; repeatable")
	set.Var((*repeated)(&o.whatIf.Without), "without", "as if this `RULE` were not there: NAME, \"KIND NAME\" or GATEWAY:NAME; repeatable")
	set.Var((*repeated)(&o.whatIf.With), "with", "as if the rules in this `FILE` were there as well; repeatable")
}

// A writeOption is of whatever changes something.
type writeOption struct{ dryRun bool }

// writeFlags are those of whatever edits the file.
func (c *call) writeFlags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	set.BoolVar(&c.dryRun, "dry-run", false, "show what would change and write nothing")
}

// repeated is a flag that may be given several times.
type repeated []string

func (r *repeated) String() string     { return strings.Join(*r, "; ") }
func (r *repeated) Set(v string) error { *r = append(*r, v); return nil }

// A commonCall is a call of a command that has no options but those that others have as well.
type commonCall struct {
	*call
	declare func(*call, *flag.FlagSet)
	does    func(*call) int
}

// commonly begins calls of such a command.
func commonly(declare func(*call, *flag.FlagSet), does func(*call) int) func(*call) task {
	return func(c *call) task { return &commonCall{c, declare, does} }
}

func noFlags(*call, *flag.FlagSet) {}

func (c *commonCall) flags(set *flag.FlagSet) { c.declare(c.call, set) }
func (c *commonCall) run() int                { return c.does(c.call) }
