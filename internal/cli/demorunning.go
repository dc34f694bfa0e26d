package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/lab"
	"hollowbridge/internal/netfile"
)

// secondHalf runs the gateways of the demo: on the kernel, in namespaces of their own, or, where
// these are forbidden, simulated.
func (c *call) secondHalf(folder, file string) int {
	c.flush()
	status, err := lab.AgainWithFiles([]string{"demo", folder}, os.Stdin, os.Stdout, os.Stderr)
	var forbidden lab.Forbidden
	switch {
	case err == nil:
		return status
	case !errors.As(err, &forbidden):
		return c.failed(err)
	}
	return c.runningDemo(file)
}

// The connections that are made in the demo, and what they are about.
var demoConnections = []question{
	{from: "fronts", to: "rim:fibre", service: "https", sport: 40001},
	{from: "fronts", to: "rim:fibre", service: "https", sport: 40002},
	{from: "remote-observers", to: "rim:fibre", service: "tcp/15900", sport: 40003},
	{from: "10.61.8.40", to: "institute", service: "https", sport: 40004},
	{from: "internet", to: "rim:fibre", service: "https", sport: 40005},
	{from: "internet", to: "rim:fibre", service: "ssh", sport: 40006},
	{from: "remote-observers", to: "rim:fibre", service: "tcp/8443", sport: 40007},
}

// runningDemo is the second half of the demo. In namespaces of its own it runs on the kernel.
func (c *call) runningDemo(file string) int {
	bundle, n, err := netfile.ReadBundle(file)
	if err != nil {
		return c.readFailed(err)
	}
	r, err := c.demoGateways(n)
	if err != nil {
		return c.failed(err)
	}
	defer r.close()
	os.Setenv(gateway.ControlFolder, r.folder)
	where := "on the Linux kernel, in a network of its own"
	if r.Lab == nil {
		where = "simulated, because this machine lets nobody make a network of their own"
		defer os.RemoveAll(r.folder)
	}
	fmt.Fprintf(c.Out, "\n%s\n%s\n", strings.Repeat("=", c.Width), c.bold("The gateways run, "+where+"."))
	changed := filepath.Join(r.folder, "changed.yaml")
	for name, text := range bundle.Lists {
		if err := os.WriteFile(filepath.Join(r.folder, name), []byte(text), 0o644); err != nil {
			return c.failed(err)
		}
	}
	text := strings.Replace(bundle.Text, "    filter:\n", "    filter:\n      - {drop: closed-today, from: fronts, to: archive, service: https, log: true}\n", 1)
	if err := os.WriteFile(changed, []byte(text), 0o644); err != nil {
		return c.failed(err)
	}
	for _, s := range []struct {
		scene
		file string
		send bool
	}{
		{scene{"13. Put it on the gateways, all or none. What does it change, and does what must hold hold?", []string{"apply", "-yes", "-by", "ada", "-note", "first"}}, file, true},
		{scene{"14. Seven connections were made. Who is connected, and as whom?", fields("sessions")}, file, false},
		{scene{"15. Which rules did anything, and which stopped at a later step?", fields("hits -gateway rim -top 7")}, file, false},
		{scene{"16. What was written down, and what is it about?", fields("log -gateway rim -top 6")}, file, false},
		{scene{"17. In a few lines?", fields("log -gateway rim -sum")}, file, false},
		{scene{"18. A rule closes the archive, for a quarter of an hour. What goes on all the same?", fields("apply -yes -anyway -by ada -for 15m -note closed-today")}, changed, false},
		{scene{"19. The old sessions live on, with their translation.", fields("sessions -rule archive-web")}, file, false},
		{scene{"20. Until somebody ends them.", fields("sessions -clear -rule archive-web")}, file, false},
		{scene{"21. Back to how it was before.", fields("revert 1 -yes -by ada")}, file, false},
		{scene{"22. Who did what, and when?", fields("history -gateway rim")}, file, false},
	} {
		if !c.show(s.scene, s.file) {
			return wrong
		}
		if !s.send {
			continue
		}
		if err := c.demoTraffic(r, n, file); err != nil {
			return c.failed(err)
		}
	}
	if !c.demoMappings(r, n, file) {
		return wrong
	}
	fmt.Fprintln(c.Out, "\nThe gateways are stopped, and nothing of them is left.")
	return yes
}

