package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Every repair that a stopped trace offers mends it: as a command that is typed, and
// with -repair. What it says it opens is what compare says.
func TestRepairsMendWhatTheySay(t *testing.T) {
	if testing.Short() {
		t.Skip("it makes many edits")
	}
	t.Parallel()
	offered := 0
	for _, trace := range []string{
		"internet rim:fibre tcp/8081", "remote-observers rim:fibre tcp/2222", "remote-observers rim:fibre tcp/8443", "internet rim:fibre https",
		"log-box rim:fibre rtsp", "telescope institute https -at 'mon 12:00'", "archive night-desk tcp/5901", "internet rim:fibre http", "internet rim:radio https",
	} {
		folder := demoFolder(t)
		before := read(t, folder)
		var got struct {
			Outcome string
			Repairs []struct {
				Command string
				Opens   []string
			}
		}
		r := shell(t, folder, "hollowbridge trace -json "+trace)
		if err := json.Unmarshal([]byte(r.out), &got); err != nil {
			t.Fatalf("%s: %v %s", trace, err, r.err)
		}
		for i, repair := range got.Repairs {
			offered++
			if len(repair.Opens) == 0 || repair.Opens[0] == "opens and closes nothing" {
				t.Errorf("%s: %s opens nothing?", trace, repair.Command)
			}
			write(t, folder, "hollowbridge.yaml", before)
			for part := range strings.SplitSeq(repair.Command, " && ") {
				must(t, folder, part)
			}
			if again := shell(t, folder, "hollowbridge trace "+trace); again.status != 0 {
				t.Errorf("%s: after %s:\n%s", trace, repair.Command, again.out)
			}
			typed := read(t, folder)
			write(t, folder, "hollowbridge.yaml", before)
			must(t, folder, fmt.Sprintf("hollowbridge trace %s -repair %d", trace, i+1))
			if read(t, folder) != typed {
				t.Errorf("%s: -repair %d is not what the command does:\n%s", trace, i+1, read(t, folder))
			}
		}
		write(t, folder, "hollowbridge.yaml", before)
		wantStatus(t, shell(t, folder, fmt.Sprintf("hollowbridge trace %s -repair %d", trace, len(got.Repairs)+1)), 2)
		if read(t, folder) != before {
			t.Errorf("%s: a repair that is not there has written", trace)
		}
	}
	if offered < 7 {
		t.Errorf("only %d repairs were offered", offered)
	}
}

// compare's exit status and its words, on two files.
func TestCompareSaysWhatAChangeOpens(t *testing.T) {
	if testing.Short() {
		t.Skip("it asks much")
	}
	t.Parallel()
	folder := demoFolder(t)
	write(t, folder, "old.yaml", read(t, folder))
	same := shell(t, folder, "hollowbridge compare old.yaml hollowbridge.yaml")
	wantStatus(t, same, 0)
	wantIn(t, same.out, "proven the same")
	must(t, folder, "hollowbridge change remote-observers members=203.0.113.64/27,192.0.2.9")
	r := shell(t, folder, "hollowbridge compare old.yaml hollowbridge.yaml")
	wantStatus(t, r, 1)
	wantIn(t, r.out, "newly reached", "192.0.2.9 to 198.51.100.18 tcp/15900", "is    reached night-desk, through night-desk", "no longer reached", "203.0.113.130 to 198.51.100.20 tcp/7624", "hollowbridge trace 192.0.2.9 198.51.100.18 tcp/15900")
	if x := shell(t, folder, "hollowbridge trace 192.0.2.9 198.51.100.18 tcp/15900"); x.status != 0 {
		t.Errorf("the example does not reach: %s", x.out)
	}
	wantStatus(t, shell(t, folder, "hollowbridge compare old.yaml nowhere.yaml"), 2)
	wantStatus(t, shell(t, folder, "hollowbridge compare old.yaml"), 2)
	wantIn(t, shell(t, folder, "hollowbridge compare old.yaml hollowbridge.yaml -json").out, `"change": "newly reached"`)
}

// A broken expectation shows a connection that breaks it, in every format.
func TestBrokenExpectationsShowACounterexample(t *testing.T) {
	t.Parallel()
	folder := demoFolder(t)
	write(t, folder, "hollowbridge.yaml", strings.Replace(read(t, folder), "    from: internet except fronts\n", "    from: internet\n", 1)+
		"  - {say: nothing is asked, from: 10.250.0.0/16, to: 10.250.0.1, stops: true}\n  - {say: the desk is closed, never: internet, reach: night-desk}\n")
	r := shell(t, folder, "hollowbridge expect")
	wantStatus(t, r, 1)
	wantIn(t, r.out, "broken    strangers cannot", "this one reaches archive", "hollowbridge trace 203.0.113.16 198.51.100.18 tcp/443", "about no connection at all", "6 expectations", "this one reaches night-desk")
	wantIn(t, shell(t, folder, "hollowbridge expect -tap").out, "1..6", "ok 1 - the fronts", "not ok 2 - strangers cannot", "trace: ")
	wantIn(t, shell(t, folder, "hollowbridge expect -junit").out, `failures="3"`, "<failure message=")
	wantIn(t, shell(t, folder, "hollowbridge expect -json").out, `"holds": false`)
}

// A repair that is printed can be typed where it was asked for, also for a file
// elsewhere, with a name a shell would take apart.
func TestPrintedRepairsCanBeTyped(t *testing.T) {
	if testing.Short() {
		t.Skip("it asks much")
	}
	t.Parallel()
	folder := demoFolder(t)
	inner := filepath.Join(folder, "our network")
	if err := os.Mkdir(inner, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"hollowbridge.yaml", "fronts.txt"} {
		if err := os.Rename(filepath.Join(folder, name), filepath.Join(inner, name)); err != nil {
			t.Fatal(err)
		}
	}
	const trace = "hollowbridge trace remote-observers rim:fibre tcp/2222 -f 'our network/hollowbridge.yaml'"
	stopped := shell(t, folder, trace)
	wantStatus(t, stopped, 1)
	_, text, _ := strings.Cut(stopped.out, "repair  1  ")
	text, _, _ = strings.Cut(text, "  opens ")
	for command := range strings.SplitSeq(strings.ReplaceAll(text, "\\\n", " "), "&&") {
		must(t, folder, strings.TrimSpace(command))
	}
	wantStatus(t, shell(t, folder, trace), 0)
}
