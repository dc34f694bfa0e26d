package netfile_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
)

const shed = "network: shed\r\ngateways:\r\n  rim:\r\n    interfaces:\r\n      fibre: {address: 198.51.100.18/29, zone: outside}\n    filter:\r\n      - {allow: web, from: outside, service: https}\r\n"

// change makes an edit and saves it.
func change(t *testing.T, path, note string) {
	t.Helper()
	e, err := netfile.Edit(path)
	if err != nil {
		t.Fatal(err)
	}
	defer e.Close()
	if err := e.Apply(network.Edit{Verb: network.Change, Kind: "allow", Name: "web", Settings: []network.Setting{{Key: "note", Value: note}}}); err != nil {
		t.Fatal(err)
	}
	if err := e.Save(); err != nil {
		t.Fatal(err)
	}
}

func undo(path string) error {
	e, err := netfile.EditWrong(path)
	if err != nil {
		return err
	}
	defer e.Close()
	if err := e.Undo(); err != nil {
		return err
	}
	return e.Save()
}

func text(t *testing.T, path string) string {
	t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// The last twenty edits are taken back one by one, byte for byte, mixed line ends and mode included.
func TestTwentyEditsAreTakenBackByteForByte(t *testing.T) {
	path := filepath.Join(t.TempDir(), "hollowbridge.yaml")
	if err := os.WriteFile(path, []byte(shed), 0o600); err != nil {
		t.Fatal(err)
	}
	var before []string
	for i := range 25 {
		before = append(before, text(t, path))
		change(t, path, fmt.Sprint("edit ", i))
	}
	for i := 24; i >= 5; i-- {
		if err := undo(path); err != nil {
			t.Fatal(err)
		}
		if got := text(t, path); got != before[i] {
			t.Fatalf("after %d are taken back it is\n%q, not\n%q", 25-i, got, before[i])
		}
	}
	if err := undo(path); !errors.Is(err, netfile.ErrNothingToUndo) {
		t.Errorf("more than twenty: %v", err)
	}
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info.Mode(), err)
	}
}

// A program that ends at any moment of an edit, or of taking one back, loses nothing: what was noted
// of an edit that was not made is passed over.
func TestAnEditThatWasCutOffIsPassedOver(t *testing.T) {
	folder := t.TempDir()
	path, kept := filepath.Join(folder, "hollowbridge.yaml"), filepath.Join(folder, ".hollowbridge.yaml.undo")
	if err := os.WriteFile(path, []byte(shed), 0o644); err != nil {
		t.Fatal(err)
	}
	change(t, path, "one")
	first := text(t, path)
	change(t, path, "two")
	// It was noted, but the file was not replaced yet.
	if err := os.WriteFile(path, []byte(first), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := undo(path); err != nil || text(t, path) != shed {
		t.Errorf("%v\n%s", err, text(t, path))
	}
	// The file was replaced, but it was not noted that the edit is taken back.
	change(t, path, "three")
	noted := text(t, kept)
	if err := undo(path); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(kept, []byte(noted), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := undo(path); !errors.Is(err, netfile.ErrNothingToUndo) || text(t, path) != shed {
		t.Errorf("%v\n%s", err, text(t, path))
	}
}

// What is no list of earlier texts is an error, and the next edit begins a new one.
func TestForeignTextsBesideTheFileAreNoHarm(t *testing.T) {
	folder := t.TempDir()
	path, kept := filepath.Join(folder, "hollowbridge.yaml"), filepath.Join(folder, ".hollowbridge.yaml.undo")
	if err := os.WriteFile(path, []byte(shed), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, foreign := range []string{"", "{}", "[1]", "not JSON", `[{"text": "bm8gbmV0d29yaw==", "made": []}]`, strings.Repeat("[", 100_000)} {
		if err := os.WriteFile(kept, []byte(foreign), 0o644); err != nil {
			t.Fatal(err)
		}
		before := text(t, path)
		if err := undo(path); err == nil || text(t, path) != before {
			t.Errorf("%.20q: %v", foreign, err)
		}
		change(t, path, fmt.Sprint("after ", len(foreign)))
		if err := undo(path); err != nil || text(t, path) != before {
			t.Errorf("%.20q: after an edit %v", foreign, err)
		}
	}
	if err := os.Remove(kept); err == nil {
		if err := os.Mkdir(kept, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := undo(path); err == nil {
			t.Error("a folder in its place is no error")
		}
	}
}
