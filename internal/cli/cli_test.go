package cli_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"hollowbridge/examples"
)

var update = flag.Bool("update", false, "rewrite the golden files")

// program is the built program, made once for all tests.
var program string

func TestMain(m *testing.M) {
	flag.Parse()
	flag.Set("test.parallel", "4") // they wait for packets, gateways and deadlines more than they compute
	os.Exit(build(m))
}

func build(m *testing.M) int {
	folder, err := os.MkdirTemp("", "hollowbridge-test")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(folder)
	program = filepath.Join(folder, "hollowbridge")
	// It is linked sooner without what debuggers read, and "go run" keeps what it has linked.
	command := exec.Command("go", "run", "-ldflags=-s -w", "-exec", "cp", "hollowbridge/cmd/hollowbridge", program)
	command.Env = append(os.Environ(), "CGO_ENABLED=0")
	if output, err := command.CombinedOutput(); err != nil {
		panic(string(output))
	}
	demo, err := fs.Sub(examples.Fernhollow, "fernhollow") // what demo writes, see TestDemoTellsItsStory
	if err == nil {
		err = os.CopyFS(filepath.Join(folder, "demo"), demo)
	}
	if err != nil {
		panic(err)
	}
	return m.Run()
}

// result is what a run of the program printed, and its exit status.
type result struct {
	out, err string
	status   int
}

// run runs the program in a folder, on a Monday afternoon of its own.
func run(t *testing.T, folder string, args ...string) result {
	t.Helper()
	return runWith(t, folder, nil, args...)
}

// runWith is run with more in the environment.
func runWith(t *testing.T, folder string, environment []string, args ...string) result {
	t.Helper()
	command := exec.Command(program, args...)
	command.Dir = folder
	command.Env = append([]string{"PATH=/nowhere", "HOME=" + folder, "TZ=UTC"}, environment...)
	var out, errs bytes.Buffer
	command.Stdout, command.Stderr = &out, &errs
	err := command.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return result{out.String(), errs.String(), command.ProcessState.ExitCode()}
}

// shell runs a line as a person types it: words with quotes around some.
func shell(t *testing.T, folder, line string) result {
	t.Helper()
	var args []string
	word, quote, open := "", rune(0), false
	for _, c := range line + " " {
		switch {
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '"' || c == '\''):
			quote, open = c, true
		case quote == 0 && c == ' ':
			if open {
				args = append(args, word)
			}
			word, open = "", false
		default:
			word, open = word+string(c), true
		}
	}
	if args[0] != "hollowbridge" {
		t.Fatalf("not a command of ours: %s", line)
	}
	return run(t, folder, args[1:]...)
}

// demoFolder writes the example network to a new folder.
func demoFolder(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	if err := os.CopyFS(folder, os.DirFS(filepath.Join(filepath.Dir(program), "demo"))); err != nil {
		t.Fatal(err)
	}
	return folder
}

