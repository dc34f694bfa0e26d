package cli_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"hollowbridge/internal/cli"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"
)

// Whatever a person types, the program answers with 0, 1 or 2 and never falls over.
func TestAnyWordsAreAnswered(t *testing.T) {
	t.Parallel()
	folder := demoFolder(t)
	words := []string{"trace", "show", "check", "help", "add", "change", "move", "remove", "enable", "disable", "init", "version", "demo",
		"archive", "rim:fibre", "rim", "internet", "fronts", "https", "icmp", "any", "tcp/0", "tcp/443", "port-forward", "allow", "camera", "before", "after",
		"-json", "-f", "-6", "-in", "-at", "-after", "-sport", "-dry-run", "-gateway", "-on", "fibre", "-to", "-from", "-service", "--", "-", "", "=", "a=b", "to=", "note=x",
		"198.51.100.18", "2001:db8::1", "10.0.0.0/8", "rule", "map", "rules", "\x00", "é", strings.Repeat("x", 5000), "mon 14:00", "[", "]", "except"}
	random := rand.New(rand.NewPCG(11, 12))
	for range netfiletest.Few(250, 20) {
		var args []string
		for range 1 + random.IntN(7) {
			args = append(args, words[random.IntN(len(words))])
		}
		if slices.Contains(args, "\x00") {
			continue // the system itself does not take it
		}
		args = append(args, "-dry-run")
		if args[0] != "add" && args[0] != "change" && args[0] != "move" && args[0] != "remove" && args[0] != "enable" && args[0] != "disable" && args[0] != "init" {
			args = args[:len(args)-1]
		}
		if args[0] == "demo" {
			continue // it would write folders of these names
		}
		r := run(t, folder, args...)
		if r.status < 0 || r.status > 2 || strings.Contains(r.err, "panic") || strings.Contains(r.err, "goroutine") {
			t.Fatalf("%q: %d\n%s%s", args, r.status, r.out, r.err)
		}
		if r.status == 2 && r.err == "" {
			t.Errorf("%q fails without a word", args)
		}
	}
}

// kill -9 in the middle of an edit leaves a whole file, the old one or the new.
func TestAKilledEditLeavesAWholeFile(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits")
	}
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", edited)
	random := rand.New(rand.NewPCG(3, 1))
	for i := range 40 {
		command := exec.Command(program, "add", "service", fmt.Sprintf("s%d", i), "tcp/7000")
		command.Dir = folder
		if err := command.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(random.IntN(6000)) * time.Microsecond)
		command.Process.Kill()
		command.Wait()
		if r := run(t, folder, "show"); r.status != 0 {
			t.Fatalf("after kill %d: %s", i, r.err)
		}
	}
	must(t, folder, "hollowbridge add service last tcp/7000")
}

// Hostile files are refused quickly and in words.
func TestHostileFiles(t *testing.T) {
	if testing.Short() {
		t.Skip("it reads much")
	}
	t.Parallel()
	folder := t.TempDir()
	for name, text := range map[string]string{
		"bomb":       "a: &a [x, x]\nb: &b [*a, *a]\nc: &c [*b, *b]\nnetwork: x\n",
		"deep":       "network: " + strings.Repeat("[", 100000),
		"binary":     "\x00\x01\x02\xff\xfe",
		"long line":  "network: " + strings.Repeat("x", 1<<20),
		"many keys":  "network: x\n" + strings.Repeat("y: z\n", 50000),
		"raw escape": "network: x\n# \x1b[2J\nhosts: [\n",
		"escapes":    "network: \"\\x1b[2J\"\nhosts: {\"\\x1b[31m\": {address: 10.0.0.1}}\n",
	} {
		write(t, folder, "hollowbridge.yaml", text)
		start := time.Now()
		r := run(t, folder, "check")
		if r.status != 2 || strings.Contains(r.err, "\x1b") || strings.Contains(r.err, "panic") {
			t.Errorf("%s: %d\n%.500q", name, r.status, r.err)
		}
		if took := time.Since(start); took > 10*time.Second {
			t.Errorf("%s took %v", name, took)
		}
	}
	if r := run(t, folder, "check", "-f", "/dev/zero"); r.status != 2 || !strings.Contains(r.err, "larger than 64 MiB") {
		t.Errorf("%d %s", r.status, r.err)
	}
	if r := run(t, folder, "check", "-f", folder); r.status != 2 || !strings.Contains(r.err, "directory") {
		t.Errorf("%d %s", r.status, r.err)
	}
}

