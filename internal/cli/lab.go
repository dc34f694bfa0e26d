package cli

import (
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"

	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/lab"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/portmap"
)

var labCommand = &command{
	name: "lab", arguments: "[MACHINE] [-- COMMAND...]",
	summary: "runs a command inside a machine of the network, built on the Linux kernel",
	help: `Builds the network of the file on the Linux kernel of this machine, as prove does: its gateways, its
hosts with what they serve, and the internet. Its gateways run, with the network applied, and every
other command finds them: so a whole change can be tried, with real tools and real packets, before
it touches anything. Then it runs COMMAND, or a shell, inside MACHINE: a host, a gateway, or
internet, where everybody is who has no name.

It needs no root. Nothing outside is touched or reached, and nothing is left behind. What the kernel
can't do as the file says is left out, and said.

Exit status: that of the command; 2 where it can't be run.`,
	examples: []string{"hollowbridge lab archive -- hollowbridge version"},
	begin:    commonly(func(c *call, set *flag.FlagSet) { c.fileFlag(set) }, runLab),
}

func runLab(c *call) int {
	machine, command := c.labWords()
	bundle, n, err := netfile.ReadBundle(c.path())
	if err != nil {
		return c.readFailed(err)
	}
	known := []string{lab.InternetName}
	for _, g := range n.Gateways {
		known = append(known, g.Name)
	}
	for _, h := range n.Hosts {
		known = append(known, h.Name)
	}
	if !slices.Contains(known, machine) {
		return c.misused("%s: there is no such machine%s", machine, netfile.DidYouMean(machine, known))
	}
	if !lab.Inside() {
		status, err := lab.AgainWithFiles(c.all, os.Stdin, os.Stdout, os.Stderr)
		if err != nil {
			return c.failed(err)
		}
		return status
	}
	r, err := c.openLab(n)
	if err != nil {
		return c.failed(err)
	}
	defer r.close()
	for i, service := range r.services {
		if err := applyDirectly(service, bundle); err != nil {
			return c.failed(fmt.Errorf("%s: %w", n.Gateways[i].Name, err))
		}
	}
	if err := c.flush(); err != nil {
		return wrong
	}
	return c.runInside(r, machine, command)
}

// labWords returns the machine and the command that a call of lab names.
func (c *call) labWords() (machine string, command []string) {
	words := c.args
	if at := slices.Index(c.all, "--"); at >= 0 {
		command = c.all[at+1:]
		words = words[:len(words)-len(command)]
	} else if len(words) > 1 {
		words, command = words[:1], words[1:]
	}
	if len(words) == 0 {
		return lab.InternetName, command
	}
	return words[0], command
}

// A runningLab is a lab with its gateways running.
type runningLab struct {
	*lab.Lab
	folder   string
	services []*gateway.Service
	servers  []*gateway.Server
	sends    *http.Server // of commands inside
	serving  sync.WaitGroup
}

// openLab builds a network on the kernel, with its gateways running and nothing in force there yet.
func (c *call) openLab(n *network.Network) (*runningLab, error) {
	folder, err := lab.OwnFolder()
	if err != nil {
		return nil, err
	}
	e := walk.Compile(n, nil)
	built, err := lab.Build(e, n.MomentAt(c.Now()))
	if err != nil {
		return nil, err
	}
	r := &runningLab{Lab: built, folder: folder}
	for _, u := range built.Unable {
		fmt.Fprintln(c.Err, strings.Join(wrap("left out: "+u.Error(), c.Width), "\n  "))
	}
	for _, g := range n.Gateways {
		if err := c.runGateway(r, g); err != nil {
			r.close()
			return nil, fmt.Errorf("%s: %w", g.Name, err)
		}
	}
	if err := r.serveSends(n, func(err error) { fmt.Fprintf(c.Err, "hollowbridge lab: %s\n", err) }); err != nil {
		r.close()
		return nil, err
	}
	return r, nil
}

// within returns what does something where a gateway's sockets are.
func (r *runningLab) within(g *network.Gateway) func(func() error) error {
	if r.Lab == nil {
		return nil
	}
	r.Yield(g)
	return func(do func() error) error { return r.Within(g.Name, do) }
}

