package netfile

import (
	"bufio"
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

func errorf(format string, args ...any) error { return fmt.Errorf(format, args...) }

// expression reads an address expression: a text, or a list of expressions.
func (r *reader) expression(n *yaml.Node) network.Expression {
	switch {
	case n.Kind == yaml.SequenceNode && len(n.Content) == 0:
		r.fail(n, "the list is empty; leave the key out, or write any")
		return network.Expression{}
	case n.Kind == yaml.SequenceNode:
		var whole network.Expression
		var texts []string
		for _, item := range n.Content {
			e := r.expression(item)
			whole.Items = append(whole.Items, e.Items...)
			texts = append(texts, e.Text)
		}
		whole.Text = strings.Join(texts, ", ")
		return whole
	case n.Kind != yaml.ScalarNode || isNull(n):
		r.fail(n, "addresses are written as a text or a list: an address, prefix, range, zone, group, host, GATEWAY:INTERFACE, internet or any")
		return network.Expression{}
	}
	p := expressionParser{reader: r, node: n, text: n.Value}
	e := p.whole()
	e.Text = n.Value
	return e
}

// expression reads the expression behind a key; the zero Expression, which is
// any, where the key is absent.
func (f *fields) expression(key string) network.Expression {
	n := f.values[key]
	if n == nil {
		return network.Expression{}
	}
	return f.reader.expression(n)
}

// ParseExpression reads an address expression against a network that was read
// before, as commands take it.
func ParseExpression(n *network.Network, text string) (network.Expression, error) {
	r := &reader{file: "", net: n, names: map[string]nameUse{}, groups: map[string]*pending{}}
	for _, g := range n.Groups {
		r.groups[g.Name] = &pending{group: g, done: true}
	}
	e := r.expression(&yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text, Line: 1, Column: 1})
	if len(r.errors) > 0 {
		return network.Expression{}, errorf("%s", r.errors[0].Message)
	}
	return e, nil
}

// ParseService reads a service against a network that was read before.
func ParseService(n *network.Network, text string) (header.Services, error) {
	r := &reader{net: n, services: map[string]*pending{}}
	for _, s := range n.Services {
		r.services[s.Name] = &pending{service: s, done: true}
	}
	return header.ParseService(text, func(name string) (header.Services, error) { return r.namedService(nil, name) })
}

// expressionParser reads
//
//	expression = item ["except" item]
//	item       = word | "beside" word | "[" expression {"," expression} "]"
type expressionParser struct {
	*reader
	node *yaml.Node
	text string
	at   int // in bytes
	deep int
}

// mostLists is how deep lists may stand in lists.
const mostLists = 16

func (p *expressionParser) whole() network.Expression {
	term, ok := p.expression()
	if !ok {
		return network.Expression{}
	}
	p.skipSpace()
	if p.at < len(p.text) {
		p.failHere(len(p.text)-p.at, "%s: not expected here; several addresses are written as a list: [a, b]", p.text[p.at:])
		return network.Expression{}
	}
	return network.Expression{Items: []network.Item{term}}
}

func (p *expressionParser) expression() (network.Item, bool) {
	term, ok := p.item()
	if !ok {
		return term, false
	}
	start := p.at
	p.skipSpace()
	if word := p.word(); word != "except" {
		p.at = start
		return term, true
	}
	left, ok := p.item()
	if !ok {
		return term, false
	}
	if term.Except != nil { // an item in brackets that is itself an exception
		term = network.Item{List: []network.Item{term}}
	}
	term.Except = &network.Expression{Items: []network.Item{left}}
	return term, true
}

func (p *expressionParser) item() (network.Item, bool) {
	p.skipSpace()
	if p.at < len(p.text) && p.text[p.at] == '[' {
		return p.list()
	}
	start := p.at
	word := p.word()
	if word == "" {
		p.failHere(1, "an address is missing in %q", p.text)
		return network.Item{}, false
	}
	if word == besideWord {
		return p.beside(start)
	}
	return p.resolve(word, start)
}

// besideWord begins the machines beside an uplink, and besideNone says that there are none.
const (
	besideWord = "beside"
	besideNone = "none"
)