// Each JSON output has the fields that others may rely on, and lists are never null.
func TestJSONShapes(t *testing.T) {
	if testing.Short() {
		t.Skip("it asks much")
	}
	t.Parallel()
	folder := demoFolder(t)
	for line, fields := range map[string]string{
		"trace internet rim:fibre https -json": "after answered at candidates connection delivered host near next otherwise outcome repairs rule steps told why",
		"show -json":                           "gateways groups hosts network services",
		"check -json":                          "errors file findings",
		"disable weather-page -dry-run -json":  "difference effects file remarks written",
		"remove weather-test -dry-run -json":   "difference effects file remarks written",
		"init other -f x.yaml -outside 192.0.2.1/24 -inside 10.0.0.1/8 -dry-run -json": "difference effects file remarks written",
	} {
		r := shell(t, folder, "hollowbridge "+line)
		var got map[string]any
		if err := json.Unmarshal([]byte(r.out), &got); err != nil {
			t.Errorf("%s: %v\n%s%s", line, err, r.out, r.err)
			continue
		}
		var names []string
		for name, v := range got {
			names = append(names, name)
			if v == nil && name != "answered" && name != "delivered" {
				t.Errorf("%s: %s is null", line, name)
			}
		}
		slices.Sort(names)
		if strings.Join(names, " ") != fields {
			t.Errorf("%s has %s, want %s", line, names, fields)
		}
	}
	var rules []struct {
		Gateway string
		Rule    struct{ Name, Kind string }
		Facts   []struct{ What, Text string }
	}
	if err := json.Unmarshal([]byte(shell(t, folder, "hollowbridge show rule archive-web -json").out), &rules); err != nil || len(rules) != 2 || rules[0].Rule.Kind != "port-forward" {
		t.Errorf("%v %+v", err, rules)
	}
}

// Each way in which a rule can nearly match is named.
func TestNearMisses(t *testing.T) {
	t.Parallel()
	const forward = `      - {port-forward: f, on: fibre, service: https, to: archive}`
	for _, c := range []struct{ what, nat, filter, trace, want string }{
		{"port", forward, "", "internet rim:fibre http", `"differs": "port"`},
		{"protocol", forward, "", "internet rim:fibre udp/443", `"differs": "protocol"`},
		{"from", `      - {port-forward: f, on: fibre, service: https, to: archive, from: 203.0.113.0/24}`, "", "192.0.2.1 rim:fibre https", `"differs": "from"`},
		{"to", `      - {port-forward: f, on: fibre, at: 198.51.100.19, service: https, to: archive}`, "", "internet rim:fibre https", `"differs": "to"`},
		{"interface", `      - {port-forward: f, on: fibre, at: 10.61.8.1, service: https, to: archive}`, "", "desk 10.61.8.1 https", `"differs": "interface"`},
		{"disabled", `      - {port-forward: f, on: fibre, service: https, to: archive, disabled: true}`, "", "internet rim:fibre https", `"differs": "disabled"`},
		{"filter from", forward, `      - {allow: a, from: 203.0.113.0/24, to: archive}`, "192.0.2.1 rim:fibre https", `"differs": "from"`},
		{"filter to", forward, `      - {allow: a, to: notice}`, "internet rim:fibre https", `"differs": "to"`},
		{"filter port", forward, `      - {allow: a, to: archive, service: http}`, "internet rim:fibre https", `"differs": "port"`},
		{"filter source port", forward, `      - {allow: a, to: archive, source-ports: 1-1023}`, "internet rim:fibre https", `"differs": "source port"`},
		{"filter time", forward, `      - {allow: a, to: archive, when: {days: sat}}`, `internet rim:fibre https -at "mon 12:00"`, `"differs": "time"`},
		{"order", forward, "      - {drop: d}\n      - {allow: a, to: archive}", "internet rim:fibre https", `"differs": "order"`},
		{"side", forward, `      - {allow: a, to: "rim:fibre", service: https}`, "internet rim:fibre https", `"differs": "side of the translation"`},
	} {
		folder := t.TempDir()
		write(t, folder, "hollowbridge.yaml", buildHouse("", c.nat, c.filter))
		if r := shell(t, folder, "hollowbridge trace -json "+c.trace); r.status != 1 || !strings.Contains(r.out, c.want) {
			t.Errorf("%s: %s is missing in\n%s%s", c.what, c.want, r.out, r.err)
		}
	}
}

// The program stands alone: it needs no other file and no network to run.
func TestOneTraceOfTheDemoFolderWithNothingElse(t *testing.T) {
	folder := demoFolder(t)
	if err := os.Remove(filepath.Join(folder, "fronts.txt")); err != nil {
		t.Fatal(err)
	}
	r := run(t, folder, "trace", "internet", "rim:fibre", "https")
	wantStatus(t, r, 2)
	wantIn(t, r.err, "fronts.txt: the list cannot be read", "hollowbridge.yaml:11:18")
}

