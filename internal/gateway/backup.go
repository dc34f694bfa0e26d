package gateway

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
)

// A backup is the file of a state, as it is at one moment: revisions, what rules have counted, mappings and events. It is restored by
// putting it in the place of the state: the service ends and starts again with it, while the rules in the kernel stay.

const (
	backupPart  = "backup.part"    // in the folder of the state, while it is made
	restorePart = "restore.part"   // while it comes
	restoreFile = "restore.sqlite" // when it is whole, and sound
	beforeFile  = "before-restore.sqlite"
	mostBackup  = 8 << 30 // bytes
)

// Backup returns a backup of the state, in a file that nobody else finds.
func (s *Service) Backup() (*os.File, error) {
	s.backing.Lock()
	defer s.backing.Unlock()
	defer s.works("copies its state")()
	path := filepath.Join(s.options.Folder, backupPart)
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	defer os.Remove(path)
	s.journal.write()
	if err := s.storeCounts(); err != nil {
		return nil, err
	}
	if err := s.state.copyTo(path); err != nil {
		return nil, fmt.Errorf("the backup can't be written: %w", err)
	}
	return os.Open(path)
}

// copyTo writes the state as it is now to a new file that its owner alone may read.
func (s *State) copyTo(path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	f.Close()
	_, err = s.reading.Exec("VACUUM INTO ?", path)
	return err
}

// Restore takes a backup, which is in force when the service has started again, which Restored tells whoever runs it to do.
func (s *Service) Restore(r io.Reader) error {
	if !s.options.Restarts {
		return &refused{http.StatusConflict, "only a gateway that hollowbridge gateway runs takes a backup", nil}
	}
	s.backing.Lock()
	defer s.backing.Unlock()
	defer s.works("reads a backup")()
	part := filepath.Join(s.options.Folder, restorePart)
	defer os.Remove(part)
	if err := receiveFile(part, r); err != nil {
		return err
	}
	if err := checkBackup(part, s.options.Gateway); err != nil {
		return &refused{http.StatusBadRequest, err.Error(), nil}
	}
	if err := os.Rename(part, filepath.Join(s.options.Folder, restoreFile)); err != nil {
		return err
	}
	s.record(Event{What: serviceEvent, Text: "a backup is restored: the gateway starts again with it"})
	select {
	case s.restored <- struct{}{}:
	default:
	}
	return nil
}

// receiveFile writes what comes to a file, and to the disk.
func receiveFile(path string, r io.Reader) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	n, err := io.Copy(f, io.LimitReader(r, mostBackup+1))
	if err == nil && n > mostBackup {
		err = &refused{http.StatusRequestEntityTooLarge, fmt.Sprintf("more than %d GiB is not read", mostBackup>>30), nil}
	}
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// checkBackup says what is wrong with a file that should be a backup of a gateway. It opens it as a state of its own, so that whatever is wrong with
// that is found, and brings an earlier version up to this one's.
func checkBackup(path, gateway string) error {
	s := &State{path: path}
	fresh, err := s.inspect()
	if err == nil && fresh {
		err = errors.New("it is empty")
	}
	if err == nil {
		err = s.open(false, gateway)
	}
	if err == nil {
		_, err = s.Revision(0)
	}
	if err == nil || errors.Is(err, errNoRevision) {
		_, err = s.durable.Exec("PRAGMA wal_checkpoint(TRUNCATE)")
	}
	closed := s.Close()
	for _, suffix := range []string{"-wal", "-shm"} {
		os.Remove(path + suffix)
	}
	if err = errors.Join(err, closed); err != nil {
		return fmt.Errorf("this is no backup of %s: %w", gateway, err)
	}
	return nil
}

// Restored tells when the service is to end and start again, because a backup has come.
func (s *Service) Restored() <-chan struct{} { return s.restored }

// TakeBackup puts a backup that has come in the place of the state in a folder, whose service does not run; what was there is kept beside it. Undo
// puts that back.
func TakeBackup(folder string) (undo func() error, err error) {
	state, before := filepath.Join(folder, StateFile), filepath.Join(folder, beforeFile)
	for _, suffix := range []string{"", "-wal", "-shm"} {
		if err := os.Rename(state+suffix, before+suffix); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	return func() error { return os.Rename(before, state) }, os.Rename(filepath.Join(folder, restoreFile), state)
}

// ReadBackup returns the revision that a backup has in force, and the gateway that it is of.
func ReadBackup(path string) (gateway string, r Revision, err error) {
	s := &State{path: path}
	if fresh, err := s.inspect(); err != nil || fresh {
		if _, missing := os.Stat(path); errors.Is(missing, fs.ErrNotExist) {
			return "", r, fmt.Errorf("%s: no such file", path)
		}
		if errors.Is(err, fs.ErrPermission) {
			return "", r, err
		}
		return "", r, fmt.Errorf("%s: this is no backup", path)
	}
	db, err := s.connect("FULL", true)
	if err != nil {
		return "", r, err
	}
	defer db.Close()
	s.durable = db
	if err := db.QueryRow("SELECT gateway FROM about").Scan(&gateway); err != nil {
		return "", r, fmt.Errorf("%s: this is no backup: %w", path, err)
	}
	if r, err = s.Revision(0); errors.Is(err, errNoRevision) {
		err = nil
	}
	if err != nil {
		return "", r, fmt.Errorf("%s: this is no backup that this program knows: %w", path, err)
	}
	return gateway, r, nil
}
