package cli

import (
	"flag"
	"fmt"
	"io"
	"runtime/debug"
	"strings"
)

var helpCommand = &command{
	name: "help", arguments: "[COMMAND | words]",
	summary: "lists the commands, or explains one, or words that it uses",
	help: `Explains a command: what it is for, its flags, and examples that run as they stand in the
folder that demo makes. help words says in a line each what words in answers mean: itself, told,
near, stopped and others.`,
	examples: []string{"hollowbridge help words"},
}

var versionCommand = &command{
	name:    "version",
	summary: "prints the version of the program",
	help:    "Prints the version of the program, the Go it was built with, and the platform.",
	examples: []string{
		"hollowbridge version",
	},
	begin: commonly(noFlags, runVersion),
}

func init() { helpCommand.begin = commonly(noFlags, runHelp) } // it reads the list of commands, which names it

func runHelp(c *call) int {
	switch len(c.args) {
	case 0:
		printOverview(c.Out)
		return yes
	case 1:
		if c.args[0] == "words" {
			printWords(c.Out, c.Width)
			return yes
		}
		asked := find(c.args[0])
		if asked == nil {
			return c.misused("%s: no such command", c.args[0])
		}
		printHelp(c.Environment, asked)
		return yes
	}
	return c.misused("one command at a time")
}

func printOverview(w io.Writer) {
	fmt.Fprint(w, `Hollow Bridge traces connections through gateways: how they are translated, whether
they get to the service, and where they end if not.

usage: hollowbridge COMMAND [FLAGS] [ARGUMENTS]

`)
	for _, c := range commands() {
		fmt.Fprintf(w, "  %-10s %s\n", c.name, c.summary)
	}
	fmt.Fprintln(w, `
hollowbridge help COMMAND explains one, help words what words mean. A first look: hollowbridge demo
Exit status: 0 yes, 1 no, 2 the call or the file is wrong.`)
}

// flagUsage returns the word for a flag's value, and what the flag does.
func flagUsage(f *flag.Flag) (name, text string) {
	name, text = flag.UnquoteUsage(f)
	return strings.ToUpper(name), text
}

func usage(c *command) string {
	parts := []string{"hollowbridge", c.name}
	var flags []string
	flagSet(c, c.begin(&call{})).VisitAll(func(f *flag.Flag) {
		name, _ := flagUsage(f)
		flags = append(flags, "["+strings.TrimSpace("-"+f.Name+" "+name)+"]")
	})
	if len(flags) > 7 {
		flags = []string{"[FLAGS]"}
	}
	parts = append(parts, flags...)
	if c.arguments != "" {
		parts = append(parts, c.arguments)
	}
	return strings.Join(parts, " ")
}

func printHelp(env *Environment, c *command) {
	w := env.Out
	fmt.Fprintf(w, "hollowbridge %s: %s\n\nusage: %s\n\n%s\n", c.name, c.summary, usage(c), fitted(c.help, env.Width))
	first := true
	flagSet(c, c.begin(&call{})).VisitAll(func(f *flag.Flag) {
		if first {
			fmt.Fprintln(w, "\nflags:")
			first = false
		}
		name, text := flagUsage(f)
		head := strings.TrimSpace("-" + f.Name + " " + name)
		if len(head) > 20 {
			fmt.Fprintf(w, "  %s\n", head)
			head = ""
		}
		for _, line := range wrap(text, env.Width-24) {
			fmt.Fprintf(w, "  %-20s  %s\n", head, line)
			head = ""
		}
	})
	if len(c.examples) > 0 {
		fmt.Fprintln(w, "\nexamples:")
		for _, e := range c.examples {
			fmt.Fprintln(w, "  "+e)
		}
	}
}

// fitted breaks the paragraphs of a text anew where they are wider than the screen.
func fitted(text string, width int) string {
	paragraphs := strings.Split(text, "\n\n")
	for i, p := range paragraphs {
		if width < usualWidth && !strings.Contains(p, "\n ") {
			paragraphs[i] = strings.Join(wrap(p, width), "\n")
		}
	}
	return strings.Join(paragraphs, "\n\n")
}

// version is set when a release is built.
var version = "0.1"

func runVersion(c *call) int {
	if len(c.args) > 0 {
		return c.misused("it takes no arguments")
	}
	text := "hollowbridge " + version
	if info, ok := debug.ReadBuildInfo(); ok {
		text += ", built with " + info.GoVersion
	}
	fmt.Fprintln(c.Out, text)
	return yes
}