// Long work says on a terminal how far it is, and leaves nothing of that behind.
func TestLongWorkShowsProgressOnATerminal(t *testing.T) {
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", gen.Large(1, 400))
	for _, terminal := range []bool{true, false} {
		var out, err strings.Builder
		now := time.Date(2026, 1, 5, 12, 0, 0, 0, time.UTC)
		env := &cli.Environment{Out: &out, Err: &err, Progress: terminal, Getenv: func(string) string { return "" }, Now: func() time.Time {
			now = now.Add(patience)
			return now
		}}
		if status := cli.Run([]string{"reach", "-f", filepath.Join(folder, "hollowbridge.yaml")}, env); status != 0 {
			t.Fatalf("status %d: %s", status, err.String())
		}
		shown := strings.Count(err.String(), "kinds so far")
		if terminal && (shown == 0 || !strings.HasSuffix(err.String(), "\r\x1b[K")) || !terminal && err.Len() > 0 {
			t.Errorf("on a terminal %v: %q", terminal, err.String())
		}
		if strings.Contains(out.String(), "kinds so far") {
			t.Error("progress is among the results")
		}
	}
}

const patience = 2 * time.Second // longer than the program's

// A network file that comes through a pipe can be read once: it is answered for, without
// edits.
func TestAFileThroughAPipe(t *testing.T) {
	folder := demoFolder(t)
	text := strings.Replace(read(t, folder), "{file: fronts.txt}", "[203.0.113.16]", 1)
	for _, args := range [][]string{{"trace", "internet", "rim:fibre", "tcp/8081"}, {"check"}, {"reach"}, {"expect"}} {
		command := exec.Command(program, append(args, "-f", "/dev/stdin")...)
		command.Stdin = strings.NewReader(text)
		var stderr strings.Builder
		command.Stderr = &stderr
		out, err := command.Output()
		if _, exited := err.(*exec.ExitError); err != nil && (!exited || command.ProcessState.ExitCode() == 2) {
			t.Errorf("%v: %v %s", args, err, stderr.String())
		}
		if len(out) == 0 || strings.Contains(string(out), "tried on a copy") {
			t.Errorf("%v: %s", args, out)
		}
	}
}

// A command whose output is lost says so and fails, whatever it prints.
func TestLostOutputIsAnError(t *testing.T) {
	if testing.Short() {
		t.Skip("it walks the whole demo")
	}
	t.Parallel()
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Skip(err)
	}
	defer full.Close()
	readOnly, err := os.Open("/dev/null")
	if err != nil {
		t.Fatal(err)
	}
	defer readOnly.Close()
	folder := demoFolder(t)
	for _, line := range []string{"help", "help trace", "trace -h", "version", "show -json", "check", "reach -csv", "trace fronts rim:fibre https -json", "expect -tap"} {
		for _, out := range []*os.File{full, readOnly} {
			command := exec.Command(program, strings.Fields(line)...)
			command.Dir, command.Stdout = folder, out
			var stderr strings.Builder
			command.Stderr = &stderr
			command.Run()
			if command.ProcessState.ExitCode() != 2 || !strings.Contains(stderr.String(), "the output is lost") {
				t.Errorf("%s to %s: status %d, %q", line, out.Name(), command.ProcessState.ExitCode(), stderr.String())
			}
		}
	}
}

// Edits are made only to a regular file that may be written and has one name, and keep its
// mode; what comes by standard input is printed as edited.
func TestEditsKeepToRegularFiles(t *testing.T) {
	t.Parallel()
	folder := demoFolder(t)
	path := filepath.Join(folder, "hollowbridge.yaml")
	before := read(t, folder)
	refused := func(file, reason string) {
		t.Helper()
		r := run(t, folder, "disable", "allow", "clock", "-f", file)
		wantStatus(t, r, 2)
		wantIn(t, strings.Join(strings.Fields(r.err), " "), reason)
		if read(t, folder) != before {
			t.Errorf("%s: the file has changed", reason)
		}
	}
	if err := syscall.Mkfifo(filepath.Join(folder, "pipe"), 0o600); err != nil {
		t.Fatal(err)
	}
	refused("pipe", "this is no regular file")
	if info, err := os.Stat(filepath.Join(folder, "pipe")); err != nil || info.Mode()&os.ModeNamedPipe == 0 {
		t.Error("the pipe is gone")
	}
	refused("/dev/stdin", "this is no regular file")
	refused(folder, "this is a folder")
	if err := os.Link(path, filepath.Join(folder, "other.yaml")); err != nil {
		t.Fatal(err)
	}
	refused(path, "the file has 2 names (hard links)")
	os.Remove(filepath.Join(folder, "other.yaml"))
	os.Chmod(path, 0o440)
	refused(path, "the file is read-only")
	os.Chmod(path, 0o640)
	wantStatus(t, run(t, folder, "disable", "allow", "clock"), 0)
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("the mode is %v: %v", info.Mode(), err)
	}
	command := exec.Command(program, "enable", "allow", "clock", "-f", "-")
	command.Dir, command.Stdin = folder, strings.NewReader(read(t, folder))
	out, err := command.Output()
	if err != nil || string(out) != before {
		t.Errorf("standard input: %v\n%s", err, out)
	}
}

