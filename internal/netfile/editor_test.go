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
	"hollowbridge/internal/netfile/netfiletest"
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
	edited, err := e.Network()
	if err != nil {
		t.Fatal(err)
	}
	if err := e.Save(); err != nil {
		t.Fatal(err)
	}
	n, err := netfile.Read(path)
	if err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(outline(edited), outline(n)) {
		t.Fatalf("as edited and as saved differ:\n%s", strings.Join(outline(edited), "\n"))
	}
	return n
}

// On random networks, an edit changes one rule and leaves every other as it was
// and where it was; taken back, the file is what it was, to the byte.
func TestEditsOfRandomFilesChangeOneThing(t *testing.T) {
	if testing.Short() {
		t.Skip("it makes many edits")
	}
	path := filepath.Join(t.TempDir(), "n.yaml")
	networks := netfiletest.Few(uint64(150), 20)
	for seed := range networks {
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
		change := func(settings ...network.Setting) func(*netfile.Editor) error {
			return func(e *netfile.Editor) error { return e.Change(find(e), settings) }
		}

		after := outline(session(t, path, change(network.Setting{Key: "note", Value: `a "note": [x], # y`})))
		if want := before[at] + `a "note": [x], # y`; after[at] != want || !sameBut(before, after, at) {
			t.Fatalf("seed %d: a note on %v gives\n%s", seed, rule, strings.Join(after, "\n"))
		}
		session(t, path, change(network.Setting{Key: "note"}))
		wantFile(t, path, text, seed, rule)

		if !strings.Contains(before[at], "disabled true") {
			after = outline(session(t, path, change(network.Setting{Key: "disabled", Value: "true"})))
			if !strings.Contains(after[at], "disabled true") || !sameBut(before, after, at) {
				t.Fatalf("seed %d: disabling %v gives\n%s", seed, rule, strings.Join(after, "\n"))
			}
			session(t, path, change(network.Setting{Key: "disabled"}))
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
	if err := e.AddRule("rim", "allow", "new", []network.Setting{{Key: "from", Value: "nowhere"}}, "", ""); err != nil {
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
	n := netfiletest.Parse(t, gen.Large(7, 500))
	if g := n.Gateways[0]; len(g.NAT) != 501 || len(g.Filter) != 500 {
		t.Errorf("%d and %d rules", len(g.NAT), len(g.Filter))
	}
}

const routed = `network: routed
gateways:
  rim:
    interfaces:
      fibre: {address: [198.51.100.2/29, "2001:db8:1::2/64"], zone: outside}
      yard: {address: 10.0.0.1/24, zone: yard}
    routes: # how it gets there
      - {to: default, via: 198.51.100.1} # the usual way
      - to: default
        via: "2001:db8:1::1"
      # towards the hill
      - {to: 10.9.0.0/16, via: 10.0.0.9, distance: 5}
  keep:
    interfaces:
      up: {address: 10.0.0.9/24, zone: yard}
`

// Routes are edited like rules, but for their order: each edit changes the lines it is
// about, and several routes to one prefix are told apart by their next hop.
func TestRoutesAreEdited(t *testing.T) {
	find := func(name string, edit func(*netfile.Editor, netfile.Thing) error) func(*netfile.Editor) error {
		return func(e *netfile.Editor) error {
			thing, err := e.Find("route", name, "")
			if err != nil {
				return err
			}
			return edit(e, thing)
		}
	}
	change := func(name string, settings ...network.Setting) func(*netfile.Editor) error {
		return find(name, func(e *netfile.Editor, r netfile.Thing) error { return e.Change(r, settings) })
	}
	remove := func(name string) func(*netfile.Editor) error {
		return find(name, func(e *netfile.Editor, r netfile.Thing) error { return e.Remove(r) })
	}
	add := func(gateway, to string, settings ...network.Setting) func(*netfile.Editor) error {
		return func(e *netfile.Editor) error { return e.AddRule(gateway, "route", to, settings, "", "") }
	}
	for _, c := range []struct {
		name     string
		edit     func(*netfile.Editor) error
		old, new string // what is replaced
	}{
		{"a hop", change("10.9.0.0/16", network.Setting{Key: "via", Value: "10.0.0.8"}), "via: 10.0.0.9,", "via: 10.0.0.8,"},
		{"no distance", change("10.9.0.0/16", network.Setting{Key: "distance"}), ", distance: 5", ""},
		{"one of several", change("default via 2001:db8:1::1", network.Setting{Key: "distance", Value: "9"}, network.Setting{Key: "via", Value: "2001:db8:1::3"}),
			"via: \"2001:db8:1::1\"\n", "via: 2001:db8:1::3\n        distance: 9\n"},
		{"another prefix", change("10.9.0.0/16", network.Setting{Key: "to", Value: "10.8.0.0/15"}, network.Setting{Key: "via", Value: "10.0.0.7"}), "{to: 10.9.0.0/16, via: 10.0.0.9", "{to: 10.8.0.0/15, via: 10.0.0.7"},
		{"one goes", remove("default via 198.51.100.1"), "      - {to: default, via: 198.51.100.1} # the usual way\n", ""},
		{"one goes with its comment", remove("10.9.0.0/16"), "      # towards the hill\n      - {to: 10.9.0.0/16, via: 10.0.0.9, distance: 5}\n", ""},
		{"one more", add("rim", "10.7.0.0/16", network.Setting{Key: "blackhole", Value: "true"}), "distance: 5}\n", "distance: 5}\n      - {to: 10.7.0.0/16, blackhole: true}\n"},
		{"the first", add("keep", "default", network.Setting{Key: "via", Value: "10.0.0.1"}), "zone: yard}\n`", "zone: yard}\n    routes:\n      - {to: default, via: 10.0.0.1}\n`"},
	} {
		path := filepath.Join(t.TempDir(), "n.yaml")
		if err := os.WriteFile(path, []byte(routed), 0o644); err != nil {
			t.Fatal(err)
		}
		session(t, path, c.edit)
		got, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if want := strings.TrimSuffix(strings.Replace(routed+"`", c.old, c.new, 1), "`"); string(got) != want {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, got, want)
		}
	}
	path := filepath.Join(t.TempDir(), "n.yaml")
	if err := os.WriteFile(path, []byte(routed), 0o644); err != nil {
		t.Fatal(err)
	}
	e, err := netfile.Edit(path)
	if err != nil {
		t.Fatal(err)
	}
	defer e.Close()
	for name, want := range map[string]string{
		"default":                    `the next hop too, as "default via 198.51.100.1"`,
		"default via 198.51.100.9":   "nothing has this name",
		"10.9.0.0/17":                "did you mean 10.9.0.0/16",
		"default via 2001:db8:1::10": "nothing has this name",
	} {
		if _, err := e.Find("route", name, ""); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", name, err, want)
		}
	}
	hill, err := e.Find("", "10.9.0.0/16", "rim")
	if err != nil || hill.IsRule() {
		t.Fatalf("%v %v", hill, err)
	}
	if err := e.Move(hill, false, "default"); err == nil || !strings.Contains(err.Error(), "has no order") {
		t.Errorf("a route was moved: %v", err)
	}
}

// Copies of an editor do not see each other's edits, and are not saved.
func TestCopiesOfAnEditorAreTheirOwn(t *testing.T) {
	path := filepath.Join(t.TempDir(), "n.yaml")
	if err := os.WriteFile(path, []byte(routed), 0o644); err != nil {
		t.Fatal(err)
	}
	sketch, err := netfile.Sketch(path)
	if err != nil {
		t.Fatal(err)
	}
	one, two := sketch.Copy(), sketch.Copy()
	if err := one.AddRule("rim", "allow", "all", []network.Setting{{Key: "from", Value: "any"}, {Key: "to", Value: "any"}}, "", ""); err != nil {
		t.Fatal(err)
	}
	if len(one.Difference()) == 0 || len(two.Difference()) > 0 || len(sketch.Difference()) > 0 {
		t.Error("an edit of one copy shows in another")
	}
	further := one.Copy()
	if n, err := further.Network(); err != nil || len(n.Gateways[0].Filter) != 1 {
		t.Errorf("a copy of an edited copy: %v", err)
	}
	for _, e := range []*netfile.Editor{sketch, one, two, further} {
		if err := e.Save(); err == nil {
			t.Error("a sketch was saved")
		}
	}
	if data, err := os.ReadFile(path); err != nil || string(data) != routed {
		t.Errorf("the file has changed: %v", err)
	}
}
