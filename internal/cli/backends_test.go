package cli_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
	"unicode"
)

// A shop is a place in which commands find running gateways.
type shop struct {
	t      *testing.T
	folder string
	does   func(line string) result // runs a command there
}

// simulatedShop has a simulated gateway, with the network applied.
func simulatedShop(t *testing.T, folder string) *shop {
	started(t, folder, "hollowbridge gateway rim -state state -on simulated")
	s := &shop{t, folder, func(line string) result { return shell(t, folder, line) }}
	s.want("hollowbridge apply -yes", "applied  rim runs revision 1")
	return s
}

// kernelShop is a shell in a lab, whose gateways are on the kernel.
func kernelShop(t *testing.T, folder string) *shop { return kernelShopAt(t, folder, "internet") }

// kernelShopAt is kernelShop at a machine.
func kernelShopAt(t *testing.T, folder, machine string) *shop {
	command := exec.Command(program, "lab", machine, "--", "/bin/sh")
	command.Dir, command.Env = folder, []string{"PATH=/nowhere", "HOME=" + folder, "TZ=UTC"}
	command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	in, err := command.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := command.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	var errs strings.Builder
	command.Stderr = &errs
	if err := command.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewReader(out)
	does := func(line string) result {
		t.Helper()
		fmt.Fprintf(in, "%s 2>&1; echo; echo \"== $?\"\n", strings.Replace(line, "hollowbridge", program, 1))
		var text strings.Builder
		for {
			next, err := lines.ReadString('\n')
			if err != nil {
				t.Fatalf("%s: the lab has ended: %v %s", line, err, errs.String())
			}
			if status, ok := strings.CutPrefix(strings.TrimSpace(next), "== "); ok {
				n, _ := strconv.Atoi(status)
				return result{out: text.String(), status: n}
			}
			text.WriteString(next)
		}
	}
	t.Cleanup(func() {
		in.Close()
		io.Copy(io.Discard, out)
		if err := command.Wait(); err != nil {
			t.Errorf("the lab ends with %v %s", err, errs.String())
		}
	})
	return &shop{t, folder, does}
}

// soon are commands that may say a moment later what has come.
var soon = regexp.MustCompile("^hollowbridge (hits|log|history|mapping list)")

// want runs a command and looks for parts in what it prints, whatever the spaces and line ends.
func (s *shop) want(line string, parts ...string) {
	s.t.Helper()
	var r result
	for until := time.Now().Add(3 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		r = s.does(line)
		rest, all := spaced(r.out+r.err), true
		for _, part := range parts {
			_, after, found := strings.Cut(rest, spaced(part))
			rest, all = after, all && found
		}
		if all {
			return
		}
		if time.Now().After(until) || !soon.MatchString(line) {
			break
		}
	}
	s.t.Errorf("%s: %q is missing in\n%s%s", line, parts, r.out, r.err)
}

