package netfile

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"hollowbridge/core/network"
	"hollowbridge/internal/gen"
)

// A rule that is not there, or is there as well, is as if an edit had made it so: the networks say the
// same.
func TestVariationsAreWhatEditsMake(t *testing.T) {
	if testing.Short() {
		t.Skip("it makes many edits")
	}
	folder := t.TempDir()
	path := filepath.Join(folder, "n.yaml")
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	compared := 0
	for seed := range uint64(120) {
		write("n.yaml", gen.Small(seed))
		n, err := Read(path)
		if err != nil {
			t.Fatal(err)
		}
		random := rand.New(rand.NewPCG(seed, 81))
		g := n.Gateways[random.IntN(len(n.Gateways))]
		if len(g.Filter) == 0 {
			continue
		}
		r := g.Filter[random.IntN(len(g.Filter))]
		write("rules.yaml", "- reject: planted\n  gateway: "+g.Name+"\n  before: "+r.Name+"\n  from: any\n  service: udp/53\n- drop: last\n  gateway: "+g.Name+"\n")
		v := &Variation{Without: []string{g.Name + ":" + r.Kind + " " + r.Name}, With: []string{filepath.Join(folder, "rules.yaml")}}
		if random.IntN(2) == 0 {
			v.Without = nil
		} else {
			v.With = nil
		}
		got, _, err := ReadAs(path, v)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		e, err := Sketch(path)
		if err != nil {
			t.Fatal(err)
		}
		edits := network.Edits{{Verb: network.Remove, Kind: r.Kind, Name: r.Name, Gateway: g.Name}}
		if v.Without == nil {
			edits = network.Edits{
				{Verb: network.Add, Kind: "reject", Name: "planted", Gateway: g.Name, Before: r.Name, Settings: []network.Setting{{Key: "from", Value: "any"}, {Key: "service", Value: "udp/53"}}},
				{Verb: network.Add, Kind: "drop", Name: "last", Gateway: g.Name},
			}
		}
		if err := e.ApplyAll(edits); err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		want, err := e.Network()
		if err != nil {
			t.Fatal(err)
		}
		got.Seal()
		want.Seal()
		if compared++; !reflect.DeepEqual(got.Digests, want.Digests) {
			t.Fatalf("seed %d: %+v is not what edits make", seed, v)
		}
	}
	if compared < 60 {
		t.Errorf("only %d were compared", compared)
	}
}

// What is wrong with a variation is said where it stands: in the call, or in the file of rules.
func TestWrongVariationsAreErrors(t *testing.T) {
	folder := t.TempDir()
	path, rules := filepath.Join(folder, "n.yaml"), filepath.Join(folder, "rules.yaml")
	if err := os.WriteFile(path, []byte(gen.Small(1)), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		v     Variation
		rules string
		want  string
	}{
		{Variation{Down: []string{"rim:fibr"}}, "", "did you mean rim:fibre?"},
		{Variation{Lists: []string{"fronts"}}, "", "GROUP=FILE"},
		{Variation{Lists: []string{"front=x"}}, "", "did you mean fronts?"},
		{Variation{Lists: []string{"fronts=" + folder + "/none.txt"}}, "", "none.txt"},
		{Variation{Without: []string{"nothing-like-it"}}, "", "no such rule"},
		{Variation{With: []string{folder + "/none.yaml"}}, "", "none.yaml"},
		{Variation{With: []string{rules}}, "allow: x\n", "is a list"},
		{Variation{With: []string{rules}}, "- alow: x\n  gateway: rim\n", "rules.yaml:1:3"},
		{Variation{With: []string{rules}}, "- allow: x\n  gateway: rin\n", "rules.yaml:2:12"},
		{Variation{With: []string{rules}}, "- allow: x\n  gateway: rim\n  after: nobody\n", "rules.yaml:3:10"},
		{Variation{With: []string{rules}}, "- allow: x\n  gateway: rim\n  from: nobody\n", "rules.yaml:3:9"},
		{Variation{With: []string{rules}}, "- allow: x\n  gateway: rim\n  form: any\n", "did you mean from?"},
		{Variation{With: []string{rules}}, "- {", "rules.yaml:2:1: not YAML"},
		{Variation{With: []string{rules}}, "", "the file is empty"},
	} {
		if err := os.WriteFile(rules, []byte(c.rules), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, _, err := ReadAs(path, &c.v); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v %q: %v, not %s", c.v, c.rules, err, c.want)
		}
	}
}
