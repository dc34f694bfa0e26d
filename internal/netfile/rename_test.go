package netfile_test

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"hollowbridge/core/network"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

// namedThings returns what has a name in a network, each as the edit that would remove it.
func namedThings(n *network.Network) (list []network.Edit) {
	add := func(kind, name, gateway string) {
		list = append(list, network.Edit{Verb: network.Remove, Kind: kind, Name: name, Gateway: gateway})
	}
	for _, h := range n.Hosts {
		add("host", h.Name, "")
	}
	for _, g := range n.Groups {
		add("group", g.Name, "")
	}
	for _, s := range n.Services {
		add("service", s.Name, "")
	}
	for _, z := range n.Zones {
		add("zone", z.Name, "")
	}
	for _, g := range n.Gateways {
		add("gateway", g.Name, "")
		for _, i := range g.Interfaces {
			add("interface", i.String(), "")
		}
		for r := range g.Rules() {
			add(r.Kind, r.Name, g.Name)
		}
	}
	return list
}

// sketchOf returns an editor of a random file, and its network.
func sketchOf(t *testing.T, seed uint64) (*netfile.Editor, *network.Network) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "hollowbridge.yaml")
	if err := os.WriteFile(path, []byte(gen.Small(seed)), 0o600); err != nil {
		t.Fatal(err)
	}
	e, err := netfile.Sketch(path)
	if err != nil {
		t.Fatal(err)
	}
	n, err := e.Network()
	if err != nil {
		t.Fatal(err)
	}
	return e, n
}

// A new name stands wherever the old one meant the same thing: rules are for whom they were, and with the old name back the file
// is what it was, byte for byte. A name that is taken is none.
func TestARenameChangesNothingElse(t *testing.T) {
	kinds := map[string]int{}
	for seed := range netfiletest.Few[uint64](60, 20) {
		e, n := sketchOf(t, seed)
		before := e.Text()
		random := rand.New(rand.NewPCG(seed, 27))
		things := namedThings(n)
		for range 4 {
			edit := things[random.IntN(len(things))]
			edit.Verb, edit.Values = "rename", []string{"quite-new"}
			if err := e.Apply(edit); err != nil {
				t.Fatalf("seed %d: %s: %v", seed, netfile.Command(edit), err)
			}
			now, err := e.Network()
			if err != nil {
				t.Fatalf("seed %d: %s: %v\n%s", seed, netfile.Command(edit), err, e.Text())
			}
			if edit.Kind != "zone" && !reflect.DeepEqual(n.DigestsOf(), now.DigestsOf()) {
				t.Fatalf("seed %d: %s: a rule says something else\n%s", seed, netfile.Command(edit), e.Text())
			}
			kinds[edit.Kind]++
			back := edit
			gateway, own, _ := strings.Cut(edit.Name, ":")
			if back.Name, back.Values = "quite-new", []string{edit.Name}; edit.Kind == "interface" {
				back.Name, back.Values = gateway+":quite-new", []string{own}
			}
			if err := e.Apply(back); err != nil || !bytes.Equal(e.Text(), before) {
				t.Fatalf("seed %d: %s and back: %v\n%s\nbecame\n%s", seed, netfile.Command(edit), err, before, e.Text())
			}
			other := things[random.IntN(len(things))]
			edit.Values = []string{other.Name[strings.IndexByte(other.Name, ':')+1:]}
			if err := e.Apply(edit); err != nil {
				if !bytes.Equal(e.Text(), before) {
					if _, err := e.Network(); err == nil {
						t.Fatalf("seed %d: %s failed, and changed the file", seed, netfile.Command(edit))
					}
				}
			} else if now, err := e.Network(); err != nil || edit.Kind != "zone" && !reflect.DeepEqual(n.DigestsOf(), now.DigestsOf()) {
				t.Fatalf("seed %d: %s: %v; a rule says something else\n%s", seed, netfile.Command(edit), err, e.Text())
			}
			if err := e.Write(string(before)); err != nil {
				t.Fatal(err)
			}
		}
	}
	for _, kind := range []string{"host", "group", "service", "zone", "gateway", "interface", "allow", "port-forward"} {
		if kinds[kind] == 0 {
			t.Errorf("no %s was renamed", kind)
		}
	}
}

// What uses a thing is named with edits that take the uses away, and then it can be removed.
func TestUsesAreTakenAwayByTheEditsThatAreNamed(t *testing.T) {
	offered, byHand := 0, 0
	for seed := range netfiletest.Few[uint64](15, 8) {
		e, n := sketchOf(t, seed)
		for _, edit := range namedThings(n) {
			if edit.Kind == "zone" {
				continue
			}
			tried := e.Copy()
			var used *netfile.InUse
			if err := tried.Apply(edit); err == nil || !errors.As(err, &used) {
				continue
			}
			hand := false
			for _, by := range used.Uses {
				if by.Edit.Verb == "" {
					byHand++
					hand = true
					continue
				}
				if err := tried.Apply(by.Edit); err != nil {
					t.Fatalf("seed %d: %s: %s: %v", seed, netfile.Command(edit), netfile.Command(by.Edit), err)
				}
				offered++
			}
			if hand {
				continue
			}
			if err := tried.Apply(edit); err != nil {
				t.Fatalf("seed %d: %s after its uses are taken away: %v", seed, netfile.Command(edit), err)
			}
		}
	}
	t.Logf("%d edits, %d uses by hand", offered, byHand)
	if byHand*20 > offered {
		t.Errorf("%d uses have no edit, %d have", byHand, offered)
	}
}

// A copy says what its original does, but for what was said, and stands behind it.
func TestCopiesOfRulesSayTheSame(t *testing.T) {
	copies := 0
	for seed := range netfiletest.Few[uint64](30, 15) {
		e, n := sketchOf(t, seed)
		for gi, g := range n.Gateways {
			for r := range g.Rules() {
				one := e.Copy()
				edit := network.Edit{Verb: network.Copy, Kind: r.Kind, Name: r.Name, Gateway: g.Name, Values: []string{"the-copy"}, Settings: []network.Setting{{Key: "note", Value: "once more"}}}
				if err := one.Apply(edit); err != nil {
					t.Fatalf("seed %d: %s: %v", seed, netfile.Command(edit), err)
				}
				now, err := one.Network()
				if err != nil {
					t.Fatalf("seed %d: %s: %v\n%s", seed, netfile.Command(edit), err, one.Text())
				}
				was, is := n.DigestsOf().Gateways[gi], now.DigestsOf().Gateways[gi]
				all, list := is.NAT, was.NAT
				if r.List() == "filter" {
					all, list = is.Filter, was.Filter
				}
				if len(all) != len(list)+1 || all[r.Number] != list[r.Number-1] || all[r.Number-1] != list[r.Number-1] {
					t.Fatalf("seed %d: %s\n%s", seed, netfile.Command(edit), one.Text())
				}
				if copies++; one.Apply(edit) == nil {
					t.Fatalf("seed %d: two of one name", seed)
				}
			}
		}
	}
	if copies < 100 {
		t.Errorf("%d copies", copies)
	}
}
