package portmap

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/portmap/igd"
)

// Bounds of those who call the device.
const (
	mostCallers    = 64
	mostCallersOf  = 8 // connections of one client
	callHeaders    = 8 << 10
	slowestRequest = 5 * time.Second
	slowestAnswer  = 40 * time.Second // an administrator may have to decide
)

// uuidOf makes the name of a device out of a gateway's (RFC 9562, 5.8).
func uuidOf(gateway string) string {
	b := sha256.Sum256([]byte("hollowbridge " + gateway))
	b[6], b[8] = b[6]&0x0f|0x80, b[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:16])
}

// device returns what answers who calls the UPnP device at a point.
func (v *Server) device(p *point) *http.Server {
	mux := http.NewServeMux()
	for version, path := range igd.DevicePaths {
		mux.HandleFunc("GET "+path, func(w http.ResponseWriter, _ *http.Request) {
			writeXML(w, http.StatusOK, v.deviceOf().Describe(version+1))
		})
	}
	for _, s := range igd.Services {
		for version := 1; version <= s.Versions[1]; version++ {
			mux.HandleFunc(fmt.Sprintf("GET %s%d.xml", s.Path, version), func(w http.ResponseWriter, _ *http.Request) { writeXML(w, http.StatusOK, s.Describe(version)) })
		}
		mux.HandleFunc("POST "+s.Path, v.called)
		mux.HandleFunc("SUBSCRIBE "+s.Path+"/events", func(w http.ResponseWriter, r *http.Request) { v.events.subscribe(s, w, r) })
		mux.HandleFunc("UNSUBSCRIBE "+s.Path+"/events", v.events.unsubscribe)
	}
	return &http.Server{
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			from, err := netip.ParseAddrPort(r.RemoteAddr)
			client := from.Addr().Unmap()
			switch {
			case err != nil || !v.mayCall(client):
				http.Error(w, "only from inside", http.StatusForbidden)
			case !isOwnHost(r.Host, p.address): // a page of another site has led a browser here
				http.Error(w, "this is no name of the device", http.StatusForbidden)
			default:
				mux.ServeHTTP(w, r)
			}
		}),
		ReadHeaderTimeout: slowestRequest, ReadTimeout: 2 * slowestRequest, WriteTimeout: slowestAnswer, IdleTimeout: slowestRequest, MaxHeaderBytes: callHeaders,
		BaseContext: func(net.Listener) context.Context { return v.ctx },
	}
}

// mayCall reports whether a client is inside and does not call too often.
func (v *Server) mayCall(client netip.Addr) bool {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	return v.speaksIGD() && v.isInside(v.real(client)) && v.limits.allows(client, v.now())
}

// isOwnHost reports whether what stands in the header Host is the address that was called.
func isOwnHost(host string, own netip.Addr) bool {
	if at, err := netip.ParseAddrPort(host); err == nil {
		return at.Addr() == own
	}
	a, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return err == nil && a == own
}

func writeXML(w http.ResponseWriter, status int, data []byte) {
	w.Header().Set("Content-Type", `text/xml; charset="utf-8"`)
	w.Header().Set("Ext", "")
	w.WriteHeader(status)
	w.Write(data) // who called may be gone
}

