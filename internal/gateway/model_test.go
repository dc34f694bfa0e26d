package gateway_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"
)

// A model is what a gateway should remember: the texts of its revisions, in their order.
type model struct {
	texts    []string // of revision 1, 2, ...; empty where nothing is in force
	pendings bool
	back     int
}

// Whatever is applied, undone, kept and restarted, in whatever order, a gateway remembers as a
// plain list does.
func TestRevisionsAreAPlainList(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes seconds")
	}
	for seed := range netfiletest.Few(uint64(12), 4) {
		random := rand.New(rand.NewPCG(seed, 23))
		m := &model{}
		b := &bench{T: t, folder: t.TempDir()}
		begin := func() {
			b.start(func(r gateway.Recorder) (gateway.Backend, error) { return gateway.NewSimulated(r), nil })
		}
		begin()
		tokens := map[string]int{} // proposals that wait, by the revision they were made for
		texts := map[string]string{}
		for step := range 60 {
			switch random.IntN(8) {
			case 0, 1, 2: // a proposal
				text := house + fmt.Sprintf("# %d %d\n", seed, step)
				base := len(m.texts)
				if random.IntN(5) == 0 {
					base += random.IntN(3) - 1
				}
				made, err := b.Prepare(gateway.Proposal{Bundle: bundle(text), Base: base})
				if (err == nil) != (base == len(m.texts)) {
					t.Fatalf("seed %d, step %d: proposed for %d of %d: %v", seed, step, base, len(m.texts), err)
				}
				if err == nil {
					tokens[made.Token], texts[made.Token] = base, text
				}
			case 3, 4: // a commit of one of them
				for token, base := range tokens {
					c := gateway.Commit{Token: token, Author: "ada"}
					if random.IntN(2) == 0 {
						c.For = 3600
					}
					done, err := b.Commit(c)
					over := m.pendings && c.For == 0 && texts[token] != m.text(m.back) // a trial's end would be nobody's decision
					if (err == nil) != (base == len(m.texts) && !over) {
						t.Fatalf("seed %d, step %d: commit for %d of %d: %v", seed, step, base, len(m.texts), err)
					}
					if err != nil {
						break
					}
					delete(tokens, token)
					m.texts = append(m.texts, texts[token])
					if c.For > 0 && !m.pendings {
						m.back = base
					}
					if m.pendings = c.For > 0; done.Revision.Number != len(m.texts) {
						t.Fatalf("seed %d, step %d: revision %d of %d", seed, step, done.Revision.Number, len(m.texts))
					}
					break
				}
			case 5:
				number := len(m.texts) - random.IntN(2)
				err := b.Undo(gateway.Undo{Revision: number})
				if (err == nil) != (number == len(m.texts) && number > 0) {
					t.Fatalf("seed %d, step %d: undo of %d of %d: %v", seed, step, number, len(m.texts), err)
				}
				if err == nil {
					before := ""
					if number > 1 {
						before = m.texts[number-2]
					}
					m.texts, m.pendings = append(m.texts, before), m.pendings && m.back != number-1
				}
			case 6:
				if err := b.Keep(); (err == nil) != m.pendings {
					t.Fatalf("seed %d, step %d: kept: %v", seed, step, err)
				}
				m.pendings = false
			case 7:
				if err := b.Stop(random.IntN(2) == 0); err != nil {
					t.Fatal(err)
				}
				begin()
				clear(tokens) // proposals do not outlive a restart
			}
			m.compare(b, seed, step)
		}
		b.Stop(false)
	}
}

// text returns that of a revision, empty for none.
func (m *model) text(number int) string {
	if number == 0 {
		return ""
	}
	return m.texts[number-1]
}

// compare compares a gateway with the model.
func (m *model) compare(b *bench, seed uint64, step int) {
	b.Helper()
	status := b.Status()
	number, now := 0, ""
	if status.Revision != nil {
		number = status.Revision.Number
	}
	if len(m.texts) > 0 {
		now = m.texts[len(m.texts)-1]
	}
	if number != len(m.texts) || (status.Pending != nil) != m.pendings || m.pendings && status.Pending.Back != m.back {
		b.Fatalf("seed %d, step %d: %+v, %+v; want %d, back to %d: %v", seed, step, status.Revision, status.Pending, len(m.texts), m.back, m.pendings)
	}
	if number > 0 && status.Revision.Empty != (now == "") {
		b.Fatalf("seed %d, step %d: empty: %v", seed, step, status.Revision.Empty)
	}
	hits, err := b.Hits()
	if err != nil || (len(hits.Hits) > 0) != (now != "") {
		b.Fatalf("seed %d, step %d: %d rules count, %v", seed, step, len(hits.Hits), err)
	}
}

