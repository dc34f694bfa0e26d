package portmap

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/portmap/igd"
	"hollowbridge/internal/portmap/natpmp"
	"hollowbridge/internal/portmap/pcp"
	"hollowbridge/internal/portmap/ssdp"
)

// listening returns a server that listens on loopback, and a client of it.
func listening(t *testing.T) (*bench, *Client) {
	t.Helper()
	var ports [3]uint16
	for i := range ports { // free ones, of this moment
		l, err := net.ListenPacket("udp4", "127.61.8.1:0")
		if err != nil {
			t.Skip(err)
		}
		defer l.Close()
		ports[i] = l.LocalAddr().(*net.UDPAddr).AddrPort().Port()
	}
	b := newBench(t, shop)
	b.Stop()
	b.Server = NewServer(b.options)
	b.options.Within, b.options.Loopback, b.options.Ports = nil, true, Ports{ports[0], ports[1], ports[2]}
	t.Cleanup(b.Stop)
	return b, &Client{Gateway: netip.MustParseAddr("127.61.8.1"), From: netip.MustParseAddr("127.61.8.52"), Ports: b.options.Ports, Secret: []byte("secret")}
}

// Each protocol, from a client's socket to the server's: found, granted, listed, taken away.
func TestClientsAndServersUnderstandEachOther(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for programs")
	}
	t.Parallel()
	b, c := listening(t)
	b.use(shop)
	ctx := context.Background()
	found, err := c.Find(ctx, "", false)
	if err != nil || len(found) != 3 {
		t.Fatalf("%+v, %v", found, err)
	}
	for _, f := range found {
		if f.By != network.PCP && f.External != netip.MustParseAddr("198.51.100.18") {
			t.Errorf("%+v", f)
		}
	}
	for i, by := range network.MappingProtocols {
		a := Ask{Protocol: header.UDP, Port: uint16(2000 + i), Outside: uint16(20000 + i), Lifetime: 10 * time.Minute, Text: "spectro's"}
		got, err := c.Add(ctx, by, a)
		if err != nil || got.By != by || got.Outside != netip.AddrPortFrom(netip.MustParseAddr("198.51.100.18"), a.Outside) || got.Inside.Port() != a.Port || got.Lifetime != 10*time.Minute {
			t.Errorf("%s: %+v, %v", by, got, err)
		}
	}
	list, err := c.List(ctx)
	if err != nil || len(list) != 3 || list[2].Text != "spectro's" || list[2].Outside.Port() != 20002 {
		t.Errorf("%+v, %v", list, err)
	}
	stranger := *c
	stranger.From, stranger.Secret = netip.MustParseAddr("127.61.8.53"), []byte("another")
	if list, err := stranger.List(ctx); err != nil || len(list) != 0 {
		t.Errorf("a stranger sees %+v, %v", list, err)
	}
	var denied *Denied
	if err := stranger.Remove(ctx, network.IGD, Ask{Protocol: header.UDP, Port: 2002, Outside: 20002}); !errors.As(err, &denied) {
		t.Errorf("a stranger takes it away: %v", err)
	}
	for i, by := range network.MappingProtocols {
		if err := c.Remove(ctx, by, Ask{Protocol: header.UDP, Port: uint16(2000 + i), Outside: uint16(20000 + i)}); err != nil {
			t.Errorf("%s: %v", by, err)
		}
	}
	if len(b.List()) != 0 {
		t.Errorf("%+v is left", b.List())
	}
	if _, err := c.Add(ctx, "", Ask{Protocol: header.TCP, Port: 22, Lifetime: time.Minute}); !errors.As(err, &denied) || !strings.Contains(err.Error(), `pcp: the gateway answers "not authorized"`) {
		t.Errorf("%v", err)
	}
	b.use(shop[:strings.Index(shop, "    mappings:")])
	var nobody *Unanswered
	if _, err := c.Add(ctx, network.NATPMP, Ask{Protocol: header.TCP, Port: 2000, Lifetime: time.Minute}); !errors.As(err, &nobody) || !nobody.Refused {
		t.Errorf("where nobody listens: %v", err)
	}
}

// caller calls the device as a client at some address, and returns what it answers.
type caller struct {
	t    *testing.T
	from string
	base string
}

