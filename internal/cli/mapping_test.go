package cli_test

import (
	"bytes"
	"context"
	"math/rand/v2"
	"net/netip"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/portmap"
)

// asking is an edge whose archive may ask for ports.
var asking = strings.Replace(strings.Replace(edge, "serves: [https]", "serves: [https, udp/5000]", 1), "    nat:", `    mappings:
      protocols: [pcp, nat-pmp, upnp-igd]
      on: yard
      external: fibre
      rules:
        - {allow: archive, inside-ports: 6000-6009, ports: 20000-20099, lifetime: 1h, ask: true}
        - {allow: yard, inside-ports: 443-65535, ports: 20000-20099, lifetime: 1h, at-most: 8}
    nat:`, 1)

// A program asks, a stranger's connection reaches it, and it is over: alike on both backends, the one
// asked on loopback, the other from the machine's own network.
func TestProgramsOpenPorts(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for running gateways")
	}
	t.Parallel()
	for _, name := range []string{"simulated", "kernel"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			folder := t.TempDir()
			write(t, folder, "hollowbridge.yaml", asking)
			write(t, folder, "none.yaml", edge)
			write(t, folder, "strict.yaml", strings.Replace(asking, "{allow: yard,", "{drop: yard,", 1))
			at, own := "", " -gateway 10.61.24.1"
			var s *shop
			if name == "kernel" {
				if r := run(t, folder, "lab", "--", "hollowbridge", "version"); strings.Contains(r.err, "does not let you make a network") {
					t.Skip("SKIPPED: " + r.err)
				}
				s = kernelShopAt(t, folder, "archive")
			} else {
				at = " -from 127.61.24.5 -mapping-ports 35351,31900,35352"
				own = " -gateway 127.61.24.1"
				started(t, folder, "hollowbridge gateway rim -state state -on simulated -mapping-on-loopback -mapping-ports 35351,31900,35352")
				s = &shop{t, folder, func(line string) result { return shell(t, folder, line) }}
				s.want("hollowbridge apply -yes", "applied  rim runs revision 1")
				at += own
			}
			own += strings.TrimSuffix(at, own)
			s.want("hollowbridge mapping find"+at, "pcp", "nat-pmp 198.51.100.18 public", "upnp-igd 198.51.100.18 public")
			s.want("hollowbridge mapping add udp/5000 -by pcp -outside 20001 -for 10m"+at, "opened 198.51.100.18:20001 ->", ":5000 udp, by pcp, for 10m00s")
			s.want("hollowbridge mapping add tcp/443 -by nat-pmp -outside 20002 -for 10m"+at, "opened 198.51.100.18:20002 ->", "by nat-pmp")
			s.want("hollowbridge mapping add tcp/5001 -by upnp-igd -outside 20003 -for 10m -note page"+at, "opened 198.51.100.18:20003 ->", "by upnp-igd, for 10m00s")
			s.want("hollowbridge mapping add tcp/22"+at, `pcp: the gateway answers "not authorized"`, "mapping try")
			s.want("hollowbridge mapping add udp/5002 -by pcp -outside 20001 -exact"+at, "cannot provide external", "ask without -exact")
			s.want("hollowbridge mapping list", "udp/20001 198.51.100.18 10.61.24.5:5000 archive 10.61.24.5 pcp", "tcp/20002", "nat-pmp", "tcp/20003", "upnp-igd", "page")
			s.want("hollowbridge mapping list"+own, "udp/20001 198.51.100.18:20001 -> 10.61.24.5:5000", "tcp/20002", "tcp/20003", "page")
			s.want("hollowbridge mapping try tcp/5003 -as archive", "pcp granted: 198.51.100.18:20000 for 1h00m line")
			s.want("hollowbridge mapping try tcp/22 -as 10.61.24.5 -by pcp", "pcp refused: no rule is for it")
			s.want("hollowbridge send 192.0.2.9 rim:fibre udp/20001 -count 3 -bytes 4000", "3 ", "3 connections sent")
			s.want("hollowbridge send 192.0.2.9 rim:fibre tcp/20002", "")
			s.want("hollowbridge sessions -rule mapping/udp/20001", "192.0.2.9:40000 198.51.100.18 udp/20001", "= 10.61.24.5:5000", "outside to yard", "mapping/udp/20001 (pcp for 10.61.24.5, 9m", "3 sessions")
			s.want("hollowbridge hits", "mapping - mapping udp/20001 (pcp for 10.61.24.5, 9m", "3", "mapping - mapping tcp/20002 (nat-pmp for 10.61.24.5, 9m", "1")
			s.want("hollowbridge trace 192.0.2.99 rim:fibre udp/20001 -live", "with 3 mappings", "mapping udp/20001", "198.51.100.18:20001 -> 10.61.24.5:5000, asked for by pcp from 10.61.24.5", "a mapping permits what it is for", "reached archive")
			s.want("hollowbridge reach -live -to archive", "udp/5000 everybody 198.51.100.18 udp/20001", "mapping udp/20001 at rim: by pcp for archive 10.61.24.5, 9m")
			s.want("hollowbridge log -outcome granted", "granted mapping/udp/20001 yard 10.61.24.5 by pcp", "granted mapping/tcp/20002", "granted mapping/tcp/20003")
			s.want("hollowbridge log -outcome refused", "10.61.24.5 by pcp for tcp/22: no rule is for it")
			s.want("hollowbridge mapping remove udp/20001"+at, "udp/20001 is taken away")
			s.want("hollowbridge mapping remove udp/20001"+at, "this user was granted no udp/20001")
			s.want("hollowbridge send 192.0.2.33 rim:fibre udp/20001", "")
			s.want("hollowbridge log -outcome itself", "192.0.2.33:40000 198.51.100.18 udp/20001")
			s.want("hollowbridge mapping remove tcp/20003 -gateway rim", "rim: tcp/20003 is taken away")
			s.want("hollowbridge mapping remove tcp/20003 -gateway rim", "rim has no such mapping")
			s.want("hollowbridge mapping add tcp/5003 -by nat-pmp -outside 20005 -for 10m"+at, "opened")
			s.want("hollowbridge mapping block archive -for 1h", "rim: archive is blocked for 1h00m; what it had is taken away")
			s.want("hollowbridge mapping list", "blocked told by by still for", "archive 10.61.24.5")
			s.want("hollowbridge mapping add udp/5003 -by nat-pmp -for 10m"+at, "not authorized")
			s.want("hollowbridge mapping try tcp/5003 -as archive -by pcp", "pcp refused", "has blocked it until")
			s.want("hollowbridge log -outcome ended", "mapping/tcp/20005", "blocked by")
			s.want("hollowbridge mapping unblock archive", "rim: archive may ask again")
			s.want("hollowbridge mapping unblock archive", "it is not blocked at rim")
			s.want("hollowbridge mapping add tcp/5004 -by nat-pmp -outside 20004 -for 1s"+at, "opened 198.51.100.18:20004")
			s.want("hollowbridge log -outcome ended", "mapping/tcp/20004", "its time is over")
			s.want("hollowbridge mapping add tcp/443 -by nat-pmp -outside 20002 -for 10m"+at, "opened") // renewed
			s.want("hollowbridge apply -yes -f strict.yaml", "1 of the mappings that programs have end", "applied rim runs revision 2")
			s.want("hollowbridge mapping list", "no program has a mapping")
			s.want("hollowbridge log -outcome ended", "mapping/tcp/20002", "the rules do not allow it any more")
			s.want("hollowbridge apply -yes", "applied rim runs revision 3")
			s.want("hollowbridge mapping add tcp/443 -by nat-pmp -outside 20009 -for 10m"+at, "opened")
			s.want("hollowbridge apply -yes -f none.yaml", "1 of the mappings that programs have end", "applied rim runs revision 4")
			s.want("hollowbridge mapping list", "no program has a mapping")
			s.want("hollowbridge log -outcome ended", "mapping/tcp/20009", "the gateway has no mappings any more")
		})
	}
}

