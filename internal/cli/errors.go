package cli

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"hollowbridge/internal/netfile"
)

// printErrors shows each error with its place and the line it is on, and last what
// came of it.
func (c *call) printErrors(errors netfile.Errors, consequence string) {
	for _, e := range errors {
		fmt.Fprintln(c.Err, strings.Join(wrap(e.Error(), c.Width), "\n        "))
		if e.Source != "" {
			c.printExcerpt(e)
		}
	}
	fmt.Fprintf(c.Err, "\n%s. %s\n", count(len(errors), "error"), consequence)
}

func (c *call) printExcerpt(e netfile.Error) {
	source := strings.ReplaceAll(e.Source, "\t", " ")
	if !utf8.ValidString(source) {
		return
	}
	runes, column := []rune(source), e.Place.Column-1
	const margin = 8
	if first := column - (c.Width - margin - 20); first > 0 && len(runes) > c.Width-margin {
		runes, column = runes[first:], column-first
	}
	if len(runes) > c.Width-margin {
		runes = runes[:c.Width-margin]
	}
	fmt.Fprintf(c.Err, "%5d | %s\n", e.Place.Line, string(runes))
	if column >= 0 && column <= len(runes) {
		length := max(1, min(e.Length, len(runes)-column))
		fmt.Fprintf(c.Err, "      | %s%s\n", strings.Repeat(" ", column), strings.Repeat("^", length))
	}
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
