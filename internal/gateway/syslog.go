package gateway

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/internal/portmap"
)

// A syslog sends events to a collector as RFC 5424 has them: a datagram each (RFC 5426), or,
// over TCP and TLS, counted bytes (RFC 6587, 3.4.1; RFC 5425). It never makes anybody wait: a
// queue that is full loses events and counts them. A connection that is lost is made again,
// after a while that grows.
type syslog struct {
	gateway string
	host    string
	known   *x509.CertPool // by which a collector is known over TLS; nil: by those of the machine

	mutex   sync.Mutex
	address string
	current *syslogSender
}

// A syslogSender sends to one address until it is stopped.
type syslogSender struct {
	address string
	known   *x509.CertPool
	queue   chan Event
	sent    atomic.Int64
	lost    atomic.Int64
	trouble atomic.Pointer[string]
	stop    context.CancelFunc
	done    chan struct{}
}

// mostUnsent is how many events wait for a collector.
const mostUnsent = 1 << 14

// newSyslog returns what sends the events of a gateway away, in time to nowhere. Authorities is a file of certificates by which a collector is
// known over TLS; without it, by those of the machine.
func newSyslog(gateway, authorities string) (*syslog, error) {
	host, err := os.Hostname()
	if err != nil || host == "" {
		host = "-"
	}
	s := &syslog{gateway: gateway, host: host}
	if authorities == "" {
		return s, nil
	}
	data, err := os.ReadFile(authorities)
	if err != nil {
		return nil, err
	}
	if s.known = x509.NewCertPool(); !s.known.AppendCertsFromPEM(data) {
		return nil, fmt.Errorf("%s: no certificate is in it", authorities)
	}
	return s, nil
}

// to makes events go to a collector, PROTOCOL://ADDRESS:PORT, or nowhere where that is empty.
func (s *syslog) to(address string) {
	s.mutex.Lock()
	old := s.current
	if s.address == address {
		s.mutex.Unlock()
		return
	}
	s.address, s.current = address, nil
	if address != "" {
		ctx, stop := context.WithCancel(context.Background())
		s.current = &syslogSender{address: address, known: s.known, queue: make(chan Event, mostUnsent), stop: stop, done: make(chan struct{})}
		go s.current.run(ctx, func(e *Event) []byte { return s.message(e) })
	}
	s.mutex.Unlock()
	if old != nil {
		old.close()
	}
}

// Close sends what can be sent within a moment.
func (s *syslog) Close() { s.to("") }

func (s *syslogSender) close() {
	s.stop()
	<-s.done
}

// send takes events that are to be sent.
func (s *syslog) send(events []Event) {
	s.mutex.Lock()
	to := s.current
	s.mutex.Unlock()
	if to == nil {
		return
	}
	for _, e := range events {
		select {
		case to.queue <- e:
		default:
			to.lost.Add(1)
		}
	}
}

// status says how events fare; nil where they are sent nowhere.
func (s *syslog) status() *Collector {
	s.mutex.Lock()
	to := s.current
	s.mutex.Unlock()
	if to == nil {
		return nil
	}
	c := &Collector{Address: to.address, Sent: to.sent.Load(), Lost: to.lost.Load()}
	if trouble := to.trouble.Load(); trouble != nil {
		c.Trouble = *trouble
	}
	return c
}

// How long a collector may take.
const (
	dialing   = 5 * time.Second
	sending   = 5 * time.Second
	firstWait = 250 * time.Millisecond
	mostWait  = 30 * time.Second
	farewell  = 500 * time.Millisecond
)

// run sends until it is stopped, and then, for a moment, what is left.
func (s *syslogSender) run(ctx context.Context, message func(*Event) []byte) {
	defer close(s.done)
	var conn net.Conn
	defer func() {
		if conn != nil {
			conn.Close()
		}
	}()
	wait := firstWait
	for {
		var e Event
		select {
		case <-ctx.Done():
			s.leave(conn, message)
			return
		case e = <-s.queue:
		}
		data := message(&e)
		for {
			var err error
			if conn == nil {
				conn, err = s.dial(ctx)
			}
			if err == nil {
				if err = s.write(conn, data, sending); err != nil {
					conn.Close()
					conn = nil
				}
			}
			if err == nil {
				s.sent.Add(1)
				s.trouble.Store(nil)
				wait = firstWait
				break
			}
			text := err.Error()
			s.trouble.Store(&text)
			select {
			case <-ctx.Done():
				s.lost.Add(1)
				return
			case <-time.After(wait):
				wait = min(2*wait, mostWait)
			}
		}
	}
}

