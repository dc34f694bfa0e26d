package cli_test

import (
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"hollowbridge/internal/gen"
)

type accesses struct {
	From       string
	Accesses   []access
	LetThrough []access `json:"let-through"`
}

type access struct {
	Host, Service, Who, Sent, Example string
	Gateway, Open                     bool
	AllPorts                          bool `json:"all-source-ports"`
	From, To, Rules                   []string
}

func reachOf(t *testing.T, folder, line string) accesses {
	t.Helper()
	r := shell(t, folder, line)
	var got accesses
	if err := json.Unmarshal([]byte(r.out), &got); err != nil {
		t.Fatalf("%s: %v\n%s%s", line, err, r.out, r.err)
	}
	return got
}

// What reach says of random networks, the built program's own traces confirm: each
// example reaches its host, through the rules that are named.
func TestExamplesOfReachAreReached(t *testing.T) {
	if testing.Short() {
		t.Skip("it runs every example")
	}
	examples := 0
	for seed := range uint64(12) {
		folder := t.TempDir()
		write(t, folder, "hollowbridge.yaml", gen.Small(seed+900))
		for _, a := range reachOf(t, folder, "hollowbridge reach -from any -json -at 'mon 12:00'").Accesses {
			if examples++; examples%4 > 0 {
				continue
			}
			var trace struct {
				Outcome, Host string
				Steps         []struct{ Rule string }
			}
			r := shell(t, folder, a.Example+" -json")
			if err := json.Unmarshal([]byte(r.out), &trace); err != nil {
				t.Fatalf("%s: %v\n%s%s", a.Example, err, r.out, r.err)
			}
			if trace.Outcome != "reached" || trace.Host != a.Host {
				t.Errorf("seed %d: %s: %s at %q, not reached %s", seed+900, a.Example, trace.Outcome, trace.Host, a.Host)
			}
			for _, rule := range a.Rules {
				used := false
				for _, s := range trace.Steps {
					used = used || s.Rule == rule
				}
				if !used {
					t.Errorf("seed %d: %s does not go through %s", seed+900, a.Example, rule)
				}
			}
		}
	}
	if examples < 100 {
		t.Errorf("only %d examples", examples)
	}
}

// A question that is narrower is answered by the part of the whole answer that it is about.
func TestNarrowQuestionsAreParts(t *testing.T) {
	if testing.Short() {
		t.Skip("it asks much")
	}
	t.Parallel()
	folder := demoFolder(t)
	whole := reachOf(t, folder, "hollowbridge reach -from any -json")
	for _, host := range []string{"archive", "telescope", "weather", "sky-camera"} {
		want, got := 0, 0
		for _, a := range whole.Accesses {
			if a.Host == host {
				want++
			}
		}
		for _, a := range reachOf(t, folder, "hollowbridge reach -from any -to "+host+" -json").Accesses {
			if got++; a.Host != host {
				t.Errorf("-to %s lists %s", host, a.Host)
			}
		}
		if got != want || got == 0 {
			t.Errorf("-to %s lists %d ways, the whole has %d", host, got, want)
		}
	}
	for _, a := range reachOf(t, folder, "hollowbridge reach -from any -service rtsp -json").Accesses {
		if a.Service != "tcp/554" {
			t.Errorf("-service rtsp lists %s of %s", a.Service, a.Host)
		}
	}
	for _, a := range reachOf(t, folder, "hollowbridge reach -from remote-observers -json").Accesses {
		if strings.Contains(a.Who, "everybody") || a.Host == "" {
			t.Errorf("-from remote-observers lists %q", a.Who)
		}
	}
	wantStatus(t, shell(t, folder, "hollowbridge reach -to 10.250.0.1"), 0)
	wantStatus(t, shell(t, folder, "hollowbridge reach -from nobodys -json"), 2)
	wantIn(t, shell(t, folder, "hollowbridge reach -from remote-observer").err, "remote-observers")
}