func (c caller) do(method, path string, headers map[string]string, body string) (status int, answer string, got http.Header) {
	c.t.Helper()
	dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(c.from)}}
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true, DialContext: dialer.DialContext}}
	r, err := http.NewRequest(method, c.base+path, strings.NewReader(body))
	if err != nil {
		c.t.Fatal(err)
	}
	for key, value := range headers {
		if key == "Host" {
			r.Host = value
		}
		r.Header[key] = []string{value}
	}
	a, err := client.Do(r)
	if err != nil {
		return 0, err.Error(), nil
	}
	defer a.Body.Close()
	data, _ := io.ReadAll(a.Body)
	return a.StatusCode, string(data), a.Header
}

// call calls an action and returns its values, or the code of its fault.
func (c caller) call(kind, action string, version int, pairs ...string) (igd.Args, int) {
	c.t.Helper()
	call := igd.Call{Kind: kind, Version: version, Action: action, Args: igd.Args{}}
	for i := 0; i < len(pairs); i += 2 {
		call.Args[pairs[i]] = pairs[i+1]
	}
	path := map[string]string{igd.WANIPConnection: "/connection", igd.WANCommonInterfaceConfig: "/common", igd.WANIPv6FirewallControl: "/firewall"}[kind]
	_, answer, _ := c.do("POST", path, map[string]string{"SOAPACTION": call.Header()}, string(call.Append(nil)))
	out, err := call.ParseAnswer([]byte(answer))
	var f *igd.Fault
	if errors.As(err, &f) {
		return nil, f.Code
	}
	if err != nil {
		c.t.Fatalf("%s: %v: %s", action, err, answer)
	}
	return out, 0
}

func mappingArgs(client string, external, internal int, more ...string) []string {
	return append([]string{"NewRemoteHost", "", "NewExternalPort", fmt.Sprint(external), "NewProtocol", "TCP", "NewInternalPort", fmt.Sprint(internal), "NewInternalClient", client,
		"NewEnabled", "1", "NewPortMappingDescription", "x", "NewLeaseDuration", "600"}, more...)
}

