package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"hollowbridge/examples"
	"hollowbridge/internal/lab"
	"hollowbridge/internal/netfile"
)

var demoCommand = &command{
	name: "demo", arguments: "[FOLDER]",
	summary: "writes the example network to a folder and walks the job on it",
	help: `Writes the example network, Fernhollow, to FOLDER (./fernhollow where none is named) and then
runs the commands an administrator would run, one after the other, each under the question it
answers. Files that are there already are left as they are.

In the second half the gateways run, on the Linux kernel where the machine allows networks of one's
own, else simulated: the network is applied, connections are made, sessions, hits and log looked
at, a rule is changed, and everything is taken back and stopped. Nothing of it is left behind.`,
	examples: []string{"hollowbridge demo", "hollowbridge demo another-folder"},
}

func init() { demoCommand.begin = commonly(noFlags, runDemo) } // it runs other commands, which are found in the list that names it

// A scene is one command of the demo and the question it answers.
type scene struct {
	question string
	args     []string
}

var scenes = []scene{
	{"Is the network file right, and what is probably a mistake?", fields("check")},
	{"What does the network look like?", fields("show map")},
	{"What can get in from the internet?", fields("reach")},
	{"Does everything hold that must hold?", fields("expect")},
	{"A machine beside the uplink hands the gateway a packet for the log box. Does it get in?",
		[]string{"trace", "beside rim:fibre", "log-box", "syslog"}},
	{"1. A front server asks for the archive. Does it get there, and does the answer get back?",
		fields("trace fronts rim:fibre https")},
	{"2. A stranger asks for the same. What stops it?",
		fields("trace internet rim:fibre https")},
	{"3. The weather page has a forward. Why does nobody see it, and what would mend it?",
		fields("trace internet rim:fibre tcp/8081")},
	{"4. Someone tries plain http. Nothing is in the log, nothing in the session list: where is it?",
		fields("trace internet rim:fibre http")},
	{"5. An observer wants a shell on the archive. Forward and filter match, and yet?",
		fields("trace remote-observers rim:fibre tcp/2222")},
	{"6. An observer opens the night desk's screen, by a relay on the desk itself.",
		fields("trace remote-observers rim:fibre tcp/15900")},
	{"7. Someone of the staff uses the archive's public address from inside.",
		fields("trace log-box rim:fibre https")},
	{"8. A visitor whose pass has lapsed opens a web page, and sees the notice.",
		fields("trace lapsed-passes institute http")},
	{"9. A VPN client fetches a page: it comes in by fibre and leaves by it again.",
		fields("trace 10.61.64.9 institute https")},
	{"10. Can the archive be reached by the backup link?",
		fields("trace internet rim:radio https")},
	{"11. The hut's page is forwarded and permitted. Observers see nothing: did the answer get lost?",
		fields("trace remote-observers rim:fibre tcp/8443")},
	{"12. The telescope has an outside address of its own, and stands behind two firewalls.",
		fields("trace remote-observers 198.51.100.20 telescope")},
}

func fields(text string) []string { return strings.Fields(text) }

func runDemo(c *call) int {
	if len(c.args) > 1 {
		return c.misused("one folder at a time")
	}
	folder := "fernhollow"
	if len(c.args) == 1 {
		folder = c.args[0]
	}
	if !lab.Inside() {
		if err := c.writeExample(folder); err != nil {
			return c.failed(err)
		}
	}
	file := filepath.Join(folder, defaultFile)
	if lab.Inside() {
		return c.runningDemo(file)
	}
	for _, s := range scenes {
		if !c.show(s, file) {
			return wrong
		}
	}
	if status := c.secondHalf(folder, file); status != yes {
		return status
	}
	fmt.Fprintf(c.Out, "\n%s\nGo on: cd %s, change hollowbridge.yaml, and ask again. hollowbridge help lists the commands.\n",
		strings.Repeat("-", c.Width), folder)
	return yes
}

// show runs the command of a scene under its question. It returns false where it was called wrong.
func (c *call) show(s scene, file string) bool {
	fmt.Fprintf(c.Out, "\n%s\n%s\n", strings.Repeat("-", c.Width), c.bold(s.question))
	var typed []string
	for _, arg := range s.args {
		typed = append(typed, netfile.Quoted(arg))
	}
	fmt.Fprintf(c.Out, "$ hollowbridge %s -f %s\n\n", strings.Join(typed, " "), file)
	c.Err.Write(nil) // what is printed so far can be read meanwhile
	return runCommand(append(s.args[:len(s.args):len(s.args)], "-f", file), c.Environment) != wrong
}

// writeExample writes the example's files, and leaves those that exist. Each is there
// whole or not at all; where one can't be written, those before it are taken away again.
func (c *call) writeExample(folder string) (err error) {
	_, err = os.Stat(folder)
	fresh := errors.Is(err, fs.ErrNotExist)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	var written []string
	defer func() {
		if err == nil {
			return
		}
		for _, path := range written {
			os.Remove(path)
		}
		if fresh {
			os.Remove(folder)
		}
	}()
	err = fs.WalkDir(examples.Fernhollow, "fernhollow", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := examples.Fernhollow.ReadFile(path)
		if err != nil {
			return err
		}
		target := filepath.Join(folder, entry.Name())
		switch err := netfile.WriteNew(target, data); {
		case errors.Is(err, fs.ErrExist):
			fmt.Fprintf(c.Out, "%s is there already and is left as it is\n", target)
			return nil
		case err != nil:
			return err
		}
		written = append(written, target)
		return nil
	})
	if err != nil {
		return err
	}
	for _, path := range written {
		fmt.Fprintf(c.Out, "wrote %s\n", path)
	}
	return nil
}