// devices returns what sockets for programs that ask for mappings are bound to.
func (r *runningLab) devices() func(*network.Interface) string {
	if r.Lab == nil {
		return nil
	}
	return lab.DeviceOf
}

// applyDirectly puts a network into force on a gateway of this process.
func applyDirectly(service *gateway.Service, bundle *netfile.Bundle) error {
	made, err := service.Prepare(gateway.Proposal{Bundle: bundle})
	if err != nil {
		return err
	}
	_, err = service.Commit(gateway.Commit{Token: made.Token, Author: "lab", Note: "as in " + bundle.File})
	return err
}

// runGateway runs a gateway of a lab: on the kernel, or, where nothing is built there, simulated.
func (c *call) runGateway(r *runningLab, g *network.Gateway) error {
	trouble := func(err error) { fmt.Fprintf(c.Err, "hollowbridge %s: %s: %s\n", c.command.name, g.Name, err) }
	ports := portmap.StandardPorts
	if r.Lab == nil {
		ports, _ = parsePorts(demoPorts)
	} else if err := r.Unprogram(g.Name); err != nil { // what runs there is up to its service
		return err
	}
	service, err := gateway.Start(gateway.Options{
		Gateway: g.Name, Folder: filepath.Join(r.folder, g.Name), Program: version, Keeping: gateway.UsualKeeping, Trouble: trouble,
		Asking: ports, Loopback: r.Lab == nil, Within: r.within(g), Device: r.devices(),
		Backend: func(recorder gateway.Recorder) (gateway.Backend, error) {
			if r.Lab == nil {
				return gateway.NewSimulated(recorder), nil
			}
			return gateway.NewKernel(recorder, gateway.KernelOptions{Namespace: r.Space(g.Name), Device: lab.DeviceOf, Lab: true, Trouble: trouble})
		},
	})
	if err != nil {
		return err
	}
	r.services = append(r.services, service)
	listener, err := gateway.Endpoint{Socket: filepath.Join(r.folder, g.Name+".sock")}.Listen()
	if err != nil {
		return err
	}
	server := gateway.NewServer(service)
	r.servers = append(r.servers, server)
	r.serving.Go(func() {
		if err := server.Serve(listener); err != nil {
			trouble(err)
		}
	})
	return nil
}

func (r *runningLab) close() {
	for _, server := range r.servers {
		server.Shutdown()
	}
	if r.sends != nil {
		r.sends.Close()
	}
	r.serving.Wait()
	for _, service := range r.services {
		service.Stop(false)
	}
	if r.Lab != nil {
		r.Close()
	}
}

// runInside runs a command inside a machine of a lab, and returns its exit status.
func (c *call) runInside(r *runningLab, machine string, command []string) int {
	if len(command) == 0 {
		shell := c.Getenv("SHELL")
		if shell == "" {
			shell = "/bin/sh"
		}
		command = []string{shell}
	}
	if command[0] == "hollowbridge" { // also where it is not installed
		if self, err := os.Executable(); err == nil {
			command = slices.Concat([]string{self}, command[1:])
		}
	}
	inner := exec.Command(command[0], command[1:]...)
	inner.Stdin, inner.Stdout, inner.Stderr = os.Stdin, os.Stdout, os.Stderr
	file, err := filepath.Abs(c.path())
	if err != nil {
		return c.failed(err)
	}
	inner.Env = append(slices.DeleteFunc(os.Environ(), func(s string) bool { return strings.HasPrefix(s, "HOLLOWBRIDGE_") }),
		gateway.ControlFolder+"="+r.folder, "HOLLOWBRIDGE_FILE="+file, "PS1="+machine+"$ ")
	inner.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, os.Interrupt) // ^C is for the command
	defer signal.Stop(signals)
	if err := r.Start(machine, inner); err != nil {
		return c.failed(err)
	}
	var exit *exec.ExitError
	switch err := inner.Wait(); {
	case err == nil:
		return yes
	case errors.As(err, &exit) && exit.ExitCode() >= 0:
		return exit.ExitCode()
	default:
		return c.failed(err)
	}
}
