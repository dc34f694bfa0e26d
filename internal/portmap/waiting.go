package portmap

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A waiting wish is one about which an administrator has to decide. Until then its client gets no
// answer and asks again, as its protocol has it; so it waits for as long as that does.
type waitingWish struct {
	number  uint64
	wish    wish
	since   time.Time
	until   time.Time // when the client has given up, or may ask anew once it was refused
	refused bool
}

type waitKey struct {
	by, transport string
	machine       netip.AddrPort
	peer          netip.AddrPort
}

// patiences are how long clients wait. One of PCP asks on until it is answered (RFC 6887, 8.1.1);
// one of NAT-PMP sends nine times, twice as long after each, beginning with 250 ms (RFC 6886, 3.1);
// a call of UPnP is answered within 30 seconds (UPnP Device Architecture, 3.2.2).
var patiences = map[string]time.Duration{
	network.PCP: 20 * time.Minute, network.NATPMP: 511 * 250 * time.Millisecond, network.IGD: 27 * time.Second,
}

// Bounds of what waits, and how long a refusal stands.
const (
	mostWaiting   = 200
	mostWaitingOf = 8
	refusalStands = 5 * time.Minute
)

// ask makes a wish wait for an administrator.
func (v *Server) ask(w *wish, now time.Time) *refusal {
	key := waitKey{w.by, w.protocol.String(), netip.AddrPortFrom(w.machine, w.port), w.peer}
	if known := v.waiting[key]; known != nil {
		if known.refused {
			return refused(notAllowed, "an administrator has refused it")
		}
		known.wish = *w
		return &refusal{undecided, ""}
	}
	of := 0
	for _, other := range v.waiting {
		if other.wish.asker == w.asker && !other.refused {
			of++
		}
	}
	if len(v.waiting) >= mostWaiting || of >= mostWaitingOf {
		return refused(full, "too many wait for an administrator already")
	}
	v.number++
	v.waiting[key] = &waitingWish{number: v.number, wish: *w, since: now, until: now.Add(patiences[w.by])}
	v.options.Record(Happening{Outcome: Asked, In: v.behind(w.asker), Text: fmt.Sprintf("%s, number %d: an administrator decides (hollowbridge mapping approve %d)", w, v.number, v.number)})
	return &refusal{undecided, ""}
}

// giveUpWaiting forgets those whose clients have given up.
func (v *Server) giveUpWaiting(now time.Time) {
	for key, p := range v.waiting {
		if p.until.After(now) {
			continue
		}
		delete(v.waiting, key)
		if !p.refused {
			v.options.Record(Happening{Outcome: Refused, In: v.behind(p.wish.asker), Text: fmt.Sprintf("%s: nobody has decided in time", &p.wish)})
			v.tell(&p.wish, nil, refused(notAllowed, "nobody has decided in time"))
		}
	}
}

func (v *Server) tell(w *wish, e *entry, no *refusal) {
	if w.later != nil {
		w.later(e, no)
	}
}

// A Waiting wish, for people and programs.
type Waiting struct {
	Number   uint64
	By       string
	Asker    netip.Addr
	Machine  netip.Addr
	Protocol header.Protocol
	Port     uint16
	Outside  uint16 // that is wished for; 0 is any
	Text     string
	Since    time.Time
	Until    time.Time
}

// Waiting returns the wishes that wait for an administrator, the first one first.
func (v *Server) Waiting() []Waiting {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	list := []Waiting{}
	for _, p := range slices.SortedFunc(maps.Values(v.waiting), func(a, b *waitingWish) int { return int(a.number) - int(b.number) }) {
		if w := &p.wish; !p.refused {
			list = append(list, Waiting{p.number, w.by, w.asker, w.machine, w.protocol, w.port, w.outside, w.text, p.since, p.until})
		}
	}
	return list
}

// ErrNotWaiting is the error for a number that nobody waits by.
var ErrNotWaiting = errors.New("nothing waits by that number")

// Settle approves or refuses what waits by a number, and tells the client.
func (v *Server) Settle(number uint64, approve bool, who string) error {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	now := v.now()
	for key, p := range v.waiting {
		if p.number != number || p.refused {
			continue
		}
		if !approve {
			p.refused, p.until = true, now.Add(refusalStands)
			v.options.Record(Happening{Outcome: Refused, In: v.behind(p.wish.asker), Text: fmt.Sprintf("%s: refused by %s", &p.wish, who)})
			v.tell(&p.wish, nil, refused(notAllowed, "an administrator has refused it"))
			return nil
		}
		delete(v.waiting, key)
		p.wish.again = true // its link address was looked for when it came
		e, no := v.granted(&p.wish, now, cmp.Or(who, "an administrator"))
		if err := v.flush(now); err != nil {
			v.tell(&p.wish, nil, refused(failed, "%s", err))
			return err
		}
		v.tell(&p.wish, e, no)
		if no != nil {
			return errors.New(no.text)
		}
		return nil
	}
	return ErrNotWaiting
}