// leave sends what is left in the queue, for a moment.
func (s *syslogSender) leave(conn net.Conn, message func(*Event) []byte) {
	for until := time.Now().Add(farewell); ; {
		select {
		case e := <-s.queue:
			if conn == nil || s.write(conn, message(&e), time.Until(until)) != nil {
				s.lost.Add(1 + int64(len(s.queue)))
				return
			}
			s.sent.Add(1)
		default:
			return
		}
	}
}

func (s *syslogSender) dial(ctx context.Context) (net.Conn, error) {
	protocol, address, _ := strings.Cut(s.address, "://")
	ctx, cancel := context.WithTimeout(ctx, dialing)
	defer cancel()
	if protocol == "tls" {
		return (&tls.Dialer{Config: &tls.Config{RootCAs: s.known, MinVersion: tls.VersionTLS12}}).DialContext(ctx, "tcp", address)
	}
	return (&net.Dialer{}).DialContext(ctx, protocol, address)
}

func (s *syslogSender) write(conn net.Conn, data []byte, within time.Duration) error {
	if err := conn.SetWriteDeadline(time.Now().Add(within)); err != nil {
		return err
	}
	if !strings.HasPrefix(s.address, "udp") {
		data = append(append(strconv.AppendInt(nil, int64(len(data)), 10), ' '), data...)
	}
	_, err := conn.Write(data)
	return err
}

// Facility local4 and the severities that are used (RFC 5424, 6.2.1).
const (
	facility = 20
	warning  = 4
	notice   = 5
	info     = 6
)

// severityOf says how much an event concerns somebody: what goes through and is granted is information, what is stopped and what an
// administrator does is to be noticed, and what nobody meant is warned of.
func severityOf(e *Event) int {
	switch e.What {
	case connectionEvent:
		switch {
		case e.Outcome == Passes || e.Outcome == Translated:
			return info
		case engine.IsUnmeant(e.Outcome):
			return warning
		}
	case mappingEvent:
		if e.Outcome == portmap.Granted || e.Outcome == portmap.Renewed || e.Outcome == portmap.Ended {
			return info
		}
	case tableEvent, outsideEvent:
		return warning
	}
	return notice
}

// enterprise is the number of structured data of our own: that for documentation (RFC 5612).
const enterprise = "hollowbridge@32473"

// message writes an event as RFC 5424 has it, with what it says as structured data.
func (s *syslog) message(e *Event) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "<%d>1 %s %s hollowbridge %d %s [%s", facility*8+severityOf(e), e.Time.UTC().Format("2006-01-02T15:04:05.000000Z"), s.host, os.Getpid(), e.What, enterprise)
	field := func(name, value string) {
		if value != "" {
			fmt.Fprintf(&b, ` %s="%s"`, name, structured.Replace(value))
		}
	}
	field("gateway", s.gateway)
	field("number", strconv.FormatInt(e.Number, 10))
	field("outcome", e.Outcome)
	field("rule", e.Rule)
	field("in", e.In)
	field("out", e.Out)
	field("in-device", e.InDevice)
	field("out-device", e.OutDevice)
	ends := func(p *Packet, from, to string) {
		if p == nil {
			return
		}
		if h, err := p.Header(); err == nil {
			field(from, h.From())
			field(to, h.To())
		}
	}
	if e.Before != nil {
		field("protocol", e.Before.Protocol)
	}
	ends(e.Before, "from", "to")
	ends(e.After, "from-after", "to-after")
	b.WriteString("] ")
	b.WriteString(e.Words())
	return b.Bytes()
}

// structured escapes a value of structured data (RFC 5424, 6.3.3).
var structured = strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`)

// Words says an event in one line, without its time and gateway.
func (e *Event) Words() string {
	if e.What != connectionEvent {
		return strings.TrimSpace(strings.TrimSpace(e.Rule+" "+e.Outcome) + " " + e.Text)
	}
	text := e.Outcome
	if e.Rule != "" {
		text += " by " + e.Rule
	}
	if e.Before == nil {
		return text
	}
	before, err := e.Before.Header()
	if err != nil {
		return text
	}
	text += fmt.Sprintf(": %s -> %s %s", before.From(), before.To(), before.Protocol)
	if e.After != nil {
		if after, err := e.After.Header(); err == nil && after != before {
			text += fmt.Sprintf(", as %s -> %s", after.From(), after.To())
		}
	}
	way := "in by " + e.In
	if e.Out != "" {
		way += ", out by " + e.Out
	}
	text += ", " + way
	if e.Text != "" {
		text += ": " + e.Text
	}
	return text
}
