// Package netfile reads network files into core/network, with the place of
// everything, and reports all errors of a file at once.
package netfile

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"go.yaml.in/yaml/v3"
	"golang.org/x/sys/unix"

	"hollowbridge/core/network"
)

// MostBytes is how large a network file or a list may be.
const MostBytes = 64 << 20

// mostDepth is how deep a network file may nest; its own keys need 8.
const mostDepth = 32

// mostErrors is how many errors are reported.
const mostErrors = 200

// Read reads a network file and the lists it names. It returns a whole network or
// an error; what is wrong with the file is of type Errors.
func Read(path string) (*network.Network, error) {
	data, err := readBounded(path)
	if err != nil {
		return nil, err
	}
	return Parse(path, data)
}

// Parse reads a network from data. The lists it names are read from the folder
// that path is in; path is also what errors call the file.
func Parse(path string, data []byte) (*network.Network, error) {
	r := newReader(path, data)
	return r.read(r.parseYAML(data))
}

func newReader(path string, data []byte) *reader {
	r := &reader{file: path, lines: linesOf(data)}
	r.list = func(name string) ([]byte, error) { return readBounded(r.beside(name)) }
	return r
}

// read returns the network of a file, whose root is nil after an error.
func (r *reader) read(root *yaml.Node) (*network.Network, error) {
	var n *network.Network
	if root != nil {
		n = r.network(root)
	}
	if len(r.errors) > 0 {
		r.errors.sort()
		return nil, r.errors[:min(len(r.errors), mostErrors)]
	}
	if n != nil {
		n.On(n.MomentAt(time.Now()))
	}
	return n, nil
}

// StandardInput is the path that stands for standard input.
const StandardInput = "-"

// standardInput is what comes in there, read once.
var standardInput = sync.OnceValues(func() ([]byte, error) { return readAll("standard input", os.Stdin) })

// patience is how long a named pipe may say nothing.
var patience = 5 * time.Second

func readBounded(path string) ([]byte, error) {
	if path == StandardInput {
		return standardInput()
	}
	if info, err := os.Stat(path); err == nil && info.Mode()&os.ModeNamedPipe != 0 {
		return readPipe(path)
	}
	f, err := os.Open(path)
	if err != nil {
		var at *os.PathError
		if errors.As(err, &at) {
			return nil, fmt.Errorf("%s: %w", path, at.Err)
		}
		return nil, err
	}
	defer f.Close()
	return readAll(path, f)
}

// IsPiped reports whether a path is standard input or a named pipe: what comes from there has no folder of its own.
func IsPiped(path string) bool {
	info, err := os.Stat(path)
	return path == StandardInput || err == nil && info.Mode()&os.ModeNamedPipe != 0
}

// readPipe reads a named pipe to its end. It waits for somebody to write, but not for ever.
func readPipe(path string) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, cause(err))
	}
	defer f.Close()
	waiting := []unix.PollFd{{Fd: int32(f.Fd()), Events: unix.POLLIN}}
	for until := time.Now().Add(patience); ; {
		n, err := unix.Poll(waiting, int(max(0, time.Until(until).Milliseconds())))
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil || n == 0 {
			return nil, fmt.Errorf("%s: nobody writes to this pipe", path)
		}
		break
	}
	if err := syscall.SetNonblock(int(f.Fd()), false); err != nil {
		return nil, fmt.Errorf("%s: cannot be read: %w", path, err)
	}
	return readAll(path, f)
}

func readAll(path string, f io.Reader) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(f, MostBytes+1))
	if err != nil {
		return nil, fmt.Errorf("%s: cannot be read: %w", path, cause(err))
	}
	if len(data) > MostBytes {
		return nil, fmt.Errorf("%s: larger than %d MiB, which is more than this program reads", path, MostBytes>>20)
	}
	return data, nil
}

// A reader turns the nodes of one file into a network.
type reader struct {
	file   string
	folder string // that lists are named from, where it is not the file's
	lines  [][]byte
	errors Errors
	draft  network.Draft // until interfaces, routes and hosts are known
	net    *network.Network
	names  map[string]nameUse // zones, groups, hosts and gateways share one namespace

	list      func(name string) ([]byte, error) // reads a file that the network file names
	elsewhere map[*yaml.Node]*reader            // nodes that stand in other files
	dynamics  int                               // interfaces whose address the provider gives
	unsure    bool                              // interfaces of the gateway at hand are wrong, so what depends on them is not judged

	groups   map[string]*pending
	services map[string]*pending

	references *[]reference // where names are used, if somebody asked
}

// A nameUse says what a name was given to, and where.
type nameUse struct {
	what  string
	place network.Position
}

// A pending group or service is resolved when it is first needed.
type pending struct {
	name     *yaml.Node
	body     *yaml.Node
	group    *network.Group
	service  *network.NamedService
	underway bool
	done     bool
}

func (r *reader) place(n *yaml.Node) network.Position {
	if other := r.elsewhere[n]; other != nil {
		return other.place(n)
	}
	return network.Position{File: r.file, Line: n.Line, Column: n.Column}
}

