package cli

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"

	"hollowbridge/core/header"
	"hollowbridge/internal/portmap"
)

// A remembered mapping is what this user was granted, so that it can be taken away by its outside
// port.
type remembered struct {
	By       string         `json:"by"`
	Gateway  netip.Addr     `json:"gateway"`
	Protocol string         `json:"protocol"`
	Outside  netip.AddrPort `json:"outside"`
	Port     uint16         `json:"port"`
	Machine  netip.Addr     `json:"machine"`
	Peer     netip.AddrPort `json:"peer"`
	Pinhole  string         `json:"pinhole,omitempty"`
}

// mostRemembered is how many mappings are remembered, the latest.
const mostRemembered = 1000

// mappingSecret returns what the nonces of this user are made of; the first time it is made.
func (c *call) mappingSecret() ([]byte, error) {
	folder, err := c.stateFolder()
	if err != nil {
		return nil, err
	}
	path := filepath.Join(folder, "secret")
	secret, err := os.ReadFile(path)
	if err == nil && len(secret) >= 32 {
		return secret, nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	secret = make([]byte, 32)
	rand.Read(secret)
	return secret, replaceFile(path, secret)
}

// replaceFile writes a file of the user's own, all of it or nothing.
func replaceFile(path string, data []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".new")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}

func (c *call) mappingMemory() (path string, list []remembered, err error) {
	folder, err := c.stateFolder()
	if err != nil {
		return "", nil, err
	}
	path = filepath.Join(folder, "mappings.json")
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return path, nil, nil
	}
	if err == nil {
		if err = json.Unmarshal(data, &list); err != nil {
			err = fmt.Errorf("%s: %w", path, err)
		}
	}
	return path, list, err
}

// keepMappings remembers all but those for which a function returns true, and one more.
func (c *call) keepMappings(but func(*remembered) bool, more *remembered) error {
	path, list, err := c.mappingMemory()
	if err != nil {
		return err
	}
	kept := []remembered{}
	for i := range list {
		if !but(&list[i]) {
			kept = append(kept, list[i])
		}
	}
	if more != nil {
		kept = append(kept, *more)
	}
	data, err := json.MarshalIndent(kept[max(0, len(kept)-mostRemembered):], "", "  ")
	if err != nil {
		return err
	}
	return replaceFile(path, append(data, '\n'))
}

func (c *call) rememberMapping(client *portmap.Client, a *portmap.Ask, got *portmap.Got) error {
	return c.keepMappings(func(r *remembered) bool {
		return r.Gateway == client.Gateway && r.Protocol == got.Protocol.String() && r.Outside == got.Outside
	}, &remembered{got.By, client.Gateway, got.Protocol.String(), got.Outside, a.Port, a.Machine, a.Peer, got.Pinhole})
}

// forgetMapping forgets what was taken away. That it can't is no matter: it is over.
func (c *call) forgetMapping(got *portmap.Got) {
	c.keepMappings(func(r *remembered) bool {
		return r.Protocol == got.Protocol.String() && r.Outside.Port() == got.Outside.Port() && (r.Outside == got.Outside || r.Gateway == got.Outside.Addr())
	}, nil)
}

func (c *call) rememberedMapping(client *portmap.Client, protocol header.Protocol, outside uint16) (remembered, bool) {
	_, list, err := c.mappingMemory()
	for i := len(list) - 1; err == nil && i >= 0; i-- {
		if r := list[i]; r.Gateway == client.Gateway && r.Protocol == protocol.String() && r.Outside.Port() == outside {
			return r, true
		}
	}
	return remembered{}, false
}

// stateFolder is where this program remembers things of a user (XDG Base Directory).
func (c *call) stateFolder() (string, error) {
	folder := c.Getenv("XDG_STATE_HOME")
	if folder == "" {
		home := c.Getenv("HOME")
		if home == "" {
			return "", errors.New("neither XDG_STATE_HOME nor HOME says where mappings are to be remembered")
		}
		folder = home + "/.local/state"
	}
	folder += "/hollowbridge"
	return folder, os.MkdirAll(folder, 0o700)
}
