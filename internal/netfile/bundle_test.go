package netfile_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"hollowbridge/core/network"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

// said is what of a network matters to those who compile it.
func said(n *network.Network) string {
	var b strings.Builder
	for _, g := range n.Groups {
		fmt.Fprintln(&b, g.Name, g.Text, g.Members)
	}
	for _, g := range n.Gateways {
		for r := range g.Rules() {
			fmt.Fprintln(&b, r.ID(), r.Kind, r.Number, r.Disabled, r.Note, r.Place.Line)
		}
		fmt.Fprintln(&b, g.Name, g.Handling, g.Limits, g.Logging, g.Control.Socket, len(g.Routes), network.InterfaceNames(g.Interfaces))
	}
	fmt.Fprintln(&b, len(n.Hosts), len(n.Expect), len(n.Segments))
	return b.String()
}

// A bundle is the network that was read, also after it went through JSON to a machine where its
// files are not.
func TestABundleIsTheNetworkThatWasRead(t *testing.T) {
	folder := t.TempDir()
	texts := map[string]string{}
	for seed := range netfiletest.Few(uint64(60), 20) {
		texts[fmt.Sprint(seed)] = gen.Small(seed)
	}
	example, err := os.ReadFile("../../examples/fernhollow/hollowbridge.yaml")
	if err != nil {
		t.Fatal(err)
	}
	list, err := os.ReadFile("../../examples/fernhollow/fronts.txt")
	if err != nil {
		t.Fatal(err)
	}
	texts["example"] = string(example)
	if err := os.WriteFile(filepath.Join(folder, "fronts.txt"), list, 0o644); err != nil {
		t.Fatal(err)
	}
	for name, text := range texts {
		path := filepath.Join(folder, "network.yaml")
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		b, n, err := netfile.ReadBundle(path)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		data, err := json.Marshal(b)
		if err != nil {
			t.Fatal(err)
		}
		var far netfile.Bundle
		if err := json.Unmarshal(data, &far); err != nil {
			t.Fatal(err)
		}
		far.File = "elsewhere@1"
		again, err := far.Network()
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if got, want := said(again), said(n); got != want {
			t.Fatalf("%s:\n got  %s\n want %s", name, got, want)
		}
		if name == "example" && (len(b.Lists) != 1 || b.Lists["fronts.txt"] != string(list)) {
			t.Errorf("its lists are %v", b.Lists)
		}
	}
}

// A bundle never reads a file of the machine that it comes to.
func TestABundleReadsNoFile(t *testing.T) {
	folder := t.TempDir()
	secret := filepath.Join(folder, "secret.txt")
	if err := os.WriteFile(secret, []byte("192.0.2.1\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	text := "network: x\ngroups: {some: {file: " + secret + "}}\ngateways: {rim: {interfaces: {a: {address: 192.0.2.9/24, zone: a}}}}\n"
	b := &netfile.Bundle{File: filepath.Join(folder, "x.yaml"), Text: text}
	if _, err := b.Network(); err == nil || !strings.Contains(err.Error(), "it did not come with the file") {
		t.Error(err)
	}
	b.Lists = map[string]string{secret: "192.0.2.7\nnonsense\n"}
	if _, err := b.Network(); err == nil || !strings.Contains(err.Error(), "secret.txt:2:1: this line is no address") {
		t.Error(err)
	}
	b.Lists[secret] = "192.0.2.7\n"
	n, err := b.Network()
	if err != nil || n.Groups[0].Members.Size().UpTo(2) != 1 {
		t.Error(err)
	}
	b.Lists["large"] = strings.Repeat("#", netfile.MostBytes)
	if _, err := b.Network(); err == nil || !strings.Contains(err.Error(), "larger than") {
		t.Error(err)
	}
}

// Where a gateway is asked is said in one way or the other, whole.
func TestControlIsWholeOrWrong(t *testing.T) {
	for control, want := range map[string]string{
		"{socket: rim.sock}": "",
		"{listen: '10.0.0.1:7461', token: t, certificate: c, key: k}":      "",
		"{listen: '[2001:db8::1]:7461', token: t, certificate: c, key: k}": "",
		"{}":                            "either a socket: PATH, or listen",
		"{socket: a, listen: '[::]:1'}": "either a socket: PATH, or listen",
		"{socket: a, token: t}":         "a socket needs no token",
		"{listen: '10.0.0.1:7461'}":     "needs token, certificate and key",
		"{listen: '10.0.0.1:7461', token: t, certificate: c}":      "needs token, certificate and key",
		"{listen: '10.0.0.1', token: t, certificate: c, key: k}":   "write ADDRESS:PORT",
		"{listen: '10.0.0.1:0', token: t, certificate: c, key: k}": "write ADDRESS:PORT",
		"{sockets: a}": "did you mean socket?",
	} {
		text := "network: x\ngateways: {rim: {control: " + control + ", interfaces: {a: {address: 192.0.2.9/24, zone: a}}}}\n"
		_, err := netfile.Parse("x.yaml", []byte(text))
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", control, err, want)
		}
	}
	for collector, want := range map[string]bool{"udp://10.0.0.1:514": true, "tcp://[2001:db8::1]:601": true, "tls://10.0.0.1:6514": true, "http://10.0.0.1:80": false, "udp://log-box:514": false, "10.0.0.1:514": false} {
		text := "network: x\ngateways: {rim: {logging: {enabled: true, syslog: '" + collector + "'}, interfaces: {a: {address: 192.0.2.9/24, zone: a}}}}\n"
		if _, err := netfile.Parse("x.yaml", []byte(text)); (err == nil) != want {
			t.Errorf("%s: %v", collector, err)
		}
	}
}