// What an administrator types comes out alike, whatever the gateway runs on.
func TestCommandsDoTheSameOnBothBackends(t *testing.T) {
	if testing.Short() {
		t.Skip("it builds networks on the kernel")
	}
	t.Parallel()
	for name, open := range map[string]func(*testing.T, string) *shop{"simulated": simulatedShop, "kernel": kernelShop} {
		t.Run(name, func(t *testing.T) {
			folder := t.TempDir()
			write(t, folder, "hollowbridge.yaml", edge)
			write(t, folder, "next.yaml", strings.Replace(edge, "allow: web", "drop: web", 1))
			if name == "kernel" {
				if r := run(t, folder, "lab", "--", "hollowbridge", "version"); strings.Contains(r.err, "does not let you make a network") {
					t.Skip("SKIPPED: " + r.err)
				}
			}
			s := open(t, folder)
			s.want("hollowbridge apply -yes", "nothing differs: rim runs this as revision 1")
			s.want("hollowbridge trace internet rim:fibre https -live", "as it runs: rim@1, 0 sessions", "reached archive")
			s.want("hollowbridge send internet rim:fibre https -count 5", "5  ", "5 connections sent")
			s.want("hollowbridge send 192.0.2.9 rim:fibre ssh -count 2 -rate 20", "2  ", "2 connections sent")
			s.want("hollowbridge sessions -service https", ":40000 198.51.100.18 tcp/443", "closing", "= 10.61.24.5:443", "outside to yard", "web", "5 sessions")
			s.want("hollowbridge sessions -to archive -port 40003", ":40003 198.51.100.18 tcp/443", "1 session")
			s.want("hollowbridge hits", "nat 1 port-forward web 5 5 0", "filter 1 allow web 5 5 0", "2 rules, 0 never hit")
			s.want("hollowbridge log -rule filter/web", "passes filter/web fibre", "tcp/443", "(the rule says allow)")
			s.want("hollowbridge log -outcome itself", "itself - fibre", "192.0.2.9:4000", "198.51.100.18 tcp/22", "(nothing redirects or serves it)")
			s.want("hollowbridge log -sum", "outcomes", "passes 5", "itself 2", "not open tcp/22 2")
			s.want("hollowbridge apply -yes -dry-run -f next.yaml", "against rim@1", "closes", "5 sessions go on that the new rules would not have made so", "nothing is changed")
			s.want("hollowbridge apply -yes -note closed -by ada -f next.yaml", "applied rim runs revision 2")
			s.want("hollowbridge send internet rim:fibre https -sport 41000", "")
			s.want("hollowbridge hits", "nat 1 port-forward web 6 5 1", "filter 1 drop web 6")
			s.want("hollowbridge sessions -address archive", "5 sessions")
			s.want("hollowbridge revert 1 -yes -clear", "against rim@2", "opens", "applied rim runs revision 3")
			s.want("hollowbridge sessions -rule nat/web", "5 sessions")
			s.want("hollowbridge sessions -clear -rule web", "rim 5 sessions ended")
			s.want("hollowbridge sessions -address archive", "no session matches")
			s.want("hollowbridge apply -yes -for 1s -f next.yaml", "applied rim runs revision 4", "It goes back at")
			time.Sleep(1500 * time.Millisecond)
			s.want("hollowbridge history", "5 *", "back from 4, which was not kept in time", "back to 1", "ada", "closed")
			s.want("hollowbridge log -trial nat/web -for 1m", "rim logs nat/web until")
			s.want("hollowbridge send internet rim:fibre https -sport 42000", "")
			s.want("hollowbridge log -rule web -top 5", ":42000")
			s.want("hollowbridge send 192.0.2.33 rim:fibre https -count 2 -bytes 60000", "2 ", "2 connections sent")
			s.want("hollowbridge sessions -from 192.0.2.33", "192.0.2.33:4000", "kB", "kB", "2 sessions")
			if name == "kernel" { // a shell
				s.want("hollowbridge send 192.0.2.33 rim:fibre https -sport 43000 -count 3 -hold -bytes 3000 >held 2>&1 & /bin/sleep 1; "+program+" sessions -from 192.0.2.33 -port 43001; kill $!; wait; /bin/cat held",
					"192.0.2.33:43001", "established", "1 session", "3 connections are open", "3 connections sent")
			}
			s.want("hollowbridge hits -reset", "rim counts from nothing")
			s.want("hollowbridge hits -never", "2 rules, 2 never hit")
		})
	}
}

// What is watched is shown anew every second, until ^C.
func TestWhatIsWatchedIsShownAnew(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for running gateways")
	}
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", edge)
	simulatedShop(t, folder)
	for command, want := range map[string]string{"sessions": "no session matches", "hits": "2 rules, 2 never hit"} {
		watch := exec.Command(program, command, "-watch")
		watch.Dir, watch.Env = folder, []string{"HOME=" + folder, "TZ=UTC"}
		var out strings.Builder
		watch.Stdout = &out
		if err := watch.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(3500 * time.Millisecond)
		watch.Process.Signal(os.Interrupt)
		if err := watch.Wait(); err != nil {
			t.Errorf("%s: ^C: %v", command, err)
		}
		if n := strings.Count(out.String(), want); n < 2 || n > 5 {
			t.Errorf("%s: shown %d times in 3.5 s\n%s", command, n, out.String())
		}
	}
}

