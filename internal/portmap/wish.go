package portmap

import (
	"fmt"
	"net/netip"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/portmap/pcp"
)

// A wish is what a program asks for, by whatever protocol.
type wish struct {
	by       string
	asker    netip.Addr
	machine  netip.Addr // for which: mostly the asker
	protocol header.Protocol
	port     uint16     // of the machine
	address  netip.Addr // outside, where one is wished for
	outside  uint16     // port, likewise
	exact    bool       // this outside address and port, or none
	lifetime time.Duration
	nonce    pcp.Nonce
	peer     netip.AddrPort   // the wish is for a connection to it
	senders  []network.Sender // who may use it, further ones; empty is everybody
	anew     bool             // they replace those that it has
	text     string

	again bool                   // it was postponed, see Server.postpone
	later func(*entry, *refusal) // is told what an administrator decides
}

func (w *wish) String() string {
	text := fmt.Sprintf("%s by %s for %s", w.asker, w.by, header.ServiceAt(w.protocol, w.port))
	if w.machine != w.asker {
		text += " of " + w.machine.String()
	}
	if w.outside != 0 && w.outside != w.port {
		text += fmt.Sprintf(" as %d", w.outside)
	}
	if w.peer.IsValid() {
		text += " with " + w.peer.String()
	}
	if w.text != "" {
		text += fmt.Sprintf(" (%s)", w.text)
	}
	return text
}

// A reason is why a wish is refused; each protocol has its own code for it.
type reason uint8

// The reasons.
const (
	notAllowed  reason = iota // by the policy
	notInside                 // the asker is behind none of the interfaces
	notItsOwn                 // somebody else's mapping, or another nonce
	notForOther               // it may not ask for another machine
	noExternal                // the external interface has no address
	noPort                    // the outside port that was asked for is not to be had
	noneLeft                  // none of the ports of the rule is
	tooMany                   // of the machine
	full                      // there is no room for more
	tooManyPeers
	undecided // an administrator is asked: there is no answer yet
	unfound   // the machine's link address is being looked for: there is no answer yet
	failed    // what was granted could not be put into force
)

// A refusal says why a wish is refused.
type refusal struct {
	reason reason
	text   string
}

func refused(r reason, format string, args ...any) *refusal {
	return &refusal{r, fmt.Sprintf(format, args...)}
}
