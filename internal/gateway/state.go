package gateway

import (
	"bytes"
	"compress/gzip"
	"context"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"
	_ "modernc.org/sqlite" // the driver

	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/portmap"
)

// A State is what a gateway remembers over restarts: an SQLite file in a folder of its own.
// What its methods return without an error is on the disk, but for counts and events, which
// may lose the last moment where the machine itself stops.
type State struct {
	path    string
	lock    *os.File
	durable *sql.DB // each change is on the disk before it returns
	bulk    *sql.DB // changes are whole, but may come to the disk a little later
	reading *sql.DB // of events, by several callers
}

// StateFile is the name of the file in the folder.
const StateFile = "state.sqlite"

// What an SQLite file of ours begins with (the file format's application_id, at byte 68), and
// the version of the tables in it.
const (
	stateID      = 0x48424757
	stateVersion = 6
)

const stateTables = `
CREATE TABLE about (gateway TEXT NOT NULL, counted_since INTEGER NOT NULL, next_event INTEGER NOT NULL);
CREATE TABLE revisions (
	number INTEGER PRIMARY KEY, time INTEGER NOT NULL, author TEXT NOT NULL, note TEXT NOT NULL,
	added INTEGER NOT NULL, removed INTEGER NOT NULL, bundle BLOB, fate TEXT NOT NULL DEFAULT '', applied TEXT);
CREATE TABLE pending (revision INTEGER NOT NULL, until INTEGER NOT NULL, back INTEGER NOT NULL, boot TEXT NOT NULL DEFAULT '', deadline INTEGER NOT NULL DEFAULT 0, lease TEXT);
CREATE TABLE counts (
	list TEXT NOT NULL, rule TEXT NOT NULL, connections INTEGER NOT NULL, stopped INTEGER NOT NULL,
	forth_packets INTEGER NOT NULL, forth_bytes INTEGER NOT NULL, back_packets INTEGER NOT NULL, back_bytes INTEGER NOT NULL,
	last INTEGER, raw INTEGER NOT NULL, exhausted INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (list, rule));
CREATE TABLE events (first INTEGER PRIMARY KEY, count INTEGER NOT NULL, oldest INTEGER NOT NULL, newest INTEGER NOT NULL, block BLOB NOT NULL);
CREATE INDEX events_newest ON events (newest);
` + mappingTables + machineTables

// bootColumns are what version 2 did not have: of what was on trial then, nobody knows since when.
const bootColumns = `
ALTER TABLE pending ADD COLUMN boot TEXT NOT NULL DEFAULT '';
ALTER TABLE pending ADD COLUMN deadline INTEGER NOT NULL DEFAULT 0;
`

// applyColumns are what version 3 did not have.
const applyColumns = `
ALTER TABLE revisions ADD COLUMN fate TEXT NOT NULL DEFAULT '';
ALTER TABLE revisions ADD COLUMN applied TEXT;
ALTER TABLE pending ADD COLUMN lease TEXT;
`

// laterThan are the changes that a state of an earlier version needs, by that version.
var laterThan = [stateVersion]string{1: mappingTables, 2: bootColumns, 3: applyColumns, 4: machineTables, 5: exhaustedColumn}

// exhaustedColumn is what version 5 did not have: connections that got no port.
const exhaustedColumn = `
ALTER TABLE counts ADD COLUMN exhausted INTEGER NOT NULL DEFAULT 0;
`

// machineTables are what version 4 did not have: machines that have had mappings, and since when they are known, and those that get none.
const machineTables = `
CREATE TABLE seen (machine TEXT PRIMARY KEY, first INTEGER NOT NULL);
CREATE TABLE blocked (record BLOB NOT NULL);
`

// mappingTables are those that version 1 did not have.
const mappingTables = `
CREATE TABLE mappings (number INTEGER PRIMARY KEY, record BLOB NOT NULL);
CREATE TABLE epoch (began INTEGER NOT NULL);
`