// What a program is granted outlives a restart of the gateway; an administrator approves and refuses;
// a client that holds a mapping takes it away when it ends.
func TestMappingsOutliveRestartsAndWaitForApproval(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for running gateways")
	}
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", asking)
	const line = "hollowbridge gateway rim -state state -on simulated -mapping-on-loopback -mapping-ports 35451,31950,35452"
	const at = " -from 127.61.24.5 -gateway 127.61.24.1 -mapping-ports 35451,31950,35452"
	g := started(t, folder, line)
	s := &shop{t, folder, func(line string) result { return shell(t, folder, line) }}
	s.want("hollowbridge apply -yes", "applied")
	s.want("hollowbridge mapping add udp/5000 -outside 20001"+at, "opened", "by pcp")
	g.Process.Signal(syscall.SIGKILL)
	g.Wait()
	started(t, folder, line)
	s.want("hollowbridge mapping list", "udp/20001")
	s.want("hollowbridge send 192.0.2.9 rim:fibre udp/20001", "reached archive")
	s.want("hollowbridge mapping remove udp/20001"+at, "is taken away")

	asks := func(words string) (*exec.Cmd, *bytes.Buffer) {
		var out bytes.Buffer
		c := exec.Command(program, strings.Fields("mapping add "+words+at)...)
		c.Dir, c.Env, c.Stdout, c.Stderr = folder, []string{"HOME=" + folder, "TZ=UTC"}, &out, &out
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Process.Kill() })
		return c, &out
	}
	waits, out := asks("tcp/6000 -by pcp -outside 20006")
	s.want("hollowbridge mapping list", "waits", "archive 10.61.24.5 pcp tcp/6000 as 20006")
	s.want("hollowbridge mapping approve 1", "rim: number 1 is approved")
	if err := waits.Wait(); err != nil || !strings.Contains(out.String(), "opened  198.51.100.18:20006") {
		t.Errorf("%v %s", err, out)
	}
	waits, out = asks("tcp/6001 -by upnp-igd")
	s.want("hollowbridge mapping list", "archive 10.61.24.5 upnp-igd tcp/6001")
	s.want("hollowbridge mapping refuse 2", "rim: number 2 is refused")
	if err := waits.Wait(); err == nil || !strings.Contains(out.String(), "606 Action not authorized") {
		t.Errorf("%v %s", err, out)
	}
	s.want("hollowbridge mapping approve 2", "nothing waits by that number")
	holds, out := asks("tcp/5005 -for 2s -by nat-pmp -hold")
	s.want("hollowbridge mapping list", "nat-pmp")
	time.Sleep(3500 * time.Millisecond) // it is renewed meanwhile
	s.want("hollowbridge mapping list", "nat-pmp")
	holds.Process.Signal(syscall.SIGINT)
	if err := holds.Wait(); err != nil || !strings.Contains(out.String(), "taken away") {
		t.Errorf("%v %s", err, out)
	}
	if r := s.does("hollowbridge mapping list"); strings.Contains(r.out, "nat-pmp") {
		t.Errorf("%s", r.out)
	}
}

