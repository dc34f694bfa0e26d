package portmap

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/xml"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/internal/portmap/igd"
)

// Bounds of those who subscribe to the device's events (UPnP Device Architecture, chapter 4).
const (
	mostSubscriptions   = 64
	mostSubscriptionsOf = 4
	longestSubscription = 30 * time.Minute
	slowestSubscriber   = 3 * time.Second
	calm                = 500 * time.Millisecond // between two events
)

// eventing tells subscribers what of the device has changed. A subscriber is called only at the
// address that it asked from.
type eventing struct {
	server    *Server
	answering atomic.Int64 // searches that are being answered
	changed   chan struct{}
	http      *http.Client

	mutex         sync.Mutex
	subscriptions map[string]*subscription
}

type subscription struct {
	service *igd.Service
	client  netip.Addr
	calls   *url.URL
	until   time.Time
	count   uint32 // of events that it was told
}

func (n *eventing) init(v *Server) {
	n.server, n.changed, n.subscriptions = v, make(chan struct{}, 1), map[string]*subscription{}
	dialer := &net.Dialer{Timeout: slowestSubscriber}
	n.http = &http.Client{
		Timeout:       slowestSubscriber,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DisableKeepAlives: true, Proxy: nil, DialContext: func(ctx context.Context, protocol, at string) (conn net.Conn, err error) {
			err = v.within(func() error {
				conn, err = dialer.DialContext(ctx, protocol, at)
				return err
			})
			return conn, err
		}},
	}
	v.working.Go(n.run)
}

// change says that something has changed; it waits for nobody.
func (n *eventing) change() {
	select {
	case n.changed <- struct{}{}:
	default:
	}
}

// run tells subscribers, until the server stops.
func (n *eventing) run() {
	for {
		select {
		case <-n.server.ctx.Done():
			return
		case <-n.changed:
		}
		n.mutex.Lock()
		var ids []string
		for id, s := range n.subscriptions {
			if time.Now().After(s.until) {
				delete(n.subscriptions, id)
				continue
			}
			ids = append(ids, id)
		}
		n.mutex.Unlock()
		var telling sync.WaitGroup
		for _, id := range ids {
			telling.Go(func() { n.tell(id) })
		}
		telling.Wait()
		select {
		case <-n.server.ctx.Done():
			return
		case <-time.After(calm):
		}
	}
}

// values are the evented variables of a service as they are now.
func (n *eventing) values(s *igd.Service) igd.Args {
	v := n.server
	v.mutex.Lock()
	defer v.mutex.Unlock()
	all := igd.Args{"PossibleConnectionTypes": "IP_Routed", "ConnectionStatus": v.status(), "ExternalIPAddress": v.externalText(), "PhysicalLinkStatus": "Up",
		"FirewallEnabled": "1", "InboundPinholeAllowed": v.opensPinholes(), "PortMappingNumberOfEntries": "0", "SystemUpdateID": strconv.FormatUint(uint64(v.changes), 10),
		"DefaultConnectionService": v.connectionService()}
	if v.setting != nil {
		all["PortMappingNumberOfEntries"] = strconv.Itoa(min(len(v.ofIGD(netip.Addr{}, true)), 65535))
		if !v.setting.address[header.IPv4].IsValid() {
			all["PhysicalLinkStatus"] = "Down"
		}
	}
	out := igd.Args{}
	for _, variable := range s.Variables {
		if variable.Evented {
			out[variable.Name] = all[variable.Name]
		}
	}
	return out
}

