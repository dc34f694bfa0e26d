package netfile

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"hollowbridge/core/network"
)

// lineEndings are what ends a line for the reader of YAML.
var lineEndings = []string{"\n", "\r\n", "\r", "\u0085", "\u2028", "\u2029"}

// Whatever ends the lines of a comment, an edit changes what it names: what it leaves says the same as where all lines end alike.
func TestEditsCountLinesAsTheReaderDoes(t *testing.T) {
	data, err := os.ReadFile("../../examples/fernhollow/hollowbridge.yaml")
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	fronts, err := os.ReadFile("../../examples/fernhollow/fronts.txt")
	if err != nil || os.WriteFile(filepath.Join(folder, "fronts.txt"), fronts, 0o600) != nil {
		t.Fatal(err)
	}
	edits := network.Edits{
		{Verb: network.Disable, Name: "camera", Kind: "allow"},
		{Verb: network.Remove, Name: "camera", Kind: "port-forward"},
		{Verb: network.Change, Name: "camera", Kind: "allow", Settings: []network.Setting{{Key: "service", Value: "tcp/99"}}},
		{Verb: network.Add, Name: "late", Kind: "drop", Gateway: "rim", Settings: []network.Setting{{Key: "from", Value: "outside"}}},
		{Verb: network.Add, Name: "new", Kind: "host", Settings: []network.Setting{{Key: "address", Value: "10.61.24.14"}}},
		{Verb: network.Move, Name: "camera", Kind: "allow", Before: "archive-web"},
	}
	tried := 0
	for _, edit := range edits {
		want := ""
		for _, end := range lineEndings {
			for _, everywhere := range []bool{false, true} {
				text := strings.Replace(string(data), "\n", end+"# more\n", 1)
				if everywhere {
					text = strings.ReplaceAll(string(data), "\n", end)
				}
				path := filepath.Join(folder, "hollowbridge.yaml")
				if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
					t.Fatal(err)
				}
				e, err := Sketch(path)
				if err != nil {
					continue // the reader itself does not take lines that end so
				}
				before := valuesOf(e.root, nil)
				if err := e.Apply(edit); err != nil {
					t.Errorf("lines that end with %q: %v", end, err)
					continue
				}
				got := valuesOf(e.root, nil)
				if want == "" {
					want = got
				}
				if tried++; got != want || got == before {
					t.Errorf("%s %s differs where lines end with %q", edit.Verb, edit.Name, end)
				}
			}
		}
	}
	if tried < 50 {
		t.Errorf("only %d edits were made", tried)
	}
}

// What an edit would change beside what it says is not written, nor what it says and does not do.
func TestAnEditThatDoesSomethingElseIsTakenBack(t *testing.T) {
	text := "network: n\nhosts:\n  h: {address: 10.0.0.5, serves: [ssh]}\ngateways:\n  rim:\n    interfaces:\n      up: {address: 198.51.100.2/29, zone: outside}\n" +
		"      in: {address: 10.0.0.1/24, zone: lan}\n    filter:\n      - {allow: a, service: ssh}\n      - {allow: b, service: http}\n      - {drop: c}\n"
	for name, c := range map[string]struct {
		edit network.Edit
		does func(e *Editor, text string) string
	}{
		"another rule is disabled": {network.Edit{Verb: network.Disable, Name: "a"}, func(_ *Editor, s string) string {
			return strings.Replace(s, "http}", "http, disabled: true}", 1)
		}},
		"two rules are disabled": {network.Edit{Verb: network.Disable, Name: "a"}, func(_ *Editor, s string) string {
			return strings.NewReplacer("http}", "http, disabled: true}", "ssh}", "ssh, disabled: true}").Replace(s)
		}},
		"nothing is disabled": {network.Edit{Verb: network.Disable, Name: "a"}, func(_ *Editor, s string) string { return s + "# \n" }},
		"another rule is gone": {network.Edit{Verb: network.Remove, Name: "a"}, func(_ *Editor, s string) string {
			return strings.Replace(s, "      - {allow: b, service: http}\n", "", 1)
		}},
		"another value is given": {network.Edit{Verb: network.Change, Name: "a", Settings: []network.Setting{{Key: "service", Value: "tcp/99"}}}, func(_ *Editor, s string) string { return strings.Replace(s, "service: ssh}", "service: tcp/98}", 1) }},
		"another rule goes with it": {network.Edit{Verb: network.Add, Kind: "drop", Name: "d", Gateway: "rim"}, func(_ *Editor, s string) string {
			return strings.Replace(s, "      - {drop: c}\n", "      - {drop: d}\n", 1)
		}},
		"it is moved to elsewhere": {network.Edit{Verb: network.Move, Name: "a", After: "c"}, func(_ *Editor, s string) string {
			return strings.Replace(s, "      - {allow: a, service: ssh}\n      - {allow: b, service: http}\n", "      - {allow: b, service: http}\n      - {allow: a, service: ssh}\n", 1)
		}},
		"a host loses a service": {network.Edit{Verb: network.Change, Kind: "host", Name: "h", Settings: []network.Setting{{Key: "address", Value: "10.0.0.6"}}}, func(_ *Editor, s string) string {
			return strings.Replace(s, "10.0.0.5, serves: [ssh]", "10.0.0.6", 1)
		}},
	} {
		e := &Editor{path: "n.yaml"}
		if err := e.set([]byte(text)); err != nil {
			t.Fatal(err)
		}
		thing := Thing{}
		if c.edit.Verb != network.Add {
			i := slices.IndexFunc(e.things(), func(u Thing) bool { return u.Name == c.edit.Name })
			thing = e.things()[i]
		}
		err := e.only(c.edit, thing, func() error { return e.Write(c.does(e, text)) })
		if err == nil || string(e.text) != text {
			t.Errorf("%s: %v", name, err)
		}
	}
}
