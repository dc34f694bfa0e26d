package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// What a gateway remembers is written to a file while it runs, and is there again when it is restored: on the same gateway after more
// happened, and on a new one. What is no backup of it changes nothing.
func TestABackupIsRestored(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", edge)
	started(t, folder, "hollowbridge gateway rim -state state -on simulated")
	does := func(line string, wants ...string) {
		t.Helper()
		r := shell(t, folder, "hollowbridge "+line)
		for _, want := range wants {
			if r.status != 0 || !strings.Contains(spaced(r.out+r.err), want) {
				t.Fatalf("%s: %+v, without %q", line, r, want)
			}
		}
	}
	refuses := func(line, want string) {
		t.Helper()
		if r := shell(t, folder, "hollowbridge "+line); r.status != 2 || !strings.Contains(spaced(r.err), want) {
			t.Errorf("%s: %+v, without %q", line, r, want)
		}
	}
	does("apply -yes -note first", "rim runs revision 1")
	does("send internet rim:fibre https -count 20", "20 connections sent")
	does("backup one.state", "one.state: the state of rim, with revision 1 in force")
	if info, err := os.Stat(filepath.Join(folder, "one.state")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info, err)
	}
	refuses("backup one.state", "is there already, and is left alone")
	write(t, folder, "hollowbridge.yaml", strings.Replace(edge, "service: https, log: true}]", "service: ssh, log: true}]", 1))
	does("apply -yes -note second", "rim runs revision 2")
	does("restore one.state -dry-run", "revision 1 in force", "against rim@2", "opens everybody -> 198.51.100.18 tcp/443", "nothing is changed")
	does("history", "2 *")
	does("restore one.state -yes", "restored rim runs revision 1")
	has := func() {
		t.Helper()
		does("history", "1 *", "first")
		does("hits", "port-forward web 20 0 0")
		does("log", "revision 1, by", "passes")
		if r := run(t, folder, "history"); strings.Contains(r.out, "second") {
			t.Error(r)
		}
	}
	has()
	if _, err := os.Stat(filepath.Join(folder, "state", "before-restore.sqlite")); err != nil {
		t.Error(err)
	}
	does("apply -yes", "rim runs revision 2") // it goes on
	write(t, folder, "hollowbridge.yaml", strings.Replace(edge, "service: https, log: true}]", "service: http, log: true}]", 1))
	does("apply -yes -for 10m -note trial", "rim runs revision 3")
	refuses("restore one.state -yes", "is on trial and goes back to 2")
	does("revert 2 -yes", "rim")
	refuses("backup nowhere/one.state", "nowhere: no file can be made in this folder")
	write(t, folder, "garbage", "not a backup")
	refuses("restore garbage -yes", "garbage: this is no backup")
	refuses("restore nothing -yes", "nothing: no such file")
	data, err := os.ReadFile(filepath.Join(folder, "one.state"))
	if err != nil {
		t.Fatal(err)
	}
	for _, at := range []int{len(data) / 3, len(data) / 2, len(data) - 5000} { // it is looked at as a whole before it is taken
		damaged := append([]byte{}, data...)
		for k := range 600 {
			damaged[at+k] ^= 0xa5
		}
		write(t, folder, "damaged", string(damaged))
		if r := run(t, folder, "restore", "damaged", "-yes"); r.status == 0 {
			has() // what was damaged is nowhere used
		}
		does("history", " *")
	}
	other := t.TempDir()
	write(t, other, "hollowbridge.yaml", edge)
	write(t, other, "one.state", string(data))
	started(t, other, "hollowbridge gateway rim -state state -on simulated")
	folder = other
	does("restore one.state -yes", "nothing is in force there yet", "restored rim runs revision 1")
	time.Sleep(50 * time.Millisecond)
	has()
	two := t.TempDir()
	write(t, two, "hollowbridge.yaml", twoEdges)
	write(t, two, "one.state", string(data))
	started(t, two, "hollowbridge gateway keep -state keep -on simulated")
	started(t, two, "hollowbridge gateway rim -state rim -on simulated")
	folder = two
	refuses("backup two.state", "one of keep, rim, named with -gateway")
	refuses("restore one.state -gateway keep", "one.state is a backup of rim, not of keep")
}
