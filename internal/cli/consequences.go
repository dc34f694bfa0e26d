package cli

import (
	"fmt"

	"hollowbridge/core/header"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile"
)

// mostRulesCompared is how many rules a network may have for its edits to say what
// they open and close, and mostRulesRepaired for repairs to say it, of which several
// are tried: about a second's work.
const (
	mostRulesCompared = 25000
	mostRulesRepaired = 4000

	mostPiecesCompared = 8_000_000 // of sets of connections
)

// mostConsequences is how many of them are listed.
const mostConsequences = 8

// consequences says what an edit opens and closes, exactly.
func (c *call) consequences(e *netfile.Editor) []string {
	before, err := e.Before()
	if err != nil || before == nil {
		return nil
	}
	after, err := e.Network()
	if err != nil {
		return nil
	}
	if before.RuleCount()+after.RuleCount() > 2*mostRulesCompared {
		return []string{"too many rules to compare at every edit; hollowbridge compare says what it opens and closes"}
	}
	base := reach.NewBaseline(walk.Compile(before, nil), c.times(after), mostPiecesCompared)
	found, err := base.Differences(walk.Compile(after, nil), false, header.Protocols())
	if err != nil {
		return []string{entangled(err, " at every edit; hollowbridge compare says what it opens and closes")}
	}
	if len(found) == 0 {
		return []string{nothing + c.atText()}
	}
	return differenceLines(reach.NewNamer(after), found)
}

// nothing is said of a change by which no connection fares otherwise.
const nothing = "opens and closes nothing"

// compareLists says where all differences are listed of which some are shown.
const compareLists = "hollowbridge compare lists them"

// differenceLines writes differences one a line, the first of many.
func differenceLines(names *reach.Namer, found []reach.Difference) []string {
	if len(found) == 0 {
		return []string{nothing}
	}
	found = reach.Summary(names, found)
	var lines []string
	for i := range found[:min(len(found), mostConsequences)] {
		d := &found[i]
		text := fmt.Sprintf("%s -> %s", differenceFrom(names, d), differenceTo(names, d))
		switch d.Change {
		case reach.NewlyReached:
			lines = append(lines, "opens   "+text+" reaches "+d.New.Host)
		case reach.NoLonger:
			lines = append(lines, "closes  "+text+" no longer reaches "+d.Old.Host)
		case reach.Named:
			lines = append(lines, "named   "+text+" reaches "+d.New.Host+"; the way was open before")
		case reach.Unnamed:
			lines = append(lines, "named   "+text+" no longer reaches "+d.Old.Host+"; the way stays open")
		case reach.Elsewhere:
			lines = append(lines, "moves   "+text+" reaches "+d.New.Host+" instead of "+d.Old.Host+", "+d.Is.String()+" (was "+d.Was.String()+")")
		default:
			lines = append(lines, "alters  "+text+" reaches "+d.New.Host+" "+d.Is.String()+" (was "+d.Was.String()+")")
		}
	}
	if more := len(found) - len(lines); more > 0 {
		lines = append(lines, fmt.Sprintf("and %d more; %s", more, compareLists))
	}
	return lines
}
