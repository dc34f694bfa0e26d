package cli

import (
	"bufio"
	"cmp"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"

	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
)

var editCommand = &command{
	name: "edit", arguments: "FILE",
	summary: "makes several edits, all of them or none",
	help: `Makes the edits that stand in a file, or on standard input (-): a line each, as they are typed:
add, change, copy, move, rename, enable, disable or remove and what goes with it. They may begin
with "hollowbridge", stand in quotes, go on behind a \ at the end of a line, or be joined by &&, as
repairs are printed; what stands behind # is for people.

Either all of them are made or, where one can't be, none. What they open and close is said of all of
them together; undo takes them back together.`,
	examples: []string{"hollowbridge edit changes.txt -dry-run"},
	begin:    commonly(editsFlags, runEdits),
}

var undoCommand = &command{
	name:    "undo",
	summary: "takes back the last edit of the file",
	help: `Takes back what the last edit changed, byte for byte, and, called again, the one before: the last 20
edits of a file can be taken back, by whichever command they were made. Where the file was changed
since by hand or by another program, nothing is written.`,
	examples: []string{"hollowbridge undo -dry-run"},
	begin:    commonly(editsFlags, runUndo),
}

// editsFlags are those of commands that edit several things, or the file.
func editsFlags(c *call, set *flag.FlagSet) {
	c.writeFlags(set)
	c.timesFlag(set)
}

func runUndo(c *call) int {
	if len(c.args) > 0 {
		return c.misused("%s: not expected; name the file with -f", c.args[0])
	}
	if c.path() == netfile.StandardInput {
		return c.misused("what came from standard input has no edits to take back")
	}
	e, err := netfile.EditWrong(c.path())
	if err != nil {
		return c.readFailed(err)
	}
	defer e.Close()
	if err := e.Undo(); errors.Is(err, netfile.ErrNothingToUndo) {
		fmt.Fprintf(c.Err, "%s: %s\n", c.path(), err)
		return no
	} else if err != nil {
		return c.failed(err)
	}
	return c.finish(e, nil)
}

// mostEdits is how many edits one call may make.
const mostEdits = 1000

func runEdits(c *call) int {
	if len(c.args) != 1 {
		return c.misused("it needs a FILE with an edit a line, or - for standard input")
	}
	name, in := "standard input", io.Reader(os.Stdin)
	if c.args[0] != "-" {
		f, err := os.Open(c.args[0])
		if err != nil {
			return c.failed(err)
		}
		defer f.Close()
		name, in = c.args[0], f
	} else if c.path() == netfile.StandardInput {
		return c.misused("standard input can't be both the network and the edits")
	}
	lines, err := editLines(in)
	if err != nil {
		return c.failed(fmt.Errorf("%s: %w", name, err))
	}
	var calls []*editCall
	var edits []network.Edit
	var wrongs []error
	for _, line := range lines {
		one, edit, err := c.lineOf(line.words)
		if err != nil {
			wrongs = append(wrongs, fmt.Errorf("%s:%d: %w", name, line.number, err))
			continue
		}
		calls, edits = append(calls, one), append(edits, edit)
	}
	if len(wrongs) > 0 {
		for _, bad := range wrongs {
			c.failed(bad)
		}
		fmt.Fprintf(c.Err, "%s. Nothing was written.\n", count(len(wrongs), "error"))
		return wrong
	}
	if len(edits) == 0 {
		return c.failed(fmt.Errorf("%s: there is no edit in it", name))
	}
	return c.edit(func(e *netfile.Editor) error {
		at := func(i int, err error) error {
			if err != nil {
				return fmt.Errorf("%s:%d: %w; nothing was written", name, lines[i].number, err)
			}
			return nil
		}
		for i, one := range calls {
			do := one.make
			if !one.options.allow { // what it does is seen when all are made
				do = func(e *netfile.Editor, edit network.Edit) error { return e.Apply(edit) }
			}
			if err := at(i, do(e, edits[i])); err != nil {
				return err
			}
		}
		if _, err := e.Network(); err != nil { // which is told where it is written
			return nil
		}
		for i, one := range calls {
			if !one.options.allow {
				if err := at(i, one.after(e, edits[i])); err != nil {
					return err
				}
			}
			c.remarks = append(c.remarks, one.remarks...)
		}
		return nil
	})
}

