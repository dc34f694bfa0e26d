package portmap

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/portmap/pcp"
)

// A Client asks a gateway for mappings.
type Client struct {
	Gateway netip.Addr // that is asked
	From    netip.Addr // this machine's address; invalid: the one that leads to the gateway
	Ports   Ports
	Secret  []byte // of whom the nonces of PCP are made

	device *device // the gateway's, of UPnP, once it is found
}

// An Ask is a mapping that a client asks for.
type Ask struct {
	Protocol header.Protocol
	Port     uint16     // inside
	Outside  uint16     // that is wished for; 0 is any
	Exact    bool       // this one or none
	Machine  netip.Addr // for which; invalid is this one
	Peer     netip.AddrPort
	Only     []netip.Prefix // who may use it; none is everybody
	Lifetime time.Duration
	Text     string // what the program says of itself
	Pinhole  string // to remove one: see Got
}

// A Got mapping is what a client has been granted.
type Got struct {
	By       string
	Protocol header.Protocol
	Outside  netip.AddrPort
	Inside   netip.AddrPort
	Lifetime time.Duration
	Epoch    uint32 // of PCP and NAT-PMP
	At       time.Time
	Text     string // of one that is listed
	Pinhole  string // the number of a way to an IPv6 address that UPnP has opened, by which it is taken away
}

// An Unanswered request is one that nobody has answered.
type Unanswered struct {
	By      string
	Gateway netip.Addr
	Refused bool // the machine says that nobody listens there
}

func (u *Unanswered) Error() string {
	if u.Refused {
		return fmt.Sprintf("%s: nobody listens for it at %s", u.By, u.Gateway)
	}
	return fmt.Sprintf("%s: no answer from %s", u.By, u.Gateway)
}

// A Denied request is one that the gateway has refused.
type Denied struct {
	By     string
	Code   string        // as the protocol names it
	Advice string        // what to do
	Lasts  time.Duration // for so long the answer is the same; 0 where it does not say
	number int           // of a fault of UPnP
}

func (d *Denied) Error() string {
	text := fmt.Sprintf("%s: the gateway answers %q", d.By, d.Code)
	if d.Advice != "" {
		text += ": " + d.Advice
	}
	return text
}

// ErrEndsItself is the error for what can't be taken away: a mapping for one connection (RFC 6887, 12.1).
var ErrEndsItself = errors.New("a mapping for one connection can't be taken away: it ends by itself when its time is over")

// ErrCannot is the error where a protocol can't say what is asked for.
var ErrCannot = errors.New("can't ask for that")

// patience of a client with each protocol when it tries all of them, and with one that is asked
// for by name.
const (
	patienceOfSome = 7 * time.Second
	patienceOfOne  = 30 * time.Second
)

// Add asks for a mapping by a protocol, or, where that is empty, by PCP, then NAT-PMP, then UPnP,
// until one is answered.
func (c *Client) Add(ctx context.Context, by string, a Ask) (*Got, error) {
	return c.each(ctx, by, func(ctx context.Context, by string) (*Got, error) {
		got, err := c.add(ctx, by, a)
		if err != nil {
			return nil, err
		}
		var code string
		switch {
		case got.Lifetime <= 0:
			code = "a mapping for no time"
		case a.Exact && got.Outside.Port() != a.Outside:
			code = fmt.Sprintf("port %d, which was not asked for", got.Outside.Port())
		default:
			return got, nil
		}
		other := a
		other.Outside = got.Outside.Port()
		if err := c.remove(ctx, by, other); err != nil && !a.Peer.IsValid() {
			return nil, errors.Join(&Denied{By: by, Code: code}, fmt.Errorf("and does not take it away again: %w", err))
		}
		return nil, &Denied{By: by, Code: code, Advice: "it is taken away again"}
	})
}