// called answers a call.
func (v *Server) called(w http.ResponseWriter, r *http.Request) {
	data, err := io.ReadAll(http.MaxBytesReader(w, r.Body, igd.MostCall))
	if err != nil {
		http.Error(w, "a call that is too long, or breaks off", http.StatusRequestEntityTooLarge)
		return
	}
	call, service, err := igd.ParseCall(data, r.Header.Get("Soapaction"))
	var fault *igd.Fault
	if err != nil && !errors.As(err, &fault) {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	var out igd.Args
	if fault == nil && service.Path != r.URL.Path {
		fault = igd.NewFault(igd.InvalidAction)
	}
	if fault == nil {
		from, _ := netip.ParseAddrPort(r.RemoteAddr)
		out, fault = v.act(r.Context(), call, from.Addr().Unmap())
	}
	if fault != nil {
		writeXML(w, http.StatusInternalServerError, fault.Append(nil))
		return
	}
	writeXML(w, http.StatusOK, call.AppendAnswer(nil, out))
}

// An action of the device. Args are there, but hold anything. One that an administrator has to decide about says so in the pending.
type action func(v *Server, p *pending, c *igd.Call, client netip.Addr) (igd.Args, *igd.Fault)

// A pending answer is given when an administrator has decided, or the client has waited long enough.
type pending struct {
	decided chan decision // nil where nobody has to decide
	answer  func(*Record) igd.Args
	after   func() (igd.Args, *igd.Fault) // gives it when the server is free for others again; nil where it is there
}

type decision struct {
	record Record
	fault  *igd.Fault
}

// wait returns the answer.
func (p *pending) wait(ctx context.Context) (igd.Args, *igd.Fault) {
	select {
	case d := <-p.decided:
		if d.fault != nil {
			return nil, d.fault
		}
		return p.answer(&d.record), nil
	case <-ctx.Done():
	case <-time.After(patiences[network.IGD] + time.Second):
	}
	return nil, igd.NewFault(igd.NotAuthorized)
}

// actions are what the device does, by name.
var actions = map[string]action{
	"SetConnectionType":     refuses,
	"RequestConnection":     refuses,
	"ForceTermination":      refuses,
	"GetConnectionTypeInfo": says(igd.Args{"NewConnectionType": "IP_Routed", "NewPossibleConnectionTypes": "IP_Routed"}),
	"GetNATRSIPStatus":      says(igd.Args{"NewRSIPAvailable": "0", "NewNATEnabled": "1"}),
	"GetFirewallStatus": func(v *Server, _ *pending, _ *igd.Call, _ netip.Addr) (igd.Args, *igd.Fault) {
		return igd.Args{"FirewallEnabled": "1", "InboundPinholeAllowed": v.opensPinholes()}, nil
	},
	"SetDefaultConnectionService": refuses,
	"GetDefaultConnectionService": func(v *Server, _ *pending, _ *igd.Call, _ netip.Addr) (igd.Args, *igd.Fault) {
		return igd.Args{"NewDefaultConnectionService": v.connectionService()}, nil
	},
	"GetCommonLinkProperties": func(v *Server, _ *pending, _ *igd.Call, _ netip.Addr) (igd.Args, *igd.Fault) {
		status := "Up"
		if v.status() != "Connected" {
			status = "Down"
		}
		return igd.Args{"NewWANAccessType": "Ethernet", "NewLayer1UpstreamMaxBitRate": "0", "NewLayer1DownstreamMaxBitRate": "0", "NewPhysicalLinkStatus": status}, nil
	},
	"GetStatusInfo": func(v *Server, _ *pending, _ *igd.Call, _ netip.Addr) (igd.Args, *igd.Fault) {
		return igd.Args{"NewConnectionStatus": v.status(), "NewLastConnectionError": "ERROR_NONE", "NewUptime": fmt.Sprint(v.seconds(v.now()))}, nil
	},
	"GetExternalIPAddress": func(v *Server, _ *pending, _ *igd.Call, _ netip.Addr) (igd.Args, *igd.Fault) {
		return igd.Args{"NewExternalIPAddress": v.externalText()}, nil
	},
	"AddPortMapping":              (*Server).addPortMapping,
	"AddAnyPortMapping":           (*Server).addPortMapping,
	"DeletePortMapping":           (*Server).deletePortMapping,
	"DeletePortMappingRange":      (*Server).deleteRange,
	"GetGenericPortMappingEntry":  (*Server).entryByIndex,
	"GetSpecificPortMappingEntry": (*Server).entryByKey,
	"GetListOfPortMappings":       (*Server).listEntries,
	"AddPinhole":                  (*Server).addPinhole,
	"UpdatePinhole":               (*Server).updatePinhole,
	"DeletePinhole":               (*Server).deletePinhole,
	"GetPinholePackets":           (*Server).pinholePackets,
}

// act does what a call asks for.
func (v *Server) act(ctx context.Context, c *igd.Call, client netip.Addr) (igd.Args, *igd.Fault) {
	do := actions[c.Action]
	if do == nil {
		return nil, igd.NewFault(igd.InvalidAction)
	}
	var p pending
	out, fault := v.locked(func() (igd.Args, *igd.Fault) {
		if v.setting == nil {
			return nil, igd.NewFault(igd.ActionFailed)
		}
		return do(v, &p, c, v.real(client))
	})
	switch {
	case p.decided != nil:
		return p.wait(ctx)
	case p.after != nil:
		return p.after()
	}
	return out, fault
}

// locked does something while nobody else does.
func (v *Server) locked(do func() (igd.Args, *igd.Fault)) (igd.Args, *igd.Fault) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	return do()
}

