package netfile

import (
	"fmt"
	"slices"
	"strings"

	"hollowbridge/core/network"
)

// An Error is something wrong in a network file or in a list it names.
type Error struct {
	Place   network.Position
	Length  int // of the words that are wrong, in characters; 0 where it is not about words
	Message string
	Source  string // the line it is on, empty where there is none
}

func (e Error) Error() string { return e.Place.String() + ": " + e.Message }

// Errors are all errors of a file, in the order of their places.
type Errors []Error

func (e Errors) Error() string {
	lines := make([]string, len(e))
	for i := range e {
		lines[i] = e[i].Error()
	}
	return strings.Join(lines, "\n")
}

func (e Errors) sort() {
	slices.SortStableFunc(e, func(a, b Error) int {
		if a.Place.File != b.Place.File {
			return strings.Compare(a.Place.File, b.Place.File)
		}
		if a.Place.Line != b.Place.Line {
			return a.Place.Line - b.Place.Line
		}
		return a.Place.Column - b.Place.Column
	})
}

// harmless replaces control characters, so that a hostile file can't make the
// terminal do anything when its errors are shown.
func harmless(text string) string {
	return strings.Map(func(c rune) rune {
		if c < ' ' && c != '\t' || c >= 0x7f && c < 0xa0 || c >= 0x202a && c <= 0x202e || c >= 0x2066 && c <= 0x2069 {
			return '\ufffd'
		}
		return c
	}, text)
}

// nearest returns the known word that text was probably meant as, or "".
func nearest(text string, known []string) string {
	best, fewest, alike := "", max(1, len([]rune(text))/3)+1, -1
	for _, word := range known {
		edits, same := distance(text, word), sameEnds(text, word)
		if edits < fewest || best != "" && edits == fewest && same > alike {
			best, fewest, alike = word, edits, same
		}
	}
	return best
}

// sameEnds counts the letters that two words begin and end with alike.
func sameEnds(a, b string) int {
	count := 0
	for count < len(a) && count < len(b) && a[count] == b[count] {
		count++
	}
	for i := 1; i <= len(a)-count && i <= len(b)-count && a[len(a)-i] == b[len(b)-i]; i++ {
		count++
	}
	return count
}

// DidYouMean ends a message with the near word, where there is one.
func DidYouMean(text string, known []string) string {
	if near := nearest(text, known); near != "" {
		return "; did you mean " + near + "?"
	}
	return ""
}

// oneOf ends a message with the near word or, where there is none, with all.
func oneOf(text string, known []string) string {
	if near := DidYouMean(text, known); near != "" {
		return near
	}
	if len(known) == 0 {
		return ""
	}
	return "; there " + plural(len(known), "is", "are") + " " + strings.Join(known, ", ")
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// distance counts the letters to insert, delete, replace or swap with their
// neighbour to make one word of the other.
func distance(from, to string) int {
	a, b := []rune(from), []rune(to)
	if d := len(a) - len(b); d > 8 || d < -8 {
		return 9
	}
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			replace := 1
			if a[i-1] == b[j-1] {
				replace = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+replace)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(a)][len(b)]
}

// article puts "a" or "an" in front of a word.
func article(word string) string {
	if word != "" && strings.ContainsRune("aeiou", rune(word[0])) {
		return "an " + word
	}
	return "a " + word
}

func sprintf(format string, args []any) string {
	if len(args) == 0 {
		return format
	}
	return fmt.Sprintf(format, args...)
}
