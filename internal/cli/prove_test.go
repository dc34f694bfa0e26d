package cli_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// proves runs prove, and skips the test where the machine does not let it make namespaces.
func proves(t *testing.T, folder, line string) result {
	t.Helper()
	r := shell(t, folder, "hollowbridge prove "+line)
	if strings.Contains(r.err, "does not let you make a network") {
		t.Skip(r.err)
	}
	return r
}

func TestProveShowsThePacketsBesideTheTrace(t *testing.T) {
	if testing.Short() {
		t.Skip("it builds networks on the kernel")
	}
	t.Parallel()
	folder := demoFolder(t)
	for line, want := range map[string][]string{
		"fronts rim:fibre https":                   {"reached archive", "rim yard out 203.0.113.16:40000 -> 10.61.24.5:443 begins", "archive out", "meets an answer", "agrees"},
		"internet rim:fibre https":                 {"dropped at rim", "the client meets silence", "agrees"},
		"10.61.24.5 10.61.8.40 tcp/99":             {"rejected at rim", "meets a reset", "agrees"},
		"10.61.8.40 10.61.24.9 icmp":               {"absent at rim:yard", "unreachable, from 10.61.8.1: nobody has that address", "agrees"},
		"archive 203.0.113.200 https -6":           {"203.0.113.200"}, // it has no address of that family
		"fd61:0:0:8::7 2001:db8:f::9 https":        {"staff-v6 is left out"},
		"203.0.113.66 198.51.100.18 tcp/15900":     {"reached night-desk", "agrees"},
		"10.61.8.40 10.80.0.9 https":               {"reached lens-store", "172.23.9.1:40000 -> 10.99.0.9:8443", "agrees"},
		"10.61.64.9 192.0.2.77 domain -sport 5353": {"agrees"},
	} {
		r := proves(t, folder, line+` -at "mon 10:00"`)
		got := spaced(r.out + r.err)
		for _, w := range want {
			if !strings.Contains(got, w) {
				t.Errorf("%s: %q is missing in\n%s%s", line, w, r.out, r.err)
			}
		}
	}
	r := proves(t, folder, `fronts rim:fibre https -json`)
	var found struct {
		Cases []struct {
			Met  string
			Seen []struct{ At, Way string }
		}
	}
	if err := json.Unmarshal([]byte(r.out), &found); err != nil || len(found.Cases) != 1 || found.Cases[0].Met != "answered" || len(found.Cases[0].Seen) < 8 {
		t.Errorf("%v\n%s", err, r.out)
	}
	for _, bad := range []string{"fronts rim:fibre", "fronts nowhere https", "-sport 0", `-at noon`, "-against missing.yaml"} {
		if r := proves(t, folder, bad); r.status != 2 {
			t.Errorf("%s: exit status %d\n%s%s", bad, r.status, r.out, r.err)
		}
	}
}

// hamlet is a network so small that all of it is proved soon.
const hamlet = `network: hamlet
hosts:
  archive: {address: 10.61.24.5, serves: [https]}
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      yard: {address: 10.61.24.1/28, zone: yard}
    routes: [{to: default, via: 198.51.100.17}]
    nat: [{port-forward: web, on: fibre, service: https, to: archive}]
    filter: [{allow: web, from: outside, to: archive, service: https}]
expect:
  - {say: everybody reads the archive, from: internet, to: 'rim:fibre', service: https, reaches: archive}
`

func TestProveProvesTheWholeNetwork(t *testing.T) {
	if testing.Short() {
		t.Skip("it sends hundreds of connections")
	}
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", hamlet)
	r := proves(t, folder, "")
	wantStatus(t, r, 0)
	wantIn(t, r.out, "classes of connections", "agree with their trace", "holds", "everybody reads the archive", "all agree")
	wantIn(t, proves(t, folder, "-tap").out, "TAP version 13", "everybody reads the archive")
	wantIn(t, proves(t, folder, "-junit").out, "<testsuite", "everybody reads the archive")

	// A lab that is not as the file says.
	write(t, folder, "other.yaml", strings.Replace(hamlet, "allow: web", "drop: web", 1))
	r = proves(t, folder, "-against other.yaml")
	wantStatus(t, r, 1)
	wantIn(t, r.out, "the client meets silence, not an answer", "again     hollowbridge prove", "broken", "of")
}

// A lab needs no root, and leaves nothing behind when it is killed.
func TestALabNeedsNoRootAndLeavesNothing(t *testing.T) {
	if testing.Short() {
		t.Skip("it builds networks on the kernel")
	}
	t.Parallel()
	folder := demoFolder(t)
	proves(t, folder, "fronts rim:fibre https")
	before := namespaces(t)
	command := exec.Command(program, "prove")
	command.Dir = folder
	if os.Getuid() == 0 {
		if err := os.Chmod(filepath.Dir(program), 0o755); err != nil {
			t.Fatal(err)
		}
		os.Chmod(filepath.Dir(folder), 0o755)
		os.Chmod(folder, 0o755)
		command.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
	var said strings.Builder
	command.Stderr = &said
	if err := command.Start(); err != nil {
		t.Skip(err)
	}
	time.Sleep(1500 * time.Millisecond)
	command.Process.Kill()
	command.Wait()
	if strings.Contains(said.String(), "does not let you make") {
		t.Skip(said.String())
	}
	for range 50 {
		if after := namespaces(t); after <= before+60 { // other tests have labs of their own
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	t.Errorf("%d network namespaces before, %d after", before, namespaces(t))
}

// namespaces counts the network namespaces that processes of ours are in.
func namespaces(t *testing.T) int {
	t.Helper()
	links, err := filepath.Glob("/proc/*/task/*/ns/net")
	if err != nil {
		t.Fatal(err)
	}
	all := map[string]bool{}
	for _, l := range links {
		if to, err := os.Readlink(l); err == nil {
			all[to] = true
		}
	}
	return len(all)
}

func TestShowKernel(t *testing.T) {
	t.Parallel()
	folder := demoFolder(t)
	r := shell(t, folder, "hollowbridge show kernel keep")
	wantStatus(t, r, 0)
	wantIn(t, r.out, "step 3: destinations are translated", "IPv4 to 10.61.15.2 tcp port 80 -> nat/weather", "count filter/telescope pass")
	r = shell(t, folder, "hollowbridge show kernel rim")
	wantStatus(t, r, 1)
	wantIn(t, spaced(r.out), "prefix-nat staff-v6: the kernel can't translate prefixes")
	wantIn(t, shell(t, folder, "hollowbridge show kernel kep").err, "did you mean keep")
	for _, bad := range []string{"kernel", "kernel rim keep", "gateways -here", "kernel rim -here"} {
		wantStatus(t, shell(t, folder, "hollowbridge show "+bad), 2)
	}
	wantIn(t, shell(t, folder, "hollowbridge show kernel keep -json").out, `"gateway": "keep"`)
}
