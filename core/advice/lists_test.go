package advice_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"hollowbridge/core/advice"
	"hollowbridge/core/explore"
	"hollowbridge/core/flowset"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"
)

// Of a network of so many rules that its lists are looked at beside the rest, the findings about them are those
// that an explorer has alone; and where their sets outgrow the space, there are none.
func TestFindingsAboutLongListsAreThoseOfAnExplorer(t *testing.T) {
	if testing.Short() {
		t.Skip("its lists are long")
	}
	text := gen.Large(5, 1001)
	for i := range 20 {
		text += fmt.Sprintf("      - {allow: wide%d, from: outside, to: 10.1.0.%d, service: tcp/900-1500}\n", i, 7*i)
		text += fmt.Sprintf("      - {drop: cross%d, from: 203.0.0.0/9, to: 10.1.0.0/24, service: tcp/%d-%d}\n", i, 1400+i, 1600+i)
		text += fmt.Sprintf("      - {allow: twin%d, from: outside, to: 10.1.0.%d, service: tcp/1000}\n", i, 7*i)
	}
	n := netfiletest.Parse(t, text)
	e := walk.Compile(n, nil)
	found, err := advice.Examine(e, advice.Asked{})
	if err != nil {
		t.Fatal(err)
	}
	about := func(kinds ...network.FindingKind) (subjects []string) {
		for _, f := range found {
			if slices.Contains(kinds, f.Kind) {
				subjects = append(subjects, f.Subject[strings.Index(f.Subject, " ")+1:])
			}
		}
		slices.Sort(subjects)
		return subjects
	}
	explorer := explore.New(e, network.EveryMoment(n), reach.MostPieces)
	var hidden, crossing []string
	for _, h := range explorer.Hidden() {
		hidden = append(hidden, h.Rule.Name)
	}
	for _, c := range explorer.Crossings() {
		crossing = append(crossing, c.Second.Name)
	}
	slices.Sort(hidden)
	slices.Sort(crossing)
	if got := about(network.HiddenRule, network.RedundantRule); !slices.Equal(got, hidden) || len(hidden) < 10 {
		t.Errorf("%d rules are said to be hidden, %d are: %v and %v", len(got), len(hidden), got, hidden)
	}
	if got := about(network.HalfHidden); !slices.Equal(got, crossing) || len(crossing) < 10 {
		t.Errorf("%d rules are said to cross others, %d do: %v and %v", len(got), len(crossing), got, crossing)
	}
	if found, err := advice.Examine(e, advice.Asked{Space: flowset.NewSpace(5000, 1)}); err == nil {
		t.Errorf("%d findings in a space of 5000", len(found))
	}
}

// Where there are more kinds of connections than may be held nothing is said, but that.
func TestTooManyKindsAreRefused(t *testing.T) {
	e := walk.Compile(netfiletest.Parse(t, gen.Small(1)), nil)
	found, err := advice.Examine(e, advice.Asked{Space: flowset.NewSpace(1<<20, 1), Most: 3})
	if !errors.Is(err, reach.TooManyKinds{Most: 3}) || len(found) > 0 {
		t.Errorf("%v, %d findings", err, len(found))
	}
}