// The table for spreadsheets has a line for each way that the JSON has.
func TestReachAsATable(t *testing.T) {
	folder := demoFolder(t)
	rows, err := csv.NewReader(strings.NewReader(shell(t, folder, "hollowbridge reach -csv").out)).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	found := reachOf(t, folder, "hollowbridge reach -json")
	list := slices.Concat(found.Accesses, found.LetThrough)
	if len(rows) != len(list)+1 {
		t.Fatalf("%d lines for %d ways", len(rows), len(list))
	}
	for i, a := range list {
		if row := rows[i+1]; row[0] != a.Host || row[1] != a.Service || row[2] != a.Who || row[3] != fmt.Sprint(a.Open) {
			t.Errorf("%v is not %+v", row, a)
		}
	}
}

// A change that an edit makes is what compare then finds between the files, and both
// tell it like the traces of the examples.
func TestWhatAnEditSaysIsWhatCompareFinds(t *testing.T) {
	if testing.Short() {
		t.Skip("it makes many edits")
	}
	t.Parallel()
	found := 0
	for seed := range uint64(14) {
		folder := t.TempDir()
		text := gen.Small(seed + 300)
		write(t, folder, "hollowbridge.yaml", text)
		write(t, folder, "old.yaml", text)
		random := rand.New(rand.NewPCG(seed, 5))
		var rules struct {
			Gateways []struct {
				Name   string
				Filter []struct{ Name, Kind string }
			}
		}
		r := shell(t, folder, "hollowbridge show rules -json")
		if err := json.Unmarshal([]byte(r.out), &rules); err != nil || len(rules.Gateways) == 0 {
			t.Fatalf("%v\n%s%s", err, r.out, r.err)
		}
		g := rules.Gateways[random.IntN(len(rules.Gateways))]
		if len(g.Filter) == 0 {
			continue
		}
		rule := g.Filter[random.IntN(len(g.Filter))]
		edited := shell(t, folder, fmt.Sprintf("hollowbridge remove %s %s -gateway %s -json", rule.Kind, rule.Name, g.Name))
		wantStatus(t, edited, 0)
		var edit struct{ Effects []string }
		if err := json.Unmarshal([]byte(edited.out), &edit); err != nil {
			t.Fatal(err)
		}
		compared := shell(t, folder, "hollowbridge compare old.yaml hollowbridge.yaml -json")
		var compare struct {
			Differences []struct {
				Change, Example string
				Old, New        struct{ Outcome, Host string }
			}
		}
		if err := json.Unmarshal([]byte(compared.out), &compare); err != nil {
			t.Fatalf("%v\n%s%s", err, compared.out, compared.err)
		}
		same := len(edit.Effects) == 1 && edit.Effects[0] == "opens and closes nothing"
		if same != (len(compare.Differences) == 0) || same != (compared.status == 0) {
			t.Errorf("seed %d: the edit says %q, compare finds %d", seed, edit.Effects, len(compare.Differences))
		}
		timed := shell(t, folder, "hollowbridge compare old.yaml hollowbridge.yaml -json -at 'tue 11:00'")
		compare.Differences = nil
		if err := json.Unmarshal([]byte(timed.out), &compare); err != nil {
			t.Fatalf("%v\n%s%s", err, timed.out, timed.err)
		}
		for i, d := range compare.Differences {
			if i%5 > 0 {
				continue
			}
			found++
			for file, fate := range map[string]struct{ Outcome, Host string }{"old.yaml": d.Old, "hollowbridge.yaml": d.New} {
				var trace struct{ Outcome, Host string }
				r := shell(t, folder, d.Example+" -json -f "+file)
				if err := json.Unmarshal([]byte(r.out), &trace); err != nil {
					t.Fatalf("%s: %v\n%s", d.Example, err, r.err)
				}
				if trace.Outcome != fate.Outcome || fate.Outcome == "reached" && trace.Host != fate.Host {
					t.Errorf("seed %d: %s of %s is %s %s, compare says %s %s", seed, d.Example, file, trace.Outcome, trace.Host, fate.Outcome, fate.Host)
				}
			}
		}
	}
	if found == 0 {
		t.Error("nothing was found to trace")
	}
}