// refuses is what only an administrator does.
func refuses(*Server, *pending, *igd.Call, netip.Addr) (igd.Args, *igd.Fault) {
	return nil, igd.NewFault(igd.NotAuthorized)
}

func says(out igd.Args) action {
	return func(*Server, *pending, *igd.Call, netip.Addr) (igd.Args, *igd.Fault) { return out, nil }
}

// opensPinholes says, as a boolean of UPnP, whether some machine may open ways to its IPv6 address by it.
func (v *Server) opensPinholes() string {
	s := v.setting
	if s == nil || !s.address[header.IPv6].IsValid() {
		return "0"
	}
	for _, r := range s.policy.Rules {
		if r.Verb != network.Allow || len(r.By) > 0 && !slices.Contains(r.By, network.IGD) {
			continue
		}
		for _, in := range s.policy.On {
			if slices.ContainsFunc(in.Addresses, func(p netip.Prefix) bool { return p.Addr().Is6() }) && !r.From.In(in.Zone).Intersect(header.IPv6.All()).Empty() {
				return "1"
			}
		}
	}
	return "0"
}

// connectionService names the service that the gateway connects by (Layer3Forwarding:1, 2.2.1).
func (v *Server) connectionService() string {
	return fmt.Sprintf("uuid:%s:%s:2,%s", v.deviceOf().PartUUID(2), igd.WANConnectionDevice, igd.ConnectionID)
}

// status says whether the device has an outside address.
func (v *Server) status() string {
	if v.setting == nil || !v.setting.address[header.IPv4].IsValid() {
		return "Disconnected"
	}
	return "Connected"
}

func (v *Server) externalText() string {
	if v.status() != "Connected" {
		return ""
	}
	return v.setting.address[header.IPv4].String()
}

// faultOf returns the code of a refusal.
func faultOf(w *wish, no *refusal) *igd.Fault {
	switch no.reason {
	case noPort:
		return igd.NewFault(igd.Conflict)
	case noneLeft, tooMany, full:
		if w.machine.Is6() {
			return igd.NewFault(igd.PinholeSpaceExhausted)
		}
		return igd.NewFault(igd.NoPortMapsAvailable)
	case noExternal, failed:
		return igd.NewFault(igd.ActionFailed)
	}
	return igd.NewFault(igd.NotAuthorized)
}

// longestLease is what a lease of no end becomes, in seconds (WANIPConnection:2, 2.3.16).
const longestLease = 604800

// mostText is how many bytes a program may say of itself.
const mostText = 256

// port reads an argument that is a port.
func port(c *igd.Call, name string) (uint16, *igd.Fault) {
	n, err := strconv.ParseUint(c.Args[name], 10, 32)
	switch {
	case err != nil:
		return 0, igd.NewFault(igd.InvalidArgs)
	case n > math.MaxUint16:
		return 0, igd.NewFault(igd.ValueOutOfRange)
	}
	return uint16(n), nil
}

func seconds(c *igd.Call, name string) (uint32, *igd.Fault) {
	n, err := strconv.ParseUint(c.Args[name], 10, 32)
	if err != nil {
		return 0, igd.NewFault(igd.InvalidArgs)
	}
	return uint32(n), nil
}

func transport(c *igd.Call) (header.Protocol, *igd.Fault) {
	switch c.Args["NewProtocol"] {
	case "TCP":
		return header.TCP, nil
	case "UDP":
		return header.UDP, nil
	}
	return 0, igd.NewFault(igd.ValueInvalid)
}

// remote reads who may use a mapping: empty is everybody.
func remote(text string) ([]network.Sender, *igd.Fault) {
	if text == "" || text == "*" || text == "0.0.0.0" || text == "::" {
		return nil, nil
	}
	a, err := netip.ParseAddr(text)
	if err != nil || a.Zone() != "" {
		return nil, igd.NewFault(igd.ValueInvalid)
	}
	return []network.Sender{{From: netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen())}}, nil
}

// firstFault returns the first of some that is one.
func firstFault(list ...*igd.Fault) *igd.Fault {
	for _, f := range list {
		if f != nil {
			return f
		}
	}
	return nil
}

