package cli_test

import (
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// Between a command and its gateways, messages get lost, or the command is killed.
type between struct {
	sync.Mutex
	count, last int    // requests and answers; the number of the one that does not come through
	killed      func() // is called then
}

// pass ends the connection in place of the last message.
func (b *between) pass() {
	b.Lock()
	defer b.Unlock()
	if b.count++; b.count == b.last {
		b.killed()
		panic(http.ErrAbortHandler)
	}
}

// listen stands between a gateway and whoever asks for it.
func (b *between) listen(t *testing.T, folder, name string) {
	t.Helper()
	listener, err := net.Listen("unix", filepath.Join(folder, name+".sock"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { listener.Close() })
	proxy := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: name})
	proxy.Transport = &http.Transport{DisableKeepAlives: true, DialContext: func(context.Context, string, string) (net.Conn, error) {
		return net.Dial("unix", filepath.Join(folder, "real-"+name+".sock"))
	}}
	proxy.ErrorLog = log.New(io.Discard, "", 0)
	proxy.ModifyResponse = func(*http.Response) error { b.pass(); return nil }
	go http.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b.pass()
		proxy.ServeHTTP(w, r)
	}))
}

// runs returns what gateways run: by name the note of a revision, and how far its apply is.
func runs(t *testing.T, folder string) (notes, states map[string]string) {
	t.Helper()
	notes, states = map[string]string{}, map[string]string{}
	var histories []struct {
		Gateway   string
		Revisions []struct {
			Note    string
			Applied *struct{ State string }
		}
	}
	into(t, run(t, folder, "history", "-f", "real.yaml", "-json"), &histories)
	for _, h := range histories {
		if len(h.Revisions) == 0 {
			continue
		}
		r := h.Revisions[0]
		if notes[h.Gateway] = r.Note; r.Applied != nil {
			states[h.Gateway] = r.Applied.State
		}
	}
	return notes, states
}

// Whatever message of an apply is the last one, because the command is killed or the message gets lost: what only some gateways have is on
// lease there, or is finished by the next command.
func TestAnApplyIsWholeWhateverGetsLost(t *testing.T) {
	if testing.Short() {
		t.Skip("it applies some eighty times")
	}
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "real.yaml", strings.NewReplacer("rim.sock", "real-rim.sock", "keep.sock", "real-keep.sock").Replace(twoEdges))
	for _, name := range []string{"keep", "rim"} {
		started(t, folder, "hollowbridge gateway "+name+" -f real.yaml -state state-"+name+" -on simulated")
	}
	b := &between{}
	b.listen(t, folder, "keep")
	b.listen(t, folder, "rim")
	for _, kills := range []bool{true, false} {
		ended, parts := false, 0
		for last := 1; !ended; last++ {
			note := fmt.Sprintf("%v %d", kills, last)
			write(t, folder, "hollowbridge.yaml", twoEdges+"# "+note)
			command := exec.Command(program, "apply", "-yes", "-note", note)
			command.Dir, command.Env = folder, []string{"HOME=" + folder}
			var said strings.Builder
			command.Stdout, command.Stderr = &said, &said
			b.Lock()
			b.count, b.last, b.killed = 0, last, func() {
				if kills {
					command.Process.Kill()
				}
			}
			err := command.Start()
			b.Unlock()
			if err != nil {
				t.Fatal(err)
			}
			err = command.Wait()
			b.Lock()
			ended = b.count < last
			b.Unlock()
			time.Sleep(20 * time.Millisecond) // what is under way comes to its end
			notes, states := runs(t, folder)
			has := map[string]bool{"keep": notes["keep"] == note, "rim": notes["rim"] == note}
			where := fmt.Sprintf("kills %v, message %d: %v %v\n%s", kills, last, has, states, said.String())
			switch {
			case err == nil && (!has["keep"] || !has["rim"]):
				t.Fatalf("it is said to be applied: %s", where)
			case has["keep"] != has["rim"]:
				parts++
				for name := range has {
					if has[name] && states[name] != "leased" {
						t.Errorf("only %s has it, for good: %s", name, where)
					}
				}
			}
			if !has["keep"] && !has["rim"] {
				continue
			}
			if states["keep"] == "whole" && states["rim"] == "whole" {
				continue
			}
			if r := run(t, folder, "apply", "-finish", "-yes", "-f", "real.yaml"); r.status != 0 {
				t.Fatalf("finishing: %+v: %s", r, where)
			}
			notes, states = runs(t, folder)
			if notes["keep"] != note || notes["rim"] != note || states["keep"] != "whole" || states["rim"] != "whole" {
				t.Fatalf("finished, %v: %s", states, where)
			}
		}
		if parts == 0 && kills {
			t.Error("no message left one gateway alone with it")
		}
	}
	if r := run(t, folder, "apply", "-finish", "-yes", "-f", "real.yaml"); r.status != 1 || !strings.Contains(r.out, "nothing to finish") {
		t.Errorf("%+v", r)
	}
}

// What one gateway has for good and another never had is said by every command, with what can become of it.
func TestAPartialApplyIsSaid(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", twoEdges)
	for name, revision := range map[string]string{
		"keep": `{"number": 5, "time": "2026-11-30T10:00:00Z", "author": "ada", "applied": {"id": "x", "gateways": ["keep", "rim"], "state": "confirmed"}}`,
		"rim":  `{"number": 4, "time": "2026-11-30T09:00:00Z", "author": "ada", "applied": {"id": "w", "gateways": ["keep", "rim"], "state": "whole"}}`,
	} {
		listener, err := net.Listen("unix", filepath.Join(folder, name+".sock"))
		if err != nil {
			t.Fatal(err)
		}
		defer listener.Close()
		go http.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch path := r.URL.Path; {
			case path == "/v1/revisions":
				fmt.Fprint(w, "["+revision+"]")
			case path == "/v1/status":
				fmt.Fprintf(w, `{"gateway": %q, "revision": %s}`, name, revision)
			default:
				fmt.Fprint(w, `{}`)
			}
		}))
	}
	for _, line := range []string{"history", "sessions", "hits", "log"} {
		if r := run(t, folder, line); !strings.Contains(spaced(r.err), "The apply by ada at 2026-11-30 10:00:00 is not whole: keep runs it, rim does not. hollowbridge apply -finish puts it on all of them, hollowbridge revert takes it back.") {
			t.Errorf("%s: %+v", line, r)
		}
	}
	if r := run(t, folder, "status"); r.status != 1 || !strings.Contains(spaced(r.out), "keep the apply by ada at 2026-11-30 10:00:00 is not whole: rim does not run it; hollowbridge apply -finish") {
		t.Errorf("%+v", r)
	}
}