// The sessions that a change would not have made are those whose first packet fares otherwise by
// the new rules alone.
func TestChangedSessionsAreThoseThatFareOtherwise(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes seconds")
	}
	all, changed := 0, 0
	defer func() {
		if changed < 20 || all-changed < 20 {
			t.Errorf("of %d sessions, %d have changed: too few of one kind", all, changed)
		}
	}()
	for seed := range netfiletest.Few(uint64(120), 60) {
		random := rand.New(rand.NewPCG(seed, 29))
		before := strings.ReplaceAll(gen.Small(seed), "restarts-on-apply: true", "restarts-on-apply: false")
		after := strings.ReplaceAll(gen.Small(seed), "restarts-on-apply: true", "restarts-on-apply: false")
		lines := strings.Split(after, "\n")
		for i, line := range lines { // some rules are turned off or round
			switch {
			case random.IntN(4) > 0:
			case strings.HasPrefix(line, "      - allow: "):
				lines[i] = strings.Replace(line, "allow", "drop", 1)
			case strings.HasPrefix(line, "      - port-forward: "), strings.HasPrefix(line, "      - source-nat: "):
				lines = slices.Insert(lines, i+1, "        disabled: true")
			}
		}
		after = strings.Join(lines, "\n")
		old, err := bundle(before).Network()
		if err != nil {
			t.Fatal(err)
		}
		next, err := bundle(after).Network()
		if err != nil {
			continue // it had a disabled: already
		}
		name := old.Gateways[0].Name
		var simulated *gateway.Simulated
		s, err := gateway.Start(gateway.Options{Gateway: name, Folder: t.TempDir(), Keeping: gateway.UsualKeeping, Trouble: trouble(t),
			Backend: func(r gateway.Recorder) (gateway.Backend, error) {
				simulated = gateway.NewSimulated(r)
				return simulated, nil
			}})
		if err != nil {
			t.Fatal(err)
		}
		b := &bench{T: t, Service: s}
		b.apply(before, nil)
		e := walk.Compile(old, nil)
		for range 60 {
			c, ok := netfiletest.Connection(random, e)
			if !ok {
				continue
			}
			in := old.Gateways[0].Interfaces[random.IntN(len(old.Gateways[0].Interfaces))]
			simulated.Decide(in.Name, c.Packet, netip.Addr{}, header.Begins, 40)
		}
		made, err := s.Prepare(gateway.Proposal{Bundle: bundle(after), Base: 1})
		if err != nil {
			t.Fatal(err)
		}
		list, err := s.Sessions(&gateway.Filter{}, 1000)
		if err != nil {
			t.Fatal(err)
		}
		g := walk.Compile(next, nil).Gateway(next.Gateways[0])
		want := 0
		for _, session := range list.Sessions {
			if !sameAgain(t, g, &session) {
				want++
			}
		}
		if made.Changed != want {
			t.Fatalf("seed %d: %d of %d sessions have changed, not %d", seed, made.Changed, len(list.Sessions), want)
		}
		all, changed = all+len(list.Sessions), changed+want
		s.Stop(false)
	}
}

// sameAgain reports whether a gateway would make a session so again, with nothing else there: a
// translated source may have any port of its rule.
func sameAgain(t *testing.T, g *engine.Gateway, s *gateway.Session) bool {
	t.Helper()
	p, err := s.Before.Header()
	if err != nil {
		t.Fatal(err)
	}
	was, err := s.After.Header()
	if err != nil {
		t.Fatal(err)
	}
	var taken engine.Lease
	state := &fresh{port: was.SourcePort, taken: &taken, was: was}
	d := g.Decide(&engine.Arrival{In: g.Interface(s.In), Packet: p, At: network.MomentAt(time.Now())}, state, &engine.Log{})
	out := ""
	if d.Out != nil {
		out = d.Out.Name
	}
	return d.Action != engine.Stops && d.Packet == was && out == s.Out
}

// Fresh is the state of a gateway that remembers nothing, and gives a source what it had where a
// pool and ports allow it.
type fresh struct {
	port  uint16
	taken *engine.Lease
	was   header.Packet
}

// Find is engine.State's.
func (f *fresh) Find(*header.Packet, header.Part, int, *engine.Session) (engine.Direction, bool) {
	return engine.Forth, false
}