// What mapping is called with is checked before anybody is asked.
func TestMappingIsCalledRightly(t *testing.T) {
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", asking)
	for line, want := range map[string]string{
		"hollowbridge mapping": "it needs find, add", "hollowbridge mapping ad tcp/1": "did you mean add", "hollowbridge mapping add": "add: 1 word", "hollowbridge mapping add icmp": "a mapping is for one port",
		"hollowbridge mapping add tcp/1-5": "a mapping is for one port", "hollowbridge mapping add tcp/80 -by upnp": "there are pcp, nat-pmp, upnp-igd", "hollowbridge mapping add tcp/80 -exact": "-exact goes with -outside",
		"hollowbridge mapping add tcp/80 -for ever": "not a lifetime", "hollowbridge mapping add tcp/80 -peer 1.2.3.4": "write ADDRESS:PORT", "hollowbridge mapping approve x": "the number that mapping list shows",
		"hollowbridge mapping try tcp/80": "-as MACHINE", "hollowbridge mapping find -mapping-ports 1,2": "three ports", "hollowbridge mapping add tcp/80 -only nobody": "-only",
		"hollowbridge gateway rim -state s -mapping-on-loopback": "for a gateway that is simulated",
	} {
		if r := shell(t, folder, line); r.status != 2 || !strings.Contains(r.err, want) {
			t.Errorf("%s: %q is missing in %d %s%s", line, want, r.status, r.out, r.err)
		}
	}
}

