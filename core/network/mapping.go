package network

import (
	"fmt"
	"strconv"
	"time"

	"hollowbridge/core/header"
)

// MappingProtocols are the open protocols by which programs ask for mappings.
var MappingProtocols = []string{"pcp", "nat-pmp", "upnp-igd"}

// Mappings says who may ask a gateway for automatic port mappings.
type Mappings struct {
	Protocols []string
	On        []*Interface // where it listens
	External  *Interface   // where mappings are opened
	Rules     []MappingRule
	Place     Position
}

// A MappingRule allows or refuses mappings; first match decides, no match is refused.
type MappingRule struct {
	Verb     Verb // Allow or Drop
	From     Expression
	Ports    header.Ports
	Lifetime time.Duration // the longest; 0 is as asked for
	AtMost   int           // mappings of one machine; 0 is no limit
	Place    Position
}

// MostLifetime is the longest lifetime a mapping may have.
const MostLifetime = 365 * 24 * time.Hour

// ParseLifetime reads a number of seconds, minutes, hours or days, as 90s, 30m, 1h, 7d.
func ParseLifetime(text string) (time.Duration, error) {
	units := map[byte]time.Duration{'s': time.Second, 'm': time.Minute, 'h': time.Hour, 'd': 24 * time.Hour}
	if len(text) >= 2 {
		unit := units[text[len(text)-1]]
		n, err := strconv.ParseUint(text[:len(text)-1], 10, 32)
		if life := time.Duration(n) * unit; unit > 0 && err == nil && n > 0 && life <= MostLifetime {
			return life, nil
		}
	}
	return 0, fmt.Errorf("%s: not a lifetime; write 90s, 30m, 1h or 7d, at most a year", text)
}

// An Expectation is something that must hold of the network.
type Expectation struct {
	Say     string
	From    Expression // who; of Only, the only ones
	To      Expression
	Service header.Services
	Text    string // the service as written
	Must    Must
	Host    *Host // for Reaches: the host that must be reached
	Place   Position
}

// Must is what an expectation demands.
type Must string

// What an expectation can demand of connections from From to To.
const (
	Reaches Must = "reaches" // all of them reach Host
	Stops   Must = "stops"   // none of them reaches anything
	Only    Must = "only"    // nobody but From reaches To
	Never   Must = "never"   // none of From ever reaches To, by whatever address
)