func write(t *testing.T, folder, name, text string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// golden compares a text with a file in testdata.
func golden(t *testing.T, name, got string) {
	t.Helper()
	path := filepath.Join("testdata", name+".golden")
	if *update {
		if err := os.WriteFile(path, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	want, err := os.ReadFile(path)
	if err != nil {
		t.Fatalf("%v; go test ./internal/cli -update writes it", err)
	}
	if got != string(want) {
		t.Errorf("%s: the output has changed; go test ./internal/cli -update accepts it\n--- got\n%s\n--- want\n%s", name, got, want)
	}
}

func wantStatus(t *testing.T, r result, status int) {
	t.Helper()
	if r.status != status {
		t.Errorf("exit status %d, want %d\n%s%s", r.status, status, r.out, r.err)
	}
}

func wantIn(t *testing.T, text string, parts ...string) {
	t.Helper()
	for _, part := range parts {
		if !strings.Contains(text, part) {
			t.Errorf("%q is missing in:\n%s", part, text)
		}
	}
}

func TestDemoTellsItsStory(t *testing.T) {
	if testing.Short() {
		t.Skip("it walks the whole demo")
	}
	folder := t.TempDir()
	r := run(t, folder, "demo")
	wantStatus(t, r, 0)
	first, second, _ := strings.Cut(r.out, strings.Repeat("=", 100))
	golden(t, "demo", first)
	if was, is := read(t, demoFolder(t)), read(t, filepath.Join(folder, "fernhollow")); is != was {
		t.Error("what the demo leaves is not the example")
	}
	for _, want := range []string{
		"The gateways run, ", "applied  mill runs revision 1", "203.0.113.16:40001 198.51.100.18 tcp/443", "port-forward archive-web", "filter/archive-web",
		"broken  the fronts can read the archive", "sessions go on that the new rules would not have made so", "It goes back at", "2 sessions ended", "back to 1", "opened  198.51.100.18:20500", "not authorized", "spectro 10.61.8.52", "mapping/tcp/20500", "mapping tcp/20500", "taken away", "refused     -", "nothing of them is left",
	} {
		_, after, found := strings.Cut(second, want)
		if !found {
			t.Errorf("%q is missing, or not in its place, in\n%s", want, second)
			break
		}
		second = after
	}
	for i, line := range strings.Split(first, "\n") {
		if len([]rune(line)) > 100 {
			t.Errorf("line %d is wider than 100 columns: %s", i+1, line)
		}
	}
}

func TestDemoOverwritesNothing(t *testing.T) {
	if testing.Short() {
		t.Skip("it walks the whole demo")
	}
	folder := t.TempDir()
	write(t, folder, "fronts.txt", "192.0.2.1\n")
	r := run(t, folder, "demo", ".")
	wantStatus(t, r, 0)
	wantIn(t, r.out, "fronts.txt is there already")
	data, _ := os.ReadFile(filepath.Join(folder, "fronts.txt"))
	if string(data) != "192.0.2.1\n" {
		t.Errorf("fronts.txt was overwritten: %s", data)
	}
}

// Each golden holds whole outputs of commands on the demo, one after the other.
func TestOutputs(t *testing.T) {
	t.Parallel()
	folder := demoFolder(t)
	for name, lines := range map[string][]string{
		"trace": {
			"hollowbridge trace fronts rim:fibre https",
			"hollowbridge trace 203.0.113.99 rim:fibre https",
			"hollowbridge trace 203.0.113.70:51000 rim:fibre tcp/15900",
			"hollowbridge trace internet rim:fibre tcp/15900",
			"hollowbridge trace 192.0.2.200 rim:fibre udp/6980",
			"hollowbridge trace 192.0.2.9 rim:fibre udp/6980 -sport 7000",
			"hollowbridge trace night-desk rim:staff ssh",
			"hollowbridge trace internet rim:fibre icmp",
			"hollowbridge trace night-desk institute icmp -sport 77",
			"hollowbridge trace archive night-desk tcp/5900",
			"hollowbridge trace night-desk log-box syslog",
			"hollowbridge trace staff-nobody rim:fibre https",
			"hollowbridge trace night-desk 10.80.0.9 https",
			"hollowbridge trace archive 10.61.200.1 https",
			"hollowbridge trace telescope institute https -at 'mon 12:00'",
			"hollowbridge trace night-desk weather icmp",
			"hollowbridge trace institute rim:fibre smtp",
			"hollowbridge trace 2001:db8:f0::9 archive https",
			"hollowbridge trace internet archive https -6",
			"hollowbridge trace 10.61.8.77 10.61.8.200 http",
			"hollowbridge trace 10.61.24.5 10.99.0.1 https -in rim:staff",
		},
		"trace-json": {
			"hollowbridge trace fronts rim:fibre https -json",
			"hollowbridge trace internet rim:fibre http -json",
		},
		"show":  {"hollowbridge show", "hollowbridge show hosts", "hollowbridge show -json", "hollowbridge show rule archive-web", "hollowbridge show rule archve", "hollowbridge show rule camera -json"},
		"check": {"hollowbridge check", "hollowbridge check -json", "hollowbridge check -explain hidden-rule", "hollowbridge check -explain hiden-rule"},
		"reach": {
			"hollowbridge reach", "hollowbridge reach -from visitors", "hollowbridge reach -from any -to telescope", "hollowbridge reach -service ssh", "hollowbridge reach -csv",
			"hollowbridge reach -to archive -json", "hollowbridge reach -from nobody", "hollowbridge reach -at 'sun 03:00' -from visitors -to lapsed-passes",
		},
		"expect": {"hollowbridge expect", "hollowbridge expect -tap", "hollowbridge expect -junit", "hollowbridge expect -json"},
		"help":   {"hollowbridge help", "hollowbridge help trace", "hollowbridge help demo", "hollowbridge show -help"},
		"misused": {
			"hollowbridge trcae", "hollowbridge trace a", "hollowbridge trace nobody rim:fibre https", "hollowbridge trace zone rim:fibr https",
			"hollowbridge trace internet rim:fibre 443", "hollowbridge trace internet rim:fibre htps", "hollowbridge trace staff archive https",
			"hollowbridge trace internet internet https", "hollowbridge trace internet 198.51.100.18:443 https",
			"hollowbridge trace 10.200.0.1 archive https", "hollowbridge trace rim:staff archive https", "hollowbridge trace 127.0.0.1 archive https",
			"hollowbridge show walls", "hollowbridge show -f nowhere.yaml", "hollowbridge show -colour",
			"hollowbridge trace internet rim:fibre https -in keep", "hollowbridge trace internet rim:fibre https -at noon",
			"hollowbridge trace internet rim:fibre https -sport 0", "hollowbridge check more",
		},
	} {
		t.Run(name, func(t *testing.T) {
			if name == "check" && testing.Short() {
				t.Skip("it asks much")
			}
			var b strings.Builder
			for _, line := range lines {
				r := shell(t, folder, line)
				b.WriteString("$ " + line + "\n" + r.out + r.err + "[" + map[int]string{0: "0 yes", 1: "1 no", 2: "2 wrong"}[r.status] + "]\n\n")
			}
			golden(t, name, b.String())
		})
	}
}

// Every example that help prints runs as it stands on the demo.
func TestHelpExamplesRun(t *testing.T) {
	if testing.Short() {
		t.Skip("it runs every example")
	}
	t.Parallel()
	top := t.TempDir()
	if r := run(t, top, "demo"); r.status != 0 {
		t.Fatal(r.err)
	}
	folder := filepath.Join(top, "fernhollow")
	overview := run(t, folder, "help").out
	for _, m := range regexp.MustCompile(`(?m)^  (\w+) +`).FindAllStringSubmatch(overview, -1) {
		help := run(t, folder, "help", m[1]).out
		_, examples, _ := strings.Cut(help, "examples:\n")
		for line := range strings.Lines(examples) {
			line = strings.TrimSpace(line)
			where := folder
			if strings.Contains(line, "fernhollow/") {
				where = top
			}
			if r := shell(t, where, line); r.status == 2 {
				t.Errorf("%s: %s%s", line, r.out, r.err)
			}
		}
	}
}

func TestEveryErrorIsShownAtOnceWithItsLine(t *testing.T) {
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", brokenFile)
	r := run(t, folder, "check")
	wantStatus(t, r, 2)
	if r.out != "" {
		t.Errorf("errors belong on standard error, not: %s", r.out)
	}
	golden(t, "errors", r.err)
	r = run(t, folder, "check", "-json")
	wantStatus(t, r, 2)
	var found struct{ Errors []struct{ Line, Column int } }
	if err := json.Unmarshal([]byte(r.out), &found); err != nil || len(found.Errors) != strings.Count(brokenFile, "# wrong") {
		t.Errorf("%v: %d errors in JSON, want %d", err, len(found.Errors), strings.Count(brokenFile, "# wrong"))
	}
}

const brokenFile = `network: cottage
groups:
  fronts: [203.0.113.64/27, 203.0.113.9-203.0.113.4] # wrong: backwards
hosts:
  archive: {address: 10.61.24.5, serves: [https, tcp/99999]} # wrong: port
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      yard: {address: 10.61.24.1/28, zone: yard, colour: green} # wrong: key
    routes:
      - {to: default, via: 198.51.100.17}
    nat:
      - port-forward: archive-web
        on: fibr # wrong: interface
        service: https
        to: archve # wrong: host
      - port-forward: cameras # wrong: bound to no interface
        service: tcp/554
        to: archive
    filter:
      - alow: archive-web # wrong: verb
        from: fronts
`

func TestTheFileIsFoundByFlagVariableAndDefault(t *testing.T) {
	folder := demoFolder(t)
	if err := os.Rename(filepath.Join(folder, "hollowbridge.yaml"), filepath.Join(folder, "other.yaml")); err != nil {
		t.Fatal(err)
	}
	r := run(t, folder, "check")
	wantStatus(t, r, 2)
	wantIn(t, r.err, "there is no hollowbridge.yaml here", "-f FILE")
	wantStatus(t, run(t, folder, "-f", "other.yaml"), 2)
	wantStatus(t, run(t, folder, "show", "-f", "other.yaml"), 0)
	command := exec.Command(program, "show")
	command.Dir, command.Env = folder, []string{"HOLLOWBRIDGE_FILE=other.yaml"}
	if out, err := command.CombinedOutput(); err != nil {
		t.Errorf("%v: %s", err, out)
	}
}

func TestFlagsMayStandBeforeOrAfterArguments(t *testing.T) {
	folder := demoFolder(t)
	before := run(t, folder, "trace", "-json", "-sport", "5", "fronts", "rim:fibre", "https")
	after := run(t, folder, "trace", "fronts", "rim:fibre", "https", "-sport=5", "-json")
	if before != after || before.status != 0 {
		t.Errorf("before: %v\nafter: %v", before, after)
	}
}

func TestJSONOfATraceHasTheDocumentedFields(t *testing.T) {
	folder := demoFolder(t)
	r := run(t, folder, "trace", "remote-observers", "rim:fibre", "tcp/15900", "-json")
	var got struct {
		Connection          struct{ From, To, Protocol string }
		Outcome, Host, At   string
		Delivered, Answered struct{ From, To string }
		Steps               []struct{ At, Step, Rule, Text string }
		Near                []struct{ Rule, Differs string }
	}
	if err := json.Unmarshal([]byte(r.out), &got); err != nil {
		t.Fatal(err)
	}
	if got.Outcome != "reached" || got.Host != "night-desk" || got.Delivered.To != "127.0.0.1:5900" || got.Answered.From != "198.51.100.18:15900" {
		t.Errorf("%+v", got)
	}
}

func TestColoursOnlyOnATerminal(t *testing.T) {
	folder := demoFolder(t)
	for _, args := range [][]string{{"show"}, {"trace", "internet", "rim:fibre", "https"}} {
		if r := run(t, folder, args...); strings.Contains(r.out+r.err, "\x1b") {
			t.Errorf("%v: escape sequences without a terminal", args)
		}
	}
}
