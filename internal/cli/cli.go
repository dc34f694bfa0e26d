// Package cli is the commands: they parse flags, call, and print.
package cli

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/term"

	"hollowbridge/internal/netfile"
)

// Exit statuses of every command.
const (
	yes   = 0 // reached, no errors
	no    = 1 // not reached
	wrong = 2 // the call or the file is wrong
)

const defaultFile = "hollowbridge.yaml"

// An Environment is what commands see of the world outside.
type Environment struct {
	Out, Err io.Writer
	Terminal bool // results are read by a person
	Color    bool // results may be coloured
	Progress bool // long work may say how far it is
	Width    int  // columns that outputs may take
	Getenv   func(string) string
	Now      func() time.Time
}

// System returns the environment of this process.
func System() *Environment {
	terminal := term.IsTerminal(int(os.Stdout.Fd()))
	return &Environment{
		Out: os.Stdout, Err: os.Stderr, Getenv: os.Getenv, Now: time.Now, Terminal: terminal,
		Progress: os.Getenv("TERM") != "dumb" && term.IsTerminal(int(os.Stderr.Fd())),
		Width:    screenWidth(),
		Color:    os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb" && terminal,
	}
}

// The columns that outputs take: those of the terminal, within these limits, or usual
// ones where there is none.
const (
	leastWidth = 60
	usualWidth = 100
	mostWidth  = 140
)

func screenWidth() int {
	width, _, err := term.GetSize(int(os.Stdout.Fd()))
	if err != nil || width <= 0 {
		return usualWidth
	}
	return min(max(width, leastWidth), mostWidth)
}

// A command is one of the program's commands.
type command struct {
	name      string
	arguments string // as the usage line shows them
	summary   string // one line
	help      string // for someone who has the problem
	examples  []string
	begin     func(*call) task
}

// A task is a call of one command, with the options that are its own.
type task interface {
	flags(*flag.FlagSet) // declares all that it has
	run() int
}

// A call is a command with its arguments, in its environment, and the options that several commands have: each declares those that
// are its.
type call struct {
	*Environment
	fileOption
	answerOptions
	momentOption
	gatewayOption
	whatIfOptions
	writeOption

	command *command
	args    []string
	all     []string // the command and everything behind it, as it was typed
	remarks []remark // said below what an edit changed
	naming  bool     // interfaces are named in place of addresses that nobody knows

	sketches bool            // edits may be tried on the network file
	sketch   *netfile.Editor // of it, where that is so
}

// commands lists the commands in the order the work is done.
func commands() []*command {
	return []*command{
		demoCommand, initCommand, showCommand, whereCommand,
		addCommand, changeCommand, moveCommand, enableCommand, disableCommand, removeCommand, renameCommand, copyCommand, editCommand, undoCommand,
		checkCommand, traceCommand, reachCommand, expectCommand, compareCommand, proveCommand,
		gatewayCommand, statusCommand, applyCommand, historyCommand, revertCommand, backupCommand, restoreCommand, sessionsCommand, hitsCommand, logCommand, mappingCommand, sendCommand, probeCommand, labCommand,
		completionCommand, versionCommand, helpCommand,
	}
}

func find(name string) *command {
	for _, c := range commands() {
		if c.name == name {
			return c
		}
	}
	return nil
}

// Run runs the command that args name and returns the exit status. Output that is lost,
// on a full disk or to a closed file, is an error of the command.
func Run(args []string, env *Environment) int {
	if env.Width == 0 {
		env.Width = usualWidth
	}
	results := bufio.NewWriterSize(env.Out, 1<<16)
	buffered := *env
	buffered.Out, buffered.Err = &plainText{to: results, color: env.Color}, &plainText{to: behind{results, env.Err}}
	defer buffered.restoreOnInterrupt()()
	status := runCommand(args, &buffered)
	if err := results.Flush(); err != nil {
		fmt.Fprintf(env.Err, "hollowbridge: the output is lost: %s\n", reason(err))
		return wrong
	}
	return status
}

// Behind writes what stands behind results that are still to be written.
type behind struct {
	results *bufio.Writer
	to      io.Writer
}