// The actions, and the codes of their faults.
func TestTheDeviceDoesAsItsDescriptionSays(t *testing.T) {
	t.Parallel()
	b, client := listening(t)
	b.use(shop)
	base := fmt.Sprintf("http://127.61.8.1:%d", client.Ports.HTTP)
	own, other := caller{t, "127.61.8.52", base}, caller{t, "127.61.8.53", base}
	want := func(what string, code, is int) {
		t.Helper()
		if code != is {
			t.Errorf("%s: %d, not %d", what, code, is)
		}
	}
	get := func(action string, kind string) igd.Args {
		out, code := own.call(kind, action, 1)
		want(action, code, 0)
		return out
	}
	if out := get("GetExternalIPAddress", igd.WANIPConnection); out["NewExternalIPAddress"] != "198.51.100.18" {
		t.Errorf("%v", out)
	}
	if out := get("GetStatusInfo", igd.WANIPConnection); out["NewConnectionStatus"] != "Connected" {
		t.Errorf("%v", out)
	}
	get("GetConnectionTypeInfo", igd.WANIPConnection)
	get("GetNATRSIPStatus", igd.WANIPConnection)
	get("GetCommonLinkProperties", igd.WANCommonInterfaceConfig)
	get("GetFirewallStatus", igd.WANIPv6FirewallControl)
	_, code := own.call(igd.WANIPConnection, "ForceTermination", 1)
	want("only an administrator cuts it off", code, igd.NotAuthorized)
	key := []string{"NewRemoteHost", "", "NewExternalPort", "20001", "NewProtocol", "TCP"}
	_, code = own.call(igd.WANIPConnection, "AddPortMapping", 1, mappingArgs("127.61.8.52", 20001, 2000)...)
	want("granted", code, 0)
	_, code = own.call(igd.WANIPConnection, "AddPortMapping", 1, mappingArgs("127.61.8.52", 20001, 2001)...)
	want("its own is led elsewhere", code, 0)
	out, code := own.call(igd.WANIPConnection, "GetSpecificPortMappingEntry", 1, key...)
	if want("looked up", code, 0); out["NewInternalPort"] != "2001" || out["NewInternalClient"] != "10.61.8.52" {
		t.Errorf("%v", out)
	}
	b.mapping("10.61.8.52", header.TCP, 2002, 20010, 600, nil) // by PCP
	for what, c := range map[string]struct{ inside, code int }{"the rule is not for it": {500, igd.NotAuthorized}, "it is asked for by PCP": {2002, igd.NotAuthorized}} {
		_, code = own.call(igd.WANIPConnection, "AddPortMapping", 1, mappingArgs("127.61.8.52", 20001, c.inside)...)
		want("led elsewhere, but "+what, code, c.code)
		if out, code := own.call(igd.WANIPConnection, "GetSpecificPortMappingEntry", 1, key...); code != 0 || out["NewInternalPort"] != "2001" {
			t.Errorf("led elsewhere, but %s: it has %v, %d then", what, out, code)
		}
	}
	b.mapping("10.61.8.52", header.TCP, 2002, 0, 0, nil)
	_, code = other.call(igd.WANIPConnection, "GetSpecificPortMappingEntry", 1, key...)
	want("not by others", code, igd.NoSuchEntry)
	_, code = other.call(igd.WANIPConnection, "AddPortMapping", 1, mappingArgs("127.61.8.53", 20001, 2000)...)
	want("taken", code, igd.Conflict)
	out, code = other.call(igd.WANIPConnection, "AddAnyPortMapping", 2, mappingArgs("127.61.8.53", 20001, 2000)...)
	if want("taken, so another", code, 0); out["NewReservedPort"] != "20002" {
		t.Errorf("%v", out)
	}
	for what, c := range map[string]struct {
		args []string
		code int
	}{
		"for another machine": {mappingArgs("127.61.8.53", 20010, 2000), igd.NotAuthorized}, "the forward's port": {mappingArgs("127.61.8.52", 20005, 2000), igd.Conflict},
		"any port": {mappingArgs("127.61.8.52", 0, 2000), igd.WildcardPort}, "any inside port": {mappingArgs("127.61.8.52", 20010, 0), igd.WildcardInternalPort},
		"no port": {mappingArgs("127.61.8.52", 70000, 2000), igd.ValueOutOfRange}, "no address": {mappingArgs("spectro", 20010, 2000), igd.InvalidArgs},
		"a port that no rule is for": {mappingArgs("127.61.8.52", 80, 2000), igd.Conflict}, "disabled": {mappingArgs("127.61.8.52", 20010, 2000, "NewEnabled", "0"), igd.ValueInvalid},
		"another protocol": {mappingArgs("127.61.8.52", 20010, 2000, "NewProtocol", "SCTP"), igd.ValueInvalid}, "much to say": {mappingArgs("127.61.8.52", 20010, 2000, "NewPortMappingDescription", strings.Repeat("x", 300)), igd.StringTooLong},
		"a name": {mappingArgs("127.61.8.52", 20010, 2000, "NewRemoteHost", "evil.example"), igd.ValueInvalid},
	} {
		_, code := own.call(igd.WANIPConnection, "AddPortMapping", 1, c.args...)
		want(what, code, c.code)
	}
	out, code = own.call(igd.WANIPConnection, "GetListOfPortMappings", 2, "NewStartPort", "1", "NewEndPort", "65535", "NewProtocol", "TCP", "NewManage", "0", "NewNumberOfPorts", "0")
	if want("the list", code, 0); strings.Count(out["NewPortListing"], "<p:PortMappingEntry>") != 1 {
		t.Errorf("%v", out)
	}
	_, code = own.call(igd.WANIPConnection, "GetGenericPortMappingEntry", 1, "NewPortMappingIndex", "1")
	want("behind the last", code, igd.ArrayIndexInvalid)
	_, code = other.call(igd.WANIPConnection, "DeletePortMapping", 1, key...)
	want("taken away by another", code, igd.NoSuchEntry)
	_, code = own.call(igd.WANIPConnection, "DeletePortMappingRange", 2, "NewStartPort", "9", "NewEndPort", "1", "NewProtocol", "TCP", "NewManage", "0")
	want("a range backwards", code, igd.Inconsistent)
	_, code = own.call(igd.WANIPConnection, "DeletePortMappingRange", 2, "NewStartPort", "20000", "NewEndPort", "20019", "NewProtocol", "TCP", "NewManage", "0")
	want("a range taken away", code, 0)
	_, code = own.call(igd.WANIPConnection, "DeletePortMapping", 1, key...)
	want("it is gone", code, igd.NoSuchEntry)
	pinhole := func(args ...string) int {
		_, code := own.call(igd.WANIPv6FirewallControl, "AddPinhole", 1, append([]string{"RemoteHost", "", "RemotePort", "0", "InternalClient", "fd61:8::53", "InternalPort", "5001", "Protocol", "6", "LeaseTime", "600"}, args...)...)
		return code
	}
	want("a pinhole for another machine", pinhole(), igd.NotAuthorized)
	want("of every protocol", pinhole("Protocol", "65535"), igd.PinholeProtocolWildcard)
	want("of another", pinhole("Protocol", "47"), igd.PinholeProtocol)
	want("for every port", pinhole("InternalPort", "0"), igd.PinholePortWildcard)
	want("for ever", pinhole("LeaseTime", "0"), igd.InvalidArgs)
	_, code = own.call(igd.WANIPv6FirewallControl, "DeletePinhole", 1, "UniqueID", "77")
	want("no such pinhole", code, igd.NoSuchPinhole)
	for _, path := range []string{"/igd1.xml", "/igd2.xml", "/connection1.xml", "/connection2.xml", "/common1.xml", "/firewall1.xml"} {
		if status, text, _ := own.do("GET", path, nil, ""); status != 200 || !strings.HasPrefix(text, "<?xml") {
			t.Errorf("%s: %d %s", path, status, text)
		}
	}
}

