// Package ssdp is the messages of the Simple Service Discovery Protocol (UPnP Device Architecture
// 1.1, chapter 1): what stands on the wire, and nothing else.
package ssdp

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
)

// Where devices are searched for, and announce themselves.
var (
	Group4 = netip.MustParseAddr("239.255.255.250")
	Group6 = netip.MustParseAddr("ff02::c") // link-local (Annex A)
)

// Port is where devices listen.
const Port = 1900

// MostSize is how many bytes of a message are read.
const MostSize = 2048

// All and RootDevice are searched for by those who want every device.
const (
	All        = "ssdp:all"
	RootDevice = "upnp:rootdevice"
)

// ErrSilence is the error for what gets no answer.
var ErrSilence = errors.New("no search")

// A Search asks for devices or services of a kind.
type Search struct {
	Target string // a kind, or the name of one device
	Wait   int    // seconds within which answers come, 1 to 5; 0 for one that was sent to this device alone
}

// mostWait is the longest time within which a device answers, in seconds (1.3.3).
const mostWait = 5

// ParseSearch reads a search. Whatever else comes is ErrSilence.
func ParseSearch(b []byte) (s Search, err error) {
	if len(b) > MostSize || !bytes.HasPrefix(b, []byte("M-SEARCH ")) {
		return s, ErrSilence
	}
	r, err := http.ReadRequest(bufio.NewReaderSize(bytes.NewReader(b), MostSize))
	if err != nil || r.RequestURI != "*" || r.Header.Get("Man") != `"ssdp:discover"` {
		return s, ErrSilence
	}
	if s.Target = r.Header.Get("St"); s.Target == "" || !printable(s.Target) {
		return s, ErrSilence
	}
	if text := r.Header.Get("Mx"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 {
			return s, ErrSilence
		}
		s.Wait = min(n, mostWait)
	}
	return s, nil
}

func printable(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r > '~' })
}

// Append appends a search as it stands on the wire; to is where it is sent.
func (s *Search) Append(b []byte, to string) []byte {
	b = fmt.Appendf(b, "M-SEARCH * HTTP/1.1\r\nHOST: %s\r\nMAN: \"ssdp:discover\"\r\n", to)
	if s.Wait > 0 {
		b = fmt.Appendf(b, "MX: %d\r\n", s.Wait)
	}
	return fmt.Appendf(b, "ST: %s\r\n\r\n", s.Target)
}

// An Advert says of a device, or of a part or service of one, where its description is.
type Advert struct {
	Target   string // its kind, or name
	Name     string // of it, unique
	Location string
	Server   string
	MaxAge   int    // seconds
	Boot     uint32 // grows with each start
	NextBoot uint32 // of an update: what Boot is to be from then on
}

// AppendResponse appends the answer to a search.
func (a *Advert) AppendResponse(b []byte) []byte {
	b = fmt.Appendf(b, "HTTP/1.1 200 OK\r\nCACHE-CONTROL: max-age=%d\r\nEXT:\r\nLOCATION: %s\r\nSERVER: %s\r\nST: %s\r\nUSN: %s\r\n", a.MaxAge, a.Location, a.Server, a.Target, a.Name)
	return fmt.Appendf(b, "BOOTID.UPNP.ORG: %d\r\nCONFIGID.UPNP.ORG: 1\r\n\r\n", a.Boot)
}

// Kinds of announcements.
const (
	Alive  = "ssdp:alive"
	Update = "ssdp:update"
	ByeBye = "ssdp:byebye"
)

// AppendNotify appends an announcement of a kind; to is where it is sent.
func (a *Advert) AppendNotify(b []byte, kind, to string) []byte {
	b = fmt.Appendf(b, "NOTIFY * HTTP/1.1\r\nHOST: %s\r\n", to)
	if kind != ByeBye {
		b = fmt.Appendf(b, "LOCATION: %s\r\n", a.Location)
	}
	if kind == Alive {
		b = fmt.Appendf(b, "CACHE-CONTROL: max-age=%d\r\nSERVER: %s\r\n", a.MaxAge, a.Server)
	}
	b = fmt.Appendf(b, "NT: %s\r\nNTS: %s\r\nUSN: %s\r\nBOOTID.UPNP.ORG: %d\r\nCONFIGID.UPNP.ORG: 1\r\n", a.Target, kind, a.Name, a.Boot)
	if kind == Update {
		b = fmt.Appendf(b, "NEXTBOOTID.UPNP.ORG: %d\r\n", a.NextBoot)
	}
	return append(b, "\r\n"...)
}

// ParseResponse reads the answer to a search.
func ParseResponse(b []byte) (*Advert, error) {
	if len(b) > MostSize {
		return nil, errors.New("an answer that is too long")
	}
	r, err := http.ReadResponse(bufio.NewReaderSize(bytes.NewReader(b), MostSize), nil)
	if err != nil {
		return nil, fmt.Errorf("no answer to a search: %w", err)
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("no answer to a search: %s", r.Status)
	}
	a := &Advert{Target: r.Header.Get("St"), Name: r.Header.Get("Usn"), Location: r.Header.Get("Location"), Server: r.Header.Get("Server")}
	if a.Target == "" || a.Name == "" || a.Location == "" {
		return nil, errors.New("an answer to a search that names no device")
	}
	return a, nil
}

// ParseNotify reads an announcement, and of which kind it is.
func ParseNotify(b []byte) (a *Advert, kind string, err error) {
	if len(b) > MostSize || !bytes.HasPrefix(b, []byte("NOTIFY ")) {
		return nil, "", ErrSilence
	}
	r, err := http.ReadRequest(bufio.NewReaderSize(bytes.NewReader(b), MostSize))
	if err != nil {
		return nil, "", ErrSilence
	}
	return &Advert{Target: r.Header.Get("Nt"), Name: r.Header.Get("Usn"), Location: r.Header.Get("Location")}, r.Header.Get("Nts"), nil
}
