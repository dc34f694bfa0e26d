package cli

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// added and removed colour the lines of a difference.
func (c *call) added(text string) string   { return c.paint(addedColor, text) }
func (c *call) removed(text string) string { return c.paint(removedColor, text) }

func (c *call) red(text string) string   { return c.paint(red, text) }
func (c *call) green(text string) string { return c.paint(green, text) }

func (c *call) paint(color, text string) string {
	if !c.Color {
		return text
	}
	return color + text + plain
}

// printLabelled writes a word and behind it text, wrapped to the screen.
func (c *call) printLabelled(label, text string) {
	const indent = 10
	for _, line := range wrap(text, c.Width-indent) {
		fmt.Fprintf(c.Out, "  %-*s%s\n", indent-2, label, line)
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
func (c *call) printTable(heads []string, rows [][]string) {
	c.printTableWithin(heads, rows, make([]int, len(heads)))
}

// wrapCell is wrap for a column: also a word that is longer than it is broken, where it
// can behind a sign.
func wrapCell(text string, width int) []string {
	var lines []string
	for _, line := range wrap(text, width) {
		runes := []rune(line)
		for width > 0 && len(runes) > width {
			at := width
			for n := width; n > width/2; n-- {
				if strings.ContainsRune("-/:.,_", runes[n-1]) {
					at = n
					break
				}
			}
			lines, runes = append(lines, string(runes[:at])), runes[at:]
		}
		lines = append(lines, string(runes))
	}
	return lines
}

// say writes a sentence, wrapped to the screen.
func (c *call) say(format string, args ...any) {
	fmt.Fprintln(c.Out, strings.Join(wrap(fmt.Sprintf(format, args...), c.Width), "\n"))
}

// narrowest is how narrow the last column of a table may get; others get half as narrow.
const narrowest = 16

// printTableWithin is printTable with columns that are at most so wide, where not 0;
// what is longer is wrapped within its column.
func (c *call) printTableWithin(heads []string, rows [][]string, most []int) {
	rows = append([][]string{heads}, rows...)
	widths := make([]int, len(heads))
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
			if most[i] > 0 {
				widths[i] = min(widths[i], max(1, most[i]*c.Width/usualWidth))
			}
		}
	}
	last := len(heads) - 1
	left := c.Width - 2
	for _, width := range widths[:last] {
		left -= width + 2
	}
	for left < narrowest { // the widest column gives way
		i := slices.Index(widths[:last], slices.Max(widths[:last]))
		if widths[i] <= narrowest/2 {
			break
		}
		widths[i], left = widths[i]-1, left+1
	}
	widths[last] = max(narrowest, left)
	for _, row := range rows {
		cells := make([][]string, len(row))
		height := 1
		for i, cell := range row {
			cells[i] = wrapCell(cell, widths[i])
			height = max(height, len(cells[i]))
		}
		for n := range height {
			line := "  "
			for i := range row {
				text := ""
				if n < len(cells[i]) {
					text = cells[i][n]
				}
				line += fmt.Sprintf("%-*s  ", widths[i], text)
			}
			fmt.Fprintln(c.Out, strings.TrimRight(line, " "))
		}
	}
}

func (c *call) bold(text string) string { return c.paint(bold, text) }