// addPortMapping is AddPortMapping, which gets the outside port that it asks for or none, and
// AddAnyPortMapping, which gets another one where that is taken.
func (v *Server) addPortMapping(p *pending, c *igd.Call, client netip.Addr) (igd.Args, *igd.Fault) {
	external, f1 := port(c, "NewExternalPort")
	internal, f2 := port(c, "NewInternalPort")
	protocol, f3 := transport(c)
	senders, f4 := remote(c.Args["NewRemoteHost"])
	lease, f5 := seconds(c, "NewLeaseDuration")
	if f := firstFault(f1, f2, f3, f4, f5); f != nil {
		return nil, f
	}
	machine, err := netip.ParseAddr(c.Args["NewInternalClient"])
	text := c.Args["NewPortMappingDescription"]
	exact := c.Action == "AddPortMapping"
	switch {
	case err != nil || !machine.Is4():
		return nil, igd.NewFault(igd.InvalidArgs)
	case external == 0 && exact:
		return nil, igd.NewFault(igd.WildcardPort)
	case internal == 0:
		return nil, igd.NewFault(igd.WildcardInternalPort)
	case len(text) > mostText || strings.ContainsFunc(text, unicode.IsControl):
		return nil, igd.NewFault(igd.StringTooLong)
	case c.Args["NewEnabled"] != "1" && !strings.EqualFold(c.Args["NewEnabled"], "true") && !strings.EqualFold(c.Args["NewEnabled"], "yes"):
		return nil, igd.NewFault(igd.ValueInvalid) // one that does nothing is none
	}
	if lease == 0 || lease > longestLease {
		lease = longestLease
	}
	w := &wish{
		again: true, by: network.IGD, asker: client, machine: v.real(machine), protocol: protocol, port: internal, outside: external, exact: exact,
		lifetime: time.Duration(lease) * time.Second, senders: senders, anew: true, text: text,
	}
	return v.wishOf(p, w, func(r *Record) igd.Args { return igd.Args{"NewReservedPort": fmt.Sprint(r.Outside.Port())} })
}

// wishOf grants a wish and puts it into force. Where an administrator has to decide, the answer is pending.
func (v *Server) wishOf(p *pending, w *wish, answer func(*Record) igd.Args) (igd.Args, *igd.Fault) {
	decided := make(chan decision, 1)
	w.later = func(e *entry, no *refusal) {
		d := decision{}
		if no != nil {
			d.fault = faultOf(w, no)
		} else {
			d.record = e.Record
		}
		select {
		case decided <- d:
		default:
		}
	}
	now := v.now()
	e, no := v.grant(w, now)
	switch {
	case no != nil && no.reason == undecided:
		p.decided, p.answer = decided, answer
		return nil, nil
	case no != nil:
		return nil, faultOf(w, no)
	}
	if err := v.flush(now); err != nil {
		return nil, igd.NewFault(igd.ActionFailed)
	}
	return answer(&e.Record), nil
}

// ofIGD returns the mappings of IPv4 that UPnP can tell of, by protocol and outside port: those of
// a client, or all.
func (v *Server) ofIGD(client netip.Addr, all bool) []*entry {
	var list []*entry
	for _, s := range v.table.slots {
		if e := s.forEverybody(); e != nil && e.Outside.Addr().Is4() && (all || e.Inside.Addr() == client) {
			list = append(list, e)
		}
	}
	slices.SortFunc(list, func(a, b *entry) int {
		if a.Outside.Port() != b.Outside.Port() {
			return int(a.Outside.Port()) - int(b.Outside.Port())
		}
		return int(a.Protocol) - int(b.Protocol)
	})
	return list
}

// keyed returns the mapping that the arguments of a call name. A client sees those of others only
// where it may ask for them.
func (v *Server) keyed(c *igd.Call, client netip.Addr) (*entry, *igd.Fault) {
	external, f1 := port(c, "NewExternalPort")
	protocol, f2 := transport(c)
	if f := firstFault(f1, f2); f != nil {
		return nil, f
	}
	s := v.table.slots[slotKey{netip.AddrPortFrom(v.setting.address[header.IPv4], external), protocol}]
	if s == nil || s.forEverybody() == nil || s.inside.Addr() != client && !v.mayAskFor(client, s.inside.Addr()) {
		return nil, igd.NewFault(igd.NoSuchEntry)
	}
	return s.forEverybody(), nil
}

// mayAskFor reports whether some rule lets a client ask for another machine.
func (v *Server) mayAskFor(client, machine netip.Addr) bool {
	for _, r := range v.setting.policy.Rules {
		zone := ""
		if in := v.setting.gateway.OutTo(client); in != nil {
			zone = in.Zone
		}
		if r.Verb == network.Allow && r.ForOthers && r.From.In(zone).Contains(client) && r.For.In(zone).Contains(machine) {
			return true
		}
	}
	return false
}