// Where a gateway fails to commit what it was ready for, those before it go back.
func TestWhereOneFailsInBetweenTheOthersGoBack(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", twoEdges)
	started(t, folder, "hollowbridge gateway keep -state state -on simulated")
	listener, err := net.Listen("unix", filepath.Join(folder, "rim.sock"))
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	go http.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/v1/status":
			fmt.Fprint(w, `{"gateway": "rim", "on": "kernel", "revision": null}`)
		case "/v1/prepare":
			fmt.Fprint(w, `{"token": "x", "notes": [], "first": []}`)
		default:
			w.WriteHeader(http.StatusInternalServerError)
			fmt.Fprint(w, `{"error": "the kernel does not take the rules"}`)
		}
	}))
	r := run(t, folder, "apply", "-yes")
	if r.status != 2 || !strings.Contains(r.err, "keep is back at what it ran before") || !strings.Contains(r.err, "rim: the kernel does not take the rules") || strings.Contains(r.out, "applied") {
		t.Errorf("%+v", r)
	}
	r = run(t, folder, "history", "-gateway", "keep")
	if !strings.Contains(spaced(r.out), "2 *") || !strings.Contains(r.out, "rim did not follow") || !strings.Contains(r.out, "empty") {
		t.Errorf("%+v", r)
	}
	if r := run(t, folder, "hits", "-gateway", "keep"); !strings.Contains(r.out, "0 rules, 0 never hit") {
		t.Errorf("%+v", r)
	}
}

// What a gateway answers can't steer the terminal on which it is shown, in no command, nor in errors.
func TestAGatewayDoesNotWriteToTheTerminal(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", twoEdges)
	listener, err := net.Listen("unix", filepath.Join(folder, "rim.sock"))
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	const evil = `\u001b]0;gone\u0007\u001b[2J\u009b31m\u202egnp\u2028`
	go http.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch path := r.URL.Path; {
		case strings.HasPrefix(path, "/v1/revisions"):
			fmt.Fprint(w, strings.ReplaceAll(`[{"number": 1, "time": "2026-11-30T10:00:00Z", "author": "EVIL", "note": "EVIL"}]`, "EVIL", evil))
		case path == "/v1/status":
			fmt.Fprint(w, strings.ReplaceAll(`{"gateway": "rim", "on": "EVIL", "revision": {"number": 1, "author": "EVIL"}}`, "EVIL", evil))
		case path == "/v1/sessions":
			fmt.Fprint(w, strings.ReplaceAll(`{"sessions": [{"before": {"protocol": "EVIL"}, "in": "EVIL", "rules": ["EVIL"], "state": "EVIL"}], "total": 1}`, "EVIL", evil))
		case path == "/v1/log":
			fmt.Fprint(w, strings.ReplaceAll(`{"events": [{"kind": "EVIL", "rule": "EVIL", "in": "EVIL", "text": "EVIL"}]}`, "EVIL", evil))
		default:
			w.WriteHeader(http.StatusInternalServerError)
			fmt.Fprint(w, strings.ReplaceAll(`{"error": "EVIL"}`, "EVIL", evil))
		}
	}))
	seen := 0
	for _, line := range []string{"history", "sessions", "log", "hits", "apply -yes", "history -json", "mapping list"} {
		r := run(t, folder, append(strings.Fields(line), "-gateway", "rim")...)
		all := r.out + r.err
		if strings.ContainsFunc(all, func(c rune) bool {
			return c != '\n' && c != '\t' && unicode.IsControl(c) || unicode.Is(unicode.Bidi_Control, c) || c == '\u2028'
		}) {
			t.Errorf("%s prints %q", line, all)
		}
		seen += strings.Count(all, `\u202e`)
	}
	if seen < 3 {
		t.Errorf("what was answered was shown %d times", seen)
	}
}
