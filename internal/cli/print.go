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

// say writes a sentence, wrapped to the screen.
func (c *call) say(format string, args ...any) {
	fmt.Fprintln(c.Out, strings.Join(wrap(fmt.Sprintf(format, args...), c.Width), "\n"))
}

// narrowest is how narrow the last column of a table may get; others get half as narrow.
const narrowest = 16

// printTableWithin is printTable with columns that are at most so wide, where not 0; what is longer is wrapped within its
// column. A word is never broken: where the words are too long for the screen, all but the first columns stand below them.
func (c *call) printTableWithin(heads []string, rows [][]string, most []int) {
	widths, words := make([]int, len(heads)), make([]int, len(heads))
	for _, row := range append([][]string{heads}, rows...) {
		for i, cell := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
			for word := range strings.FieldsSeq(cell) {
				words[i] = max(words[i], utf8.RuneCountInString(word))
			}
		}
	}
	for i := range widths {
		if most[i] > 0 {
			widths[i] = min(widths[i], max(most[i]*c.Width/usualWidth, words[i]))
		}
	}
	last := len(heads) - 1
	left := c.Width - 2
	for _, width := range widths[:last] {
		left -= width + 2
	}
	for left < max(narrowest, words[last]) { // the widest column that can gives way
		widest := -1
		for i, width := range widths[:last] {
			if width > max(words[i], narrowest/2) && (widest < 0 || width > widths[widest]) {
				widest = i
			}
		}
		if widest < 0 {
			break
		}
		widths[widest], left = widths[widest]-1, left+1
	}
	if left < max(words[last], narrowest/2) {
		c.printBelow(heads, rows)
		return
	}
	widths[last] = left
	for _, row := range append([][]string{heads}, rows...) {
		c.printCells("  ", row, widths, nil)
	}
}

// printCells writes a row, each cell wrapped within its column; columns of numbers stand to the right.
func (c *call) printCells(indent string, row []string, widths []int, numbers []bool) {
	cells := make([][]string, len(row))
	height := 1
	for i, cell := range row {
		cells[i] = wrap(cell, widths[i])
		height = max(height, len(cells[i]))
	}
	for n := range height {
		line := indent
		for i := range row {
			text := ""
			if n < len(cells[i]) {
				text = cells[i][n]
			}
			width := -widths[i]
			if numbers != nil && numbers[i] {
				width = widths[i]
			}
			line += fmt.Sprintf("%*s  ", width, text)
		}
		fmt.Fprintln(c.Out, strings.TrimRight(line, " "))
	}
}

// printBelow writes each row of a table as some lines: on the first what stands in the first columns, as many as fit, and below it what
// is in each of the others, by name.
func (c *call) printBelow(heads []string, rows [][]string) {
	wide, first := 0, 0
	widths := make([]int, len(heads))
	for i := range heads {
		for _, row := range append([][]string{heads}, rows...) {
			widths[i] = max(widths[i], utf8.RuneCountInString(row[i]))
		}
		if wide += widths[i] + 2; wide > c.Width && i > 0 {
			break
		}
		first = i + 1
	}
	label := 0
	for _, head := range heads[first:] {
		label = max(label, utf8.RuneCountInString(head))
	}
	c.printCells("  ", heads[:first], widths[:first], nil)
	for _, row := range rows {
		c.printCells("  ", row[:first], widths[:first], nil)
		for i := first; i < len(heads); i++ {
			if row[i] == "" {
				continue
			}
			indent := strings.Repeat(" ", 6+label+2)
			fmt.Fprintf(c.Out, "      %-*s  %s\n", label, heads[i], strings.Join(wrap(row[i], c.Width-len(indent)), "\n"+indent))
		}
	}
}

// A form of a table has some of its columns, of which one is wrapped where that is needed, and the rest of a row below it.
type form struct {
	columns []string
	wraps   string
	below   func(row []string) string // nil where nothing is left
}

// printFitted writes rows, the first of which are their heads, in the first form that fits the screen, or in the last. Columns of numbers,
// named by their heads, stand to the right.
func (c *call) printFitted(rows [][]string, numbers []string, forms ...form) {
	heads := rows[0]
	forms = append([]form{{columns: heads}}, forms...)
	for n, f := range forms {
		picked := make([][]string, len(rows))
		widths, right := make([]int, len(f.columns)), make([]bool, len(f.columns))
		wide, longest := -2, 0
		for k, head := range f.columns {
			at := slices.Index(heads, head)
			right[k] = slices.Contains(numbers, head)
			for i, row := range rows {
				picked[i] = append(picked[i], row[at])
				widths[k] = max(widths[k], utf8.RuneCountInString(row[at]))
				for word := range strings.FieldsSeq(row[at]) {
					if head == f.wraps {
						longest = max(longest, utf8.RuneCountInString(word))
					}
				}
			}
			wide += widths[k] + 2
		}
		if k := slices.Index(f.columns, f.wraps); k >= 0 && wide > c.Width {
			narrow := max(widths[k]-(wide-c.Width), longest)
			wide, widths[k] = wide-widths[k]+narrow, narrow
		}
		if wide > c.Width && n < len(forms)-1 {
			continue
		}
		indent := ""
		for k := 0; k < slices.Index(f.columns, f.wraps); k++ {
			indent += strings.Repeat(" ", widths[k]+2)
		}
		for i, row := range picked {
			c.printCells("", row, widths, right)
			if f.below != nil && i > 0 {
				fmt.Fprintf(c.Out, "%s%s\n", indent, strings.Join(wrap(f.below(rows[i]), c.Width-len(indent)), "\n"+indent))
			}
		}
		return
	}
}

func (c *call) bold(text string) string { return c.paint(bold, text) }
