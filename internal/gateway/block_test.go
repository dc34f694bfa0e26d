package gateway

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"testing"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/internal/netfile/netfiletest"
)

// randomEvent is one of few sources, ports and rules, so that filters meet some.
func randomEvent(random *rand.Rand, at time.Time) Event {
	e := Event{Time: at, What: connectionEvent, Outcome: EventOutcomes()[random.IntN(len(EventOutcomes()))], In: "fibre", InDevice: "eth0"}
	if random.IntN(20) == 0 {
		return Event{Time: at, What: revisionEvent, Text: fmt.Sprint("revision ", random.IntN(9))}
	}
	if random.IntN(2) == 0 {
		e.Rule = []string{"nat/web", "filter/web", "filter/rest"}[random.IntN(3)]
	}
	address := func() netip.Addr {
		if random.IntN(4) == 0 {
			return netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, 15: byte(random.IntN(9))})
		}
		return netip.AddrFrom4([4]byte{203, 0, 113, byte(random.IntN(9))})
	}
	p := Packet{Protocol: []string{"tcp", "udp", "icmp"}[random.IntN(3)], Source: address(), Destination: address(), SourcePort: uint16(random.IntN(9)), DestinationPort: uint16(random.IntN(40))}
	if p.Source.Is4() != p.Destination.Is4() {
		p.Destination = p.Source
	}
	e.Before = &p
	if e.Outcome == Passes {
		after := p
		after.Destination = after.Source
		e.After, e.Out = &after, "yard"
	}
	return e
}

// What stands in blocks comes out as it went in, and a filter finds in them what it finds in a
// plain list, the latest of it; and so does a sum.
func TestTheJournalIsAPlainList(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes seconds")
	}
	for seed := range netfiletest.Few(uint64(20), 5) {
		random := rand.New(rand.NewPCG(seed, 5))
		state, err := OpenState(t.TempDir(), "rim")
		if err != nil {
			t.Fatal(err)
		}
		j, err := openJournal(state, Keeping{Most: 1 << 40, Age: 1 << 60}, func([]Event) {}, func(err error) { t.Error(err) })
		if err != nil {
			t.Fatal(err)
		}
		at := time.Now().Add(-time.Hour).UTC()
		var plain []Event
		for range 1 + random.IntN(3000) {
			at = at.Add(time.Duration(random.IntN(2000)-100) * time.Millisecond)
			e := randomEvent(random, at)
			j.Record(e)
			e.Number, e.Gateway = int64(len(plain)+1), "rim"
			plain = append(plain, e)
		}
		for range 30 {
			f := &Filter{}
			some := func() *header.Addresses {
				a := netip.AddrFrom4([4]byte{203, 0, 113, byte(random.IntN(9))})
				set := header.AddressesOf(header.Range{First: a, Last: a.Next()})
				return &set
			}
			switch random.IntN(7) {
			case 0:
				f.From = some()
			case 1:
				f.To = some()
			case 2:
				f.Address, f.Port = some(), uint16(random.IntN(9))
			case 3:
				f.Rule = []string{"web", "nat/web", "rest"}[random.IntN(3)]
			case 4:
				f.Outcome = Passes
			case 5:
				f.Services = header.Services{header.ServiceAt(header.UDP, uint16(random.IntN(40)))}
			}
			if random.IntN(2) == 0 {
				f.Since = plain[random.IntN(len(plain))].Time
			}
			most := 1 + random.IntN(50)
			want := slices.DeleteFunc(slices.Clone(plain), func(e Event) bool { return !plainly(f, &e) })
			got, _, err := j.List("rim", f, most, false)
			if latest := want[max(0, len(want)-most):]; err != nil || len(got) != len(latest) || len(got) > 0 && !reflect.DeepEqual(got, latest) {
				t.Fatalf("seed %d, %+v: %v\n got  %+v\n want %+v", seed, f, err, got, latest)
			}
			sum, err := j.sum(f)
			if err != nil {
				t.Fatal(err)
			}
			counts := map[string]int{}
			for _, e := range connectionsIn(want) {
				counts[e.Before.Source.String()]++
			}
			for _, o := range sum.Sources {
				if counts[o.Name] != o.Count {
					t.Fatalf("seed %d: %s %d times, not %d", seed, o.Name, o.Count, counts[o.Name])
				}
			}
		}
		j.Close()
		state.Close()
	}
}

// plainly is matchesEvent, read from what the commands say of their flags.
func plainly(f *Filter, e *Event) bool {
	if e.Time.Before(f.Since) || f.Outcome != "" && f.Outcome != e.Outcome {
		return false
	}
	if f.Rule != "" && e.Rule != f.Rule && e.Rule != "nat/"+f.Rule && e.Rule != "filter/"+f.Rule {
		return false
	}
	if f.From == nil && f.To == nil && f.Address == nil && f.Port == 0 && f.Services == nil {
		return true
	}
	if e.Before == nil {
		return false
	}
	sides := []Packet{*e.Before}
	if e.After != nil {
		sides = append(sides, *e.After)
	}
	from, to, address, port, service := f.From == nil, f.To == nil, f.Address == nil, f.Port == 0, f.Services == nil
	for _, p := range sides {
		from = from || f.From.Contains(p.Source)
		to = to || f.To.Contains(p.Destination)
		address = address || f.Address.Contains(p.Source) || f.Address.Contains(p.Destination)
		port = port || p.SourcePort == f.Port || p.DestinationPort == f.Port
		protocol, _ := header.ParseProtocol(p.Protocol)
		service = service || f.Services.Matches(protocol, p.DestinationPort)
	}
	return from && to && address && port && service
}

// Whatever stands in a block, reading it ends, and takes no more than there is.
func FuzzBlock(f *testing.F) {
	random := rand.New(rand.NewPCG(1, 1))
	w := newBlock()
	for range 20 {
		e := randomEvent(random, time.Unix(1, 0))
		w.add(&e)
	}
	f.Add(w.data)
	f.Fuzz(func(t *testing.T, data []byte) {
		r := readBlock(data)
		var e stored
		for n := 0; r.next(&e); n++ {
			if n > len(data) {
				t.Fatal("more events than bytes")
			}
		}
	})
}

// The sessions that carried most are those at the front of all, sorted.
func TestTopSessionsAreThoseThatCarriedMost(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 3))
	for range 300 {
		all := make([]Session, random.IntN(60))
		top := topSessions{most: random.IntN(20)}
		for i := range all {
			all[i] = Session{Number: uint64(i), Forth: Count{1, int64(random.IntN(12))}, Back: Count{1, int64(random.IntN(12))}}
			top.add(&all[i])
		}
		slices.SortFunc(all, func(a, b Session) int {
			return cmp.Or(cmp.Compare(carried(&b), carried(&a)), cmp.Compare(a.Number, b.Number))
		})
		if got, want := top.sorted(), all[:min(len(all), top.most)]; len(got) != len(want) || len(got) > 0 && !reflect.DeepEqual(got, want) {
			t.Fatalf("%v, want %v", got, want)
		}
	}
}