// beside reads the machines beside an uplink, of which the first word was read.
func (p *expressionParser) beside(start int) (network.Item, bool) {
	p.skipSpace()
	word := p.word()
	fail := func(format string, args ...any) (network.Item, bool) {
		end := p.at
		p.at = start
		p.failHere(utf8.RuneCountInString(p.text[start:end]), format, args...)
		p.at = end
		return network.Item{}, false
	}
	var uplinks []string
	for _, g := range p.net.Gateways {
		for _, i := range g.Interfaces {
			switch {
			case i.IsUplink() && (word == i.String() || word == i.Name && len(p.net.Gateways) == 1):
				p.refersTo(p.node, p.at-len(word), i, word == i.String())
				if i.Upstream.NoBeside {
					return fail("beside %s: nobody is, by upstream: {beside: none}", word)
				}
				return network.Item{Beside: i, Set: p.net.Beside(i)}, true
			case i.IsUplink():
				uplinks = append(uplinks, i.String())
			}
		}
	}
	if len(uplinks) == 0 {
		return fail("beside %s: no interface here leads to the internet", word)
	}
	return fail("beside %s: write the uplink behind it, as beside %s%s", word, uplinks[0], DidYouMean(word, uplinks))
}

func (p *expressionParser) list() (network.Item, bool) {
	if p.deep++; p.deep > mostLists {
		p.failHere(1, "lists stand more than %d deep in lists", mostLists)
		return network.Item{}, false
	}
	defer func() { p.deep-- }()
	p.at++
	var whole network.Item
	for {
		term, ok := p.expression()
		if !ok {
			return whole, false
		}
		whole.List = append(whole.List, term)
		p.skipSpace()
		if p.at >= len(p.text) {
			p.failHere(1, "a ] is missing in %q", p.text)
			return whole, false
		}
		c := p.text[p.at]
		p.at++
		if c == ']' {
			return whole, true
		}
		if c != ',' {
			p.at--
			p.failHere(1, "a comma or ] is missing in %q", p.text)
			return whole, false
		}
	}
}

func (p *expressionParser) skipSpace() {
	for p.at < len(p.text) && p.text[p.at] == ' ' {
		p.at++
	}
}

func (p *expressionParser) word() string {
	start := p.at
	for p.at < len(p.text) && !strings.ContainsRune(" ,[]", rune(p.text[p.at])) {
		p.at++
	}
	return p.text[start:p.at]
}

// failHere reports an error at the parser's place in the text.
func (p *expressionParser) failHere(length int, format string, args ...any) {
	at := p.place(p.node)
	at.Column += utf8.RuneCountInString(p.text[:min(p.at, len(p.text))])
	if p.node.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
		at.Column++
	}
	p.failAt(at, length, format, args...)
}

// resolve finds out what a word of an expression stands for.
func (p *expressionParser) resolve(word string, start int) (network.Item, bool) {
	fail := func(format string, args ...any) (network.Item, bool) {
		end := p.at
		p.at = start
		p.failHere(utf8.RuneCountInString(word), format, args...)
		p.at = end
		return network.Item{}, false
	}
	switch word {
	case "any":
		return network.Item{Set: header.AllAddresses()}, true
	case "internet":
		return network.Item{Set: p.net.Internet(), Whole: true}, true
	case "except":
		return fail("except stands between two sets of addresses: any except fronts")
	}
	if group := p.groups[word]; group != nil {
		if group.underway {
			return fail("%s: this group contains itself", word)
		}
		p.resolveGroup(group)
		p.refers(p.node, start, "group", word)
		return network.Item{Set: group.group.Members}, true
	}
	if h := p.net.Host(word); h != nil {
		p.refers(p.node, start, "host", word)
		return network.Item{Host: h, Set: hostAddresses(h)}, true
	}
	if p.net.Zone(word) != nil {
		p.refers(p.node, start, zoneKind, word)
		return network.Item{Zone: word, Set: p.net.ZoneAddresses(word)}, true
	}
	if address, _, scoped := strings.Cut(word, "%"); scoped {
		if _, err := header.ParseAddress(address); err == nil {
			return fail("%s: an address stands without its interface here; write %s", word, address)
		}
	}
	if i, err := p.interfaceNamed(word); err != nil {
		return fail("%s", err)
	} else if i != nil {
		p.refersTo(p.node, start, i, false)
		return network.Item{Set: i.Own()}, true
	}
	if g, i, found := strings.Cut(word, ":"); found {
		if gateway := p.net.Gateway(g); gateway != nil {
			found := gateway.Interface(i)
			if found == nil {
				return fail("%s: %s has no such interface%s", i, g, oneOf(i, network.InterfaceNames(gateway.Interfaces)))
			}
			p.refersTo(p.node, start, found, true)
			return network.Item{Set: found.Own()}, true
		}
	}
	if rng, err := header.ParseRange(word); err == nil {
		return network.Item{Set: header.AddressesOf(rng)}, true
	} else if header.LooksLikeAddress(word) {
		return fail("%s", err)
	}
	if p.net.Gateway(word) != nil {
		return fail("%s: this is a gateway; say which interface, as %s:%s", word, word, anInterface(p.net.Gateway(word)))
	}
	if g, _, found := strings.Cut(word, ":"); found {
		return fail("%s: no such gateway%s", g, oneOf(g, p.gatewayNames()))
	}
	return fail("%s: no such host, group, zone or address%s", word, DidYouMean(word, p.addressNames()))
}

