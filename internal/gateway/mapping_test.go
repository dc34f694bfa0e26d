package gateway_test

import (
	"context"
	"database/sql"
	"net/netip"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/netfile/netfiletest"
	"hollowbridge/internal/portmap"
)

// A state of the versions before mappings, and before trials that know the machine's start, before applies of several gateways, before machines that are
// remembered, and before what is exhausted is counted, is taken over as it is.
func TestAnOlderStateIsTakenOver(t *testing.T) {
	const plainCounts = "ALTER TABLE counts DROP COLUMN exhausted;"
	const plainMachines = plainCounts + "DROP TABLE seen; DROP TABLE blocked;"
	const plainApplies = plainMachines + "ALTER TABLE revisions DROP COLUMN fate; ALTER TABLE revisions DROP COLUMN applied; ALTER TABLE pending DROP COLUMN lease;"
	const plainTrials = plainApplies + "ALTER TABLE pending DROP COLUMN boot; ALTER TABLE pending DROP COLUMN deadline;"
	takenOver(t, plainTrials+"DROP TABLE mappings; DROP TABLE epoch; PRAGMA user_version = 1")
	takenOver(t, plainTrials+"PRAGMA user_version = 2")
	takenOver(t, plainApplies+"PRAGMA user_version = 3")
	takenOver(t, plainMachines+"PRAGMA user_version = 4")
	takenOver(t, plainCounts+"PRAGMA user_version = 5")
}

func takenOver(t *testing.T, older string) {
	t.Helper()
	folder := t.TempDir()
	start := func() *gateway.Service {
		s, err := gateway.Start(gateway.Options{Gateway: "rim", Folder: folder, Keeping: gateway.UsualKeeping, Trouble: trouble(t),
			Backend: func(r gateway.Recorder) (gateway.Backend, error) { return gateway.NewSimulated(r), nil }})
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s := start()
	made, err := s.Prepare(gateway.Proposal{Bundle: bundle(house)})
	if err == nil {
		_, err = s.Commit(gateway.Commit{Token: made.Token, Author: "ada"})
	}
	if err == nil {
		err = s.Stop(false)
	}
	if err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", filepath.Join(folder, gateway.StateFile))
	if err == nil {
		_, err = db.Exec(older)
	}
	if err == nil {
		err = db.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	s = start()
	defer s.Stop(false)
	if status := s.Status(); status.Revision == nil || status.Revision.Number != 1 {
		t.Errorf("%+v", status)
	}
	if found := s.Mappings(); len(found.Mappings) != 0 {
		t.Errorf("%+v", found)
	}
}

// What an administrator is told and may do over the control API.
func TestMappingsOverTheControlAPI(t *testing.T) {
	s, err := gateway.Start(gateway.Options{Gateway: "rim", Folder: t.TempDir(), Keeping: gateway.UsualKeeping, Trouble: trouble(t), Loopback: true,
		Asking:  portmap.Ports{PCP: 25451, SSDP: 21950, HTTP: 25452},
		Backend: func(r gateway.Recorder) (gateway.Backend, error) { return gateway.NewSimulated(r), nil }})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop(false)
	put := func(text string) gateway.Prepared {
		t.Helper()
		base := 0
		if r := s.Status().Revision; r != nil {
			base = r.Number
		}
		made, err := s.Prepare(gateway.Proposal{Bundle: bundle(text), Base: base})
		if err == nil {
			_, err = s.Commit(gateway.Commit{Token: made.Token, Author: "ada"})
		}
		if err != nil {
			t.Fatal(err)
		}
		return made
	}
	put(crowd)
	client := &portmap.Client{Gateway: netip.MustParseAddr("127.61.0.1"), From: netip.MustParseAddr("127.61.3.9"), Secret: []byte("s"), Ports: portmap.Ports{PCP: 25451, SSDP: 21950, HTTP: 25452}}
	add := func(port uint16) *portmap.Got {
		t.Helper()
		got, err := client.Add(context.Background(), network.PCP, portmap.Ask{Protocol: header.TCP, Port: port, Lifetime: 10 * time.Minute})
		if err != nil {
			t.Fatal(err)
		}
		return got
	}
	add(4000)
	add(4001)
	found := s.Mappings()
	if len(found.Mappings) != 2 || found.Mappings[0].Name != "tcp/4000" || found.Mappings[0].Inside.String() != "10.61.3.9:4000" || found.Mappings[0].External != "fibre" {
		t.Fatalf("%+v", found)
	}
	m, err := found.Mappings[0].In(netfiletest.Parse(t, crowd))
	if err != nil || m.Outside.String() != "198.51.100.18:4000" || m.Left < 9*time.Minute {
		t.Errorf("%+v, %v", m, err)
	}
	for _, wrong := range []gateway.Mapping{{Gateway: "keep"}, {Gateway: "rim", External: "none"}, {Gateway: "rim", External: "fibre", Protocol: "x"}} {
		if _, err := wrong.In(netfiletest.Parse(t, crowd)); err == nil {
			t.Errorf("%+v is a mapping", wrong)
		}
	}
	trial := gateway.MappingTrial{By: network.PCP, Asker: netip.MustParseAddr("10.61.3.10"), Protocol: "tcp", Port: 4000, Lifetime: 60}
	if v, err := s.TryMapping(trial); err != nil || !v.Granted || v.Outside != "198.51.100.18:4002" {
		t.Errorf("%+v, %v", v, err)
	}
	trial.By = network.IGD
	if v, err := s.TryMapping(trial); err != nil || v.Granted || !strings.Contains(v.Why, "not asked by upnp-igd") {
		t.Errorf("%+v, %v", v, err)
	}
	for _, edit := range []func(*gateway.MappingTrial){
		func(t *gateway.MappingTrial) { t.Port = 0 }, func(t *gateway.MappingTrial) { t.Protocol = "gre" }, func(t *gateway.MappingTrial) { t.Lifetime = 0 }, func(t *gateway.MappingTrial) { t.Asker = netip.Addr{} },
	} {
		wrong := trial
		edit(&wrong)
		if _, err := s.TryMapping(wrong); err == nil {
			t.Errorf("%+v is tried", wrong)
		}
	}
	if err := s.RemoveMapping("tcp/4001", "ada"); err != nil || len(s.Mappings().Mappings) != 1 {
		t.Error(err)
	}
	if err := s.RemoveMapping("tcp/4001", "ada"); err == nil || !strings.Contains(err.Error(), "did you mean tcp/4000") {
		t.Error(err)
	}
	if err := s.Settle(gateway.Settlement{Number: 7}); err == nil {
		t.Error("nothing waits")
	}
	if err := s.Settle(gateway.Settlement{Number: 7, Who: "a\nb"}); err == nil || !strings.Contains(err.Error(), "plain text") {
		t.Error(err)
	}
	if notes := put(house).Notes; len(notes) == 0 || !strings.Contains(notes[len(notes)-1], "1 of the mappings that programs have end") {
		t.Errorf("%q", notes)
	}
	if len(s.Mappings().Mappings) != 0 {
		t.Errorf("%+v", s.Mappings())
	}
}