// Take is engine.State's.
func (f *fresh) Take(l *engine.Lease, grant *engine.Grant) bool {
	*f.taken = *l
	for _, r := range l.Pool.Ranges() {
		for a := r.First; ; a = a.Next() {
			if a == f.was.Source {
				port := l.Packet.SourcePort
				if l.Ports == (header.Ports{}) || l.Ports.Contains(f.port) {
					port = f.port
				}
				*grant = engine.Grant{Address: a, Port: port, Alone: true}
				return true
			}
			if a == r.Last {
				break
			}
		}
	}
	*grant = engine.Grant{Address: l.Pool.Ranges()[0].First, Port: l.Packet.SourcePort, Alone: true}
	return true
}

// Distinct is engine.State's.
func (f *fresh) Distinct(final header.Packet, _ header.Ports, _ network.MappingBehavior) (uint16, bool) {
	if final.Source == f.was.Source {
		return f.port, true
	}
	return final.SourcePort, true
}

// Keep is engine.State's.
func (f *fresh) Mapped(*network.Interface, *header.Packet) *engine.Mapping { return nil }

func (f *fresh) Keep(*engine.Session) bool { return true }

// What a filter lets through is what its words say, read by hand.
func TestFiltersAreReadAsTheyAreWritten(t *testing.T) {
	n := netfiletest.Parse(t, house)
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	for text, want := range map[string]string{
		"from=archive":            "",
		"from=10.61.24.0/28":      "",
		"to=rim:fibre":            "",
		"address=internet":        "",
		"from=yard":               "this is a zone",
		"from=nobody":             "no such host",
		"port=443":                "",
		"port=0":                  "ports go from 1 to 65535",
		"port=65536":              "ports go from 1 to 65535",
		"port=https":              "ports go from 1 to 65535",
		"service=https":           "",
		"service=tcp/1-9":         "",
		"service=nothing":         "no such service",
		"rule=web":                "",
		"outcome=passes":          "",
		"outcome=pases":           "did you mean passes?",
		"since=30m":               "",
		"since=2026-11-24":        "",
		"since=2026-11-24 08:00":  "",
		"since=2026-11-24T08:00Z": "not a time",
		"since=yesterday":         "not a time",
	} {
		key, value, _ := strings.Cut(text, "=")
		query := map[string][]string{key: {value}, "other": {"x"}}
		_, err := gateway.ParseFilter(n, query, now)
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
		if len(query["other"]) != 1 || err == nil && len(query[key]) != 0 {
			t.Errorf("%s: the query is %v", text, query)
		}
	}
	for text, want := range map[string]time.Time{
		"90s": now.Add(-90 * time.Second), "7d": now.Add(-7 * 24 * time.Hour), "2026-11-23": time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC),
		"2026-11-23 14:05:06": time.Date(2026, 11, 23, 14, 5, 6, 0, time.UTC), "2026-11-23T14:05:06.5Z": time.Date(2026, 11, 23, 14, 5, 6, 5e8, time.UTC),
	} {
		if got, err := gateway.ParseSince(text, now); err != nil || !got.Equal(want) {
			t.Errorf("%s: %s, %v", text, got, err)
		}
	}
}

// Packets that no machine sends are refused, and all others come through the wire as they are.
func TestPacketsComeThroughTheWire(t *testing.T) {
	random := rand.New(rand.NewPCG(31, 31))
	for range 2000 {
		p := header.Packet{Protocol: header.Protocols()[random.IntN(len(header.Protocols()))], SourcePort: uint16(random.Uint32()), DestinationPort: uint16(random.Uint32())}
		var a, b [16]byte
		for i := range a {
			a[i], b[i] = byte(random.Uint32()), byte(random.Uint32())
		}
		p.Source, p.Destination = netip.AddrFrom16(a), netip.AddrFrom16(b)
		if random.IntN(2) == 0 {
			p.Source, p.Destination = netip.AddrFrom4([4]byte(a[:4])), netip.AddrFrom4([4]byte(b[:4]))
		}
		if got, err := gateway.PacketOf(p).Header(); err != nil || got != p {
			t.Fatalf("%+v is %+v, %v", p, got, err)
		}
	}
	four, six := netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("2001:db8::1")
	for _, p := range []gateway.Packet{
		{}, {Protocol: "tcp"}, {Protocol: "any", Source: four, Destination: four}, {Protocol: "tcp", Source: four, Destination: six}, {Protocol: "quic", Source: four, Destination: four},
		{Protocol: "tcp", Source: netip.MustParseAddr("::ffff:192.0.2.1"), Destination: six}, {Protocol: "tcp", Source: netip.MustParseAddr("fe80::1%eth0"), Destination: six},
	} {
		if got, err := p.Header(); err == nil {
			t.Errorf("%+v is %+v", p, got)
		}
	}
}