// interfaceNamed returns the interface that a bare name stands for: that of the one gateway
// there is. With several, the error offers the whole names.
func (r *reader) interfaceNamed(name string) (*network.Interface, error) {
	var found []*network.Interface
	var names []string
	for _, g := range r.net.Gateways {
		if i := g.Interface(name); i != nil {
			found, names = append(found, i), append(names, i.String())
		}
	}
	switch {
	case len(found) == 0:
		return nil, nil
	case len(r.net.Gateways) > 1:
		return nil, errorf("%s: say of which gateway the interface is, as %s", name, strings.Join(names, " or "))
	}
	return found[0], nil
}

// anInterface names an interface of a gateway, for an example.
func anInterface(g *network.Gateway) string {
	if len(g.Interfaces) == 0 {
		return "INTERFACE"
	}
	return g.Interfaces[0].Name
}

func hostAddresses(h *network.Host) header.Addresses {
	var ranges []header.Range
	for _, a := range h.Addresses {
		ranges = append(ranges, header.Range{First: a, Last: a})
	}
	return header.AddressesOf(ranges...)
}

// addressNames returns all names that can stand for addresses.
func (r *reader) addressNames() []string {
	names := slices.Collect(maps.Keys(r.groups))
	for _, h := range r.net.Hosts {
		names = append(names, h.Name)
	}
	for _, z := range r.net.Zones {
		names = append(names, z.Name)
	}
	return slices.Sorted(slices.Values(append(names, "internet", "any")))
}

// isLikeAddresses reports whether a text looks like an address, prefix or range with something wrong. Nothing else of a list is shown: a network file
// can point at any file that its reader may read, and who sees the errors may be another one.
func isLikeAddresses(text string) bool {
	const most = 90 // two addresses of IPv6
	return len(text) <= most && strings.ContainsAny(text, ".:") && strings.Trim(text, "0123456789abcdefABCDEF.:/- ") == "" && strings.Count(text, " ") <= 2
}

// listFile reads the file of addresses that a group names.
func (r *reader) listFile(n *yaml.Node) ([]header.Range, string) {
	f := r.fields(n, listFileObject)
	if f == nil {
		return nil, ""
	}
	name, ok := f.scalar("file")
	if !ok {
		return nil, ""
	}
	path := r.beside(name.Value)
	data, err := r.list(name.Value)
	if err != nil {
		r.fail(name, "%s: the list cannot be read: %s", name.Value, strings.TrimPrefix(err.Error(), path+": "))
		return nil, ""
	}
	ranges := make([]header.Range, 0, bytes.Count(data, []byte("\n"))+1)
	scanner := bufio.NewScanner(bytes.NewReader(data))
	scanner.Buffer(nil, len(data)+1)
	for number := 1; scanner.Scan(); number++ {
		line := strings.TrimRight(scanner.Text(), "\r")
		text, _, _ := strings.Cut(line, "#")
		text = strings.TrimSpace(strings.TrimPrefix(text, "\ufeff"))
		if text == "" {
			continue
		}
		rng, err := header.ParseRange(text)
		if err != nil {
			column := utf8.RuneCountInString(line[:strings.Index(line, text)]) + 1
			wrong := Error{Place: network.Position{File: path, Line: number, Column: column}, Message: "this line is no address, prefix or range"}
			if isLikeAddresses(text) {
				before, _, _ := strings.Cut(line, "#")
				wrong.Length, wrong.Message, wrong.Source = utf8.RuneCountInString(text), harmless(err.Error()), harmless(before)
			}
			r.errors = append(r.errors, wrong)
			if len(r.errors) > mostErrors {
				break
			}
			continue
		}
		ranges = append(ranges, rng)
	}
	return ranges, "file " + name.Value
}