// A pinhole for some senders is opened, prolonged for the same ones, and closed, by whoever asked
// for it alone.
func TestPinholesAreProlongedForTheSameSenders(t *testing.T) {
	t.Parallel()
	b, client := listening(t)
	b.use(strings.Replace(shop, "        - {drop: 10.61.8.50}\n", "        - {allow: 10.61.8.52, for: spectro, ports: 5000-5999, lifetime: 1h}\n", 1))
	base := fmt.Sprintf("http://127.61.8.1:%d", client.Ports.HTTP)
	own, other := caller{t, "127.61.8.52", base}, caller{t, "127.61.8.53", base}
	do := func(c caller, action string, code int, args ...string) igd.Args {
		t.Helper()
		out, got := c.call(igd.WANIPv6FirewallControl, action, 1, args...)
		if got != code {
			t.Errorf("%s: %d, not %d", action, got, code)
		}
		return out
	}
	held := func() *Record {
		b.mutex.Lock()
		defer b.mutex.Unlock()
		for _, e := range b.table.numbers {
			r := e.Record
			return &r
		}
		return nil
	}
	id := do(own, "AddPinhole", 0, "RemoteHost", "2001:db8:99::7", "RemotePort", "0", "InternalClient", "fd61:8::52", "InternalPort", "5001", "Protocol", "6", "LeaseTime", "600")["UniqueID"]
	first := held()
	if first == nil || first.Inside.String() != "[fd61:8::52]:5001" || first.Outside != first.Inside || len(first.Senders) != 1 || first.Senders[0].From.String() != "2001:db8:99::7/128" {
		t.Fatalf("%+v", first)
	}
	do(other, "UpdatePinhole", igd.NotAuthorized, "UniqueID", id, "NewLeaseTime", "1200")
	do(own, "UpdatePinhole", igd.InvalidArgs, "UniqueID", id, "NewLeaseTime", "0")
	do(own, "UpdatePinhole", igd.NoSuchPinhole, "UniqueID", "77", "NewLeaseTime", "1200")
	do(own, "UpdatePinhole", 0, "UniqueID", id, "NewLeaseTime", "1200")
	if longer := held(); longer.Number != first.Number || !slices.Equal(longer.Senders, first.Senders) || !longer.Until.After(first.Until.Add(9*time.Minute)) {
		t.Errorf("%+v\nwas %+v", longer, first)
	}
	do(other, "GetPinholePackets", igd.NotAuthorized, "UniqueID", id)
	do(own, "GetPinholePackets", igd.NoSuchPinhole, "UniqueID", "77")
	if counted := do(own, "GetPinholePackets", 0, "UniqueID", id)["PinholePackets"]; counted != fmt.Sprint(len(network.MappingName(first.Protocol, first.Outside))) {
		t.Errorf("%s packets", counted)
	}
	do(other, "DeletePinhole", igd.NotAuthorized, "UniqueID", id)
	do(own, "DeletePinhole", 0, "UniqueID", id)
	if left := held(); left != nil {
		t.Errorf("left is %+v", left)
	}
}

