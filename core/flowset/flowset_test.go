package flowset

import (
	"flag"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"testing"

	"hollowbridge/core/header"
)

// A tiny world: two protocols, four addresses on each side, four ports on each side, three moments.
var tiny = func() []Member {
	var all []Member
	for _, protocol := range []header.Protocol{header.TCP, header.UDP} {
		for d := range 4 {
			for port := range 4 {
				for s := range 4 {
					for sport := range 4 {
						for moment := range tinyMoments {
							all = append(all, Member{header.Packet{Source: tinyAddress(s), Destination: tinyAddress(d), SourcePort: uint16(sport), DestinationPort: uint16(port), Protocol: protocol}, moment})
						}
					}
				}
			}
		}
	}
	return all
}()

const tinyMoments = 3

func tinyAddress(i int) netip.Addr { return netip.AddrFrom4([4]byte{10, 0, 0, byte(i)}) }

// A model is a set over the tiny world, member by member.
type model []bool

func modelOf(holds func(Member) bool) model {
	m := make(model, len(tiny))
	for i, p := range tiny {
		m[i] = holds(p)
	}
	return m
}

func (m model) equal(n model) bool {
	for i := range m {
		if m[i] != n[i] {
			return false
		}
	}
	return true
}

type tinySpan struct{ first, last int }

func (s tinySpan) holds(i int) bool { return s.first <= i && i <= s.last }

// randomTiny returns a random union of boxes, as a set and as a model.
func randomTiny(s *Space, random *rand.Rand) (Set, model) {
	set, m := Nothing, make(model, len(tiny))
	for range 1 + random.IntN(4) {
		span := func() tinySpan {
			a, b := random.IntN(4), random.IntN(4)
			return tinySpan{min(a, b), max(a, b)}
		}
		dst, port, src, sport, protocol := span(), span(), span(), span(), []header.Protocol{header.TCP, header.UDP}[random.IntN(2)]
		when := tinySpan{0, tinyMoments - 1}
		if a, b := random.IntN(tinyMoments), random.IntN(tinyMoments); random.IntN(2) == 0 {
			when = tinySpan{min(a, b), max(a, b)}
		}
		one := s.Where(Time, []Span{MomentSpan(when.first, when.last)}, Everything)
		one = s.Where(SourcePort, []Span{PortSpan(uint16(sport.first), uint16(sport.last))}, one)
		one = s.Where(Source, AddressSpans(header.AddressesOf(header.Range{First: tinyAddress(src.first), Last: tinyAddress(src.last)})), one)
		one = s.Where(Port, []Span{PortSpan(uint16(port.first), uint16(port.last))}, one)
		one = s.Where(Destination, AddressSpans(header.AddressesOf(header.Range{First: tinyAddress(dst.first), Last: tinyAddress(dst.last)})), one)
		one = s.Where(Protocol, []Span{PortSpan(uint16(protocol), uint16(protocol))}, one)
		set = s.Overlay(set, one)
		for i, p := range tiny {
			last := func(a netip.Addr) int { return int(a.As4()[3]) }
			m[i] = m[i] || p.Protocol == protocol && dst.holds(last(p.Destination)) && port.holds(int(p.DestinationPort)) && src.holds(last(p.Source)) && sport.holds(int(p.SourcePort)) && when.holds(p.Moment)
		}
	}
	return set, m
}

// few returns how many rounds are made.
func few(rounds int) int {
	if *deep {
		return rounds
	}
	return rounds / 4
}

var deep = flag.Bool("deep", false, "take random runs at their full size, as .ci/deep does; else a quarter")

