package cli

import (
	"fmt"
	"io"
	"unicode"
	"unicode/utf8"
)

// What comes from outside (names and notes of a file, what a gateway answers) must not steer the terminal that it is shown on,
// nor turn the direction of the text around it. So whatever is printed goes through one writer, which writes such signs as \u001b,
// as JSON does: what is in quotes there stays the same value. Our own colours are no escape sequences until they are behind it.

// A plainText writes text without control characters but line ends and tabs, and without bidirectional controls.
type plainText struct {
	to    io.Writer
	color bool // colours are meant
	rest  []byte
	held  [utf8.UTFMax]byte // the beginning of a character, whose rest comes with the next bytes
	holds int
}

// Our own colours: noncharacters (Unicode, 23.7), which no text needs.
const (
	bold = string(firstColor + iota)
	red
	green
	removedColor
	addedColor
	plain

	firstColor = '\ufdd0'
	colors     = bold + red + green + removedColor + addedColor + plain
)

// sequences are what terminals take for colours (ECMA-48, SGR), in the order of these.
var sequences = [...]string{"\x1b[1m", "\x1b[1;31m", "\x1b[1;32m", "\x1b[31m", "\x1b[32m", "\x1b[0m"}

// What else is said to terminals.
const (
	clearLine   = "\r\x1b[K"
	clearScreen = "\x1b[H\x1b[2J"
)

func (w *plainText) Write(p []byte) (int, error) {
	out, whole := w.rest[:0], p
	if w.holds > 0 {
		whole = append(w.held[:w.holds:w.holds], p...)
		w.holds = 0
	}
	for i := 0; i < len(whole); {
		b := whole[i]
		if b >= ' ' && b < 0x7f || b == '\n' || b == '\t' {
			out = append(out, b)
			i++
			continue
		}
		if !utf8.FullRune(whole[i:]) {
			w.holds = copy(w.held[:], whole[i:])
			break
		}
		r, size := utf8.DecodeRune(whole[i:])
		switch at := int(r - firstColor); {
		case r == utf8.RuneError && size == 1:
			out = fmt.Appendf(out, `\x%02x`, b)
		case w.color && at >= 0 && at < len(sequences):
			out = append(out, sequences[at]...)
		case steers(r):
			out = fmt.Appendf(out, `\u%04x`, r)
		default:
			out = append(out, whole[i:i+size]...)
		}
		i += size
	}
	w.rest = out
	if _, err := w.to.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// steers reports whether a character is none that is seen, but one that a terminal or a line of text follows.
func steers(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' || r == '\u2029' || r == '\ufeff' || r >= firstColor && r <= '\ufdef'
}

// exactly returns what writes bytes as they are: for what is a file, and no text for people.
func exactly(w io.Writer) io.Writer {
	if p, ok := w.(*plainText); ok {
		return p.to
	}
	return w
}

// steer says something to the terminal.
func steer(w io.Writer, sequence string) { io.WriteString(exactly(w), sequence) }

// asFile returns what writes a file as it is, unless a person reads it.
func (c *call) asFile() io.Writer {
	if c.Terminal {
		return c.Out
	}
	return exactly(c.Out)
}