// What a hostile client or a page in somebody's browser sends to the device does nothing.
func TestTheDeviceIsNotMisused(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for programs")
	}
	t.Parallel()
	b, client := listening(t)
	b.use(shop)
	base := fmt.Sprintf("http://127.61.8.1:%d", client.Ports.HTTP)
	own := caller{t, "127.61.8.52", base}
	for what, c := range map[string]struct {
		from, host string
		status     int
	}{
		"from inside": {"127.61.8.52", "", 200}, "from outside": {"127.0.0.1", "", 403}, "by another name": {"127.61.8.52", "router.example", 403}, "by another address": {"127.61.8.52", "127.61.8.2", 403},
	} {
		headers := map[string]string{}
		if c.host != "" {
			headers["Host"] = c.host
		}
		if status, _, _ := (caller{t, c.from, base}).do("GET", "/igd2.xml", headers, ""); status != c.status {
			t.Errorf("%s: %d", what, status)
		}
	}
	if status, _, _ := own.do("POST", "/connection", map[string]string{"SOAPACTION": "x"}, strings.Repeat("x", 1<<20)); status != 413 && status != 0 {
		t.Errorf("a long call: %d", status)
	}
	if status, _, _ := own.do("POST", "/connection", map[string]string{"SOAPACTION": "x"}, `<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>`); status != 400 {
		t.Errorf("entities: %d", status)
	}
	// Those who send slowly are cut off, and hold nobody else up.
	var slow []net.Conn
	for range 20 {
		conn, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP("127.61.8.60")}}).Dial("tcp", base[len("http://"):])
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		fmt.Fprintf(conn, "POST /connection HTTP/1.1\r\nHost: x\r\nX: ")
		slow = append(slow, conn)
	}
	if status, _, _ := own.do("GET", "/igd2.xml", nil, ""); status != 200 {
		t.Errorf("beside slow clients: %d", status)
	}
	slow[0].SetReadDeadline(time.Now().Add(3 * slowestRequest))
	if _, err := io.ReadAll(slow[0]); errors.Is(err, context.DeadlineExceeded) || err != nil && strings.Contains(err.Error(), "timeout") {
		t.Errorf("a slow client is not cut off: %v", err)
	}
	subscribe := func(c caller, callback string) int {
		status, _, _ := c.do("SUBSCRIBE", "/connection/events", map[string]string{"Callback": callback, "Nt": "upnp:event", "Timeout": "Second-300"}, "")
		return status
	}
	for _, callback := range []string{"<http://192.0.2.1/>", "<http://127.61.8.53:9/>", "<http://localhost/>", "<ftp://127.61.8.52/>", "<http://x@127.61.8.52/>", "http://127.61.8.52/", ""} {
		if status := subscribe(own, callback); status != 412 {
			t.Errorf("subscribed to %q: %d", callback, status)
		}
	}
	l, err := net.Listen("tcp4", "127.61.8.52:0")
	if err != nil {
		t.Skip(err)
	}
	defer l.Close()
	go http.Serve(l, http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	for n := range mostSubscriptionsOf + 2 {
		if status := subscribe(own, "<http://"+l.Addr().String()+"/>"); status != 200 && n < mostSubscriptionsOf || status == 200 && n >= mostSubscriptionsOf {
			t.Errorf("subscription %d: %d", n, status)
		}
	}
}