func (v *Server) deletePortMapping(_ *pending, c *igd.Call, client netip.Addr) (igd.Args, *igd.Fault) {
	e, f := v.keyed(c, client)
	if f != nil {
		return nil, f
	}
	if e.Owner != client || e.By != network.IGD {
		return nil, igd.NewFault(igd.NotAuthorized)
	}
	v.end(e, "taken away by its owner")
	return v.flushed()
}

func (v *Server) flushed() (igd.Args, *igd.Fault) {
	if err := v.flush(v.now()); err != nil {
		return nil, igd.NewFault(igd.ActionFailed)
	}
	return nil, nil
}

func (v *Server) deleteRange(_ *pending, c *igd.Call, client netip.Addr) (igd.Args, *igd.Fault) {
	first, last, protocol, f := portRange(c)
	if f != nil {
		return nil, f
	}
	gone := 0
	for _, e := range v.ofIGD(client, false) {
		if e.Protocol == protocol && first <= e.Outside.Port() && e.Outside.Port() <= last && e.Owner == client && e.By == network.IGD {
			v.end(e, "taken away by its owner")
			gone++
		}
	}
	if gone == 0 {
		return nil, igd.NewFault(igd.PortMappingNotFound)
	}
	return v.flushed()
}

func portRange(c *igd.Call) (first, last uint16, protocol header.Protocol, f *igd.Fault) {
	first, f1 := port(c, "NewStartPort")
	last, f2 := port(c, "NewEndPort")
	protocol, f3 := transport(c)
	if f = firstFault(f1, f2, f3); f == nil && first > last {
		f = igd.NewFault(igd.Inconsistent)
	}
	return first, last, protocol, f
}

// entryArgs are what is told of a mapping.
func (v *Server) entryArgs(e *entry, key bool) igd.Args {
	out := igd.Args{
		"NewInternalPort": fmt.Sprint(e.Inside.Port()), "NewInternalClient": e.Inside.Addr().String(), "NewEnabled": "1",
		"NewPortMappingDescription": e.Text, "NewLeaseDuration": fmt.Sprint(wholeSeconds(e.Until.Sub(v.now()))),
	}
	if key {
		out["NewRemoteHost"], out["NewExternalPort"], out["NewProtocol"] = remoteText(e), fmt.Sprint(e.Outside.Port()), strings.ToUpper(e.Protocol.String())
	}
	return out
}

func remoteText(e *entry) string {
	if len(e.Senders) == 1 && e.Senders[0].From.IsSingleIP() {
		return e.Senders[0].From.Addr().String()
	}
	return ""
}

func (v *Server) entryByIndex(_ *pending, c *igd.Call, client netip.Addr) (igd.Args, *igd.Fault) {
	n, f := port(c, "NewPortMappingIndex")
	if f != nil {
		return nil, f
	}
	list := v.ofIGD(client, false)
	if int(n) >= len(list) {
		return nil, igd.NewFault(igd.ArrayIndexInvalid)
	}
	return v.entryArgs(list[n], true), nil
}

func (v *Server) entryByKey(_ *pending, c *igd.Call, client netip.Addr) (igd.Args, *igd.Fault) {
	e, f := v.keyed(c, client)
	if f != nil {
		return nil, f
	}
	return v.entryArgs(e, false), nil
}

// mostEntries is how many mappings GetListOfPortMappings tells at once.
const mostEntries = 50

func (v *Server) listEntries(_ *pending, c *igd.Call, client netip.Addr) (igd.Args, *igd.Fault) {
	first, last, protocol, f1 := portRange(c)
	most, f2 := port(c, "NewNumberOfPorts")
	if f := firstFault(f1, f2); f != nil {
		return nil, f
	}
	if most == 0 || most > mostEntries {
		most = mostEntries
	}
	var list []igd.Listed
	for _, e := range v.ofIGD(client, false) {
		if e.Protocol == protocol && first <= e.Outside.Port() && e.Outside.Port() <= last && len(list) < int(most) {
			list = append(list, igd.Listed{RemoteHost: remoteText(e), External: e.Outside.Port(), Protocol: strings.ToUpper(e.Protocol.String()), Internal: e.Inside.Port(),
				Client: e.Inside.Addr().String(), Enabled: 1, Description: e.Text, Lease: wholeSeconds(e.Until.Sub(v.now()))})
		}
	}
	if len(list) == 0 {
		return nil, igd.NewFault(igd.PortMappingNotFound)
	}
	return igd.Args{"NewPortListing": string(igd.AppendListing(nil, list))}, nil
}

