package gateway

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"hollowbridge/core/network"
)

// An Endpoint is where the control API of a gateway is: a Unix socket, or an address with TLS.
type Endpoint struct {
	Socket                  string
	Address                 string
	Token, Certificate, Key string // paths of files
}

// ControlFolder names a folder in the environment in which each gateway has its socket, whatever
// the network file says: so it is in a lab.
const ControlFolder = "HOLLOWBRIDGE_CONTROL"

// EndpointOf returns where a gateway is asked, by its control: in a network file, from which the
// files are named. Without one it is a socket of the machine itself: that of its name or, where there is none yet, of its former one.
func EndpointOf(file string, g *network.Gateway) (Endpoint, error) {
	e, err := EndpointAs(file, g, g.Name)
	if err != nil || e.Socket == "" || g.Formerly == "" {
		return e, err
	}
	former, err := EndpointAs(file, g, g.Formerly)
	if err != nil {
		return e, nil
	}
	if _, missing := os.Lstat(e.Socket); missing == nil {
		return e, nil
	}
	if _, missing := os.Lstat(former.Socket); missing != nil {
		return e, nil
	}
	return former, nil
}

// EndpointAs is EndpointOf for a gateway that is called so on its machine.
func EndpointAs(file string, g *network.Gateway, name string) (Endpoint, error) {
	beside := func(path string) string {
		if path == "" || filepath.IsAbs(path) {
			return path
		}
		return filepath.Join(filepath.Dir(file), path)
	}
	if folder := os.Getenv(ControlFolder); folder != "" {
		return Endpoint{Socket: filepath.Join(folder, name+".sock")}, nil
	}
	c := g.Control
	if c.Listen.IsValid() {
		return Endpoint{Address: c.Listen.String(), Token: beside(c.Token), Certificate: beside(c.Certificate), Key: beside(c.Key)}, nil
	}
	if c.Socket != "" {
		return Endpoint{Socket: beside(c.Socket)}, nil
	}
	folder := os.Getenv("XDG_RUNTIME_DIR")
	if os.Getuid() == 0 {
		folder = "/run"
	}
	if folder == "" {
		return Endpoint{}, fmt.Errorf("%s has no control: in %s, and this machine has no folder for sockets of yours (XDG_RUNTIME_DIR); add one, as control: {socket: %s.sock}", name, file, name)
	}
	return Endpoint{Socket: filepath.Join(folder, "hollowbridge", name+".sock")}, nil
}

func (e Endpoint) String() string {
	if e.Socket != "" {
		return e.Socket
	}
	return e.Address
}

// mostSocketPath is how long the path of a Unix socket may be (unix(7)).
const mostSocketPath = 107

// Listen opens the endpoint for a service. What listens on a socket that nobody answers is
// taken over; one that somebody answers is an error.
func (e Endpoint) Listen() (net.Listener, error) {
	if e.Socket == "" {
		return e.listenTLS()
	}
	if len(e.Socket) > mostSocketPath {
		return nil, fmt.Errorf("%s: the path of a socket has at most %d characters", e.Socket, mostSocketPath)
	}
	if err := os.MkdirAll(filepath.Dir(e.Socket), 0o700); err != nil {
		return nil, err
	}
	if info, err := os.Lstat(e.Socket); err == nil {
		if info.Mode()&os.ModeSocket == 0 {
			return nil, fmt.Errorf("%s: there is a file in the place of the socket; move it away", e.Socket)
		}
		if c, err := net.DialTimeout("unix", e.Socket, time.Second); err == nil {
			c.Close()
			return nil, fmt.Errorf("%s: another gateway answers here", e.Socket)
		}
		if err := os.Remove(e.Socket); err != nil {
			return nil, err
		}
	}
	// The socket is made where nobody else comes, and has its mode before anybody finds it.
	private, err := os.MkdirTemp(filepath.Dir(e.Socket), ".s")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(private)
	name := filepath.Join(private, "s")
	if len(name) > mostSocketPath {
		return nil, fmt.Errorf("%s: the path of a socket has at most %d characters, and this one needs %d more for a moment", e.Socket, mostSocketPath, len(name)-len(e.Socket))
	}
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: name, Net: "unix"})
	if err != nil {
		return nil, err
	}
	l.SetUnlinkOnClose(false)
	if err := errors.Join(os.Chmod(name, 0o600), os.Rename(name, e.Socket)); err != nil {
		l.Close()
		return nil, err
	}
	return socketListener{l, e.Socket}, nil
}

