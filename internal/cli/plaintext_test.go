package cli

import (
	"bytes"
	"strings"
	"testing"
	"unicode/utf8"
)

// What is printed does not steer a terminal, in whatever pieces it comes, and what was meant is there.
func TestNothingPrintedSteersATerminal(t *testing.T) {
	for text, want := range map[string]string{
		"plain, Größe and 表\n\ttab":        "plain, Größe and 表\n\ttab",
		"\x1b[2J\x1b]0;title\a":            `\u001b[2J\u001b]0;title\u0007`,
		"a\rb\x7f\u009b31m":                `a\u000db\u007f\u009b31m`,
		"raw \x9b31m and \xff":             `raw \x9b31m and \xff`,
		"\u202egnp.exe\u2066 \u200f\u061c": `\u202egnp.exe\u2066 \u200f\u061c`,
		"one\u2028two\u0085three\ufeff":    `one\u2028two\u0085three\ufeff`,
		"\ufdd0bold\ufdd5 \ufdd7":          `\ufdd0bold\ufdd5 \ufdd7`,
	} {
		for size := 1; size <= len(text); size++ {
			var out bytes.Buffer
			w := &plainText{to: &out}
			for rest := text; rest != ""; rest = rest[min(size, len(rest)):] {
				w.Write([]byte(rest[:min(size, len(rest))]))
			}
			if got := out.String(); got != want {
				t.Errorf("%q in pieces of %d is %q, want %q", text, size, got, want)
			}
		}
	}
	var out bytes.Buffer
	w := &plainText{to: &out, color: true}
	w.Write([]byte(red + "no" + plain + "\x1b[31m"))
	if got := out.String(); got != "\x1b[1;31mno\x1b[0m\\u001b[31m" {
		t.Errorf("our own colours come out as %q", got)
	}
}

func FuzzPlainText(f *testing.F) {
	f.Add([]byte("a\x1b[2J\u202e\xff"), 3)
	f.Fuzz(func(t *testing.T, text []byte, size int) {
		size = max(1, size%7)
		var out bytes.Buffer
		w := &plainText{to: &out}
		for rest := text; len(rest) > 0; rest = rest[min(size, len(rest)):] {
			w.Write(rest[:min(size, len(rest))])
		}
		if got := out.String(); !utf8.ValidString(got) || strings.ContainsFunc(got, func(r rune) bool { return steers(r) && r != '\n' && r != '\t' }) {
			t.Errorf("%q is printed as %q", text, got)
		}
	})
}
