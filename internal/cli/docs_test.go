package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"hollowbridge/core/network"

	"go.yaml.in/yaml/v3"
)

func page(t *testing.T, name string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join("../..", name))
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// Every YAML example in the docs is right: a whole file as it stands, a part of one
// put into the smallest file.
func TestYAMLExamplesInTheDocsAreRight(t *testing.T) {
	t.Parallel()
	blocks := regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(page(t, "docs/network-file.md"), -1)
	if len(blocks) < 10 {
		t.Fatalf("only %d examples found", len(blocks))
	}
	for _, b := range blocks {
		folder := t.TempDir()
		write(t, folder, "fronts.txt", "203.0.113.16/30\n")
		var whole, part map[string]any
		if err := yaml.Unmarshal([]byte(page(t, "examples/cottage/hollowbridge.yaml")), &whole); err != nil {
			t.Fatal(err)
		}
		if err := yaml.Unmarshal([]byte(b[1]), &part); err != nil {
			t.Fatalf("%v\n%s", err, b[1])
		}
		text, err := yaml.Marshal(merge(whole, part))
		if err != nil {
			t.Fatal(err)
		}
		write(t, folder, "hollowbridge.yaml", string(text))
		if r := run(t, folder, "check"); r.status == 2 {
			t.Errorf("%s\n%s", r.err, b[1])
		}
	}
}

// merge puts a part of a file into a whole one: mappings into mappings, else in place.
func merge(whole, part map[string]any) map[string]any {
	for k, v := range part {
		inner, isMap := v.(map[string]any)
		outer, has := whole[k].(map[string]any)
		if isMap && has {
			whole[k] = merge(outer, inner)
		} else {
			whole[k] = v
		}
	}
	return whole
}

var console = regexp.MustCompile("(?s)```console\n(.*?)```")

// Every command in the docs runs and prints what the page says. A page's commands
// run one after the other in one folder, empty at first for the README, the demo's
// for the others; a line of dots at the end stands for what is left out. -update writes
// into the pages what the commands print.
func TestCommandsInTheDocsPrintWhatThePageSays(t *testing.T) {
	if testing.Short() {
		t.Skip("it runs every example")
	}
	t.Parallel()
	for name, folder := range map[string]string{"README.md": t.TempDir(), "docs/trace.md": demoFolder(t), "docs/editing.md": demoFolder(t), "docs/reach.md": demoFolder(t)} {
		text := page(t, name)
		if !console.MatchString(text) {
			t.Errorf("%s has no commands", name)
		}
		updated := console.ReplaceAllStringFunc(text, func(block string) string {
			var b strings.Builder
			b.WriteString("```console\n")
			block = strings.TrimSuffix(strings.TrimPrefix(block, "```console"), "```")
			for part := range strings.SplitSeq(block, "\n$ ") {
				if strings.TrimSpace(part) == "" {
					continue
				}
				line, want, _ := strings.Cut(part, "\n")
				r := shell(t, folder, line)
				got := strings.TrimSpace(r.out + r.err)
				if !*update && !printsLike(got, want) {
					t.Errorf("%s: %s prints\n%s\nthe page says\n%s", name, line, got, want)
				}
				fmt.Fprintf(&b, "$ %s\n", line)
				if got = shortened(got, want); got != "" {
					b.WriteString(got + "\n")
				}
			}
			return b.String() + "```"
		})
		if *update {
			if err := os.WriteFile(filepath.Join("../..", name), []byte(updated), 0o644); err != nil {
				t.Error(err)
			}
		}
	}
}

// shortened cuts an output where the page does.
func shortened(got, want string) string {
	want, cut := strings.CutSuffix(strings.TrimSpace(want), "\n...")
	lines := strings.Split(got, "\n")
	if n := strings.Count(want, "\n") + 1; cut && n < len(lines) {
		return strings.Join(lines[:n], "\n") + "\n..."
	}
	return got
}

// printsLike compares an output with what a page shows of it.
func printsLike(got, want string) bool {
	got = strings.TrimSpace(got)
	for i, part := range strings.Split("\n"+strings.TrimSpace(want), "\n...") {
		part = strings.TrimSpace(part)
		at := strings.Index(got, part)
		if at < 0 || i == 0 && at > 0 && part != "" {
			return false
		}
		got = got[at+len(part):]
	}
	return strings.HasSuffix(strings.TrimSpace(want), "...") || strings.TrimSpace(got) == ""
}

// Every picture is linked from the README, and every link leads somewhere.
func TestLinksOfTheREADMELeadSomewhere(t *testing.T) {
	text := page(t, "README.md")
	for _, m := range regexp.MustCompile(`\]\(([^)#]+)\)`).FindAllStringSubmatch(text, -1) {
		if _, err := os.Stat(filepath.Join("../..", m[1])); err != nil {
			t.Error(err)
		}
	}
	pictures, _ := filepath.Glob("../../docs/screenshots/*.png")
	for _, p := range pictures {
		if !strings.Contains(text, "docs/screenshots/"+filepath.Base(p)) {
			t.Errorf("%s is not in the README", p)
		}
	}
}

// Tests that a page names are there.
func TestTestsInTheDocsAreThere(t *testing.T) {
	page, err := os.ReadFile("../../docs/port-mapping.md")
	if err != nil {
		t.Fatal(err)
	}
	var tests strings.Builder
	for _, pattern := range []string{"*_test.go", "../gateway/*_test.go", "../portmap/*_test.go", "../portmap/*/*_test.go"} {
		files, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		for _, file := range files {
			data, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			tests.Write(data)
		}
	}
	for _, name := range regexp.MustCompile("`(Test[A-Za-z0-9]+)`").FindAllStringSubmatch(string(page), -1) {
		if !strings.Contains(tests.String(), "func "+name[1]+"(") {
			t.Errorf("there is no %s", name[1])
		}
	}
}

func TestEveryFindingIsInTheDocs(t *testing.T) {
	text := page(t, "docs/reach.md")
	for _, f := range network.FindingKinds() {
		if line := fmt.Sprintf("| `%s` | %s | %s |", f, f.Severity(), f.Why()); !strings.Contains(text, line) {
			t.Errorf("missing in docs/reach.md: %s", line)
		}
	}
}