// OpenState opens the state of a gateway in a folder, which it makes where it is not there. A
// file that is no state, or is damaged, is an error, and is left as it is.
func OpenState(dir, gateway string) (*State, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	s := &State{path: filepath.Join(dir, StateFile)}
	var err error
	if s.lock, err = lockState(dir); err != nil {
		return nil, err
	}
	fresh, err := s.inspect()
	if err == nil {
		err = s.open(fresh, gateway)
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// lockState makes sure that one service alone has the folder.
func lockState(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("%s: another gateway runs with this state; each needs a folder of its own", dir)
	}
	return f, nil
}

// inspect looks at the file before SQLite touches it. It reports whether there is none yet.
func (s *State) inspect() (fresh bool, err error) {
	f, err := os.Open(s.path)
	if errors.Is(err, fs.ErrNotExist) {
		return true, nil
	}
	if err != nil {
		return false, err
	}
	defer f.Close()
	head := make([]byte, 100)
	n, err := io.ReadFull(f, head)
	if n == 0 && errors.Is(err, io.EOF) {
		return true, nil // it was killed when it had just made the file
	}
	if err != nil || !bytes.HasPrefix(head, []byte("SQLite format 3\x00")) {
		return false, fmt.Errorf("%s: this is no SQLite file; it is left as it is. Name another folder with -state, or move the file away", s.path)
	}
	if id := binary.BigEndian.Uint32(head[68:]); id != stateID {
		if id == 0 { // what was written first may stand in the log of the file
			if tables, ours := s.tables(); ours || tables == 0 {
				return !ours, nil
			}
		}
		return false, fmt.Errorf("%s: this is the file of another program; it is left as it is. Name another folder with -state, or move the file away", s.path)
	}
	return false, nil
}

// tables returns how many tables a file has, and whether it is ours; -1 where that can't be read.
func (s *State) tables() (count int, ours bool) {
	db, err := s.connect("FULL", true)
	if err != nil {
		return -1, false
	}
	defer db.Close()
	var id int
	if db.QueryRow("SELECT count(*) FROM sqlite_schema").Scan(&count) != nil || db.QueryRow("PRAGMA application_id").Scan(&id) != nil {
		return -1, false
	}
	return count, id == stateID
}

// closeToOthers makes the files of the state, in whatever folder they are, readable by their owner alone: connections stand in them,
// and names of machines and people. What SQLite makes beside them has the rights of the first.
func (s *State) closeToOthers() error {
	f, err := os.OpenFile(s.path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	f.Close()
	for _, path := range []string{s.path, s.path + "-wal", s.path + "-shm"} {
		if err := os.Chmod(path, 0o600); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

func (s *State) connect(synchronous string, readOnly bool) (*sql.DB, error) {
	values := url.Values{"_pragma": {"busy_timeout(10000)", "synchronous(" + synchronous + ")"}}
	if readOnly {
		values.Set("mode", "ro")
	} else { // a transaction that reads first waits for its turn to write as well, instead of failing
		values.Set("_txlock", "immediate")
	}
	absolute, err := filepath.Abs(s.path)
	if err != nil {
		return nil, err
	}
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Path: absolute, RawQuery: values.Encode()}).String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return db, nil
}

func (s *State) open(fresh bool, gateway string) error {
	err := s.closeToOthers()
	if err != nil {
		return err
	}
	if s.durable, err = s.connect("FULL", false); err != nil {
		return err
	}
	if s.bulk, err = s.connect("NORMAL", false); err != nil {
		return err
	}
	if s.reading, err = s.connect("NORMAL", false); err != nil {
		return err
	}
	s.reading.SetMaxOpenConns(4)
	if fresh {
		if err := s.create(gateway); err != nil {
			return fmt.Errorf("%s: %w", s.path, err)
		}
	}
	var sound string
	if err := s.durable.QueryRow("PRAGMA quick_check(1)").Scan(&sound); err != nil || sound != "ok" {
		return fmt.Errorf("%s: the file is damaged (%s); it is left as it is. Move it away, and take the last network file into force with hollowbridge apply", s.path, orElse(sound, err))
	}
	var version int
	if err := s.durable.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return fmt.Errorf("%s: %w", s.path, err)
	}
	if version >= 1 && version < stateVersion {
		if err := s.change(func(tx *sql.Tx) error {
			_, err := tx.Exec(strings.Join(laterThan[version:], "") + fmt.Sprintf("PRAGMA user_version = %d", stateVersion))
			return err
		}); err != nil {
			return fmt.Errorf("%s: %w", s.path, err)
		}
		version = stateVersion
	}
	if version != stateVersion {
		return fmt.Errorf("%s: its version is %d, and this program knows %d", s.path, version, stateVersion)
	}
	var whose string
	if err := s.durable.QueryRow("SELECT gateway FROM about").Scan(&whose); err != nil {
		return fmt.Errorf("%s: %w", s.path, err)
	}
	if whose != gateway && s.isRenamed(whose, gateway) {
		if _, err := s.durable.Exec("UPDATE about SET gateway = ?", gateway); err != nil {
			return fmt.Errorf("%s: %w", s.path, err)
		}
	} else if whose != gateway {
		return fmt.Errorf("%s: this is the state of %s, not of %s; each gateway needs a folder of its own", s.path, whose, gateway)
	}
	return nil
}

// isRenamed reports whether the last revision says that a gateway was formerly called otherwise.
func (s *State) isRenamed(old, name string) bool {
	r, err := s.Revision(0)
	if err != nil || r.Bundle == nil {
		return false
	}
	n, err := r.Bundle.Network()
	return err == nil && n.Gateway(name) != nil && n.Gateway(name).Formerly == old
}

func orElse(text string, err error) string {
	if text == "" && err != nil {
		return err.Error()
	}
	return text
}

// create makes the tables, all at once; then the file keeps a log ahead of what it writes, so
// that it survives being stopped anywhere.
func (s *State) create(gateway string) error {
	if _, err := s.durable.Exec("PRAGMA journal_mode = WAL"); err != nil {
		return err
	}
	return s.change(func(tx *sql.Tx) error {
		if _, err := tx.Exec(fmt.Sprintf("PRAGMA application_id = %d; PRAGMA user_version = %d;%s", stateID, stateVersion, stateTables)); err != nil {
			return err
		}
		_, err := tx.Exec("INSERT INTO about VALUES (?, ?, 1)", gateway, time.Now().UnixNano())
		return err
	})
}

// change does several things or none.
func (s *State) change(do func(*sql.Tx) error) error { return transaction(s.durable, do) }

func transaction(db *sql.DB, do func(*sql.Tx) error) error {
	tx, err := db.BeginTx(context.Background(), nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing once it is committed
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// Close closes the state.
func (s *State) Close() error {
	var err error
	for _, db := range []*sql.DB{s.reading, s.bulk, s.durable} {
		if db != nil {
			err = errors.Join(err, db.Close())
		}
	}
	if s.lock != nil {
		err = errors.Join(err, s.lock.Close())
	}
	return err
}

const revisionColumns = "number, time, author, note, added, removed, bundle IS NULL, fate, applied"

func scanRevision(row interface{ Scan(...any) error }, more ...any) (Revision, error) {
	var r Revision
	var at int64
	var applied sql.NullString
	err := row.Scan(append([]any{&r.Number, &at, &r.Author, &r.Note, &r.Added, &r.Removed, &r.Empty, &r.Fate, &applied}, more...)...)
	r.Time = time.Unix(0, at).UTC()
	if err == nil && applied.Valid {
		err = json.Unmarshal([]byte(applied.String), &r.Applied)
	}
	return r, err
}

// Revisions returns all revisions without their text, the latest first.
func (s *State) Revisions() ([]Revision, error) {
	rows, err := s.durable.Query("SELECT " + revisionColumns + " FROM revisions ORDER BY number DESC")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Revision{}
	for rows.Next() {
		r, err := scanRevision(rows)
		if err != nil {
			return nil, err
		}
		list = append(list, r)
	}
	return list, rows.Err()
}

// errNoRevision is the error for a revision that is not there.
var errNoRevision = errors.New("no such revision")

// Revision returns a revision with its text; 0 is the latest.
func (s *State) Revision(number int) (Revision, error) {
	query := "SELECT " + revisionColumns + ", bundle FROM revisions WHERE number = ?"
	if number == 0 {
		query = "SELECT " + revisionColumns + ", bundle FROM revisions WHERE number >= ? ORDER BY number DESC LIMIT 1"
	}
	var packed []byte
	r, err := scanRevision(s.durable.QueryRow(query, number), &packed)
	if errors.Is(err, sql.ErrNoRows) {
		return r, errNoRevision
	}
	if err == nil && !r.Empty {
		r.Bundle, err = unpack(packed)
	}
	return r, err
}

// Add adds a revision, with what is pending of it, and returns its number.
func (s *State) Add(r *Revision, pending *Pending) error {
	var packed []byte
	if r.Bundle != nil {
		var err error
		if packed, err = pack(r.Bundle); err != nil {
			return err
		}
	}
	return s.change(func(tx *sql.Tx) error {
		if err := tx.QueryRow("SELECT coalesce(max(number), 0) + 1 FROM revisions").Scan(&r.Number); err != nil {
			return err
		}
		if _, err := tx.Exec("UPDATE revisions SET fate = ? WHERE fate = ?", GoneBack, OnTrial); err != nil {
			return err
		}
		applied, err := textOrNull(r.Applied)
		if err != nil {
			return err
		}
		if _, err := tx.Exec("INSERT INTO revisions VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", r.Number, r.Time.UnixNano(), r.Author, r.Note, r.Added, r.Removed, packed, r.Fate, applied); err != nil {
			return err
		}
		return setPending(tx, r.Number, pending)
	})
}

// textOrNull is a value as JSON; nothing of a nil pointer.
func textOrNull[T any](value *T) (any, error) {
	if value == nil {
		return nil, nil
	}
	text, err := json.Marshal(value)
	return string(text), err
}

// setPending makes a revision the one that goes back by itself, or none.
func setPending(tx *sql.Tx, number int, pending *Pending) error {
	if _, err := tx.Exec("DELETE FROM pending"); err != nil || pending == nil {
		return err
	}
	leased, err := textOrNull(pending.lease)
	if err != nil {
		return err
	}
	_, err = tx.Exec("INSERT INTO pending VALUES (?, ?, ?, ?, ?, ?)", number, pending.Until.UnixNano(), pending.Back, pending.boot, int64(pending.deadline), leased)
	return err
}

// Confirm notes how far the apply of a revision is, and what is pending of it then.
func (s *State) Confirm(r *Revision, pending *Pending) error {
	applied, err := textOrNull(r.Applied)
	if err != nil {
		return err
	}
	return s.change(func(tx *sql.Tx) error {
		if _, err := tx.Exec("UPDATE revisions SET applied = ? WHERE number = ?", applied, r.Number); err != nil {
			return err
		}
		return setPending(tx, r.Number, pending)
	})
}

// Pending returns what goes back by itself, or nil.
func (s *State) Pending() (*Pending, error) {
	var p Pending
	var until int64
	var leased sql.NullString
	err := s.durable.QueryRow("SELECT until, back, boot, deadline, lease FROM pending").Scan(&until, &p.Back, &p.boot, &p.deadline, &leased)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	p.Until = time.Unix(0, until).UTC()
	if err == nil && leased.Valid {
		err = json.Unmarshal([]byte(leased.String), &p.lease)
	}
	return &p, err
}

// Keep makes a pending revision stay.
func (s *State) Keep() error {
	return s.change(func(tx *sql.Tx) error {
		if _, err := tx.Exec("UPDATE revisions SET fate = ? WHERE fate = ?", Kept, OnTrial); err != nil {
			return err
		}
		return setPending(tx, 0, nil)
	})
}

// pack makes a bundle small.
func pack(b *netfile.Bundle) ([]byte, error) {
	var data bytes.Buffer
	w := gzip.NewWriter(&data)
	if err := json.NewEncoder(w).Encode(b); err != nil {
		return nil, err
	}
	err := w.Close()
	return data.Bytes(), err
}

func unpack(data []byte) (*netfile.Bundle, error) {
	r, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("a revision is damaged: %w", err)
	}
	var b netfile.Bundle
	if err := json.NewDecoder(r).Decode(&b); err != nil {
		return nil, fmt.Errorf("a revision is damaged: %w", err)
	}
	return &b, nil
}

// Counts returns what the rules have counted, and since when.
func (s *State) Counts() (map[network.RuleID]Hit, time.Time, error) {
	var since int64
	var gateway string
	if err := s.bulk.QueryRow("SELECT gateway, counted_since FROM about").Scan(&gateway, &since); err != nil {
		return nil, time.Time{}, err
	}
	rows, err := s.bulk.Query("SELECT list, rule, connections, stopped, forth_packets, forth_bytes, back_packets, back_bytes, last, raw, exhausted FROM counts")
	if err != nil {
		return nil, time.Time{}, err
	}
	defer rows.Close()
	counts := map[network.RuleID]Hit{}
	for rows.Next() {
		h := Hit{Gateway: gateway}
		var last *int64
		if err := rows.Scan(&h.List, &h.Rule, &h.Connections, &h.Stopped, &h.Forth.Packets, &h.Forth.Bytes, &h.Back.Packets, &h.Back.Bytes, &last, &h.Raw, &h.Exhausted); err != nil {
			return nil, time.Time{}, err
		}
		if last != nil {
			at := time.Unix(0, *last).UTC()
			h.Last = &at
		}
		counts[h.ID()] = h
	}
	return counts, time.Unix(0, since).UTC(), rows.Err()
}

// SaveCounts keeps what rules have counted, and forgets what stands under names that are no more.
func (s *State) SaveCounts(list []Hit, gone []network.RuleID) error {
	return transaction(s.bulk, func(tx *sql.Tx) error {
		for _, id := range gone {
			if _, err := tx.Exec("DELETE FROM counts WHERE list = ? AND rule = ?", id.List, id.Name); err != nil {
				return err
			}
		}
		insert, err := tx.Prepare("INSERT OR REPLACE INTO counts VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)")
		if err != nil {
			return err
		}
		defer insert.Close()
		for _, h := range list {
			var last *int64
			if h.Last != nil {
				at := h.Last.UnixNano()
				last = &at
			}
			if _, err := insert.Exec(h.List, h.Rule, h.Connections, h.Stopped, h.Forth.Packets, h.Forth.Bytes, h.Back.Packets, h.Back.Bytes, last, h.Raw, h.Exhausted); err != nil {
				return err
			}
		}
		return nil
	})
}

// ResetCounts forgets what the rules have counted.
func (s *State) ResetCounts(now time.Time) error {
	return s.change(func(tx *sql.Tx) error {
		if _, err := tx.Exec("DELETE FROM counts"); err != nil {
			return err
		}
		_, err := tx.Exec("UPDATE about SET counted_since = ?", now.UnixNano())
		return err
	})
}

// Mappings returns the mappings that are kept, and since when they are known; the zero time where
// there never were any.
func (s *State) Mappings() (list []portmap.Record, began time.Time, err error) {
	rows, err := s.bulk.Query("SELECT record FROM mappings ORDER BY number")
	if err != nil {
		return nil, began, err
	}
	defer rows.Close()
	for rows.Next() {
		var data []byte
		var r portmap.Record
		if err := rows.Scan(&data); err != nil {
			return nil, began, err
		}
		if err := json.Unmarshal(data, &r); err != nil {
			return nil, began, fmt.Errorf("a mapping is damaged: %w", err)
		}
		list = append(list, r)
	}
	if err := rows.Err(); err != nil {
		return nil, began, err
	}
	var at int64
	switch err := s.bulk.QueryRow("SELECT began FROM epoch").Scan(&at); {
	case errors.Is(err, sql.ErrNoRows):
		return list, began, nil
	case err != nil:
		return nil, began, err
	}
	return list, time.Unix(0, at), nil
}

// SaveMappings keeps mappings, and forgets others.
func (s *State) SaveMappings(changed []portmap.Record, gone []uint64) error {
	return transaction(s.bulk, func(tx *sql.Tx) error {
		insert, err := tx.Prepare("INSERT OR REPLACE INTO mappings VALUES (?, ?)")
		if err != nil {
			return err
		}
		defer insert.Close()
		for i := range changed {
			data, err := json.Marshal(&changed[i])
			if err != nil {
				return err
			}
			if _, err := insert.Exec(changed[i].Number, data); err != nil {
				return err
			}
		}
		for _, number := range gone {
			if _, err := tx.Exec("DELETE FROM mappings WHERE number = ?", number); err != nil {
				return err
			}
		}
		return nil
	})
}

// SetEpoch keeps since when mappings are known.
func (s *State) SetEpoch(began time.Time) error {
	return transaction(s.bulk, func(tx *sql.Tx) error {
		if _, err := tx.Exec("DELETE FROM epoch"); err != nil {
			return err
		}
		_, err := tx.Exec("INSERT INTO epoch VALUES (?)", began.UnixNano())
		return err
	})
}

// Seen returns the machines that have had mappings, and since when they are known.
func (s *State) Seen() (map[string]time.Time, error) {
	rows, err := s.bulk.Query("SELECT machine, first FROM seen")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	seen := map[string]time.Time{}
	for rows.Next() {
		var machine string
		var first int64
		if err := rows.Scan(&machine, &first); err != nil {
			return nil, err
		}
		seen[machine] = time.Unix(0, first)
	}
	return seen, rows.Err()
}

// See keeps that a machine was seen for the first time, and forgets others.
func (s *State) See(machine string, at time.Time, gone []string) error {
	return transaction(s.bulk, func(tx *sql.Tx) error {
		for _, other := range gone {
			if _, err := tx.Exec("DELETE FROM seen WHERE machine = ?", other); err != nil {
				return err
			}
		}
		_, err := tx.Exec("INSERT OR REPLACE INTO seen VALUES (?, ?)", machine, at.UnixNano())
		return err
	})
}

// Blocked returns the machines that get no mappings.
func (s *State) Blocked() (list []portmap.Blocked, err error) {
	rows, err := s.bulk.Query("SELECT record FROM blocked")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var data []byte
		var b portmap.Blocked
		if err := rows.Scan(&data); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(data, &b); err != nil {
			return nil, fmt.Errorf("a blocked machine is damaged: %w", err)
		}
		list = append(list, b)
	}
	return list, rows.Err()
}

// SaveBlocked keeps which machines get no mappings.
func (s *State) SaveBlocked(list []portmap.Blocked) error {
	return s.change(func(tx *sql.Tx) error {
		if _, err := tx.Exec("DELETE FROM blocked"); err != nil {
			return err
		}
		for i := range list {
			data, err := json.Marshal(&list[i])
			if err == nil {
				_, err = tx.Exec("INSERT INTO blocked VALUES (?)", data)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// A storedBlock is a block of events.
type storedBlock struct {
	first  int64 // number of its first event
	count  int
	oldest time.Time
	newest time.Time
	data   []byte
}

// AddBlocks keeps events, and drops the oldest blocks of those that are more than most events,
// or older than a time.
func (s *State) AddBlocks(list []storedBlock, most int64, before time.Time) error {
	return transaction(s.bulk, func(tx *sql.Tx) error {
		for _, b := range list {
			if _, err := tx.Exec("INSERT INTO events VALUES (?, ?, ?, ?, ?)", b.first, b.count, b.oldest.UnixNano(), b.newest.UnixNano(), b.data); err != nil {
				return err
			}
			if _, err := tx.Exec("UPDATE about SET next_event = ?", b.first+int64(b.count)); err != nil {
				return err
			}
		}
		_, err := tx.Exec("DELETE FROM events WHERE newest < ? OR first + count <= (SELECT coalesce(max(first + count), 0) FROM events) - ?", before.UnixNano(), most)
		return err
	})
}

// NextEvent returns the number that the next event gets.
func (s *State) NextEvent() (int64, error) {
	var next int64
	err := s.bulk.QueryRow("SELECT next_event FROM about").Scan(&next)
	return next, err
}

// NewestEvent returns the time of the events that were written down last, or the zero time.
func (s *State) NewestEvent() (time.Time, error) {
	var newest int64
	err := s.bulk.QueryRow("SELECT newest FROM events ORDER BY first DESC LIMIT 1").Scan(&newest)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return time.Time{}, nil
	case err != nil:
		return time.Time{}, err
	}
	return time.Unix(0, newest).UTC(), nil
}

// Blocks calls a function with the blocks that have events from a number and a time on, the
// latest first, until it returns false.
func (s *State) Blocks(from int64, since time.Time, each func(*storedBlock) (bool, error)) error {
	at := int64(0)
	if !since.IsZero() {
		at = since.UnixNano()
	}
	rows, err := s.reading.Query("SELECT first, count, oldest, newest, block FROM events WHERE first + count > ? AND newest >= ? ORDER BY first DESC", from, at)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var b storedBlock
		var oldest, newest int64
		if err := rows.Scan(&b.first, &b.count, &oldest, &newest, &b.data); err != nil {
			return err
		}
		b.oldest, b.newest = time.Unix(0, oldest).UTC(), time.Unix(0, newest).UTC()
		if more, err := each(&b); err != nil || !more {
			return err
		}
	}
	return rows.Err()
}
