package netfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"go.yaml.in/yaml/v3"
	"golang.org/x/sys/unix"

	"hollowbridge/core/network"
)

// An Editor changes the text of a network file in place: it touches only the lines
// an edit is about, so comments, order and style of everything else stay.
type Editor struct {
	path   string
	before []byte
	text   []byte
	root   *yaml.Node
	starts []int // where the lines of the text begin, where that was asked
	lock   *os.File
	crlf   bool // lines end with CR LF; while they are edited, with LF alone

	was, now *network.Network // what before and text say, where that was read

	raw     []byte    // the file as it was read
	undoes  bool      // the last edit is taken back:
	exactly []byte    // this was before that,
	earlier []earlier // and these before that
}

// Edit opens a network file for editing and locks its folder against other edits
// until Close. The file must be right: what is wrong is returned as Errors.
//
// Only a regular file that may be written and has no other names is edited: an edit puts
// a new file in its place. What is read from standard input is edited, but not saved.
func Edit(path string) (*Editor, error) { return open(path, true) }

// EditWrong is Edit of a file that may be wrong.
func EditWrong(path string) (*Editor, error) { return open(path, false) }

func open(path string, right bool) (*Editor, error) {
	var lock *os.File
	if path != StandardInput {
		if err := editable(path); err != nil {
			return nil, err
		}
		var err error
		if lock, err = lockFolder(path); err != nil {
			return nil, err
		}
	}
	data, err := readBounded(path)
	e := &Editor{path: path, lock: lock, raw: data, crlf: bytes.Contains(data, []byte("\r\n"))}
	e.before = bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))
	switch {
	case err != nil:
	case right:
		r := newReader(path, data)
		root := r.parseYAML(data)
		if e.was, err = r.read(root); err == nil && e.crlf {
			err = e.set(e.before)
		} else {
			e.text, e.root, e.now = e.before, root, e.was
		}
	default:
		e.set(e.before) // what is wrong is said when it is used
	}
	if err != nil {
		e.Close()
		return nil, err
	}
	return e, nil
}

// editable reports why a file can't be replaced by an edited one.
func editable(path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return nil // reading it says so
	}
	status, known := info.Sys().(*syscall.Stat_t)
	switch {
	case info.IsDir():
		return fmt.Errorf("%s: this is a folder; name the network file in it", path)
	case !info.Mode().IsRegular():
		return fmt.Errorf("%s: this is no regular file, and an edit would put one in its place; with -f - a network is read from standard input, and the edited one is printed", path)
	case info.Mode().Perm()&0o222 == 0 || unix.Access(path, unix.W_OK) != nil:
		return fmt.Errorf("%s: the file is read-only; make it writable first", path)
	case known && status.Nlink > 1:
		return fmt.Errorf("%s: the file has %d names (hard links), and the others would keep the old text; edit a copy that has one", path, status.Nlink)
	}
	return nil
}

// Sketch returns an editor of a copy: edits are tried on it and cannot be saved.
func Sketch(path string) (*Editor, error) {
	if info, err := os.Stat(path); err == nil && info.Mode()&os.ModeNamedPipe != 0 {
		return nil, fmt.Errorf("%s: this is no regular file and can't be edited", path)
	}
	data, err := readBounded(path)
	if err != nil {
		return nil, err
	}
	e := &Editor{path: path, before: bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))}
	return e, e.set(e.before)
}

// ReadToEdit is Read and Sketch of a file that is parsed once. The sketch is nil where the file can't be
// read once more, and so not edited either.
func ReadToEdit(path string) (*network.Network, *Editor, error) {
	if info, err := os.Stat(path); err != nil || !info.Mode().IsRegular() {
		n, err := Read(path)
		return n, nil, err
	}
	data, err := readBounded(path)
	if err != nil {
		return nil, nil, err
	}
	r := newReader(path, data)
	root := r.parseYAML(data)
	n, err := r.read(root)
	if err != nil || bytes.Contains(data, []byte("\r\n")) {
		return n, nil, err
	}
	return n, &Editor{path: path, before: data, text: data, root: root}, nil
}

// Copy returns another sketch of what the editor has now.
func (e *Editor) Copy() *Editor {
	return &Editor{path: e.path, before: e.text, text: e.text, root: e.root} // nodes are never changed
}

// Create begins a new network file at path. It fails where one exists.
func Create(path string) (*Editor, error) {
	lock, err := lockFolder(path)
	if err != nil {
		return nil, err
	}
	if _, err := os.Lstat(path); !errors.Is(err, os.ErrNotExist) {
		lock.Close()
		if err == nil {
			err = fmt.Errorf("%s is there already; nothing was written", path)
		}
		return nil, err
	}
	return &Editor{path: path, lock: lock}, nil
}

// lockFolder locks the folder of the file, because the file itself is replaced.
func lockFolder(path string) (*os.File, error) {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	folder, err := os.Open(filepath.Dir(path))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, errors.Unwrap(err))
	}
	if err := unix.Flock(int(folder.Fd()), unix.LOCK_EX); err != nil {
		folder.Close()
		return nil, fmt.Errorf("%s: its folder cannot be locked: %w", path, err)
	}
	return folder, nil
}