// The demo's folder is there whole or not at all.
func TestATornDemoLeavesNothing(t *testing.T) {
	if testing.Short() {
		t.Skip("it walks the whole demo")
	}
	folder := t.TempDir()
	command := exec.Command("/bin/sh", "-c", "ulimit -f 4; exec "+program+" demo there")
	command.Dir, command.Env = folder, []string{"HOME=" + folder}
	out, _ := command.CombinedOutput()
	if _, err := os.Stat(filepath.Join(folder, "there")); err == nil || command.ProcessState.ExitCode() == 0 {
		t.Errorf("a torn folder is left: %s", out)
	}
	wantStatus(t, run(t, folder, "demo", "there"), 0)
}

// What a command says about itself fits the screen, is the same however it is asked, and names no flag
// that it does not take.
func TestHelpIsRightForEachCommand(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	flag := regexp.MustCompile(`(?:^|[\s("])-([a-z0-9][a-z0-9-]*)`)
	overview := run(t, folder, "help").out
	names := regexp.MustCompile(`(?m)^  (\w+)  `).FindAllStringSubmatch(overview, -1)
	if len(names) < 10 {
		t.Fatalf("help lists %d commands:\n%s", len(names), overview)
	}
	for _, found := range names {
		name := found[1]
		r := run(t, folder, "help", name)
		wantStatus(t, r, 0)
		wantIn(t, r.out, "usage: hollowbridge "+name)
		for line := range strings.Lines(r.out) {
			if len([]rune(line)) > 101 && !strings.Contains(line, "hollowbridge "+name) { // a command is copied as one line
				t.Errorf("help %s: wider than 100 columns: %s", name, line)
			}
		}
		prose, flags, _ := strings.Cut(r.out, "\nflags:\n")
		_, prose, _ = strings.Cut(prose, "\nusage:")
		known := map[string]bool{}
		for _, line := range strings.Split(flags, "\n") {
			if word, found := strings.CutPrefix(line, "  -"); found {
				known[strings.Fields(word)[0]] = true
			}
		}
		for _, found := range flag.FindAllStringSubmatch(prose, -1) {
			if !known[found[1]] {
				t.Errorf("help %s names -%s, which is no flag of it", name, found[1])
			}
		}
		if !testing.Short() {
			if asked := run(t, folder, name, "-help"); asked.out != r.out || asked.status != 0 {
				t.Errorf("%s -help is not help %s: %s%s", name, name, asked.out, asked.err)
			}
		}
	}
}

// Outputs fit a narrow terminal and use a wide one; the widest lines are commands to copy.
func TestOutputsFitTheTerminal(t *testing.T) {
	if testing.Short() {
		t.Skip("it runs every example")
	}
	t.Parallel()
	folder := demoFolder(t)
	file := filepath.Join(folder, "hollowbridge.yaml")
	for _, width := range []int{60, 140, 80, 100} {
		for _, line := range []string{"check", "reach", "show gateways", "show rules", "show hosts", "show groups", "trace night-desk institute https", "trace internet rim:fibre tcp/8081", "expect", "compare OLD FILE"} {
			var out, err strings.Builder
			env := &cli.Environment{Out: &out, Err: &err, Width: width, Getenv: func(string) string { return "" }, Now: func() time.Time { return time.Date(2026, 1, 5, 12, 0, 0, 0, time.UTC) }}
			args := strings.Fields(line)
			if args[0] == "compare" {
				args = []string{"compare", file, file}
			} else {
				args = append(args, "-f", file)
			}
			if status := cli.Run(args, env); status == 2 {
				t.Fatalf("%s: %s", line, err.String())
			}
			widest := 0
			for _, l := range strings.Split(out.String(), "\n") {
				if n := len([]rune(l)); n > widest && !strings.Contains(l, file) {
					widest = n
				}
			}
			if widest > width {
				t.Errorf("%s is %d columns wide, of %d", line, widest, width)
			}
		}
	}
}
