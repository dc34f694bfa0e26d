package portmap

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// A Blocked machine gets no mapping.
type Blocked struct {
	Machine   string       // as Server.whose tells machines apart
	Addresses []netip.Addr // by which it was named
	Since     time.Time
	Until     time.Time // zero is until somebody lets it again
	Who       string
}

func (b *Blocked) isOver(now time.Time) bool { return !b.Until.IsZero() && !b.Until.After(now) }

// mostBlocked is how many machines are blocked at a time.
const mostBlocked = 1000

// Errors of blocking.
var (
	ErrTooManyBlocked = fmt.Errorf("%d machines are blocked already", mostBlocked)
	ErrNotBlocked     = errors.New("it is not blocked")
)

// Block takes away what the machines of some addresses have, and refuses what they ask for, until a time or, where that is zero, until Unblock.
func (v *Server) Block(addresses []netip.Addr, until time.Time, who string) error {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	now, next := v.now(), v.stillBlocked()
	for _, a := range addresses {
		key := a.String()
		if v.setting != nil {
			key, _, _ = v.whose(v.setting, a, now)
		}
		b := next[key]
		if b.Since != now { // of an earlier block
			b = Blocked{key, nil, now, until, who}
		}
		b.Addresses = append(slices.Clone(b.Addresses), a)
		next[key] = b
	}
	if len(next) > mostBlocked {
		return ErrTooManyBlocked
	}
	if err := v.keepBlocked(next); err != nil {
		return err
	}
	for _, a := range addresses {
		v.options.Record(Happening{Outcome: Refused, In: v.behind(a), Text: fmt.Sprintf("%s is blocked by %s%s", a, who, untilText(until))})
		v.endThose("blocked by "+who, func(e *entry) bool { return e.Owner == a || e.Inside.Addr() == a || v.isBlocked(e.machine(), now) })
	}
	for _, p := range v.waiting {
		if w := &p.wish; !p.refused && (slices.Contains(addresses, w.asker) || slices.Contains(addresses, w.machine)) {
			p.refused, p.until = true, now.Add(refusalStands)
			v.tell(w, nil, refused(notAllowed, "an administrator has blocked it"))
		}
	}
	return v.flush(now)
}

// Unblock lets the machines of some addresses ask again.
func (v *Server) Unblock(addresses []netip.Addr, who string) error {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	now, next := v.now(), v.stillBlocked()
	before := len(next)
	for _, a := range addresses {
		key := ""
		if v.setting != nil {
			key, _, _ = v.whose(v.setting, a, now)
		}
		maps.DeleteFunc(next, func(k string, b Blocked) bool { return k == key || slices.Contains(b.Addresses, a) })
	}
	if len(next) == before {
		return ErrNotBlocked
	}
	if err := v.keepBlocked(next); err != nil {
		return err
	}
	var texts []string
	for _, a := range addresses {
		texts = append(texts, a.String())
	}
	v.options.Record(Happening{Outcome: Asked, Text: fmt.Sprintf("%s may ask again, says %s", strings.Join(texts, ", "), who)})
	return nil
}

func untilText(until time.Time) string {
	if until.IsZero() {
		return ""
	}
	return " until " + until.UTC().Format("2006-01-02 15:04:05 UTC")
}

// stillBlocked returns a copy of those that are blocked now.
func (v *Server) stillBlocked() map[string]Blocked {
	now, still := v.now(), maps.Clone(v.blocked)
	maps.DeleteFunc(still, func(_ string, b Blocked) bool { return b.isOver(now) })
	return still
}

func (v *Server) keepBlocked(next map[string]Blocked) error {
	if v.options.Block != nil {
		if err := v.options.Block(slices.Collect(maps.Values(next))); err != nil {
			return err
		}
	}
	v.blocked = next
	return nil
}

func (v *Server) isBlocked(machine string, now time.Time) bool {
	b, has := v.blocked[machine]
	return has && !b.isOver(now)
}

// refuseBlocked refuses the wish of, or for, a machine that is blocked.
func (v *Server) refuseBlocked(s *setting, w *wish, now time.Time) *refusal {
	if len(v.blocked) == 0 {
		return nil
	}
	for _, a := range []netip.Addr{w.asker, w.machine} {
		key, _, found := v.whose(s, a, now)
		b, has := v.blocked[key]
		if !has || b.isOver(now) { // its link address may be another by now, or was not known
			for _, other := range v.blocked {
				if !other.isOver(now) && (slices.Contains(other.Addresses, a) || v.options.Host != nil && other.Machine == v.options.Host(a)) {
					b, has = other, true
				}
			}
		}
		switch {
		case has && !b.isOver(now):
			return refused(notAllowed, "%s has blocked it%s", b.Who, untilText(b.Until))
		case !found && !w.again:
			return &refusal{unfound, ""}
		}
	}
	return nil
}

// Blocked returns the machines that are blocked, the first one first.
func (v *Server) Blocked() []Blocked {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	return slices.SortedFunc(maps.Values(v.stillBlocked()), func(a, b Blocked) int {
		if c := a.Since.Compare(b.Since); c != 0 {
			return c
		}
		return strings.Compare(a.Machine, b.Machine)
	})
}