// Close gives the lock back. Edits that were not saved are lost.
func (e *Editor) Close() error {
	if e.lock == nil {
		return nil
	}
	return e.lock.Close()
}

// Text returns the edited file.
func (e *Editor) Text() []byte {
	if e.undoes {
		return e.exactly
	}
	if e.crlf {
		return bytes.ReplaceAll(e.text, []byte("\n"), []byte("\r\n"))
	}
	return e.text
}

// Network returns the network as edited, which is read once as long as nothing is edited; what an edit made wrong is returned as Errors.
func (e *Editor) Network() (n *network.Network, err error) {
	if e.now != nil {
		return e.now, nil
	}
	switch r := newReader(e.path, e.text); {
	case e.root == nil:
		n, err = Parse(e.path, e.text)
	case !r.bounded(e.root, 0):
		n, err = r.read(nil)
	default:
		n, err = r.read(e.root)
	}
	if err == nil {
		e.now = n
	}
	return n, err
}

// Before returns the network as it was before the edits, nil for a new file.
func (e *Editor) Before() (n *network.Network, err error) {
	if e.before == nil || e.was != nil {
		return e.was, nil
	}
	if n, err = Parse(e.path, e.before); err == nil {
		e.was = n
	}
	return n, err
}

// Write puts a whole text in place of the file's.
func (e *Editor) Write(text string) error { return e.set([]byte(text)) }

func (e *Editor) set(text []byte) error {
	document, err := decode(text)
	switch {
	case errors.Is(err, errSecond):
		return fmt.Errorf("%s: the edit would leave two documents; nothing was written", e.path)
	case errors.Is(err, io.EOF) || err == nil && len(document.Content) != 1:
		return fmt.Errorf("%s: the edit would leave an empty file; nothing was written", e.path)
	case err != nil:
		return fmt.Errorf("%s: the edit would leave no readable YAML (%w); nothing was written", e.path, err)
	}
	e.text, e.root, e.starts, e.now = text, document.Content[0], nil, nil
	return nil
}

// Save writes the edited file, unless it would not be right: to a temporary file
// beside it that then takes its place, so that there is always a whole file. Its mode,
// owner and group are kept, or nothing is written.
func (e *Editor) Save() error {
	if e.lock == nil {
		return errors.New("a sketch is not saved")
	}
	if _, err := e.Network(); err != nil {
		return err
	}
	path := e.realPath()
	info, _ := os.Stat(path)
	if err := e.noteEarlier(info); err != nil {
		return err
	}
	temporary, err := writeBeside(path, e.Text(), info)
	if err != nil {
		return err
	}
	defer os.Remove(temporary)
	if err := os.Rename(temporary, path); err != nil {
		return fmt.Errorf("%s: cannot be written: %w", path, cause(err))
	}
	if e.undoes {
		if err := e.keepEarlier(e.earlier, info); err != nil {
			return err
		}
	}
	return e.lock.Sync()
}

// writeBeside writes data to a temporary file in the folder of another one, with the mode,
// owner and group that info has, the usual ones where that is nil.
func writeBeside(path string, data []byte, info os.FileInfo) (temporary string, err error) {
	f, err := os.CreateTemp(filepath.Dir(path), ".hollowbridge-*")
	if err != nil {
		return "", fmt.Errorf("%s: cannot be written, because its folder takes no new file: %w", path, cause(err))
	}
	defer func() {
		if err != nil {
			os.Remove(f.Name())
			err = fmt.Errorf("%s: cannot be written: %w", path, err)
		}
	}()
	mode := os.FileMode(0o644)
	if info != nil {
		mode = info.Mode().Perm()
		if status, known := info.Sys().(*syscall.Stat_t); known {
			if err := f.Chown(int(status.Uid), int(status.Gid)); err != nil {
				f.Close()
				return "", fmt.Errorf("its owner and group can't be kept: %w", cause(err))
			}
		}
	}
	_, err = f.Write(data)
	for _, next := range []error{f.Chmod(mode), f.Sync(), f.Close()} {
		if err == nil {
			err = next
		}
	}
	return f.Name(), cause(err)
}

// cause returns an error without the name of the file it is about, which may be a temporary one.
func cause(err error) error {
	var at *os.PathError
	var link *os.LinkError
	switch {
	case errors.As(err, &at):
		return at.Err
	case errors.As(err, &link):
		return link.Err
	}
	return err
}

// WriteNew writes a file that is not there yet, whole or not at all. The error is
// fs.ErrExist where there is one already.
func WriteNew(path string, data []byte) error {
	if _, err := os.Lstat(path); err == nil {
		return fmt.Errorf("%s: %w", path, os.ErrExist)
	}
	temporary, err := writeBeside(path, data, nil)
	if err != nil {
		return err
	}
	defer os.Remove(temporary)
	if err := os.Link(temporary, path); err != nil {
		return fmt.Errorf("%s: cannot be written: %w", path, cause(err))
	}
	return nil
}

