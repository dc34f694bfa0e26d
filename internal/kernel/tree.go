package kernel

import (
	"bytes"
	"fmt"
	"iter"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"

	"golang.org/x/sys/unix"
)

// A long list of rules is no chain that is walked to its end: it becomes a tree. A map sends
// a packet by the stretch in which one of its fields lies (its destination, its port or its
// source) to a chain of just those rules of the list that can match there, in their order, and
// so on with these. So the first rule of the list that matches is found, and none is asked
// that can't; the cost of a new connection grows with the logarithm of the length where rules
// do not all overlap. Rules for all of a field stand in the chains of all of its stretches; a
// list with many of them is cut at them instead. It is the segment tree of computational
// geometry, as Gupta and McKeown (1999) cut spaces of packets.

// shortList is how many rules are a chain.
const shortList = 12

// A field is what a tree cuts.
type field struct {
	name   string
	length uint32
	load   func(register uint32) expression
	guard  []statement                    // of which packets it is a field
	ranges func(m engine.Match) []element // the values for which a rule can match
	known  func(m *engine.Match)          // says that a rule need not ask for the field
}

// fieldsOf are the fields of packets of a family that a list can be cut by.
func (c *compiler) fieldsOf(seen end, f header.Family) []field {
	address := func(name string, e end, of func(*engine.Match) *header.Addresses) field {
		length := uint32(4)
		if f == header.IPv6 {
			length = 16
		}
		return field{name, length, func(register uint32) expression { return e.address(f, register) }, ofFamily(f), func(m engine.Match) (list []element) {
			for _, r := range of(&m).Intersect(f.All()).Ranges() {
				list = append(list, element{key: r.First.AsSlice(), end: after(r.Last.AsSlice())})
			}
			return list
		}, func(m *engine.Match) { *of(m) = header.AllAddresses() }}
	}
	fields := []field{
		address("destination", seen, func(m *engine.Match) *header.Addresses { return &m.To }),
		address("source", source, func(m *engine.Match) *header.Addresses { return &m.From }),
	}
	for _, protocol := range []header.Protocol{header.TCP, header.UDP} {
		fields = append(fields, field{protocol.String() + " port", 2, seen.port, slices.Concat(ofFamily(f), ofProtocol(protocol, f)), func(m engine.Match) (list []element) {
			ports, any := m.Services.Of(protocol)
			if any {
				ports = []header.Ports{{Last: 65535}}
			}
			for _, p := range ports {
				list = append(list, element{key: port(p.First), end: after(port(p.Last))})
			}
			return list
		}, func(m *engine.Match) {
			if len(m.SourcePorts) == 0 {
				m.Services = nil
			}
		}})
	}
	return fields
}

// list adds the rules of a list to a chain: the first that a packet meets sends it to the
// chain of its action.
func (c *compiler) list(ch *chain, matches iter.Seq[engine.Match], seen end, action func(engine.Match) string) {
	all := slices.Collect(matches)
	if len(all) <= shortList {
		for _, m := range all {
			c.rules(ch, m, seen, nil, ends(goesTo(action(m))))
		}
		return
	}
	t := &tree{compiler: c, seen: seen, action: action, name: ch.name, made: map[chainKey]string{}}
	for _, f := range header.Families {
		of := slices.DeleteFunc(slices.Clone(all), func(m engine.Match) bool {
			return m.From.Intersect(f.All()).Empty() || m.To.Intersect(f.All()).Empty()
		})
		top := c.chain(fmt.Sprintf("%s-%s", ch.name, f), "")
		ch.add(ofFamily(f), ends(jumpsTo(top.name)))
		t.family = f
		t.grow(top, of, c.fieldsOf(seen, f))
	}
}

type tree struct {
	*compiler
	seen   end
	family header.Family
	action func(engine.Match) string
	name   string
	number int
	rules  network.RuleLists
	made   map[chainKey]string // chains, by their rules
}

// plain adds the rules of a short list to a chain that only packets of the tree's family come to.
func (t *tree) plain(ch *chain, list []engine.Match) {
	for _, m := range list {
		for _, asked := range t.asks(m, t.seen, t.family) {
			ch.add(asked, ends(goesTo(t.action(m))))
		}
	}
}