// Sets of connections obey the laws of sets, compared member by member; equal sets
// are the same number.
func TestSetsAgreeWithBruteForce(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 9))
	for range few(1500) {
		s := NewSpace(1<<20, tinyMoments)
		a, x := randomTiny(s, random)
		b, y := randomTiny(s, random)
		c, z := randomTiny(s, random)
		check := func(what string, set Set, want model) {
			t.Helper()
			if got := modelOf(func(p Member) bool { return s.Contains(set, p) }); !got.equal(want) {
				t.Fatalf("%s is wrong", what)
			}
		}
		over := func(f func(i int) bool) model {
			m := make(model, len(tiny))
			for i := range m {
				m[i] = f(i)
			}
			return m
		}
		check("a", a, x)
		check("union", s.Overlay(a, b), over(func(i int) bool { return x[i] || y[i] }))
		check("intersection", s.Restrict(a, b), over(func(i int) bool { return x[i] && y[i] }))
		check("difference", s.Minus(a, b), over(func(i int) bool { return x[i] && !y[i] }))
		if (a == b) != x.equal(y) {
			t.Fatal("equal sets are not the same number, or others are")
		}
		if s.Overlay(a, b) != s.Overlay(b, a) || s.Restrict(a, s.Overlay(b, c)) != s.Overlay(s.Restrict(a, b), s.Restrict(a, c)) ||
			s.Minus(a, s.Minus(a, b)) != s.Restrict(a, b) || s.Overlay(s.Minus(a, b), s.Restrict(a, b)) != a || s.Minus(a, a) != Nothing {
			t.Fatal("a law of sets does not hold")
		}
		check("c", c, z)
		packets := map[header.Packet]bool{}
		moments := map[int]bool{}
		for i := range z {
			if z[i] {
				packets[tiny[i].Packet], moments[tiny[i].Moment] = true, true
			}
		}
		if size := s.Size(c); !size.IsInt64() || size.Int64() != int64(len(packets)) {
			t.Fatalf("%d members, the size is %s", len(packets), size)
		}
		check("at some moment", s.Ever(c), over(func(i int) bool { return packets[tiny[i].Packet] }))
		check("at one", s.At(c, 1), over(func(i int) bool { return z[i] && tiny[i].Moment == 1 }))
		spans := s.Moments(c)
		for m := range tinyMoments {
			in := len(spans) == 0 && c != Nothing || slices.ContainsFunc(spans, func(span Span) bool { first, last := span.Moments(); return first <= m && m <= last })
			if in != moments[m] {
				t.Fatalf("at moment %d: %v", m, in)
			}
		}
		if p, ok := s.Example(a); ok != (a != Nothing) || ok && !s.Contains(a, p) {
			t.Fatal("the example is no member")
		}
		for range 5 {
			if p, ok := s.Sample(a, random.Uint64); !ok || !s.Contains(a, p) {
				t.Fatal("the sample is no member")
			}
		}
	}
}

// Values laid over each other are found again by Parts, the first in front.
func TestValuesAgreeWithBruteForce(t *testing.T) {
	random := rand.New(rand.NewPCG(2, 9))
	for range few(800) {
		s := NewSpace(1<<20, tinyMoments)
		var models []model
		whole := Nothing
		for v := range 4 {
			a, x := randomTiny(s, random)
			models = append(models, x)
			whole = s.Overlay(whole, s.Restrict(a, Terminal(Value(v+1))))
		}
		first := func(i int) Value {
			for v, m := range models {
				if m[i] {
					return Value(v + 1)
				}
			}
			return 0
		}
		parts := map[Value]Set{}
		for _, p := range s.Parts(whole) {
			parts[p.Value] = p.Set
		}
		for i, p := range tiny {
			for v := Value(1); v <= 4; v++ {
				set, has := parts[v]
				if want := first(i) == v; (has && s.Contains(set, p)) != want {
					t.Fatalf("value %d of %v: %v", v, p, !want)
				}
			}
		}
	}
}

// A marked set of values keeps them, and marks those of members of another set, also where there was none.
func TestMarkedValuesAgreeWithBruteForce(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 9))
	for range few(400) {
		s := NewSpace(1<<20, tinyMoments)
		a, x := randomTiny(s, random)
		b, y := randomTiny(s, random)
		c, z := randomTiny(s, random)
		parts := map[Value]Set{}
		for _, p := range s.Parts(s.Mark(s.Overlay(s.Restrict(a, Terminal(5)), s.Restrict(b, Terminal(6))), c)) {
			parts[p.Value] = p.Set
		}
		for i, p := range tiny {
			want := None
			switch {
			case x[i]:
				want = 5
			case y[i]:
				want = 6
			}
			if z[i] {
				want = want.Marked()
			}
			for v, set := range parts {
				if s.Contains(set, p) != (v == want) {
					t.Fatalf("value %d of %v, should be %d", v, p, want)
				}
			}
			if _, ok := parts[want]; !ok && want != 0 {
				t.Fatalf("nothing has the value %d, which %v should have", want, p)
			}
		}
	}
}

