package cli

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"hollowbridge/internal/netfile"
)

// printErrors shows each error with its place and the line it is on, and last what
// came of it.
func printErrors(w io.Writer, errors netfile.Errors, consequence string) {
	for _, e := range errors {
		fmt.Fprintln(w, strings.Join(wrap(e.Error(), widest), "\n        "))
		if e.Source != "" {
			printExcerpt(w, e)
		}
	}
	fmt.Fprintf(w, "\n%s. %s\n", count(len(errors), "error"), consequence)
}

// widest is how many columns outputs may take.
const widest = 100

func printExcerpt(w io.Writer, e netfile.Error) {
	source := strings.ReplaceAll(e.Source, "\t", " ")
	if !utf8.ValidString(source) {
		return
	}
	runes, column := []rune(source), e.Place.Column-1
	const margin = 8
	if first := column - (widest - margin - 20); first > 0 && len(runes) > widest-margin {
		runes, column = runes[first:], column-first
	}
	if len(runes) > widest-margin {
		runes = runes[:widest-margin]
	}
	fmt.Fprintf(w, "%5d | %s\n", e.Place.Line, string(runes))
	if column >= 0 && column <= len(runes) {
		length := max(1, min(e.Length, len(runes)-column))
		fmt.Fprintf(w, "      | %s%s\n", strings.Repeat(" ", column), strings.Repeat("^", length))
	}
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
