package netfile_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"hollowbridge/core/network"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile"
)

// outline is a network with each rule on a line of its own, without places.
func outline(n *network.Network) []string {
	var lines []string
	for _, g := range n.Gateways {
		for _, r := range g.NAT {
			lines = append(lines, fmt.Sprintf("%s nat %s %s disabled %v from %q to %q at %q -> %s %v as %s %v %s", g.Name, r.Kind, r.Name, r.Disabled, r.From.Text, r.To.Text, r.AtText, r.TargetAs, r.Ports, r.As.Text, r.SourcePorts, r.Note))
		}
		for _, r := range g.Filter {
			lines = append(lines, fmt.Sprintf("%s filter %s %s disabled %v from %q to %q %s %v %s", g.Name, r.Kind, r.Name, r.Disabled, r.From.Text, r.To.Text, r.ServiceText, r.SourcePorts, r.Note))
		}
	}
	return lines
}

// A rule of a network, as edits name it.
type editable struct{ gateway, list, kind, name string }

func rulesOf(n *network.Network) []editable {
	var found []editable
	for _, g := range n.Gateways {
		for _, r := range g.NAT {
			found = append(found, editable{g.Name, "nat", r.Kind, r.Name})
		}
		for _, r := range g.Filter {
			found = append(found, editable{g.Name, "filter", r.Kind, r.Name})
		}
	}
	return found
}

// session opens a file, edits it and saves it; it returns the network as it is then.
func session(t *testing.T, path string, edit func(*netfile.Editor) error) *network.Network {
	t.Helper()
	e, err := netfile.Edit(path)
	if err != nil {
		t.Fatal(err)
	}
	defer e.Close()
	if err := edit(e); err != nil {
		t.Fatal(err)
	}
	if err := e.Save(); err != nil {
		t.Fatal(err)
	}
	n, err := netfile.Read(path)
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// On random networks, an edit changes one rule and leaves every other as it was
// and where it was; taken back, the file is what it was, to the byte.
func TestEditsOfRandomFilesChangeOneThing(t *testing.T) {
	path := filepath.Join(t.TempDir(), "n.yaml")
	for seed := range uint64(150) {
		random := rand.New(rand.NewPCG(seed, 21))
		text := gen.Small(seed)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		n, err := netfile.Read(path)
		if err != nil {
			t.Fatal(err)
		}
		rules, before := rulesOf(n), outline(n)
		at := random.IntN(len(rules))
		rule := rules[at]
		find := func(e *netfile.Editor) netfile.Thing {
			thing, err := e.Find(rule.kind, rule.name, rule.gateway)
			if err != nil {
				t.Fatal(err)
			}
			return thing
		}
		change := func(settings ...netfile.Setting) func(*netfile.Editor) error {
			return func(e *netfile.Editor) error { return e.Change(find(e), settings) }
		}

		after := outline(session(t, path, change(netfile.Setting{Key: "note", Value: `a "note": [x], # y`})))
		if want := before[at] + `a "note": [x], # y`; after[at] != want || !sameBut(before, after, at) {
			t.Fatalf("seed %d: a note on %v gives\n%s", seed, rule, strings.Join(after, "\n"))
		}
		session(t, path, change(netfile.Setting{Key: "note"}))
		wantFile(t, path, text, seed, rule)

		if !strings.Contains(before[at], "disabled true") {
			after = outline(session(t, path, change(netfile.Setting{Key: "disabled", Value: "true"})))
			if !strings.Contains(after[at], "disabled true") || !sameBut(before, after, at) {
				t.Fatalf("seed %d: disabling %v gives\n%s", seed, rule, strings.Join(after, "\n"))
			}
			session(t, path, change(netfile.Setting{Key: "disabled"}))
			wantFile(t, path, text, seed, rule)
		}

		moveAround(t, path, random, rules, at, before, text, seed)

		after = outline(session(t, path, func(e *netfile.Editor) error { return e.Remove(find(e)) }))
		if want := slices.Delete(slices.Clone(before), at, at+1); !slices.Equal(after, want) {
			t.Fatalf("seed %d: removing %v gives\n%s", seed, rule, strings.Join(after, "\n"))
		}
	}
}

// moveAround moves a rule to another place of its list and back.
func moveAround(t *testing.T, path string, random *rand.Rand, rules []editable, at int, before []string, text string, seed uint64) {
	t.Helper()
	rule := rules[at]
	first := slices.IndexFunc(rules, func(r editable) bool { return r.gateway == rule.gateway && r.list == rule.list })
	last := first
	for last+1 < len(rules) && rules[last+1].gateway == rule.gateway && rules[last+1].list == rule.list {
		last++
	}
	other := first + random.IntN(last-first+1)
	if other == at {
		return
	}
	move := func(behind bool, of editable) func(*netfile.Editor) error {
		return func(e *netfile.Editor) error {
			thing, err := e.Find(rule.kind, rule.name, rule.gateway)
			if err != nil {
				return err
			}
			return e.Move(thing, behind, of.name)
		}
	}
	after := outline(session(t, path, move(other > at, rules[other])))
	want := slices.Delete(slices.Clone(before), at, at+1)
	want = slices.Insert(want, other, before[at])
	if !slices.Equal(after, want) {
		t.Fatalf("seed %d: moving %v to %v gives\n%s\nwant\n%s", seed, rule, rules[other], strings.Join(after, "\n"), strings.Join(want, "\n"))
	}
	if at > first {
		session(t, path, move(true, rules[at-1]))
	} else {
		session(t, path, move(false, rules[at+1]))
	}
	wantFile(t, path, text, seed, rule)
}

func sameBut(a, b []string, except int) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if i != except && a[i] != b[i] {
			return false
		}
	}
	return true
}

func wantFile(t *testing.T, path, text string, seed uint64, rule editable) {
	t.Helper()
	data, err := os.ReadFile(path)
	if err != nil || string(data) != text {
		t.Fatalf("seed %d, %v: %v; the edit taken back leaves\n%s\nnot\n%s", seed, rule, err, data, text)
	}
}

// What an edit would make wrong is not saved, and the file stays.
func TestSaveRefusesAWrongFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "n.yaml")
	text := gen.Small(1)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	e, err := netfile.Edit(path)
	if err != nil {
		t.Fatal(err)
	}
	defer e.Close()
	if err := e.AddRule("rim", "allow", "new", []netfile.Setting{{Key: "from", Value: "nowhere"}}, "", ""); err != nil {
		t.Fatal(err)
	}
	if err := e.Save(); err == nil || !strings.Contains(err.Error(), "nowhere: no such host, group, zone or address") {
		t.Errorf("%v", err)
	}
	wantFile(t, path, text, 1, editable{})
}

func TestTheSameSeedGivesTheSameFile(t *testing.T) {
	small, large := gen.Small(7), gen.Large(7, 50)
	if gen.Small(7) != small || gen.Large(7, 50) != large || gen.Small(8) == small {
		t.Error("seeds do not decide")
	}
	n, err := netfile.Parse("large.yaml", []byte(gen.Large(7, 500)))
	if err != nil {
		t.Fatal(err)
	}
	if g := n.Gateways[0]; len(g.NAT) != 501 || len(g.Filter) != 500 {
		t.Errorf("%d and %d rules", len(g.NAT), len(g.Filter))
	}
}