// fail reports what is wrong with a node.
func (r *reader) fail(n *yaml.Node, format string, args ...any) {
	length := 0
	if n.Kind == yaml.ScalarNode && !strings.Contains(n.Value, "\n") {
		length = len([]rune(n.Value))
		if n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
			length += 2
		}
	}
	r.failAt(r.place(n), length, format, args...)
}

func (r *reader) failAt(at network.Position, length int, format string, args ...any) {
	e := Error{Place: at, Length: length, Message: harmless(sprintf(format, args))}
	if lines := r.linesOf(at.File); at.Line >= 1 && at.Line <= len(lines) {
		e.Source = harmless(string(lines[at.Line-1]))
	}
	r.errors = append(r.errors, e)
}

// linesOf returns the lines of a file whose nodes are read, none of another one.
func (r *reader) linesOf(file string) [][]byte {
	if file == r.file {
		return r.lines
	}
	for _, other := range r.elsewhere {
		if other.file == file {
			return other.lines
		}
	}
	return nil
}

var yamlLine = regexp.MustCompile(`^yaml: (?:line (\d+): )?(.*)$`)

// parseYAML returns the root of the file, or nil after an error.
func (r *reader) parseYAML(data []byte) *yaml.Node {
	at := network.Position{File: r.file, Line: 1, Column: 1}
	document, err := decode(data)
	switch {
	case errors.Is(err, io.EOF):
		r.failAt(at, 0, "the file is empty; it begins with network: NAME")
		return nil
	case errors.Is(err, errSecond):
		r.fail(document, "a network file is one document; take out what begins with ---")
		return nil
	case err != nil:
		message := err.Error()
		if m := yamlLine.FindStringSubmatch(message); m != nil {
			message = m[2]
			line, _ := strconv.Atoi(m[1])
			at = r.yamlPlace(message, line)
		}
		r.failAt(at, 0, "not YAML: %s", message)
		return nil
	}
	root := document.Content[0]
	if !r.bounded(root, 0) {
		return nil
	}
	return root
}

// yamlPlace returns where a YAML error is. The library tells the line only of some, and for
// what it did not find that before where it began to look.
func (r *reader) yamlPlace(message string, line int) network.Position {
	place := func(line, column int) network.Position {
		return network.Position{File: r.file, Line: line, Column: column}
	}
	find := func(from int, is func(line string) int) (network.Position, bool) {
		for n := max(from, 1); n <= len(r.lines); n++ {
			text := string(r.lines[n-1])
			if at := is(text); at >= 0 {
				return place(n, len([]rune(text[:at]))+1), true
			}
		}
		return network.Position{}, false
	}
	var at network.Position
	found := false
	switch name, anchor := strings.CutPrefix(message, "unknown anchor '"); {
	case anchor:
		name, _, _ = strings.Cut(name, "'")
		at, found = find(1, func(text string) int { return strings.Index(text, "*"+name) })
	case strings.HasPrefix(message, "control characters"):
		at, found = find(1, func(text string) int {
			return strings.IndexFunc(text, func(c rune) bool { return c < ' ' && c != '\t' && c != '\r' || c == 0x7f })
		})
	case strings.Contains(message, "tab character"):
		at, found = find(line, func(text string) int {
			return strings.IndexByte(text[:len(text)-len(strings.TrimLeft(text, " \t"))], '\t')
		})
	case strings.HasPrefix(message, "mapping values are not allowed"):
		at, found = find(line, func(text string) int { return strings.LastIndex(text, ":") })
	case strings.Contains(message, "cannot start any token"):
		at, found = find(line, func(text string) int { return strings.IndexAny(text, "@`%") })
	case strings.HasPrefix(message, "did not find expected"):
		line++
	}
	if found {
		return at
	}
	return place(max(line, 1), r.firstColumn(line))
}

func (r *reader) firstColumn(line int) int {
	if line < 1 || line > len(r.lines) {
		return 1
	}
	text := string(r.lines[line-1])
	return len(text) - len(strings.TrimLeft(text, " \t")) + 1
}

// bounded refuses anchors, without which there are no aliases, because these can
// make a small file endlessly large; and nesting beyond what a network file needs.
func (r *reader) bounded(n *yaml.Node, depth int) bool {
	switch {
	case n.Anchor != "":
		r.fail(n, "&%s: a network file has no anchors and aliases; write it out, or give addresses a group's name", n.Anchor)
		return false
	case depth > mostDepth:
		r.fail(n, "nested more than %d deep, which nothing in a network file is", mostDepth)
		return false
	}
	for _, child := range n.Content {
		if !r.bounded(child, depth+1) {
			return false
		}
	}
	return true
}

// beside returns the path of a file that the network file names.
func (r *reader) beside(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	if r.folder != "" {
		return filepath.Join(r.folder, name)
	}
	return filepath.Join(filepath.Dir(r.file), name)
}
