package advice_test

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"
	"testing"

	"hollowbridge/core/advice"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

// calm is a network without findings; each test changes one thing.
//
//go:embed testdata/calm.yaml
var calm string

//go:embed testdata/findings.txt
var findings string

func examine(t *testing.T, text string) []advice.Finding {
	t.Helper()
	n := netfiletest.Parse(t, text)
	found, err := advice.Examine(walk.Compile(n, nil), advice.Asked{Soon: "2999-12-31"})
	if err != nil {
		t.Fatal(err)
	}
	return found
}

func listing(found []advice.Finding) string {
	var lines []string
	for _, f := range found {
		lines = append(lines, fmt.Sprintf("%s line %d, %s: %s", f.Kind, f.Place.Line, f.Subject, f.Text))
	}
	return strings.Join(lines, "\n")
}

func TestTheCalmNetworkHasNoFindings(t *testing.T) {
	if found := examine(t, calm); len(found) > 0 {
		t.Errorf("\n%s", listing(found))
	}
}

// A shown finding is a case of testdata/findings.txt, whose top says how it is written.
type shown struct {
	name, says  string
	shows, twin string // networks
}

// cases reads the cases.
func cases(t *testing.T) []shown {
	var list []shown
	var where, shows, twin string
	var into *string
	change := func() {
		if where == "" {
			return
		}
		c := &list[len(list)-1]
		if !strings.Contains(calm, where) {
			t.Fatalf("%s: %q is not in the calm network", c.name, where)
		}
		c.shows, c.twin = strings.Replace(c.shows, where, shows, 1), strings.Replace(c.twin, where, twin, 1)
		where, shows, twin, into = "", "", "", nil
	}
	for line := range strings.Lines(findings) {
		word, rest, _ := strings.Cut(strings.TrimRight(line, "\n"), " ")
		switch {
		case word == "finding" && rest != "NAME":
			change()
			list = append(list, shown{name: rest, shows: calm, twin: calm})
		case len(list) == 0:
		case word == "where":
			change()
			into = &where
		case word == "shows":
			into = &shows
		case word == "twin":
			into = &twin
		case word == "says":
			list[len(list)-1].says = rest
		case word == "|":
			if *into != "" {
				*into += "\n"
			}
			*into += rest
		}
	}
	change()
	return list
}

// Each finding has a network that shows it and a near twin that does not.
func TestEachFindingHasANetworkThatShowsItAndATwinThatDoesNot(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range cases(t) {
		seen[c.name] = true
		t.Run(c.name, func(t *testing.T) {
			is := func(f advice.Finding) bool { return f.Kind.String() == c.name && strings.Contains(f.Text, c.says) }
			if found := examine(t, c.shows); !slices.ContainsFunc(found, is) {
				t.Errorf("not found in the network that shows it:\n%s", listing(found))
			}
			if found := examine(t, c.twin); slices.ContainsFunc(found, is) {
				t.Errorf("found in the twin:\n%s", listing(found))
			}
		})
	}
	for _, f := range network.FindingKinds() {
		if !seen[f.String()] && f != network.PortsNearlyGone { // which no file shows
			t.Errorf("%s has no network that shows it", f)
		}
		if f.Severity() == "" || !strings.HasSuffix(f.Why(), ".") {
			t.Errorf("%s is not explained: %s %s", f, f.Severity(), f.Why())
		}
	}
}

// Source-nat rules of running gateways that have hardly a port left are found; a file knows nothing of it.
func TestPortsThatAreNearlyGoneAreFound(t *testing.T) {
	for used, want := range map[int]bool{0: false, 7: false, 8: true, 10: true} {
		n := netfiletest.Parse(t, calm)
		g := n.Gateways[0]
		at := slices.IndexFunc(g.NAT, func(r *network.NATRule) bool { return r.Does == network.SourceNAT })
		g.Taken = []network.PortsTaken{{Rule: g.NAT[at], Family: "IPv4", Protocol: "tcp", Used: used, Of: 10}}
		found, err := advice.Examine(walk.Compile(n, nil), advice.Asked{})
		if err != nil {
			t.Fatal(err)
		}
		if got := slices.ContainsFunc(found, func(f advice.Finding) bool { return f.Kind == network.PortsNearlyGone }); got != want {
			t.Errorf("%d of 10: %v", used, got)
		}
	}
}

// A rule that accepts a finding silences it, and needs a note.
func TestAcceptedFindingsAreSilent(t *testing.T) {
	shows := strings.Replace(calm, "archive: {address: 10.61.24.5,", "archive: {address: 10.61.24.5, assigned: dynamic,", 1)
	accepted := strings.Replace(shows, "service: https, to: archive}\n", "service: https, to: archive, accept: [dynamic-target], note: until the move}\n", 1)
	if found := examine(t, accepted); len(found) > 0 {
		t.Errorf("\n%s", listing(found))
	}
	for change, want := range map[string]string{"accept: [dynamic-target]": "accept needs a note", "accept: [dynamc-target], note: x": "did you mean dynamic-target?"} {
		text := strings.Replace(shows, "service: https, to: archive}\n", "service: https, to: archive, "+change+"}\n", 1)
		if _, err := netfile.Parse("f.yaml", []byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", change, err)
		}
	}
}
