package cli

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

const (
	red   = "\x1b[1;31m"
	green = "\x1b[1;32m"
	plain = "\x1b[0m"
)

// added and removed colour the lines of a difference.
func (c *call) added(text string) string   { return c.paint("\x1b[32m", text) }
func (c *call) removed(text string) string { return c.paint("\x1b[31m", text) }

func (c *call) red(text string) string   { return c.paint(red, text) }
func (c *call) green(text string) string { return c.paint(green, text) }

func (c *call) paint(color, text string) string {
	if !c.Color {
		return text
	}
	return color + text + plain
}

// printLabelled writes a word and behind it text, wrapped to the screen.
func printLabelled(w io.Writer, label, text string) {
	const indent = 10
	for _, line := range wrap(text, widest-indent) {
		fmt.Fprintf(w, "  %-*s%s\n", indent-2, label, line)
		label = ""
	}
}

// wrap breaks text at spaces into lines of at most width characters.
func wrap(text string, width int) []string {
	var lines []string
	line := ""
	for word := range strings.FieldsSeq(text) {
		if line != "" && utf8.RuneCountInString(line)+1+utf8.RuneCountInString(word) > width {
			lines = append(lines, line)
			line = ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return append(lines, line)
}

// printTable writes rows in columns as wide as their widest cell. The last column
// is wrapped to the screen.
func printTable(w io.Writer, heads []string, rows [][]string) {
	widths := make([]int, len(heads))
	for _, row := range append([][]string{heads}, rows...) {
		for i, cell := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
		}
	}
	last := len(heads) - 1
	indent := 2
	for _, width := range widths[:last] {
		indent += width + 2
	}
	for _, row := range append([][]string{heads}, rows...) {
		for i, cell := range wrap(row[last], max(20, widest-indent)) {
			line := strings.Repeat(" ", indent)
			if i == 0 {
				line = "  "
				for j, cell := range row[:last] {
					line += fmt.Sprintf("%-*s  ", widths[j], cell)
				}
			}
			fmt.Fprintln(w, strings.TrimRight(line+cell, " "))
		}
	}
}

func (c *call) bold(text string) string { return c.paint("\x1b[1m", text) }