// Remove takes a mapping away that was granted, or fails with ErrEndsItself.
func (c *Client) Remove(ctx context.Context, by string, a Ask) error {
	if a.Peer.IsValid() {
		return ErrEndsItself
	}
	_, err := c.each(ctx, by, func(ctx context.Context, by string) (*Got, error) { return nil, c.remove(ctx, by, a) })
	return err
}

func (c *Client) each(ctx context.Context, by string, do func(context.Context, string) (*Got, error)) (*Got, error) {
	list, patience := network.MappingProtocols, patienceOfSome
	if by != "" {
		list, patience = []string{by}, patienceOfOne
	}
	var all error
	for _, by := range list {
		limited, cancel := context.WithTimeout(ctx, patience)
		got, err := do(limited, by)
		cancel()
		if err == nil {
			if got != nil {
				got.At = time.Now()
			}
			return got, nil
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		all = errors.Join(all, err)
		var unanswered *Unanswered
		if !errors.As(err, &unanswered) && !errors.Is(err, ErrCannot) && !isVersion(err) {
			return nil, err // it was answered: another protocol would not be granted more
		}
	}
	return nil, all
}

// isVersion reports whether a gateway does not speak a protocol.
func isVersion(err error) bool {
	var d *Denied
	return errors.As(err, &d) && (d.Code == pcp.UnsupportedVersion.String() || d.Code == pcp.UnsupportedOpcode.String())
}

func (c *Client) add(ctx context.Context, by string, a Ask) (*Got, error) {
	switch by {
	case network.PCP:
		return c.addPCP(ctx, a)
	case network.NATPMP:
		return c.addNATPMP(ctx, a)
	}
	return c.addIGD(ctx, a)
}

func (c *Client) remove(ctx context.Context, by string, a Ask) error {
	a.Lifetime = 0
	switch by {
	case network.PCP:
		_, err := c.addPCP(ctx, a)
		return err
	case network.NATPMP:
		_, err := c.addNATPMP(ctx, a)
		return err
	}
	return c.removeIGD(ctx, a)
}

// A Found gateway answers by a protocol.
type Found struct {
	Gateway  netip.Addr
	By       string
	External netip.Addr // invalid where it does not say
	Epoch    uint32     // seconds since it knows its mappings, of PCP and NAT-PMP
	Device   string     // of UPnP, what the device is
}

// Find asks a gateway by all protocols, or by one, what it is; by UPnP, every device that answers is
// found where all is set. Errors say by which protocols nobody answers.
func (c *Client) Find(ctx context.Context, by string, all bool) ([]Found, error) {
	type answer struct {
		list []Found
		err  error
	}
	var answers []chan answer
	for _, protocol := range network.MappingProtocols {
		if by != "" && by != protocol {
			continue
		}
		got := make(chan answer, 1)
		answers = append(answers, got)
		go func() {
			limited, cancel := context.WithTimeout(ctx, patienceOfSome)
			defer cancel()
			list, err := c.findBy(limited, protocol, all)
			got <- answer{list, err}
		}()
	}
	var found []Found
	var failures error
	for _, got := range answers {
		a := <-got
		found, failures = append(found, a.list...), errors.Join(failures, a.err)
	}
	return found, failures
}

func (c *Client) findBy(ctx context.Context, by string, all bool) ([]Found, error) {
	switch by {
	case network.PCP:
		f, err := c.findPCP(ctx)
		if err != nil {
			return nil, err
		}
		return []Found{f}, nil
	case network.NATPMP:
		f, err := c.findNATPMP(ctx)
		if err != nil {
			return nil, err
		}
		return []Found{f}, nil
	}
	return c.findIGD(ctx, all)
}

// Nonce returns the nonce of a mapping: that of this client's secret, so that it can be renewed and
// taken away later, and nobody else can.
func (c *Client) nonce(a *Ask) (n pcp.Nonce) {
	mac := hmac.New(sha256.New, c.Secret)
	fmt.Fprint(mac, c.Gateway, a.Protocol, a.Port, a.Machine, a.Peer)
	copy(n[:], mac.Sum(nil))
	return n
}