// Many sets overlaid at once are what they are one after the other, whether they
// overlap much or hardly.
func TestManySetsOverlaidAtOnce(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 9))
	for round := range few(400) {
		s := NewSpace(1<<20, tinyMoments)
		var list []Set
		want := Nothing
		for i := range random.IntN(40) {
			a, _ := randomTiny(s, random)
			if round%2 == 0 { // each in a place of its own, but for a few
				at := uint16(random.IntN(60))
				a = s.Where(Protocol, []Span{PortSpan(at, at+uint16(random.IntN(2)))}, s.Where(Port, []Span{PortSpan(at, at)}, Everything))
			}
			list = append(list, s.Restrict(a, Terminal(Value(1+i%5))))
		}
		if random.IntN(8) == 0 {
			list = slices.Insert(list, random.IntN(len(list)+1), Terminal(9))
		}
		for _, a := range list {
			want = s.Overlay(want, a)
		}
		if got := s.OverlayAll(list); got != want {
			t.Fatalf("round %d: %d sets overlaid at once differ from one after the other", round, len(list))
		}
	}
}

// A choice gives each span its value and everything else none.
func TestChoiceGivesSpansTheirValues(t *testing.T) {
	random := rand.New(rand.NewPCG(8, 9))
	for range 300 {
		s := NewSpace(1<<20, tinyMoments)
		values := make([]Value, 70)
		var spans []ValueSpan
		for at := random.IntN(3); at < len(values); at += random.IntN(4) {
			last := min(at+random.IntN(5), len(values)-1)
			value := Value(1 + random.IntN(3))
			spans = append(spans, ValueSpan{PortSpan(uint16(at), uint16(last)), value})
			for ; at <= last; at++ {
				values[at] = value
			}
		}
		parts := map[Value]Set{}
		for _, p := range s.Parts(s.Choice(Port, spans)) {
			parts[p.Value] = p.Set
		}
		for port, value := range values {
			for v := Value(1); v <= 3; v++ {
				set, has := parts[v]
				if got := has && s.Contains(set, Member{Packet: header.Packet{Source: tinyAddress(0), Destination: tinyAddress(1), DestinationPort: uint16(port)}}); got != (v == value) {
					t.Fatalf("port %d has value %d, not %d", port, value, v)
				}
			}
		}
	}
}

// Preimage finds the connections whose packets, changed by terms, are members.
func TestPullAgreesWithApply(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 9))
	for range few(1500) {
		s := NewSpace(1<<20, tinyMoments)
		set, _ := randomTiny(s, random)
		a, _ := randomTiny(s, random)
		s.long = []int{1, usualLong}[random.IntN(2)]
		for range 4 { // by other terms in the same space
			comparePull(t, s, set, a, random)
		}
	}
}

