package gateway

import (
	"bytes"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/portmap"
)

// A Filter says which sessions and events are asked for: those for which all of it holds. The
// addresses and ports of both sides of a translation count.
type Filter struct {
	From, To, Address *header.Addresses // nil is any
	Port              uint16            // 0 is any
	Services          header.Services   // none is any
	Rule              string            // NAME, or LIST/NAME
	Outcome           string            // of events
	Since             time.Time         // of events
}

// The keys of a filter, as queries have them.
const (
	fromKey    = "from"
	toKey      = "to"
	addressKey = "address"
	portKey    = "port"
	serviceKey = "service"
	ruleKey    = "rule"
	outcomeKey = "outcome"
	sinceKey   = "since"
)

// ParseFilter reads a filter of a query. Names are those of the network in force, which may be
// nil. It takes the keys that it knows out of the query.
func ParseFilter(n *network.Network, query url.Values, now time.Time) (*Filter, error) {
	f := &Filter{}
	for key, set := range map[string]**header.Addresses{fromKey: &f.From, toKey: &f.To, addressKey: &f.Address} {
		text := take(query, key)
		if text == "" {
			continue
		}
		addresses, err := addressesOf(n, text)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", key, err)
		}
		*set = &addresses
	}
	if text := take(query, portKey); text != "" {
		port, err := strconv.ParseUint(text, 10, 16)
		if err != nil || port == 0 {
			return nil, fmt.Errorf("%s: %s: ports go from 1 to 65535", portKey, text)
		}
		f.Port = uint16(port)
	}
	if text := take(query, serviceKey); text != "" {
		var err error
		if n == nil {
			f.Services, err = header.ParseService(text, func(name string) (header.Services, error) {
				services, _, err := header.NamedService(name)
				return services, err
			})
		} else {
			f.Services, err = netfile.ParseService(n, text)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", serviceKey, err)
		}
	}
	f.Rule = take(query, ruleKey)
	if f.Outcome = take(query, outcomeKey); f.Outcome != "" && !slices.Contains(EventOutcomes(), f.Outcome) {
		return nil, fmt.Errorf("%s: %s: no such outcome%s", outcomeKey, f.Outcome, netfile.DidYouMean(f.Outcome, EventOutcomes()))
	}
	if text := take(query, sinceKey); text != "" {
		since, err := ParseSince(text, now)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", sinceKey, err)
		}
		f.Since = since
	}
	return f, nil
}

func take(query url.Values, key string) string {
	text := query.Get(key)
	query.Del(key)
	return text
}

// EventOutcomes are the outcomes that events of connections and mappings have.
func EventOutcomes() []string {
	list := append([]string{Passes, Translated}, portmap.Outcomes...)
	for _, o := range engine.LoggedOutcomes() {
		list = append(list, o.String())
	}
	return list
}

// addressesOf reads an address expression; without a network, an address, prefix or range.
func addressesOf(n *network.Network, text string) (header.Addresses, error) {
	if n == nil {
		r, err := header.ParseRange(text)
		if err != nil {
			return header.Addresses{}, err
		}
		return header.AddressesOf(r), nil
	}
	if z := n.Zone(text); z != nil {
		return header.Addresses{}, fmt.Errorf("%s: this is a zone; name a host, a group, an address or a prefix", text)
	}
	e, err := netfile.ParseExpression(n, text)
	if err != nil {
		return header.Addresses{}, err
	}
	return e.Addresses(), nil
}

// ParseSince reads a time that is past: how long ago, as 90s, 30m, 2h or 7d, or a date, with a
// time of day where that matters, as 2026-11-23 or 2026-11-23 14:00, or as RFC 3339 has it.
func ParseSince(text string, now time.Time) (time.Time, error) {
	if ago, err := network.ParseLifetime(text); err == nil {
		return now.Add(-ago), nil
	}
	for _, layout := range []string{"2006-01-02", "2006-01-02 15:04", "2006-01-02 15:04:05"} {
		if t, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return t, nil
		}
	}
	if t, err := time.Parse(time.RFC3339Nano, text); err == nil {
		return t, nil
	}
	return time.Time{}, fmt.Errorf("%s: not a time; write how long ago, as 30m, 2h or 7d, or a date, as \"2026-11-23 14:00\"", text)
}

// matches reports whether the filter lets through what was before when it came and after when
// it left; both are the same where nothing is known of one.
func (f *Filter) matches(before, after header.Packet) bool {
	switch {
	case f.Port != 0 && before.SourcePort != f.Port && before.DestinationPort != f.Port && after.SourcePort != f.Port && after.DestinationPort != f.Port:
	case f.From != nil && !f.From.Contains(before.Source) && !f.From.Contains(after.Source):
	case f.To != nil && !f.To.Contains(before.Destination) && !f.To.Contains(after.Destination):
	case f.Address != nil && !f.Address.Contains(before.Source) && !f.Address.Contains(before.Destination) && !f.Address.Contains(after.Source) && !f.Address.Contains(after.Destination):
	case len(f.Services) > 0 && !f.Services.Matches(before.Protocol, before.DestinationPort) && !f.Services.Matches(after.Protocol, after.DestinationPort):
	default:
		return true
	}
	return false
}

// matchesRule reports whether a rule, as LIST/NAME, is the one that is asked for.
func (f *Filter) matchesRule(rule string) bool {
	if f.Rule == "" || rule == f.Rule {
		return true
	}
	_, name, _ := strings.Cut(rule, "/")
	return name == f.Rule
}

// redirectRule returns the rule that redirects a session as LIST/NAME; a mapping is told so anyway.
func redirectRule(name string) string {
	if strings.HasPrefix(name, network.MappingKind+"/") {
		return name
	}
	return "nat/" + name
}

func (f *Filter) matchesRules(s *Session) bool {
	return f.Rule == "" || s.Redirect != "" && f.matchesRule(redirectRule(s.Redirect)) || s.Permit != "" && f.matchesRule("filter/"+s.Permit) || s.Source != "" && f.matchesRule("nat/"+s.Source)
}

// fewAddresses is how many addresses are looked for in a block before it is read.
const fewAddresses = 4

// mayBeIn reports whether a block can have events that the filter lets through: one for a few
// addresses or a rule has their bytes in it.
func (f *Filter) mayBeIn(block []byte) bool {
	for _, set := range []*header.Addresses{f.From, f.To, f.Address} {
		if set == nil || set.Size().Exceeds(fewAddresses) {
			continue
		}
		found := false
		for _, r := range set.Ranges() {
			for a := r.First; !found; a = a.Next() {
				found = bytes.Contains(block, a.AsSlice())
				if a == r.Last {
					break
				}
			}
		}
		if !found {
			return false
		}
	}
	return bytes.Contains(block, []byte(f.Rule)) && bytes.Contains(block, []byte(f.Outcome))
}

// matchesEvent reports whether the filter lets an event through.
func (f *Filter) matchesEvent(e *Event) bool {
	if !f.Since.IsZero() && e.Time.Before(f.Since) || f.Outcome != "" && e.Outcome != f.Outcome || !f.matchesRule(e.Rule) {
		return false
	}
	if f.From == nil && f.To == nil && f.Address == nil && f.Port == 0 && len(f.Services) == 0 {
		return true
	}
	if e.Before == nil {
		return false
	}
	before, err := e.Before.Header()
	after := before
	if err == nil && e.After != nil {
		after, err = e.After.Header()
	}
	return err == nil && f.matches(before, after)
}
