package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net"
	"os"
	"strings"
	"sync"
	"time"

	"hollowbridge/core/network"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/kernel"
	"hollowbridge/internal/netfile"
)

var gatewayCommand = &command{
	name: "gateway", arguments: "NAME -state FOLDER",
	summary: "runs a gateway, on the Linux kernel of this machine or simulated",
	help: `Runs the gateway NAME: puts what apply sends it into force, remembers revisions, counts what rules
do, and writes down what it is told to. What it remembers is in one file in the folder of -state,
and is there after a restart, also after a power cut. It starts with the revision that was last in
force; before the first apply nothing is touched.

-on kernel programs the packet tables of this machine: one table of our own, and the outside
addresses of rules on its devices, and nothing else. -on simulated decides about the packets that
send puts before it, as the kernel would.

-early puts the rules that were last in force into the kernel and ends: before the network comes, so
that a machine that starts forwards nothing without rules. Where they are not known, nothing is
forwarded, and it says why.

The commands find it by control: of the gateway in the network file, a Unix socket or an address
with TLS and a token; without it, by a socket in the usual place of this machine. SIGTERM stops it;
the rules stay in force, unless -clear takes them and these addresses away. docs/gateway.md has a
systemd unit.`,
	begin: func(c *call) task { return &gatewayCall{call: c} },
}

// A gatewayCall is a call of gateway.
type gatewayCall struct {
	*call
	options struct {
		state, on, age, authorities, ports string
		most                               int64
		clear, early, loopback             bool
	}
}

func (c *gatewayCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	set.StringVar(&c.options.state, "state", "", "the `FOLDER` of what it remembers; it is made where it is not there")
	set.StringVar(&c.options.on, "on", "kernel", "`WHERE` it runs: kernel or simulated")
	set.BoolVar(&c.options.clear, "clear", false, "take the rules away when it stops")
	set.Int64Var(&c.options.most, "events", gateway.UsualKeeping.Most, "how many `EVENTS` it keeps")
	portsFlag(set, &c.options.ports)
	set.BoolVar(&c.options.loopback, "mapping-on-loopback", false, "simulated, let programs ask on loopback: the gateway 10.61.8.1 at 127.61.8.1, from 127.61.8.X as 10.61.8.X")
	set.StringVar(&c.options.authorities, "collector-authorities", "", "a `FILE` with the certificates by which a collector of syslog over TLS is known, in place of the machine's")
	set.BoolVar(&c.options.early, "early", false, "put the rules that were last in force into the kernel, and end: for the machine's start, before its network")
	set.StringVar(&c.options.age, "events-for", "30d", "how `LONG` it keeps them, as 12h or 30d")
}

// backends are what a gateway can run on.
var backends = map[string]func(gateway.Recorder, func(error)) (gateway.Backend, error){
	"simulated": func(r gateway.Recorder, _ func(error)) (gateway.Backend, error) { return gateway.NewSimulated(r), nil },
	"kernel": func(r gateway.Recorder, trouble func(error)) (gateway.Backend, error) {
		return gateway.NewKernel(r, gateway.KernelOptions{Trouble: trouble})
	},
}

// devices say what sockets for programs that ask for mappings are bound to.
var devices = map[string]func(*network.Interface) string{"kernel": kernel.DeviceOf}

func (c *gatewayCall) run() int {
	o := &c.options
	age, err := network.ParseLifetime(o.age)
	ports, err2 := parsePorts(o.ports)
	switch {
	case len(c.args) != 1:
		return c.misused("it needs the name of one gateway")
	case o.state == "":
		return c.misused("it needs -state FOLDER, where it remembers what is in force")
	case backends[o.on] == nil:
		return c.misused("-on %s: there are kernel and simulated", o.on)
	case o.most < 1:
		return c.misused("-events %d: at least 1", o.most)
	case err != nil:
		return c.misused("-events-for %s", err)
	case o.early && (o.on != "kernel" || o.clear):
		return c.misused("-early is for the kernel, and ends at once: -on and -clear don't go with it")
	case o.loopback && o.on != "simulated":
		return c.misused("-mapping-on-loopback is for a gateway that is simulated")
	case err2 != nil:
		return c.misused("%s", err2)
	}
	name := c.args[0]
	if o.early {
		return c.putEarly(name)
	}
	endpoint, err := c.endpoint(name)
	if err != nil {
		return c.readFailed(err)
	}
	tokens, err := endpoint.ReadTokens()
	if err != nil {
		return c.failed(err)
	}
	trouble := func(err error) { fmt.Fprintf(c.Err, "hollowbridge gateway: %s: %s\n", name, err) }
	ctx, stop := untilInterrupt()
	defer stop()
	running := &running{gatewayCall: c, endpoint: endpoint, tokens: tokens, options: gateway.Options{
		Gateway: name, Folder: o.state, Program: version,
		Backend: func(r gateway.Recorder) (gateway.Backend, error) { return backends[o.on](r, trouble) },
		Keeping: gateway.Keeping{Most: o.most, Age: age}, Authorities: o.authorities, Trouble: trouble, Asking: ports, Loopback: o.loopback, Device: devices[o.on],
		Restarts: true,
	}}
	for {
		again, err := running.once(ctx, stop)
		if err != nil {
			return c.failed(err)
		}
		if !again {
			return yes
		}
	}
}