func comparePull(t *testing.T, s *Space, set, a Set, random *rand.Rand) {
	terms, turned := OriginalTerms(), random.IntN(3) == 0
	for _, f := range []Field{Destination, Source} {
		switch random.IntN(3) {
		case 0:
			terms[f] = Constant(tinyAddress(random.IntN(4)))
		case 1:
			terms[f] = terms[f].Shifted(tinyAddress(random.IntN(4)), tinyAddress(random.IntN(4)))
		}
	}
	for _, f := range []Field{Port, SourcePort} {
		switch random.IntN(3) {
		case 0:
			terms[f] = ConstantPort(uint16(random.IntN(4)))
		case 1:
			terms[f] = terms[f].ShiftedPort(uint16(random.IntN(4)), uint16(random.IntN(4)))
		}
	}
	pulled := s.Preimage(set, a, &terms, turned)
	if set != Nothing {
		value, agreed := s.Agreed(set, a, &terms, turned)
		if one := pulled == Nothing || s.Minus(set, pulled) == Nothing; agreed != one || agreed && (value == Nothing) != (pulled == Nothing) {
			t.Fatalf("agreed on %v: %v, pulled %v of %v", value, agreed, pulled, set)
		}
	}
	for _, p := range tiny {
		now := terms.Apply(p.Packet)
		if turned {
			now = now.Answer()
		}
		if got, want := s.Contains(pulled, p), s.Contains(set, p) && s.Contains(a, Member{now, p.Moment}); got != want {
			t.Fatalf("%v becomes %v: %v, want %v", p, now, got, want)
		}
		answer := terms.Answer(p.Protocol).Apply(p.Packet)
		if answer != terms.Apply(p.Packet).Answer() {
			t.Fatalf("%v is answered by %v, not %v", p, answer, terms.Apply(p.Packet).Answer())
		}
	}
}

// The boxes of a set hold all its members, each once, and no others: but what comes from port 0 does not count.
func TestBoxesListTheWholeSet(t *testing.T) {
	if testing.Short() {
		t.Skip("it lists many sets")
	}
	random := rand.New(rand.NewPCG(4, 9))
	ports := func(list []header.Ports, all bool, port uint16) bool {
		return all || slices.ContainsFunc(list, func(p header.Ports) bool { return p.Contains(port) })
	}
	for range 1000 {
		s := NewSpace(1<<20, tinyMoments)
		set, m := randomTiny(s, random)
		if random.IntN(2) == 0 { // from all ports, of TCP
			all := s.Where(SourcePort, []Span{PortSpan(1, 65535)}, s.Where(Time, []Span{MomentSpan(0, 1)}, Everything))
			all = s.Where(Destination, AddressSpans(header.Single(tinyAddress(0))), s.Where(Port, []Span{PortSpan(1, 2)}, all))
			set = s.Overlay(set, s.Where(Protocol, protocolSpans(header.TCP), all))
			m = modelOf(func(p Member) bool { return s.Contains(set, p) })
		}
		s.long = []int{1, usualLong}[random.IntN(2)]
		boxes := s.Boxes(set)
		if again := s.Boxes(set); !reflect.DeepEqual(again, boxes) {
			t.Fatalf("%v, and then %v", boxes, again)
		}
		for i, p := range tiny {
			in := 0
			for _, b := range boxes {
				if b.Protocol == p.Protocol && b.To.Contains(p.Destination) && b.From.Contains(p.Source) && ports(b.Ports, false, p.DestinationPort) && ports(b.SourcePorts, b.AllPorts, p.SourcePort) &&
					(len(b.Moments) == 0 || slices.ContainsFunc(b.Moments, func(span Span) bool { first, last := span.Moments(); return first <= p.Moment && p.Moment <= last })) {
					in++
				}
			}
			if (in == 1) != m[i] && p.SourcePort != 0 {
				t.Fatalf("%v is in %d boxes, in the set: %v: %+v", p, in, m[i], boxes)
			}
		}
	}
}

func protocolSpans(p header.Protocol) []Span { return []Span{PortSpan(uint16(p), uint16(p))} }

// Terms of one field are equal where they say: for constants, shifts and both.
func TestEqualTerms(t *testing.T) {
	s := NewSpace(1<<22, tinyMoments)
	shifted := Original(Destination).Shifted(tinyAddress(0), tinyAddress(1))
	for _, c := range []struct {
		a, b Term
		want func(Member) bool
	}{
		{Original(Destination), Constant(tinyAddress(2)), func(p Member) bool { return p.Destination == tinyAddress(2) }},
		{shifted, Constant(tinyAddress(2)), func(p Member) bool { return p.Destination == tinyAddress(1) }},
		{Original(Destination), shifted, func(Member) bool { return false }},
		{shifted, shifted, func(Member) bool { return true }},
	} {
		equal, ok := s.Equal(Destination, c.a, c.b)
		if got := modelOf(func(p Member) bool { return s.Contains(equal, p) }); !ok || !got.equal(modelOf(c.want)) {
			t.Errorf("%v and %v", c.a, c.b)
		}
	}
	if _, ok := s.Equal(Port, Original(Port), Original(SourcePort).ShiftedPort(1, 0)); ok {
		t.Error("ports against ports are told one by one")
	}
	if _, ok := s.Equal(Source, Original(Source), Original(Destination).Shifted(tinyAddress(0), tinyAddress(1))); ok {
		t.Error("sources against destinations are no small set")
	}
}