// demoMappings is programs that ask for ports, in the demo.
func (c *call) demoMappings(r *runningLab, n *network.Network, file string) bool {
	for _, s := range []struct {
		at string // the machine whose program it is; empty is the administrator's
		scene
		then *question // a connection that is made afterwards
	}{
		{"spectro", scene{"23. A program on spectro asks for a port of its own.", fields("mapping add tcp/20320 -outside 20500 -for 30m -note spectrograph")}, &question{from: "192.0.2.77", to: "rim:fibre", service: "tcp/20500", sport: 40008}},
		{"night-desk", scene{"24. One on night-desk asks as well, for what it may not have.", fields("mapping add tcp/5900 -by pcp")}, nil},
		{"", scene{"25. Which ports do programs have open, and to whom?", fields("mapping list")}, nil},
		{"", scene{"26. A stranger has been there already.", fields("sessions -rule mapping/tcp/20500")}, nil},
		{"", scene{"27. What can get in to spectro, as it is now?", fields("reach -live -gateway rim -to spectro")}, nil},
		{"spectro", scene{"28. The program is done.", fields("mapping remove tcp/20500")}, nil},
		{"", scene{"29. Who asked for what, and what became of it?", fields("log -gateway rim -top 3")}, nil},
	} {
		if s.at == "" {
			if !c.show(s.scene, file) {
				return false
			}
			continue
		}
		if err := c.showAt(r, n.Host(s.at), s.scene); err != nil {
			c.failed(err)
			return false
		}
		if s.then != nil {
			if err := c.demoConnection(r, walk.Compile(n, nil), *s.then, len(demoConnections)+1, file); err != nil {
				c.failed(err)
				return false
			}
		}
	}
	return true
}

// demoPorts are where a simulated gateway of the demo is asked for mappings, on loopback.
const demoPorts = "25351,21900,25352"

// showAt runs the command of a scene as a program on a machine does.
func (c *call) showAt(r *runningLab, h *network.Host, s scene) error {
	fmt.Fprintf(c.Out, "\n%s\n%s\n", strings.Repeat("-", c.Width), c.bold(s.question))
	fmt.Fprintf(c.Out, "%s$ hollowbridge %s\n\n", h.Name, strings.Join(s.args, " "))
	c.Err.Write(nil)
	self, err := os.Executable()
	if err != nil {
		return err
	}
	args := s.args
	if r.Lab == nil { // where it stands in for the machine
		own := h.Addresses[0].As4()
		args = append(args[:len(args):len(args)], "-from", fmt.Sprintf("127.%d.%d.%d", own[1], own[2], own[3]), "-gateway", fmt.Sprintf("127.%d.%d.1", own[1], own[2]), "-mapping-ports", demoPorts)
	}
	command := exec.Command(self, args...)
	command.Env = []string{"XDG_STATE_HOME=" + filepath.Join(r.folder, "home-of-"+h.Name)}
	var out bytes.Buffer
	command.Stdout, command.Stderr = &out, &out
	if r.Lab == nil {
		err = command.Start()
	} else {
		err = r.Start(h.Name, command)
	}
	if err == nil {
		err = command.Wait()
	}
	c.Out.Write(out.Bytes())
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == no {
		return nil
	}
	return err
}

// demoGateways starts the gateways of the demo.
func (c *call) demoGateways(n *network.Network) (*runningLab, error) {
	if lab.Inside() {
		return c.openLab(n)
	}
	folder, err := os.MkdirTemp("", "hollowbridge-demo")
	if err != nil {
		return nil, err
	}
	r := &runningLab{folder: folder}
	for _, g := range n.Gateways {
		if err := c.runGateway(r, g); err != nil {
			r.close()
			return nil, err
		}
	}
	return r, nil
}

// demoTraffic makes the connections of the demo: by real packets, or through the simulated
// gateways.
func (c *call) demoTraffic(r *runningLab, n *network.Network, file string) error {
	e := walk.Compile(n, nil)
	for i, q := range demoConnections {
		if err := c.demoConnection(r, e, q, i+1, file); err != nil {
			return err
		}
	}
	time.Sleep(200 * time.Millisecond) // until the kernel's log has come
	return nil
}

// demoConnection makes one of them; its number is that of no other.
func (c *call) demoConnection(r *runningLab, e *walk.Engine, q question, number int, file string) error {
	connection, err := q.connection(e)
	if err != nil {
		return err
	}
	if r.Lab != nil {
		return r.Send(connection, number, 300*time.Millisecond).Err
	}
	quiet := *c.Environment
	quiet.Out = &strings.Builder{}
	if runCommand([]string{"send", q.from, q.to, q.service, "-sport", fmt.Sprint(q.sport), "-f", file}, &quiet) == wrong {
		return fmt.Errorf("%s -> %s %s: not sent", q.from, q.to, q.service)
	}
	return nil
}