// lineOf reads an edit that stands on a line.
func (c *call) lineOf(words []string) (*editCall, network.Edit, error) {
	if words[0] == "hollowbridge" {
		words = words[1:]
	}
	var verbs []string
	var verb *command
	for _, known := range []*command{addCommand, changeCommand, moveCommand, enableCommand, disableCommand, removeCommand, renameCommand, copyCommand} {
		if verbs = append(verbs, known.name); len(words) > 0 && known.name == words[0] {
			verb = known
		}
	}
	if verb == nil {
		word := strings.Join(words[:min(len(words), 1)], "")
		return nil, network.Edit{}, fmt.Errorf("%s: this is no edit%s", word, cmp.Or(netfile.DidYouMean(word, verbs), "; there are "+strings.Join(verbs, ", ")))
	}
	typed := &call{Environment: c.Environment, command: verb, all: words}
	one := verb.begin(typed).(*editCall)
	if err := typed.parse(one, words[1:]); err != nil {
		return nil, network.Edit{}, err
	}
	if one.file != "" && one.file != c.path() || one.json || one.dryRun {
		return nil, network.Edit{}, fmt.Errorf("-f, -json and -dry-run are given to edit itself")
	}
	one.file = c.file
	edit, err := one.editAsked()
	return one, edit, err
}

// An editLine is the words of one edit, and the line that it begins on.
type editLine struct {
	number int
	words  []string
}

// editLines reads edits as a shell takes them apart: words, quotes, \, # and &&.
func editLines(in io.Reader) ([]editLine, error) {
	scanner := bufio.NewScanner(in)
	scanner.Buffer(nil, 1<<20)
	var list []editLine
	number, begins, text := 0, 0, ""
	for scanner.Scan() {
		number++
		if text == "" {
			begins = number
		}
		line, goesOn := strings.CutSuffix(strings.TrimRight(scanner.Text(), " \t\r"), "\\")
		if text += line; goesOn {
			text += " "
			continue
		}
		parts, err := editWords(text)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", begins, err)
		}
		for _, words := range parts {
			list = append(list, editLine{begins, words})
		}
		if len(list) > mostEdits {
			return nil, fmt.Errorf("more than %d edits; make them in several calls", mostEdits)
		}
		text = ""
	}
	if err := scanner.Err(); err != nil {
		return nil, fmt.Errorf("line %d: %w", number+1, err)
	}
	if text != "" {
		return nil, fmt.Errorf("line %d: it goes on behind \\, but nothing comes", begins)
	}
	return list, nil
}

// editWords takes a line apart: words, with what stands between && in lists of its own.
func editWords(text string) (lists [][]string, err error) {
	var words []string
	var word strings.Builder
	inWord, quote := false, rune(0)
	end := func() {
		if inWord {
			words = append(words, word.String())
		}
		word.Reset()
		inWord = false
	}
	runes := []rune(text)
	for i := 0; i < len(runes); i++ {
		switch c := runes[i]; {
		case quote == '\'' && c != quote, quote == '"' && c != quote && c != '\\':
			word.WriteRune(c)
		case quote != 0 && c == quote:
			quote = 0
		case c == '\\' && i+1 < len(runes):
			i++
			word.WriteRune(runes[i])
			inWord = true
		case c == '\'' || c == '"':
			quote, inWord = c, true
		case c == ' ' || c == '\t':
			end()
		case c == '#' && !inWord:
			i = len(runes)
		case c == '&' && !inWord && i+1 < len(runes) && runes[i+1] == '&':
			i++
			lists, words = append(lists, words), nil
		default:
			word.WriteRune(c)
			inWord = true
		}
	}
	if quote != 0 {
		return nil, fmt.Errorf("a quote %c is not closed", quote)
	}
	if end(); len(words) > 0 {
		lists = append(lists, words)
	}
	for _, list := range lists {
		if len(list) == 0 {
			return nil, fmt.Errorf("&& stands between two edits")
		}
	}
	return lists, nil
}