// grow makes a list of rules for packets of one family a tree below a chain.
func (t *tree) grow(ch *chain, list []engine.Match, fields []field) {
	if len(list) <= shortList {
		t.plain(ch, list)
		return
	}
	best, stretches := -1, []band(nil)
	fewest := 4*len(list) + 64 // rules in all chains together
	for i := range fields {
		if cut, total, ok := cutBy(list, fields[i], fewest); ok && total < fewest {
			best, stretches, fewest = i, cut, total
		}
	}
	if best < 0 {
		t.cutAtWide(ch, list, fields)
		return
	}
	f := fields[best]
	var elements []element
	for _, s := range stretches {
		if len(s.rules) == 0 {
			continue
		}
		elements = append(elements, element{key: s.first, end: s.end, goes: jumpsTo(t.below(list, s.rules, f, without(fields, best))), words: s.words()})
	}
	if len(elements) > 0 {
		words := "by its " + f.name
		s := t.set(set{keyLen: f.length, interval: true, verdicts: true, elements: elements, words: words})
		ch.add(f.guard, one(words+" "+s.name, f.load(register0), lookupInto(s.name, register0, unix.NFT_REG_VERDICT)))
	}
	if f.length == 2 { // packets without such a port
		t.grow(ch, slices.DeleteFunc(slices.Clone(list), func(m engine.Match) bool { return !t.hasOther(m, f) }), without(fields, best))
	}
}

// hasOther reports whether a rule can match packets that have no such port.
func (t *tree) hasOther(m engine.Match, f field) bool {
	if len(m.Services) == 0 {
		return true
	}
	for _, s := range m.Services {
		if s.Protocol.String()+" port" != f.name {
			return true
		}
	}
	return false
}

func without(fields []field, i int) []field { return slices.Delete(slices.Clone(fields), i, i+1) }

// A chainKey is what chains have in common that are one: how they come to be, and their rules.
type chainKey struct {
	family header.Family
	by     string
	fields int
	rules  int
}

// below returns the chain of some rules of a list.
func (t *tree) below(list []engine.Match, numbers []int, by field, fields []field) string {
	key := chainKey{family: t.family, by: by.name, fields: len(fields)}
	rules := make([]engine.Match, len(numbers))
	for i, n := range numbers { // each matches all of the stretch: its borders are cuts
		rules[i] = list[n]
		by.known(&rules[i])
		key.rules = t.rules.With(key.rules, list[n].Rule)
	}
	if name, ok := t.made[key]; ok {
		return name
	}
	t.number++
	name := fmt.Sprintf("%s-%d", t.name, t.number)
	t.made[key] = name
	t.grow(t.chain(name, ""), rules, fields)
	return name
}

// cutAtWide takes a list apart where no field cuts it: rules for all of a field's values stand
// between the parts.
func (t *tree) cutAtWide(ch *chain, list []engine.Match, fields []field) {
	wide := func(m engine.Match) bool {
		return m.To.Intersect(t.family.All()).Equal(t.family.All()) && m.From.Intersect(t.family.All()).Equal(t.family.All())
	}
	var part []engine.Match
	flush := func() {
		if len(part) > shortList && len(part) < len(list) {
			t.grow(ch, part, fields)
		} else {
			t.plain(ch, part)
		}
		part = nil
	}
	for _, m := range list {
		if wide(m) {
			flush()
			t.plain(ch, []engine.Match{m})
			continue
		}
		part = append(part, m)
	}
	flush()
}

// A band is values of a field, from first to before end, for which the same rules of a list
// can match.
type band struct {
	first, end []byte // end is nil behind the last
	rules      []int
}

func (s *band) words() string { return fmt.Sprintf("from %x", s.first) }

// cutBy cuts a field at the borders of a list's rules, and returns how many rules the
// stretches have together. It gives up where those are more than most, or one has more than
// half of the list.
func cutBy(list []engine.Match, f field, most int) (cut []band, total int, ok bool) {
	type border struct {
		at     []byte
		rule   int
		begins bool
	}
	borders := make([]border, 0, 2*len(list))
	for n, m := range list {
		for _, r := range f.ranges(m) {
			borders = append(borders, border{r.key, n, true})
			if r.end != nil {
				borders = append(borders, border{r.end, n, false})
			}
		}
	}
	slices.SortFunc(borders, func(a, b border) int { return bytes.Compare(a.at, b.at) })
	var active []int // how often each rule is, sorted by number
	for i := 0; i < len(borders); {
		at := borders[i].at
		for ; i < len(borders) && bytes.Equal(borders[i].at, at); i++ {
			b := borders[i]
			where, found := slices.BinarySearch(active, b.rule)
			switch {
			case b.begins:
				active = slices.Insert(active, where, b.rule)
			case found:
				active = slices.Delete(active, where, where+1)
			}
		}
		rules := slices.Compact(slices.Clone(active))
		if n := len(cut); n > 0 {
			cut[n-1].end = at
		}
		cut = append(cut, band{first: at, rules: rules})
		if total += len(rules); total > most || 2*len(rules) > len(list) {
			return nil, 0, false
		}
	}
	return cut, total, true
}
