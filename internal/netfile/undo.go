package netfile

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// An earlier text of a network file, and a hash of what an edit made of it.
type earlier struct {
	Text []byte            `json:"text"`
	Made [sha256.Size]byte `json:"made"`
}

// How many edits can be taken back, and how large the texts may be together that are kept for that,
// in bytes.
const (
	mostEarlier      = 20
	mostEarlierBytes = 32 << 20
)

// ErrNothingToUndo is the error where no edit is left that could be taken back.
var ErrNothingToUndo = errors.New("there is no edit to take back")

// realPath returns the file that an edit replaces.
func (e *Editor) realPath() string {
	if real, err := filepath.EvalSymlinks(e.path); err == nil {
		return real
	}
	return e.path
}

// undoPath returns the file beside the network file that holds its earlier texts.
func (e *Editor) undoPath() string {
	real := e.realPath()
	return filepath.Join(filepath.Dir(real), "."+filepath.Base(real)+".undo")
}

// earlierTexts reads them, the last one last.
func (e *Editor) earlierTexts() ([]earlier, error) {
	data, err := readBounded(e.undoPath())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var list []earlier
	if err := json.Unmarshal(data, &list); err != nil {
		return nil, fmt.Errorf("%s: these are no earlier texts of %s; take the file away", e.undoPath(), e.path)
	}
	return list, nil
}

// keepEarlier writes earlier texts, the latest that are not too large, with the mode and owner of the network file.
func (e *Editor) keepEarlier(list []earlier, info os.FileInfo) error {
	size, first := 0, len(list)
	for first > 0 && len(list)-first < mostEarlier && size+len(list[first-1].Text) <= mostEarlierBytes {
		first--
		size += len(list[first].Text)
	}
	path := e.undoPath()
	if first == len(list) {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("%s: %w", path, cause(err))
		}
		return nil
	}
	data, err := json.Marshal(list[first:])
	if err != nil {
		return err
	}
	temporary, err := writeBeside(path, data, info)
	if err != nil {
		return err
	}
	if err := os.Rename(temporary, path); err != nil {
		os.Remove(temporary)
		return fmt.Errorf("%s: cannot be written: %w", path, cause(err))
	}
	return nil
}

// Undo takes back the last edit that was saved and not taken back: the file is byte for byte what it
// was before. It fails where the file is not what that edit left.
func (e *Editor) Undo() error {
	list, err := e.earlierTexts()
	if err != nil {
		return err
	}
	for len(list) > 0 && bytes.Equal(list[len(list)-1].Text, e.raw) { // it was about to be made, or taken back, when the program ended
		list = list[:len(list)-1]
	}
	if len(list) == 0 {
		return ErrNothingToUndo
	}
	last := list[len(list)-1]
	if last.Made != sha256.Sum256(e.raw) {
		return fmt.Errorf("%s was changed since the last edit, by hand or by another program, and that would be lost; nothing was written", e.path)
	}
	e.earlier, e.undoes, e.crlf = list[:len(list)-1], true, false
	e.exactly = last.Text
	return e.set(bytes.ReplaceAll(last.Text, []byte("\r\n"), []byte("\n")))
}

// noteEarlier keeps what the file is before an edit replaces it.
func (e *Editor) noteEarlier(info os.FileInfo) error {
	if e.undoes || e.raw == nil {
		return nil
	}
	list, err := e.earlierTexts()
	if err != nil {
		list = nil // it is ours to write, and what is in it is of no use
	}
	return e.keepEarlier(append(list, earlier{e.raw, sha256.Sum256(e.Text())}), info)
}
