package gateway

import (
	"errors"
	"fmt"
	"time"

	"hollowbridge/internal/kernel"
)

// Other programs can change the kernel's tables too, and take ours away: then nothing is translated, and nothing is filtered. So ours is
// this service's alone. A kernel before 6.9 has no such tables: there it is asked every second whether anybody changed any table, which costs
// nothing, and where somebody changed ours it is put back: a few times in a minute at most, as two programs that take it from each
// other would go on for ever.

const (
	guarding   = time.Second // between two looks
	mostPutIn  = time.Minute // in this time
	mostPut    = 3           // so often
	tableEvent = "table"

	tableTaken = "another program has taken the kernel's table away"
)

// owning is that the table is the service's alone, where the kernel has such tables.
var owning = true

// A Table is how the kernel's table of a gateway fares.
type Table struct {
	Owned    bool   `json:"owned"`    // nobody else can change it
	Restored int64  `json:"restored"` // how often it was put back, since the gateway was started
	Trouble  string `json:"trouble"`  // in what it is not as it should be; empty where it is
}

// guard is what a Kernel knows of its table. It is under the kernel's mutex.
type guard struct {
	generation uint32
	digest     kernel.Digest
	put        []time.Time // when it was put back, in the last minute
	said       bool        // that it is not put back any more
	state      Table
}

// Table returns how the table fares, as it is now; while it is worked at, as it was before.
func (k *Kernel) Table() Table {
	if !k.mutex.TryLock() {
		if before := k.shownTable.Load(); before != nil {
			return *before
		}
		return Table{}
	}
	defer k.mutex.Unlock()
	if _, err := k.compare(); err != nil {
		k.guarded.state.Trouble = err.Error()
	}
	now := k.guarded.state
	k.shownTable.Store(&now)
	return now
}

// compare compares what the kernel has with what it should have, and notes the trouble. The caller holds the mutex.
func (k *Kernel) compare() (inForce bool, err error) {
	if k.current.Load() == nil {
		return true, nil
	}
	generation, err := k.machine.Generation()
	if err != nil {
		return false, err
	}
	if generation == k.guarded.generation && k.guarded.state.Trouble == "" {
		return true, nil
	}
	if owns, err := k.machine.Owns(); err != nil || owns {
		k.guarded.generation, k.guarded.state.Owned = generation, owns
		return owns, err
	}
	if k.guarded.state.Owned {
		k.guarded.state.Owned, k.guarded.state.Trouble = false, tableTaken
		return false, nil
	}
	digest, err := k.machine.Digest()
	if err != nil {
		return false, err
	}
	switch digest {
	case k.guarded.digest:
		k.guarded.generation, k.guarded.state.Trouble, k.guarded.said = generation, "", false
		return true, nil
	case kernel.Digest{}:
		k.guarded.state.Trouble = tableTaken
	default:
		k.guarded.state.Trouble = "another program has changed the kernel's table"
	}
	return false, nil
}

// remember notes what the table is as it should be. The caller holds the mutex.
func (k *Kernel) remember() error {
	owns, err := k.machine.Owns()
	if err == nil && !owns {
		k.guarded.digest, err = k.machine.Digest()
	}
	if err != nil {
		return err
	}
	k.guarded.state.Owned = owns
	k.guarded.generation, err = k.machine.Generation()
	k.guarded.state.Trouble, k.guarded.said = "", false
	return err
}

// guards looks after the table until the backend is closed.
func (k *Kernel) guards() {
	tick := time.NewTicker(guarding)
	defer tick.Stop()
	for {
		select {
		case <-k.stopped:
			return
		case <-tick.C:
		}
		now := time.Now()
		if err := errors.Join(k.look(now), k.endMiddle(now)); err != nil && !k.closed.Load() {
			k.Trouble(fmt.Errorf("the gateway's table: %w", err))
		}
	}
}

// look puts the table back where somebody else has changed it.
func (k *Kernel) look(now time.Time) error {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	if inForce, err := k.compare(); inForce || err != nil {
		return err
	}
	g, what := k.current.Load(), k.guarded.state.Trouble
	for len(k.guarded.put) > 0 && now.Sub(k.guarded.put[0]) > mostPutIn {
		k.guarded.put = k.guarded.put[1:]
	}
	if len(k.guarded.put) == mostPut {
		if !k.guarded.said {
			k.guarded.said = true
			k.recorder.Record(Event{Time: now, Gateway: g.Name, What: tableEvent, Text: what + fmt.Sprintf(" again; it was put back %d times in a minute, and is not for now", mostPut)})
		}
		return nil
	}
	k.guarded.put = append(k.guarded.put, now)
	if err := k.use(g); err != nil {
		return fmt.Errorf("%s, and it can't be put back: %w", what, err)
	}
	k.guarded.state.Restored++
	k.recorder.Record(Event{Time: now, Gateway: g.Name, What: tableEvent, Text: what + "; it is put back"})
	return nil
}