// A subscriber is told what there is, and what changes.
func TestSubscribersAreTold(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for programs")
	}
	t.Parallel()
	b, client := listening(t)
	b.use(shop)
	l, err := net.Listen("tcp4", "127.61.8.52:0")
	if err != nil {
		t.Skip(err)
	}
	defer l.Close()
	told := make(chan string, 10)
	go http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		data, _ := io.ReadAll(r.Body)
		told <- r.Method + " " + r.Header.Get("Seq") + " " + string(data)
	}))
	own := caller{t, "127.61.8.52", fmt.Sprintf("http://127.61.8.1:%d", client.Ports.HTTP)}
	status, _, headers := own.do("SUBSCRIBE", "/connection/events", map[string]string{"Callback": "<http://" + l.Addr().String() + "/e>", "Nt": "upnp:event"}, "")
	if status != 200 || headers.Get("Sid") == "" {
		t.Fatal(status, headers)
	}
	next := func(parts ...string) {
		t.Helper()
		select {
		case text := <-told:
			for _, part := range parts {
				if !strings.Contains(text, part) {
					t.Errorf("%q is missing in %s", part, text)
				}
			}
		case <-time.After(5 * time.Second):
			t.Fatal("nobody is told")
		}
	}
	next("NOTIFY 0 ", "<PortMappingNumberOfEntries>0<", "<ExternalIPAddress>198.51.100.18<")
	own.call(igd.WANIPConnection, "AddPortMapping", 1, mappingArgs("127.61.8.52", 20001, 2000)...)
	next("NOTIFY 1 ", "<PortMappingNumberOfEntries>1<")
	sid := headers.Get("Sid")
	if status, _, _ := own.do("SUBSCRIBE", "/connection/events", map[string]string{"Sid": sid}, ""); status != 200 {
		t.Errorf("renewed: %d", status)
	}
	if status, _, _ := (caller{t, "127.61.8.53", own.base}).do("UNSUBSCRIBE", "/connection/events", map[string]string{"Sid": sid}, ""); status != 412 {
		t.Errorf("ended by another: %d", status)
	}
	if status, _, _ := own.do("UNSUBSCRIBE", "/connection/events", map[string]string{"Sid": sid}, ""); status != 200 {
		t.Errorf("ended: %d", status)
	}
}

// The device says that it is there and that it goes, and answers searches for each of its parts.
func TestTheDeviceIsFound(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for programs")
	}
	t.Parallel()
	b, client := listening(t)
	group, err := groupSocket(&point{address: client.From, index: 1}, client.Ports.SSDP)
	if err != nil {
		t.Skip(err)
	}
	defer group.Close()
	heard := func(kind string, least int) {
		t.Helper()
		seen := map[string]bool{}
		data := make([]byte, ssdp.MostSize)
		for len(seen) < least {
			group.SetReadDeadline(time.Now().Add(3 * time.Second))
			n, _, err := group.ReadFromUDPAddrPort(data)
			if err != nil {
				t.Errorf("%s is said of %d parts: %v", kind, len(seen), err)
				return
			}
			if a, said, err := ssdp.ParseNotify(data[:n]); err == nil && said == kind {
				seen[a.Name] = true
			}
		}
	}
	b.use(shop)
	heard(ssdp.Alive, len(b.advertised()))
	search := func(target, to string, wait int) int {
		conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.ParseIP("127.61.8.52")})
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		s := ssdp.Search{Target: target, Wait: wait}
		conn.WriteToUDP(s.Append(nil, "239.255.255.250:1900"), &net.UDPAddr{IP: net.ParseIP(to), Port: int(client.Ports.SSDP)})
		answers := 0
		for data := make([]byte, ssdp.MostSize); ; answers++ {
			conn.SetReadDeadline(time.Now().Add(300*time.Millisecond + time.Duration(wait)*time.Second))
			n, err := conn.Read(data)
			if err != nil {
				return answers
			}
			if a, err := ssdp.ParseResponse(data[:n]); err != nil || !bytes.Contains(data[:n], []byte("LOCATION: http://127.61.8.1:")) {
				t.Errorf("%+v, %v", a, err)
			}
		}
	}
	b.mutex.Lock()
	b.updated()
	b.mutex.Unlock()
	heard(ssdp.Update, len(b.advertised()))
	for target, want := range map[string]int{
		ssdp.RootDevice: 1, "urn:schemas-upnp-org:device:InternetGatewayDevice:1": 1, "urn:schemas-upnp-org:service:WANIPConnection:2": 1,
		"urn:schemas-upnp-org:service:WANIPConnection:1": 1, "urn:schemas-upnp-org:device:Printer:1": 0, ssdp.All: len(b.advertised()),
	} {
		if got := search(target, "127.61.8.1", 0); got != want {
			t.Errorf("%s: %d answers, not %d", target, got, want)
		}
	}
	for wait, want := range []int{0, 1} { // one to all that says no time is none
		if got := search(ssdp.RootDevice, ssdp.Group4.String(), wait); got != want {
			t.Errorf("to all, with %d s: %d answers", wait, got)
		}
	}
	b.use(shop[:strings.Index(shop, "    mappings:")])
	heard(ssdp.ByeBye, len(b.advertised()))
}