// tell tells one subscriber; one that does not answer is told no more.
func (n *eventing) tell(id string) {
	n.mutex.Lock()
	s := n.subscriptions[id]
	if s == nil {
		n.mutex.Unlock()
		return
	}
	count := s.count
	if s.count++; s.count == 0 { // 4.2.1: it is never 0 again
		s.count = 1
	}
	n.mutex.Unlock()
	var b bytes.Buffer
	b.WriteString(xml.Header + `<e:propertyset xmlns:e="urn:schemas-upnp-org:event-1-0">`)
	values := n.values(s.service)
	for _, variable := range s.service.Variables {
		if value, evented := values[variable.Name]; evented {
			fmt.Fprintf(&b, "<e:property><%s>", variable.Name)
			xml.EscapeText(&b, []byte(value))
			fmt.Fprintf(&b, "</%s></e:property>", variable.Name)
		}
	}
	b.WriteString("</e:propertyset>\n")
	r, err := http.NewRequestWithContext(n.server.ctx, "NOTIFY", s.calls.String(), &b)
	if err == nil {
		r.Header.Set("Content-Type", `text/xml; charset="utf-8"`)
		r.Header["NT"], r.Header["NTS"] = []string{"upnp:event"}, []string{"upnp:propchange"}
		r.Header["SID"], r.Header["SEQ"] = []string{id}, []string{strconv.FormatUint(uint64(count), 10)}
		var answer *http.Response
		if answer, err = n.http.Do(r); err == nil {
			answer.Body.Close()
		}
	}
	if err != nil {
		n.mutex.Lock()
		delete(n.subscriptions, id)
		n.mutex.Unlock()
	}
}

// subscribe answers SUBSCRIBE: a new subscription, or one that goes on.
func (n *eventing) subscribe(service *igd.Service, w http.ResponseWriter, r *http.Request) {
	from, _ := netip.ParseAddrPort(r.RemoteAddr)
	client := from.Addr().Unmap()
	until := longestSubscription
	if text, ok := strings.CutPrefix(r.Header.Get("Timeout"), "Second-"); ok {
		if s, err := strconv.Atoi(text); err == nil && s > 0 {
			until = min(time.Duration(min(s, 1<<20))*time.Second, longestSubscription)
		}
	}
	n.mutex.Lock()
	defer n.mutex.Unlock()
	id := r.Header.Get("Sid")
	if id != "" {
		s := n.subscriptions[id]
		switch {
		case r.Header.Get("Callback") != "" || r.Header.Get("Nt") != "":
			http.Error(w, "SID does not go with CALLBACK and NT", http.StatusBadRequest)
			return
		case s == nil || s.client != client || s.service != service || time.Now().After(s.until):
			http.Error(w, "no such subscription", http.StatusPreconditionFailed)
			return
		}
		s.until = time.Now().Add(until)
	} else {
		calls, ok := callback(r.Header.Get("Callback"), client)
		of := 0
		for other, s := range n.subscriptions {
			if time.Now().After(s.until) {
				delete(n.subscriptions, other)
			} else if s.client == client {
				of++
			}
		}
		switch {
		case r.Header.Get("Nt") != "upnp:event" || !ok:
			http.Error(w, "CALLBACK is an address of whoever subscribes", http.StatusPreconditionFailed)
			return
		case of >= mostSubscriptionsOf || len(n.subscriptions) >= mostSubscriptions:
			http.Error(w, "too many subscriptions", http.StatusServiceUnavailable)
			return
		}
		id = "uuid:" + uuidOf(rand.Text())
		n.subscriptions[id] = &subscription{service: service, client: client, calls: calls, until: time.Now().Add(until)}
		defer n.change() // the first event is all values (4.2.1)
	}
	w.Header()["SID"] = []string{id}
	w.Header().Set("Timeout", fmt.Sprintf("Second-%d", int(until.Seconds())))
	w.Header().Set("Server", "Linux UPnP/1.1 hollowbridge/1")
	w.WriteHeader(http.StatusOK)
}

// callback reads where a subscriber wants to be called: the first URL that is one of its own
// address.
func callback(text string, client netip.Addr) (*url.URL, bool) {
	for _, part := range strings.Split(text, "<") {
		part, _, closed := strings.Cut(part, ">")
		if !closed {
			continue
		}
		u, err := url.Parse(part)
		if err != nil || u.Scheme != "http" || u.User != nil {
			continue
		}
		if a, err := netip.ParseAddr(u.Hostname()); err == nil && a.Unmap() == client {
			return u, true
		}
	}
	return nil, false
}

func (n *eventing) unsubscribe(w http.ResponseWriter, r *http.Request) {
	from, _ := netip.ParseAddrPort(r.RemoteAddr)
	n.mutex.Lock()
	defer n.mutex.Unlock()
	id := r.Header.Get("Sid")
	if s := n.subscriptions[id]; s == nil || s.client != from.Addr().Unmap() {
		http.Error(w, "no such subscription", http.StatusPreconditionFailed)
		return
	}
	delete(n.subscriptions, id)
}
