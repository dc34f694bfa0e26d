package gateway

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/kernel"
)

// The outside addresses of rules are held by the machine's devices, see kernel.Outside. A new one is asked for on its segment first: by
// Check, where there was one just before, else behind the gateway's back, as when hours begin, or when a machine has just been started.
// What another machine has is not taken; it is said, and asked for again.

const (
	outsideEvent  = "outside address"
	askedRecently = patience    // so long an address is free that nobody had
	askedAgain    = time.Minute // and so often one is asked for that somebody has
)

// Outside is how the outside addresses of a kernel gateway's rules fare.
type Outside struct {
	Held    int    `json:"held"`    // how many its devices hold
	Trouble string `json:"trouble"` // which it can't hold, and why; empty where there are none
}

// holding is what a Kernel knows of outside addresses.
type holding struct {
	mutex     sync.Mutex // not held while neighbors are asked
	addresses *kernel.Addresses
	watcher   *kernel.Addresses
	of        *inForceOn
	want      []kernel.Held
	held      map[kernel.Held]bool       // what of it the devices had
	until     time.Time                  // when that may be otherwise, as the hours of rules are over
	asked     map[kernel.Held]time.Time  // of those that nobody has, when they were asked for
	others    map[kernel.Held]takenByOne // and of those that somebody has
	again     []kernel.Held              // what is announced once more
	state     Outside
	wake      chan struct{}
}

type takenByOne struct {
	kernel.Other
	at time.Time
}

// inForceOn is a gateway and the network that it is in.
type inForceOn struct {
	*engine.Gateway
	engine *walk.Engine
}

// outsideAt returns which outside addresses are held at a time.
func (k *Kernel) outsideAt(f *inForceOn, now time.Time) (list []kernel.Held, unable []string) {
	if f == nil {
		return nil, nil
	}
	return kernel.Outside(f.engine, f.Gateway, f.MomentAt(now), k.Device)
}

// probeEvery is how long neighbors have to answer; in a lab everybody is quick.
func (k *Kernel) probeEvery() time.Duration {
	if k.Lab {
		return 30 * time.Millisecond
	}
	return kernel.ProbeEvery
}

// checkOutside says which outside addresses come and go with a gateway, or why it can't have them.
func (k *Kernel) checkOutside(f *inForceOn, now time.Time) (notes, wrongs []string, err error) {
	list, unable := k.outsideAt(f, now)
	if k.Lab {
		for _, u := range unable {
			notes = append(notes, "left out: "+u)
		}
	} else {
		wrongs = unable
	}
	k.outside.mutex.Lock()
	missing, more, err := k.outside.addresses.Compare(list)
	k.outside.mutex.Unlock()
	if err != nil {
		return nil, nil, err
	}
	if len(missing) > 0 && !kernel.MarksAddresses() {
		wrongs = append(wrongs, fmt.Sprintf("this machine's kernel is older than 5.18 and can't remember whose an address is: add %s to its devices yourself", textOf(missing)))
		return notes, wrongs, nil
	}
	others, err := kernel.Ask(k.Namespace, missing, k.probeEvery())
	if err != nil {
		return nil, nil, err
	}
	k.outside.mutex.Lock()
	k.note(missing, others, now)
	k.outside.mutex.Unlock()
	for _, o := range others {
		wrongs = append(wrongs, fmt.Sprintf("%s, the outside address of %s: nobody but the gateway may have it", &o, ruleWith(f.Gateway.Gateway, o.Address)))
	}
	if len(missing) > 0 {
		notes = append(notes, "answers for "+textOf(missing)+" from now on; nobody else has it there")
	}
	if len(more) > 0 {
		notes = append(notes, "does not answer for "+textOf(more)+" any more")
	}
	return notes, wrongs, nil
}

// ruleWith names the first rule that has an outside address.
func ruleWith(g *network.Gateway, a netip.Addr) string {
	for _, r := range g.NAT {
		if !r.Off() && r.Claims().Contains(a) {
			return r.Name
		}
	}
	return "a rule"
}

