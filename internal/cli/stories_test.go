package cli_test

import (
	"bufio"
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// A story is a text file of what somebody does, and what must come of it:
//
//	file NAME          a file is written; its lines follow, each behind a bar
//	| text
//	change NAME: OLD => NEW
//	again NAME         the file is as it was written
//	unchanged NAME     it has to be so still, byte for byte
//	$ hollowbridge ... a command is run
//	> text             comes in what it prints, in this order, whatever the spaces and line ends
//	! text             does not come in what it prints
//	status N           is its exit status; 0 where nothing is said
//	start hollowbridge ...   a command is run beside, until stop or the end of the story
//	stop               what was started gets SIGTERM, and has to end well
//	after 1s           some time goes by
//
// Every other line is for the reader.
type story struct {
	t       *testing.T
	folder  string
	line    int
	file    string
	written map[string]string // each file as it was written
	ran     string
	result  result
	printed string // what is left of it
	status  int
	beside  []*beside
}

// longStory is how many commands a story has at most that -short takes.
const longStory = 12

// slow is in stories that take seconds.
var slow = regexp.MustCompile(`(?m)^(\$ hollowbridge prove|start |It takes a while\.)`)

func TestStories(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("testdata/stories/*.txt")
	if err != nil || len(files) == 0 {
		t.Fatal("there are no stories", err)
	}
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			if testing.Short() && (slow.Match(text) || strings.Count(string(text), "\n$ ") > longStory) {
				t.Skip("it waits for gateways, sends real packets, or takes long")
			}
			s := &story{t: t, folder: t.TempDir(), written: map[string]string{}}
			for i, line := range strings.Split(string(text), "\n") {
				s.line = i + 1
				s.tell(line)
			}
			s.finish()
			s.stop()
		})
	}
}

// A beside is a command that was started, and what it says.
type beside struct {
	*exec.Cmd
	line string
	errs bytes.Buffer
}

// started runs a command beside the test until it is stopped, and waits for its first line.
func started(t *testing.T, folder, line string) *beside {
	t.Helper()
	words := strings.Fields(line)
	b := &beside{Cmd: exec.Command(program, words[1:]...), line: line}
	b.Dir, b.Env, b.Stderr = folder, []string{"PATH=/nowhere", "HOME=" + folder, "TZ=UTC", "XDG_RUNTIME_DIR=" + folder}, &b.errs
	b.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := b.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := b.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := bufio.NewReader(out).ReadString('\n'); err != nil {
		b.Wait()
		t.Fatalf("%s says nothing: %s", line, b.errs.String())
	}
	t.Cleanup(func() { b.Process.Kill() })
	return b
}

// stop stops what was started.
func (s *story) stop() {
	s.t.Helper()
	for _, b := range s.beside {
		b.Process.Signal(syscall.SIGTERM)
		if err := b.Wait(); err != nil {
			s.t.Errorf("line %d: %s ends with %v\n%s", s.line, b.line, err, b.errs.String())
		}
	}
	s.beside = nil
}

func (s *story) tell(line string) {
	s.t.Helper()
	word, rest, _ := strings.Cut(line, " ")
	switch word {
	case "file":
		s.finish()
		s.file = rest
		s.written[s.file] = ""
		write(s.t, s.folder, s.file, "")
	case "|":
		s.written[s.file] += rest + "\n"
		write(s.t, s.folder, s.file, s.written[s.file])
	case "again":
		s.finish()
		write(s.t, s.folder, rest, s.written[rest])
	case "unchanged":
		s.finish()
		if now, err := os.ReadFile(filepath.Join(s.folder, rest)); err != nil || string(now) != s.written[rest] {
			s.t.Errorf("line %d: %s is not as it was written: %v\n%s", s.line, rest, err, now)
		}
	case "change":
		s.finish()
		name, change, _ := strings.Cut(rest, ": ")
		old, new, _ := strings.Cut(change, " => ")
		before, err := os.ReadFile(filepath.Join(s.folder, name))
		if err != nil || !strings.Contains(string(before), old) {
			s.t.Fatalf("line %d: %q is not in %s: %v", s.line, old, name, err)
		}
		write(s.t, s.folder, name, strings.Replace(string(before), old, new, 1))
	case "$":
		s.finish()
		s.ran, s.status = rest, 0
		s.result = shell(s.t, s.folder, rest)
		s.printed = spaced(s.result.out + s.result.err)
	case ">":
		_, after, found := strings.Cut(s.printed, spaced(rest))
		if !found {
			s.t.Errorf("line %d: %q does not come in what %s prints:\n%s%s", s.line, rest, s.ran, s.result.out, s.result.err)
		}
		s.printed = after
	case "!":
		if strings.Contains(spaced(s.result.out+s.result.err), spaced(rest)) {
			s.t.Errorf("line %d: %q comes in what %s prints:\n%s%s", s.line, rest, s.ran, s.result.out, s.result.err)
		}
	case "start":
		s.finish()
		s.beside = append(s.beside, started(s.t, s.folder, rest))
	case "stop":
		s.finish()
		s.stop()
	case "after":
		s.finish()
		long, err := time.ParseDuration(rest)
		if err != nil {
			s.t.Fatal(err)
		}
		time.Sleep(long)
	case "status":
		s.status, _ = strconv.Atoi(rest)
	}
}

// finish looks at the exit status of the last command.
func (s *story) finish() {
	if s.ran != "" && s.result.status != s.status {
		s.t.Errorf("line %d: %s: exit status %d, want %d\n%s%s", s.line, s.ran, s.result.status, s.status, s.result.out, s.result.err)
	}
	s.ran = ""
}

// spaced returns a text with one space for any space and line ends.
func spaced(text string) string { return strings.Join(strings.Fields(text), " ") }