// Who may use a mapping, to whom one is, and the way to IPv6 addresses: real packets.
func TestSendersPeersAndPinholesOnTheKernel(t *testing.T) {
	if testing.Short() {
		t.Skip("it builds networks on the kernel")
	}
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", strings.NewReplacer(
		"address: 10.61.24.5, serves: [https, udp/5000]", `address: [10.61.24.5, "2001:db8:61:24::5"], serves: [tcp/5001, udp/5002, tcp/5004]`,
		"address: 198.51.100.18/29, zone: outside", `address: [198.51.100.18/29, "2001:db8:61::2/64"], zone: outside, upstream: {routes: ["2001:db8:61:24::/64"]}`,
		"address: 10.61.24.1/28", `address: [10.61.24.1/28, "2001:db8:61:24::1/64"]`, "198.51.100.17}]", `198.51.100.17}, {to: default, via: "2001:db8:61::1"}]`,
		"ports: 20000-20099, lifetime: 1h, at-most: 8", "lifetime: 1h",
	).Replace(asking))
	if r := run(t, folder, "lab", "--", "hollowbridge", "version"); strings.Contains(r.err, "does not let you make a network") {
		t.Skip("SKIPPED: " + r.err)
	}
	s := kernelShopAt(t, folder, "archive")
	s.want("hollowbridge mapping add tcp/5001 -gateway 2001:db8:61:24::1", "opened [2001:db8:61:24::5]:5001 tcp, by pcp")
	s.want("hollowbridge mapping add udp/5002 -gateway 2001:db8:61:24::1 -only 2001:db8:f0::/64", "opened")
	s.want("hollowbridge mapping add udp/5002 -peer 203.0.113.7:9999 -outside 7002", "opened 198.51.100.18:7002 -> 10.61.24.5:5002")
	for line, want := range map[string]string{
		"2001:db8:f1::9 2001:db8:61:24::5 tcp/5001": "answered", "2001:db8:f1::9 2001:db8:61:24::5 tcp/5003": "silence", "2001:db8:f0::9 2001:db8:61:24::5 udp/5002": "answered",
		"2001:db8:f1::9 2001:db8:61:24::5 udp/5002": "silence", "203.0.113.7 rim:fibre udp/7002 -sport 9999": "answered", "203.0.113.7 rim:fibre udp/7002 -sport 9998": "silence",
		"203.0.113.8 rim:fibre udp/7002 -sport 9999": "silence",
	} {
		s.want("hollowbridge send "+line, "1 "+want)
		s.want("hollowbridge trace "+line+" -live -json", map[string]string{"answered": `"outcome": "reached"`, "silence": `"host": ""`}[want])
	}
	const way = "hollowbridge send 2001:db8:f1::9 2001:db8:61:24::5 tcp/5004"
	s.want("hollowbridge mapping add tcp/5004 -gateway 2001:db8:61:24::1 -by upnp-igd", "opened [2001:db8:61:24::5]:5004 tcp, by upnp-igd")
	s.want(way, "1 answered")
	s.want("hollowbridge mapping remove tcp/5004 -gateway 2001:db8:61:24::1", "tcp/5004 is taken away")
	s.want(way+" -sport 40001", "1 silence")
	s.want("hollowbridge mapping remove tcp/5004 -gateway 2001:db8:61:24::1 -by upnp-igd", "by its number, which whoever opened it was told")
}

// Mappings that were granted are there after any kill: a client that asks for many, one after the
// other, through kills at random moments.
func TestKilledGatewaysKeepWhatTheyGranted(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for running gateways")
	}
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", strings.Replace(asking, "ports: 20000-20099, lifetime: 1h, at-most: 8", "lifetime: 1h", 1))
	const line = "hollowbridge gateway rim -state state -on simulated -mapping-on-loopback -mapping-ports 35551,32050,35552"
	random := rand.New(rand.NewPCG(17, 17))
	client := &portmap.Client{
		Gateway: netip.MustParseAddr("127.61.24.1"), From: netip.MustParseAddr("127.61.24.5"), Secret: []byte("s"), Ports: portmap.Ports{PCP: 35551, SSDP: 32050, HTTP: 35552},
	}
	granted := map[string]bool{}
	port := uint16(7000)
	applied := false
	for range *kills / 3 {
		g := started(t, folder, line)
		if !applied {
			if r := run(t, folder, "apply", "-yes"); r.status != 0 {
				t.Fatal(r)
			}
			applied = true
		}
		ctx, stop := context.WithTimeout(t.Context(), time.Duration(20+random.IntN(150))*time.Millisecond)
		for ctx.Err() == nil {
			port++
			got, err := client.Add(ctx, network.PCP, portmap.Ask{Protocol: header.UDP, Port: port, Lifetime: time.Hour})
			if err == nil {
				granted[got.Outside.String()] = true
			}
		}
		stop()
		g.Process.Kill()
		g.Wait()
	}
	started(t, folder, line)
	var found gateway.Mappings
	into(t, run(t, folder, "mapping", "list", "-json"), &found)
	there := map[string]bool{}
	for _, m := range found.Mappings {
		there[m.Outside.String()] = true
	}
	for at := range granted {
		if !there[at] {
			t.Errorf("%s was granted, and is lost", at)
		}
	}
	if len(granted) < 20 {
		t.Errorf("only %d mappings were granted", len(granted))
	}
	t.Logf("%d mappings were granted, %d are there", len(granted), len(there))
}