// textOf names addresses for people.
func textOf(list []kernel.Held) string {
	const most = 4
	var words []string
	for _, h := range list[:min(len(list), most)] {
		words = append(words, h.Address.String())
	}
	text := strings.Join(words, ", ")
	if more := len(list) - most; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// note remembers what was heard of addresses that were asked for. The caller holds the mutex.
func (k *Kernel) note(list []kernel.Held, others []kernel.Other, now time.Time) {
	o := &k.outside
	for _, h := range list {
		o.asked[h] = now
		delete(o.others, h)
	}
	for _, other := range others {
		delete(o.asked, other.Held)
		o.others[other.Held] = takenByOne{other, now}
	}
}

// settleOutside makes the devices hold what a gateway's rules want of them, but for what is to be asked for first.
func (k *Kernel) settleOutside(f *inForceOn, now time.Time) error {
	o := &k.outside
	o.mutex.Lock()
	defer o.mutex.Unlock()
	o.of, o.until = f, now
	_, err := k.settle(now)
	o.wakeUp()
	return err
}

// wakeUp makes whoever keeps the outside addresses look again.
func (o *holding) wakeUp() {
	select {
	case o.wake <- struct{}{}:
	default:
	}
}

// settle takes what nobody had a short time ago, gives back what is not wanted any more, and returns what has to be asked for. The caller
// holds the mutex.
func (k *Kernel) settle(now time.Time) (ask []kernel.Held, err error) {
	o := &k.outside
	if !now.Before(o.until) {
		o.want, _ = k.outsideAt(o.of, now)
		o.until = now.Truncate(time.Minute).Add(time.Minute)
	}
	missing, more, err := o.addresses.Compare(o.want)
	if err != nil {
		return nil, err
	}
	if err = o.addresses.Give(more); err == nil {
		for _, h := range more {
			o.asked[h] = now // so what goes back finds it again at once
		}
	}
	var free []kernel.Held
	for _, h := range missing {
		at, asked := o.asked[h]
		if asked && now.Sub(at) < askedRecently {
			free = append(free, h)
		} else if other, taken := o.others[h]; !taken || now.Sub(other.at) >= askedAgain {
			ask = append(ask, h)
		}
	}
	if taking := o.addresses.Take(free); taking != nil {
		err = errors.Join(err, taking)
	} else if len(free) > 0 {
		for _, h := range free {
			delete(o.asked, h) // should it go, it is asked for anew
		}
		err = errors.Join(err, kernel.Announce(k.Namespace, free))
		o.again = free
	}
	if lost := o.remember(missing, free); len(lost) > 0 {
		k.recorder.Record(Event{Time: now, Gateway: o.of.Name, What: outsideEvent, Text: textOf(lost) + " went away though rules have them; they are asked for, and taken again"})
	}
	o.say(missing, free, err)
	return ask, err
}

// remember notes what is held, and returns those that were and that somebody else took away. The caller holds the mutex.
func (o *holding) remember(missing, free []kernel.Held) (lost []kernel.Held) {
	for _, h := range missing {
		if o.held[h] {
			lost = append(lost, h)
		}
	}
	clear(o.held)
	for _, h := range o.want {
		o.held[h] = true
	}
	for _, h := range missing {
		delete(o.held, h)
	}
	for _, h := range free {
		o.held[h] = true
	}
	return lost
}

// say notes how outside addresses fare. The caller holds the mutex.
func (o *holding) say(missing, free []kernel.Held, err error) {
	o.state = Outside{Held: len(o.want) - len(missing) + len(free)}
	if err != nil {
		o.state.Trouble = err.Error()
		return
	}
	var words []string
	for _, h := range o.want {
		if other, taken := o.others[h]; taken {
			words = append(words, other.String())
		}
	}
	if o.state.Trouble = strings.Join(words[:min(len(words), 4)], "; "); len(words) > 4 {
		o.state.Trouble += fmt.Sprintf(" and %d more", len(words)-4)
	}
}

// holds keeps the outside addresses until the backend is closed: it asks for those that come by themselves, and takes them again where
// somebody took one away.
func (k *Kernel) holds() {
	o := &k.outside
	tick := time.NewTicker(guarding)
	defer tick.Stop()
	for {
		select {
		case <-k.stopped:
			return
		case <-o.wake:
			time.Sleep(guarding / 20) // it seldom comes alone
		case <-tick.C:
			if !o.due(time.Now()) {
				continue
			}
		}
		if err := k.hold(); err != nil && !k.closed.Load() {
			k.Trouble(fmt.Errorf("outside addresses: %w", err))
		}
	}
}

// due reports whether it is time to look again, though nothing happened: for hours of rules, for what somebody else has, or for what is
// announced twice.
func (o *holding) due(now time.Time) bool {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	for _, other := range o.others {
		if now.Sub(other.at) >= askedAgain {
			return true
		}
	}
	return o.of != nil && !now.Before(o.until) || len(o.again) > 0
}

// hold looks at what is held, once.
func (k *Kernel) hold() error {
	o := &k.outside
	o.mutex.Lock()
	again := o.again
	o.again = nil
	ask, err := k.settle(time.Now())
	o.mutex.Unlock()
	if err == nil {
		err = kernel.Announce(k.Namespace, again)
	}
	if err != nil || len(ask) == 0 {
		return err
	}
	others, err := kernel.Ask(k.Namespace, ask, k.probeEvery())
	if err != nil {
		return err
	}
	o.mutex.Lock()
	defer o.mutex.Unlock()
	now := time.Now()
	for _, other := range others {
		if _, known := o.others[other.Held]; !known && o.of != nil {
			k.recorder.Record(Event{Time: now, Gateway: o.of.Name, What: outsideEvent, Text: other.String() + ": it is not taken"})
		}
	}
	k.note(ask, others, now)
	_, err = k.settle(now)
	return err
}

// watchOutside looks again where an address or a device of the machine has changed.
func (k *Kernel) watchOutside() {
	for k.outside.watcher.Watch() == nil {
		k.outside.wakeUp()
	}
}

// closeOutside ends what openOutside began.
func (k *Kernel) closeOutside() error {
	return errors.Join(k.outside.watcher.Close(), k.outside.addresses.Close())
}

// Outside returns how the outside addresses of rules fare.
func (k *Kernel) Outside() Outside {
	k.outside.mutex.Lock()
	defer k.outside.mutex.Unlock()
	return k.outside.state
}

// openOutside connects to the machine's addresses.
func (k *Kernel) openOutside() (err error) {
	k.outside = holding{held: map[kernel.Held]bool{}, asked: map[kernel.Held]time.Time{}, others: map[kernel.Held]takenByOne{}, wake: make(chan struct{}, 1)}
	if k.outside.addresses, err = kernel.OpenAddresses(k.Namespace); err != nil {
		return err
	}
	if k.outside.watcher, err = kernel.WatchAddresses(k.Namespace); err != nil {
		k.outside.addresses.Close()
	}
	return err
}