// The formats of expect that programs read are those formats, and agree.
func TestExpectationsForPrograms(t *testing.T) {
	t.Parallel()
	folder := demoFolder(t)
	text := strings.Replace(read(t, folder), "    from: internet except fronts\n", "    from: internet\n", 1)
	write(t, folder, "hollowbridge.yaml", text+"  - {say: 'odd # <names> & \"quotes\"', from: fronts, to: 'rim:fibre', service: https, reaches: archive}\n")
	var list struct {
		Expectations []struct {
			Say, Message, Trace string
			Holds               bool
			Breaking            json.Number
		}
	}
	if err := json.Unmarshal([]byte(shell(t, folder, "hollowbridge expect -json").out), &list); err != nil {
		t.Fatal(err)
	}
	var suite struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Cases    []struct {
			Name    string  `xml:"name,attr"`
			Failure *string `xml:"failure"`
		} `xml:"testcase"`
	}
	if err := xml.Unmarshal([]byte(shell(t, folder, "hollowbridge expect -junit").out), &suite); err != nil {
		t.Fatal(err)
	}
	tap := strings.Split(shell(t, folder, "hollowbridge expect -tap").out, "\n")
	broken := 0
	for i, x := range list.Expectations {
		if c := suite.Cases[i]; c.Name != x.Say || (c.Failure == nil) != x.Holds {
			t.Errorf("JUnit has %q, JSON %q", c.Name, x.Say)
		}
		want := fmt.Sprintf("ok %d - ", i+1)
		if !x.Holds {
			want = "not " + want
			broken++
			wantIn(t, x.Message, "connections break it")
			wantStatus(t, shell(t, folder, x.Trace), 0)
		}
		if (x.Breaking == "0") != x.Holds {
			t.Errorf("%s holds %v, and %s connections break it", x.Say, x.Holds, x.Breaking)
		}
		line := ""
		for _, l := range tap {
			if strings.HasPrefix(l, want) {
				line = l
			}
		}
		if line == "" {
			t.Errorf("TAP has no %q:\n%s", want, strings.Join(tap, "\n"))
		}
	}
	if suite.Tests != len(list.Expectations) || suite.Failures != broken || broken != 1 {
		t.Errorf("%d of %d broken, JUnit says %d of %d", broken, len(list.Expectations), suite.Failures, suite.Tests)
	}
}

// An edit that mends a finding is listed as it is typed; typed, the finding is gone.
func TestEditsForFindingsCanBeTyped(t *testing.T) {
	if testing.Short() {
		t.Skip("it makes many edits")
	}
	t.Parallel()
	folder := demoFolder(t)
	before, err := os.ReadFile(filepath.Join(folder, "hollowbridge.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	type checked struct {
		Findings []struct {
			Name, About string
			Repairs     []struct {
				Command string
				Opens   []string
			}
		}
	}
	check := func() checked {
		var got checked
		if err := json.Unmarshal([]byte(shell(t, folder, "hollowbridge check -json").out), &got); err != nil {
			t.Fatal(err)
		}
		return got
	}
	mended := 0
	for _, f := range check().Findings {
		for _, r := range f.Repairs {
			mended++
			write(t, folder, "hollowbridge.yaml", string(before))
			for part := range strings.SplitSeq(r.Command, " && ") {
				must(t, folder, part)
			}
			for _, left := range check().Findings {
				if left.Name == f.Name && left.About == f.About {
					t.Errorf("%s of %s is there after %s", f.Name, f.About, r.Command)
				}
			}
			if len(r.Opens) == 0 {
				t.Errorf("%s does not say what it opens", r.Command)
			}
		}
	}
	if mended < 5 {
		t.Errorf("only %d findings are mended", mended)
	}
}