// Notices of a gateway that has begun anew are told from those of one that has not.
func TestNoticesSayWhatIsLost(t *testing.T) {
	got := &Got{By: network.PCP, Epoch: 1000, Outside: netip.MustParseAddrPort("198.51.100.18:20001")}
	announce := func(epoch uint32) []byte {
		return (&pcp.Message{Opcode: pcp.Announce, Response: true, Epoch: epoch}).Append(nil)
	}
	address := func(epoch uint32, a string) []byte {
		return (&natpmp.Response{Opcode: natpmp.ExternalAddress, Epoch: epoch, External: netip.MustParseAddr(a)}).Append(nil)
	}
	for i, c := range []struct {
		notice []byte
		lost   bool
	}{{announce(1060), false}, {announce(3), true}, {address(1060, "198.51.100.18"), false}, {address(1060, "198.51.100.19"), true}, {address(2, "198.51.100.18"), true}, {[]byte("x"), false}} {
		if isLost(got, c.notice, 60) != c.lost {
			t.Errorf("notice %d: %v", i, !c.lost)
		}
	}
}

func TestRequestsAreRepeatedAsTheRFCsHaveIt(t *testing.T) {
	var all []time.Duration
	for wait := range scheduleNATPMP.waits {
		all = append(all, wait)
	}
	if len(all) != 9 || all[0] != 250*time.Millisecond || all[8] != 64*time.Second {
		t.Errorf("%v", all)
	}
	next, n := 3*time.Second, 0
	for wait := range schedulePCP.waits {
		if wait < next*9/10 || wait > next*11/10 {
			t.Errorf("time %d: %v, not about %v", n, wait, next)
		}
		if next = min(2*next, 1024*time.Second); n == 20 {
			break
		}
		n++
	}
}

// All hosts hear of the epoch and the outside address at the start, again and again, and when the
// address is another.
func TestHostsAreToldWhatHasChanged(t *testing.T) {
	t.Parallel()
	b, client := listening(t)
	hears := func(epoch uint32, address string) <-chan struct{} {
		held := &atomic.Pointer[Got]{}
		held.Store(&Got{By: network.PCP, Epoch: epoch, At: time.Now(), Outside: netip.AddrPortFrom(netip.MustParseAddr(address), 1), Inside: netip.AddrPortFrom(client.From, 1)})
		return client.Lost(t.Context(), held)
	}
	lost := hears(1000, "198.51.100.18")
	b.use(shop)
	for range 2 { // it is said again
		select {
		case <-lost:
		case <-time.After(5 * time.Second):
			t.Fatal("a client does not hear that the gateway has begun")
		}
	}
	changed := hears(0, "198.51.100.18")
	b.mutex.Lock()
	b.options.External = func(*network.Interface, header.Family) (netip.Addr, bool) {
		return netip.MustParseAddr("198.51.100.20"), true
	}
	b.refresh(b.now())
	b.mutex.Unlock()
	select {
	case <-changed:
	case <-time.After(5 * time.Second):
		t.Fatal("a client does not hear that the address is another")
	}
}

func TestWithoutAnOutsideAddressNothingIsGranted(t *testing.T) {
	b := newBench(t, shop)
	b.mutex.Lock()
	b.options.External = func(*network.Interface, header.Family) (a netip.Addr, ok bool) { return a, false }
	b.mutex.Unlock()
	b.use(shop)
	b.wantPCP("PCP", b.mapping("10.61.8.52", header.TCP, 2000, 0, 600, nil), pcp.NetworkFailure, 0, 0)
	for _, r := range []natpmp.Request{{}, {Opcode: natpmp.MapTCP, Port: 2000, Lifetime: 600}} {
		if got, err := natpmp.ParseResponse(b.ask("10.61.8.52", r.Append(nil))); err != nil || got.Result != natpmp.NetworkFailure {
			t.Errorf("%+v, %v", got, err)
		}
	}
}