func (b behind) Write(p []byte) (int, error) {
	b.results.Flush() // an error stays until Run looks
	return b.to.Write(p)
}

// reason returns an error without the names of files that it is about.
func reason(err error) error {
	var at *fs.PathError
	if errors.As(err, &at) {
		return at.Err
	}
	return err
}

// restoreOnInterrupt makes an interrupt leave a clean line and plain colours on a terminal,
// until the function it returns is called.
func (env *Environment) restoreOnInterrupt() (stop func()) {
	if !env.Progress && !env.Color {
		return func() {}
	}
	signals, done := make(chan os.Signal, 1), make(chan struct{})
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	var watching sync.WaitGroup
	watching.Go(func() {
		select {
		case <-done:
		case <-signals:
			if env.Progress {
				fmt.Fprint(env.Err, clearLine)
			}
			if env.Color {
				fmt.Fprint(os.Stdout, sequences[len(sequences)-1])
			}
			os.Exit(interrupted)
		}
	})
	return func() {
		signal.Stop(signals)
		close(done)
		watching.Wait()
	}
}

// interrupted is the exit status after ^C, as shells have it.
const interrupted = 128 + int(syscall.SIGINT)

func runCommand(args []string, env *Environment) int {
	if len(args) == 0 {
		printOverview(env.Err)
		return wrong
	}
	name := args[0]
	switch name {
	case "-h", "-help", "--help":
		name = helpCommand.name
	case "-version", "--version":
		name = versionCommand.name
	}
	c := find(name)
	if c == nil {
		fmt.Fprintf(env.Err, "hollowbridge: %s: no such command%s\n", name, netfile.DidYouMean(name, commandNames()))
		fmt.Fprintln(env.Err, "hollowbridge help lists them.")
		return wrong
	}
	call := &call{Environment: env, command: c, all: args}
	task := c.begin(call)
	switch err := call.parse(task, args[1:]); {
	case errors.Is(err, flag.ErrHelp):
		printHelp(env, c)
		return yes
	case err != nil:
		return call.misused("%s", err)
	case call.forms() > 1:
		return call.misused("-json, -tap and -junit are forms of one answer; give one of them")
	}
	if _, err := readMoment(call.at); err != nil {
		return call.misused("-at %s", err)
	}
	return task.run()
}

// parse reads flags and arguments in any order; what stands behind -- is an argument.
func (c *call) parse(task task, args []string) error {
	set := flagSet(c.command, task)
	for {
		if err := set.Parse(args); err != nil {
			return explainFlag(set, err)
		}
		rest := set.Args()
		if len(rest) == 0 {
			return nil
		}
		if passed := len(args) - len(rest); passed > 0 && args[passed-1] == "--" {
			c.args = append(c.args, rest...)
			return nil
		}
		c.args = append(c.args, rest[0])
		args = rest[1:]
	}
}

// explainFlag adds the near name to the error of an unknown flag.
func explainFlag(set *flag.FlagSet, err error) error {
	name, unknown := strings.CutPrefix(err.Error(), "flag provided but not defined: -")
	if !unknown {
		return err
	}
	var known []string
	set.VisitAll(func(f *flag.Flag) { known = append(known, f.Name) })
	return fmt.Errorf("-%s: no such flag%s", name, netfile.DidYouMean(name, known))
}

// flagSet returns the flags of a command, which set the options of a call of it.
func flagSet(c *command, t task) *flag.FlagSet {
	set := flag.NewFlagSet(c.name, flag.ContinueOnError)
	set.SetOutput(io.Discard)
	t.flags(set)
	return set
}

// misused reports a wrong call.
func (c *call) misused(format string, args ...any) int {
	fmt.Fprintf(c.Err, "hollowbridge %s: %s\n", c.command.name, fmt.Sprintf(format, args...))
	fmt.Fprintf(c.Err, "usage: %s\n", usage(c.command))
	return wrong
}

// failed reports what went wrong apart from the call.
func (c *call) failed(err error) int {
	text := fmt.Sprintf("hollowbridge %s: %s", c.command.name, err)
	fmt.Fprintln(c.Err, strings.Join(wrap(text, c.Width), "\n  "))
	return wrong
}