// Difference returns the lines that the edits took out and put in, each with its
// sign and, between them, where they stand. It is empty where nothing changed.
func (e *Editor) Difference() []string {
	return difference(splitLines(e.before), splitLines(e.text))
}

func splitLines(text []byte) (lines []string) {
	for _, line := range linesOf(text) {
		lines = append(lines, string(line))
	}
	return lines
}

// mostCompared is how many lines on each side are compared with each other; where
// more differ, they are shown as one block.
const mostCompared = 1500

func difference(a, b []string) []string {
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	first := head + 1
	a, b = a[head:len(a)-tail], b[head:len(b)-tail]
	if len(a) == 0 && len(b) == 0 {
		return nil
	}
	out := []string{fmt.Sprintf("@ line %d", first)}
	if len(a) > mostCompared || len(b) > mostCompared {
		return append(out, slices.Concat(marked("- ", a), marked("+ ", b))...)
	}
	common := commonLengths(a, b)
	for i, j := 0, 0; i < len(a) || j < len(b); {
		switch {
		case i < len(a) && j < len(b) && a[i] == b[j]:
			start := i
			for i < len(a) && j < len(b) && a[i] == b[j] {
				i, j = i+1, j+1
			}
			if i < len(a) || j < len(b) {
				out = appendContext(out, a[start:i], first+i)
			}
		case i < len(a) && (j == len(b) || common[i+1][j] >= common[i][j+1]):
			out = append(out, "- "+a[i])
			i++
		default:
			out = append(out, "+ "+b[j])
			j++
		}
	}
	return out
}

func marked(mark string, lines []string) []string {
	marked := make([]string, len(lines))
	for i, line := range lines {
		marked[i] = mark + line
	}
	return marked
}

// commonLengths returns, as [i][j], the length of the longest common subsequence of a[i:] and b[j:].
func commonLengths(a, b []string) [][]int {
	common := make([][]int, len(a)+1)
	for i := range common {
		common[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if a[i] == b[j] {
				common[i][j] = common[i+1][j+1] + 1
			} else {
				common[i][j] = max(common[i+1][j], common[i][j+1])
			}
		}
	}
	return common
}

// appendContext shows lines that stay, unless they are many.
func appendContext(out, same []string, line int) []string {
	if len(same) > 3 {
		return append(out, fmt.Sprintf("@ line %d", line))
	}
	for _, s := range same {
		out = append(out, "  "+s)
	}
	return out
}

// offset returns where in the text a node begins, in bytes.
func (e *Editor) offset(n *yaml.Node) int {
	at := e.lineStart(n.Line)
	for range n.Column - 1 {
		_, size := decodeRune(e.text[at:])
		at += size
	}
	return at
}

// lineStart returns where in the text a line begins; lines count from 1.
func (e *Editor) lineStart(line int) int {
	if e.starts == nil {
		for at := 0; at < len(e.text); {
			e.starts = append(e.starts, at)
			_, at = lineEnd(e.text, at)
		}
	}
	if line > len(e.starts) {
		return len(e.text)
	}
	return e.starts[max(line, 1)-1]
}

// lineCount returns how many lines the text has.
func (e *Editor) lineCount() int {
	e.lineStart(1)
	return len(e.starts)
}

// line returns one line without its end.
func (e *Editor) line(number int) string {
	start := e.lineStart(number)
	end, _ := lineEnd(e.text, start)
	return string(e.text[start:end])
}

// splice replaces text[first:last].
func (e *Editor) splice(first, last int, with string) error {
	return e.set(slices.Concat(e.text[:first:first], []byte(with), e.text[last:]))
}

// replaceLines replaces the lines from first up to, not including, last.
func (e *Editor) replaceLines(first, last int, with string) error {
	a, b := e.lineStart(first), e.lineStart(last)
	if a == len(e.text) && a > 0 && !endsLine(e.text) {
		with = "\n" + with
	}
	return e.splice(a, b, with)
}

// extent returns the lines of a node in block style: from its first up to, not
// including, the last. Blank lines and comments behind it that are not indented
// deeper than column belong to what follows.
func (e *Editor) extent(n *yaml.Node, column int) (first, last int) {
	next := e.lineCount() + 1
	if follower := e.follower(n); follower != nil {
		next = follower.Line
	}
	last = next
	for last-1 > n.Line {
		text := e.line(last - 1)
		trimmed := strings.TrimLeft(text, " ")
		if trimmed != "" && (trimmed[0] != '#' || len(text)-len(trimmed) >= column) {
			break
		}
		last--
	}
	return n.Line, last
}

// follower returns the first node of the document behind all of n, or nil.
func (e *Editor) follower(n *yaml.Node) *yaml.Node {
	var found *yaml.Node
	behind := false
	var walk func(*yaml.Node)
	walk = func(m *yaml.Node) {
		if behind && found == nil {
			found = m
		}
		for _, child := range m.Content {
			walk(child)
		}
		behind = behind || m == n
	}
	walk(e.root)
	return found
}