// A socketListener takes its file away when it is closed.
type socketListener struct {
	*net.UnixListener
	path string
}

func (l socketListener) Close() error {
	return errors.Join(l.UnixListener.Close(), os.Remove(l.path))
}

func (e Endpoint) listenTLS() (net.Listener, error) {
	key, err := readSecret(e.Key)
	if err != nil {
		return nil, err
	}
	certificate, err := os.ReadFile(e.Certificate)
	if err != nil {
		return nil, err
	}
	pair, err := tls.X509KeyPair(certificate, key)
	if err != nil {
		return nil, fmt.Errorf("%s and %s: %w", e.Certificate, e.Key, err)
	}
	l, err := net.Listen("tcp", e.Address)
	if err != nil {
		return nil, err
	}
	return tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS13}), nil
}

// leastToken is how long a token must be, so that nobody guesses it.
const leastToken = 16

// A Right is what a token lets its holder do.
type Right string

// Look is to ask whatever can be asked, Change is everything.
const (
	Look   Right = "look"
	Change Right = "change"
)

// A Token is a word that callers must know, and what they may do then.
type Token struct {
	Right Right
	Word  string
}

// ReadTokens returns the tokens of the endpoint, those that let change things first; none for a socket. In their file each has a line of its own: the right
// and the word or, where it lets change things, the word alone; what begins with # is for people.
func (e Endpoint) ReadTokens() (list []Token, err error) {
	if e.Socket != "" {
		return nil, nil
	}
	data, err := readSecret(e.Token)
	if err != nil {
		return nil, err
	}
	number := 0
	for line := range strings.Lines(string(data)) {
		number++
		words := strings.Fields(line)
		if len(words) == 0 || strings.HasPrefix(words[0], "#") {
			continue
		}
		t := Token{Change, words[len(words)-1]}
		if len(words) == 2 {
			t.Right = Right(words[0])
		}
		if len(words) > 2 || t.Right != Look && t.Right != Change || len(t.Word) < leastToken {
			return nil, fmt.Errorf("%s:%d: a token is one word of at least %d characters, with what it is for before it: look or change", e.Token, number, leastToken)
		}
		list = append(list, t)
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%s: no token is in it: one word of at least %d characters", e.Token, leastToken)
	}
	slices.SortStableFunc(list, func(a, b Token) int { return strings.Compare(string(a.Right), string(b.Right)) })
	return list, nil
}

// readSecret reads a file that nobody but its owner may read.
func readSecret(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	switch info, err := f.Stat(); {
	case err != nil:
		return nil, err
	case info.Mode().IsRegular() && info.Mode().Perm()&0o077 != 0:
		return nil, fmt.Errorf("%s: others may read it (%v), and whoever can is obeyed; take that away with chmod 600 %s, and make another one if somebody did", path, info.Mode().Perm(), path)
	}
	return io.ReadAll(io.LimitReader(f, mostSecret))
}

// mostSecret is how long a token or a key may be, in bytes.
const mostSecret = 1 << 16

// transport returns how a client reaches the endpoint.
func (e Endpoint) transport() (*http.Transport, error) {
	t := &http.Transport{MaxIdleConnsPerHost: 64, ResponseHeaderTimeout: 2 * time.Minute}
	dialer := &net.Dialer{Timeout: 5 * time.Second}
	if e.Socket != "" {
		t.DialContext = dialSocket(dialer, e.Socket)
		return t, nil
	}
	data, err := os.ReadFile(e.Certificate)
	if err != nil {
		return nil, err
	}
	known := x509.NewCertPool()
	if !known.AppendCertsFromPEM(data) {
		return nil, fmt.Errorf("%s: no certificate is in it", e.Certificate)
	}
	t.DialContext = dialer.DialContext
	t.TLSClientConfig = &tls.Config{RootCAs: known, MinVersion: tls.VersionTLS13}
	t.TLSHandshakeTimeout = 5 * time.Second
	return t, nil
}
