package gateway_test

import (
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"hollowbridge/core/walk"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/kernel"
	"hollowbridge/internal/lab"
	"hollowbridge/internal/netfile/netfiletest"
)

const untracked = `network: house
hosts:
  desk: {address: 10.61.8.40}
  archive: {address: 10.61.24.5}
gateways:
  rim:
    interfaces:
      staff: {address: 10.61.8.1/24, zone: staff}
      yard: {address: 10.61.24.1/28, zone: yard}
    nat:
      - {source-nat: hidden, on: yard, from: desk, service: tcp/7002, as: interface}
    filter:
      - {allow: open, from: staff, to: archive, service: [tcp/7000, tcp/7002]}
`

// A talk is a TCP connection between two hosts that is answered byte by byte.
type talk struct {
	net.Conn
	ended chan struct{}
	once  sync.Once
}

func (k *talk) works() bool {
	k.SetDeadline(time.Now().Add(700 * time.Millisecond))
	_, err := k.Write([]byte("x"))
	if err == nil {
		_, err = k.Read(make([]byte, 1))
	}
	return err == nil
}

// talks on until it is told to be silent, or fails.
func (k *talk) talks() {
	for {
		select {
		case <-k.ended:
			return
		case <-time.After(20 * time.Millisecond):
			if !k.works() {
				return
			}
		}
	}
}

func (k *talk) silent() { k.once.Do(func() { close(k.ended) }) }

// On a machine that remembered no connections, those go on that the rules let pass in one of their directions and do not translate: at once
// where they say something, and for a while where they are silent. The others are cut, and named.
func TestConnectionsGoOnThroughAFirstApply(t *testing.T) {
	t.Parallel()
	r := startRim(t, untracked)
	defer func() { r.Stop(true) }()
	r.apply(untracked, nil)
	r.Stop(true) // now nothing is there
	r.folder = t.TempDir()
	r.begin(r.bench)
	var serving sync.WaitGroup
	t.Cleanup(serving.Wait)
	for _, port := range []string{"7000", "7001", "7002"} {
		if err := r.built.Within("archive", func() error {
			l, err := net.Listen("tcp", "10.61.24.5:"+port)
			if err == nil {
				served := make(chan net.Conn, 20)
				t.Cleanup(func() {
					l.Close()
					for len(served) > 0 {
						(<-served).Close()
					}
				})
				serving.Go(func() {
					for {
						c, err := l.Accept()
						if err != nil {
							return
						}
						served <- c
						serving.Go(func() {
							for b := make([]byte, 1); ; {
								if _, err := c.Read(b); err != nil {
									return
								}
								c.Write(b)
							}
						})
					}
				})
			}
			return err
		}); err != nil {
			t.Fatal(err)
		}
	}
	begin := func(port string, talks bool) *talk {
		t.Helper()
		k := &talk{ended: make(chan struct{})}
		if err := r.built.Within("desk", func() (err error) {
			k.Conn, err = net.Dial("tcp", "10.61.24.5:"+port)
			return err
		}); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { k.silent(); k.Close() })
		if talks {
			go k.talks()
		}
		return k
	}
	open, closed, hidden := begin("7000", true), begin("7001", true), begin("7002", true)
	openSilent, closedSilent, hiddenSilent, longSilent := begin("7000", false), begin("7001", false), begin("7002", false), begin("7000", false)
	if s := r.Status(); s.Before != gateway.BeforeOpen {
		t.Errorf("before, it is %q", s.Before)
	}
	_, made := r.apply(untracked, nil)
	if text := strings.Join(made.Cut, "\n"); made.Cuts != 2 || !strings.Contains(text, "10.61.24.5:7001") || !strings.Contains(text, "10.61.24.5:7002") {
		t.Errorf("%d are cut: %s", made.Cuts, text)
	}
	for _, k := range []*talk{open, closed, hidden} {
		k.silent()
	}
	time.Sleep(100 * time.Millisecond)
	for name, c := range map[string]struct {
		*talk
		goesOn bool
	}{"open": {open, true}, "closed": {closed, false}, "translated": {hidden, false}, "silent, open": {openSilent, true}, "silent, closed": {closedSilent, false}, "silent, translated": {hiddenSilent, false}} {
		if got := c.works(); got != c.goesOn {
			t.Errorf("%s: it goes on: %v", name, got)
		}
	}
	if err := r.kernel.MiddleIsOver(); err != nil {
		t.Fatal(err)
	}
	if !open.works() || longSilent.works() {
		t.Error("later, connections are taken up in the middle, or those that go on are not")
	}
	if _, made := r.apply(untracked+"# more\n", nil); made.Cuts != 0 {
		t.Errorf("another apply cuts %v", made.Cut)
	}
}

// What was last in force is put into the kernel before the network comes, and where nobody knows what it was, nothing is forwarded.
func TestRulesComeBeforeTheNetwork(t *testing.T) {
	r := startRim(t, house)
	defer func() { r.Stop(true) }()
	other, err := kernel.OpenMachine(r.built.Space("rim"))
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	digest := func() kernel.Digest {
		t.Helper()
		d, err := other.Digest()
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	early := func(name, folder string) (int, error) {
		return gateway.PutEarly(name, folder, gateway.KernelOptions{Namespace: r.built.Space("rim"), Device: lab.DeviceOf})
	}
	r.Stop(true)
	if n, err := early("rim", r.folder); n != 0 || err != nil || digest() != (kernel.Digest{}) {
		t.Errorf("before the first apply: %d, %v", n, err)
	}
	r.begin(r.bench)
	r.apply(house, nil)
	if err := r.kernel.MiddleIsOver(); err != nil {
		t.Fatal(err)
	}
	first := digest()
	back := gateway.Boot(func() time.Duration { return 0 }, "one")
	r.apply(strings.Replace(house, "allow: web", "drop: web", 1), func(c *gateway.Commit) { c.For = 3600 })
	second := digest()
	r.Stop(true)
	if n, err := early("rim", r.folder); n != 2 || err != nil || digest() != second {
		t.Errorf("%d, %v", n, err)
	}
	back()
	if n, err := early("rim", r.folder); n != 1 || err != nil || digest() != first {
		t.Errorf("when the machine's start has ended a trial: %d, %v", n, err)
	}
	e := walk.Compile(netfiletest.Parse(t, house), nil)
	answers := func(want bool) {
		t.Helper()
		if sent := r.built.Send(connection(t, e, "203.0.113.9", "198.51.100.18", "https", 40000), 1, 300*time.Millisecond); (sent.Answer == lab.Answered) != want {
			t.Errorf("%+v, want %v", sent, want)
		}
	}
	answers(true)
	broken := t.TempDir()
	if err := os.WriteFile(filepath.Join(broken, gateway.StateFile), []byte("this is no state, and somebody should look at it"), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, folder := range map[string]string{"rim": broken, "keep": r.folder, "nobody": t.TempDir()} {
		if n, err := early(name, folder); n != 0 || err == nil || !strings.HasSuffix(err.Error(), "; so nothing is forwarded") {
			t.Errorf("%s, %s: %d, %v", name, folder, n, err)
		}
		if d := digest(); d == first || d == (kernel.Digest{}) {
			t.Errorf("%s, %s: there are other rules", name, folder)
		}
		answers(false)
	}
	r.begin(r.bench)
	if digest() != first {
		t.Error("the service does not put its rules in place of those that forward nothing")
	}
}