// addPinhole opens the way to an IPv6 address. A client of IPv4 asks for its own machine's address
// only by a rule that lets it ask for that.
func (v *Server) addPinhole(p *pending, c *igd.Call, client netip.Addr) (igd.Args, *igd.Fault) {
	internal, f1 := port(c, "InternalPort")
	from, f2 := port(c, "RemotePort")
	senders, f3 := remote(c.Args["RemoteHost"])
	lease, f4 := seconds(c, "LeaseTime")
	number, f5 := port(c, "Protocol")
	if f := firstFault(f1, f2, f3, f4, f5); f != nil {
		return nil, f
	}
	machine, err := netip.ParseAddr(c.Args["InternalClient"])
	switch {
	case err != nil || !machine.Is6() || machine.Is4In6() || machine.Zone() != "" || lease == 0 || lease > 86400: // 2.4.3: one second to one day
		return nil, igd.NewFault(igd.InvalidArgs)
	case number == 65535:
		return nil, igd.NewFault(igd.PinholeProtocolWildcard)
	case header.Protocol(number) != header.TCP && header.Protocol(number) != header.UDP:
		return nil, igd.NewFault(igd.PinholeProtocol)
	case internal == 0:
		return nil, igd.NewFault(igd.PinholePortWildcard)
	}
	if from != 0 {
		if senders == nil {
			senders = []network.Sender{{From: netip.PrefixFrom(netip.IPv6Unspecified(), 0)}}
		}
		senders[0].Port = from
	}
	w := &wish{
		again: true, by: network.IGD, asker: client, machine: machine, protocol: header.Protocol(number), port: internal, outside: internal,
		lifetime: time.Duration(lease) * time.Second, senders: senders, anew: true,
	}
	return v.wishOf(p, w, func(r *Record) igd.Args { return igd.Args{"UniqueID": fmt.Sprint(r.Number % 65536)} })
}

// pinhole returns the pinhole that a call names.
func (v *Server) pinhole(c *igd.Call, client netip.Addr) (*entry, *igd.Fault) {
	id, f := port(c, "UniqueID")
	if f != nil {
		return nil, f
	}
	for _, e := range v.table.numbers {
		if e.By == network.IGD && e.Inside.Addr().Is6() && uint16(e.Number) == id {
			if e.Owner != client {
				return nil, igd.NewFault(igd.NotAuthorized)
			}
			return e, nil
		}
	}
	return nil, igd.NewFault(igd.NoSuchPinhole)
}

func (v *Server) updatePinhole(p *pending, c *igd.Call, client netip.Addr) (igd.Args, *igd.Fault) {
	e, f1 := v.pinhole(c, client)
	lease, f2 := seconds(c, "NewLeaseTime")
	if f := firstFault(f1, f2); f != nil {
		return nil, f
	}
	if lease == 0 || lease > 86400 {
		return nil, igd.NewFault(igd.InvalidArgs)
	}
	w := &wish{again: true, by: network.IGD, asker: client, machine: e.Inside.Addr(), protocol: e.Protocol, port: e.Inside.Port(), outside: e.Outside.Port(), lifetime: time.Duration(lease) * time.Second, text: e.Text}
	return v.wishOf(p, w, func(*Record) igd.Args { return nil })
}

func (v *Server) deletePinhole(_ *pending, c *igd.Call, client netip.Addr) (igd.Args, *igd.Fault) {
	e, f := v.pinhole(c, client)
	if f != nil {
		return nil, f
	}
	v.end(e, "taken away by its owner")
	return v.flushed()
}

// pinholePackets says how many packets have come by a pinhole. The gateway counts them, and may look at all
// its sessions for that: nobody waits meanwhile.
func (v *Server) pinholePackets(p *pending, c *igd.Call, client netip.Addr) (igd.Args, *igd.Fault) {
	e, f := v.pinhole(c, client)
	if f != nil {
		return nil, f
	}
	name := network.MappingName(e.Protocol, e.Outside)
	p.after = func() (igd.Args, *igd.Fault) {
		count, err := v.options.Packets(name)
		if err != nil {
			v.options.Trouble(fmt.Errorf("mappings: %w", err))
			return nil, igd.NewFault(igd.ActionFailed)
		}
		return igd.Args{"PinholePackets": fmt.Sprint(uint32(count))}, nil
	}
	return nil, nil
}