// A running gateway is one that may start again, with a backup.
type running struct {
	*gatewayCall
	endpoint gateway.Endpoint
	tokens   []gateway.Token
	options  gateway.Options
	undo     func() error // takes a backup out again that it can't start with; nil where it starts with none
}

// once runs a gateway until it is to end, or to start again with a backup, which has the place of the state then.
func (c *running) once(ctx context.Context, stop context.CancelFunc) (again bool, err error) {
	options := c.options
	listener, err := c.endpoint.Listen()
	if err != nil {
		return false, err
	}
	service, err := gateway.Start(options)
	if err != nil && c.undo != nil {
		options.Trouble(fmt.Errorf("the backup is no state that it can start with, so what was before is taken: %w", err))
		if err = c.undo(); err == nil {
			service, err = gateway.Start(options)
		}
	}
	c.undo = nil
	if err != nil {
		listener.Close()
		return false, err
	}
	server := gateway.NewServer(service, c.tokens...)
	var serving sync.WaitGroup
	var failure error
	serving.Go(func() {
		if failure = server.Serve(listener); failure != nil {
			stop()
		}
	})
	status := service.Status()
	force := "nothing in force"
	if status.Revision != nil {
		force = fmt.Sprintf("revision %d in force", status.Revision.Number)
	}
	fmt.Fprintf(c.Out, "%s: %s, %s, asked at %s\n", options.Gateway, status.On, force, c.endpoint)
	if err := c.flush(); err != nil {
		stop()
	}
	notify("READY=1\nSTATUS=" + force)
	select {
	case <-ctx.Done():
		notify("STOPPING=1")
		// What is under way is given up then: the kernel obeys all of a change or none, and what was not written down was not applied.
		given := time.AfterFunc(mostEnding, func() {
			fmt.Fprintf(c.Err, "hollowbridge gateway: %s: it did not end in time, so it is ended; the rules in the kernel stay as they are\n", options.Gateway)
			os.Exit(wrong)
		})
		defer given.Stop()
	case <-service.Restored():
		again = true
	}
	err = server.Shutdown()
	serving.Wait()
	if err = errors.Join(failure, err, service.Stop(c.gatewayCall.options.clear && !again)); err == nil && again {
		c.undo, err = gateway.TakeBackup(options.Folder)
	}
	return again, err
}

// putEarly puts what was last in force into the kernel.
func (c *gatewayCall) putEarly(name string) int {
	revision, err := gateway.PutEarly(name, c.options.state, gateway.KernelOptions{})
	switch {
	case err != nil:
		return c.failed(fmt.Errorf("%s: %w", name, err))
	case revision == 0:
		fmt.Fprintf(c.Out, "%s: nothing was in force\n", name)
	default:
		fmt.Fprintf(c.Out, "%s: revision %d is in force\n", name, revision)
	}
	return yes
}

// mostEnding is how long a gateway takes to end.
const mostEnding = 4500 * time.Millisecond

// endpoint returns where the gateway is to be asked: as the network file says, where there is one.
func (c *call) endpoint(name string) (gateway.Endpoint, error) {
	n, err := netfile.Read(c.path())
	if errors.Is(err, fs.ErrNotExist) && c.file == "" && c.Getenv("HOLLOWBRIDGE_FILE") == "" {
		return gateway.EndpointOf("", &network.Gateway{Name: name})
	}
	if err != nil {
		return gateway.Endpoint{}, err
	}
	g := n.Called(name)
	if g == nil {
		var names []string
		for _, g := range n.Gateways {
			names = append(names, g.Name)
		}
		return gateway.Endpoint{}, fmt.Errorf("%s: %s has no such gateway%s", name, c.path(), netfile.DidYouMean(name, names))
	}
	return gateway.EndpointAs(c.path(), g, name)
}

// notify tells the service manager how far the service is, where it wants to know (sd_notify(3)).
func notify(state string) {
	socket := os.Getenv("NOTIFY_SOCKET")
	if socket == "" {
		return
	}
	if strings.HasPrefix(socket, "@") {
		socket = "\x00" + socket[1:]
	}
	conn, err := net.DialTimeout("unixgram", socket, time.Second)
	if err != nil {
		return
	}
	defer conn.Close()
	conn.Write([]byte(state)) // nobody can be told that it failed
}