// Of a set with few destinations, the members are told for which the source is the
// destination and some more; of a large set it is said that they are not.
func TestSourcesAgainstDestinations(t *testing.T) {
	random := rand.New(rand.NewPCG(10, 9))
	for range 500 {
		s := NewSpace(1<<20, tinyMoments)
		set, m := randomTiny(s, random)
		set = s.Restrict(s.Where(Protocol, []Span{PortSpan(6, 6)}, Everything), set)
		by := random.IntN(3) + 1
		shifted := Original(Destination).Shifted(tinyAddress(0), tinyAddress(by))
		equal, ok := s.EqualWithin(set, Source, Original(Source), shifted)
		if !ok {
			t.Fatal("a few destinations are too many")
		}
		for i, p := range tiny {
			if want := m[i] && p.Protocol == header.TCP && int(p.Source.As4()[3]) == int(p.Destination.As4()[3])+by; s.Contains(equal, p) != want {
				t.Fatalf("%v: %v, want %v", p, !want, want)
			}
		}
		everybody := s.Where(Protocol, []Span{PortSpan(6, 6)}, s.Where(Destination, AddressSpans(header.IPv4.All()), Everything))
		if _, ok := s.EqualWithin(everybody, Source, Original(Source), shifted); ok {
			t.Fatal("all destinations are told one by one")
		}
	}
}

// A space that outgrows its limit says so.
func TestASpaceKeepsItsLimit(t *testing.T) {
	s, random := NewSpace(50, tinyMoments), rand.New(rand.NewPCG(5, 9))
	var sets []Set
	for range 100 {
		set, _ := randomTiny(s, random)
		sets = append(sets, set)
		s.Parts(s.OverlayAll(sets))
		terms := OriginalTerms()
		s.Boxes(s.Preimage(set, s.Minus(sets[0], set), &terms, false))
	}
	if s.Err() != (TooLarge{Edges: 50}) {
		t.Error("it has not said so:", s.Err())
	}
	if s.edges > 100 {
		t.Errorf("it holds %d edges", s.edges)
	}
}

// A space also gives up where the process takes more memory than it may, whatever it is for.
func TestASpaceLooksAtTheMemoryOfTheProcess(t *testing.T) {
	s := NewSpace(1<<20, tinyMoments)
	if s.Measure(); s.Err() != nil {
		t.Fatal("a small process:", s.Err())
	}
	s.mostHeld = 1
	if s.Measure(); s.Err() != (TooLarge{Bytes: 1}) {
		t.Error("it has not said so:", s.Err())
	}
}

// IPv6 ranges do not hold the numbers that IPv4 addresses have.
func TestSpansOfBothFamiliesAreDisjoint(t *testing.T) {
	s := NewSpace(1<<10, tinyMoments)
	six := s.Where(Source, AddressSpans(header.IPv6.All()), Everything)
	four := s.Where(Source, AddressSpans(header.IPv4.All()), Everything)
	if s.Restrict(six, four) != Nothing || s.Overlay(six, four) != s.Overlay(four, six) {
		t.Error("the families overlap")
	}
	boxes := s.Boxes(s.Where(Protocol, []Span{PortSpan(6, 6)}, s.Where(Source, AddressSpans(header.AllAddresses()), Everything)))
	if len(boxes) != 1 || !boxes[0].From.Equal(header.AllAddresses().Minus(mapped)) {
		t.Errorf("%v", boxes)
	}
}
