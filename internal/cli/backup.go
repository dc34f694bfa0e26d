package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"hollowbridge/internal/gateway"
)

var backupCommand = &command{
	name: "backup", arguments: "FILE",
	summary: "writes what a running gateway remembers to a file",
	help: `Writes the state of a running gateway to FILE, as it is at that moment: revisions with their network
files, what rules have counted, the mappings that programs have, and the log. The gateway goes on
meanwhile. Only its owner may read the file, and one that is there already is left alone. restore
takes it back.`,
	begin: commonly(func(c *call, set *flag.FlagSet) {
		c.fileFlag(set)
		c.onlyFlag(set)
	}, runBackup),
}

var restoreCommand = &command{
	name: "restore", arguments: "FILE",
	summary: "gives a running gateway back what backup wrote",
	help: `Gives a running gateway the state in FILE, also one on a new machine: its revisions, counts,
mappings and log are those of the file then, and the revision in force is the last one there. Before
it does, it says and asks the same as apply. The rules in the kernel go over from one revision to
the other at once. What the gateway had is kept beside its state, as before-restore.sqlite.

Exit status: as apply.`,
	begin: func(c *call) task { return &restoreCall{call: c} },
}

// A restoreCall is a call of restore.
type restoreCall struct {
	*call
	options applyOptions
}

func (c *restoreCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.onlyFlag(set)
	c.options.safetyFlags(c.call, set)
}

// onlyOne returns what asks the one gateway that is meant, or nil after it has said what is wrong.
func (c *call) onlyOne() *gateway.Client {
	list := c.running()
	if len(list) > 1 {
		c.misused("one of %s, named with -gateway", strings.Join(names(list), ", "))
		return nil
	}
	if len(list) == 0 {
		return nil
	}
	return list[0]
}

func runBackup(c *call) int {
	if len(c.args) != 1 {
		return c.misused("it needs the name of one file")
	}
	client := c.onlyOne()
	if client == nil {
		return wrong
	}
	path := c.args[0]
	if _, err := os.Lstat(path); !errors.Is(err, fs.ErrNotExist) {
		return c.failed(fmt.Errorf("%s is there already, and is left alone", path))
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".backup")
	if err != nil {
		return c.failed(fmt.Errorf("%s: no file can be made in this folder: %w", filepath.Dir(path), errors.Unwrap(err)))
	}
	defer os.Remove(f.Name())
	err = client.Backup(context.Background(), f)
	c.clearProgress()
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Link(f.Name(), path) // which takes nobody's place
	}
	if err != nil {
		return c.failed(err)
	}
	name, r, err := gateway.ReadBackup(path)
	if err != nil {
		return c.failed(err)
	}
	fmt.Fprintf(c.Out, "%s: the state of %s, with %s\n", path, name, inForceText(r))
	return yes
}

func inForceText(r gateway.Revision) string {
	if r.Number == 0 {
		return "nothing in force yet"
	}
	return fmt.Sprintf("revision %d in force, of %s by %s", r.Number, whenText(r.Time), r.Author)
}

func (c *restoreCall) run() int {
	if len(c.args) != 1 {
		return c.misused("it needs the name of one file")
	}
	path := c.args[0]
	client := c.onlyOne()
	if client == nil {
		return wrong
	}
	name, r, err := gateway.ReadBackup(path)
	switch {
	case err != nil:
		return c.failed(err)
	case name != client.Gateway:
		return c.failed(fmt.Errorf("%s is a backup of %s, not of %s", path, name, client.Gateway))
	case r.Bundle == nil:
		return c.failed(fmt.Errorf("%s: nothing is in force in it", path))
	}
	r.Bundle.File = fmt.Sprintf("%s@%d", path, r.Number)
	n, err := r.Bundle.Network()
	if err != nil {
		return c.failed(err)
	}
	fmt.Fprintf(c.Out, "%s: %s\n", path, inForceText(r))
	a := &application{call: c.call, options: &c.options, bundle: r.Bundle, network: n}
	a.instead = func() int { return a.restore(client, path, r) }
	if status := a.look([]*gateway.Client{client}); status != yes {
		return status
	}
	return a.proceed()
}

// restoring is how long a gateway takes at most to start again.
const restoring = time.Minute

// restore gives a gateway a backup, and waits until it has started with it.
func (a *application) restore(client *gateway.Client, path string, r gateway.Revision) int {
	before, err := client.Status(context.Background())
	if err != nil {
		return a.failed(err)
	}
	f, err := os.Open(path)
	if err != nil {
		return a.failed(err)
	}
	defer f.Close()
	err = client.Restore(context.Background(), f)
	a.clearProgress()
	if err != nil {
		return a.failed(err)
	}
	for until := time.Now().Add(restoring); time.Now().Before(until); time.Sleep(50 * time.Millisecond) {
		now, err := client.Status(context.Background())
		if err != nil || now.Since.Equal(before.Since) {
			continue
		}
		if now.Revision == nil || !now.Revision.Time.Equal(r.Time) && now.Revision.Number <= r.Number {
			return a.failed(fmt.Errorf("%s could not start with it, and runs with what it had before; its own messages say why", client.Gateway))
		}
		fmt.Fprintf(a.Out, "%s  %s runs revision %d\n", a.green("restored"), client.Gateway, now.Revision.Number)
		return yes
	}
	return a.failed(fmt.Errorf("%s has the backup, and has not started again within a minute", client.Gateway))
}
