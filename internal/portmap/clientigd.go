package portmap

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/portmap/igd"
	"hollowbridge/internal/portmap/ssdp"
)

// A device is one that has answered a search.
type device struct {
	at       netip.Addr
	location string
	server   string
	control  []igd.Control
	base     *url.URL
	kind     string     // of the service that maps ports
	external netip.Addr // invalid where it has none
}

// searching is for how long devices may answer.
const searching = 2 * time.Second

// search searches for devices: the gateway's, or all.
func (c *Client) search(ctx context.Context, all bool) ([]*device, error) {
	config := net.ListenConfig{Control: func(_, _ string, conn syscall.RawConn) error {
		if !c.From.Is4() {
			return nil
		}
		var failure error
		err := conn.Control(func(fd uintptr) {
			failure = unix.SetsockoptInet4Addr(int(fd), unix.IPPROTO_IP, unix.IP_MULTICAST_IF, c.From.As4())
		})
		return errors.Join(err, failure)
	}}
	from, protocol, six := netip.IPv4Unspecified(), "udp4", c.Gateway.Is6()
	if six {
		from, protocol = netip.IPv6Unspecified(), "udp6"
	}
	if c.From.IsValid() && c.From.Is6() == six {
		from = c.From
	}
	packet, err := config.ListenPacket(ctx, protocol, netip.AddrPortFrom(from, 0).String())
	if err != nil {
		return nil, fmt.Errorf("%s: %w", network.IGD, err)
	}
	conn := packet.(*net.UDPConn)
	defer conn.Close()
	group := netip.AddrPortFrom(ssdp.Group4, c.Ports.SSDP)
	targets := []netip.AddrPort{group}
	switch {
	case six: // a multicast would need an interface, and who is asked is known
		group = netip.AddrPortFrom(ssdp.Group6, c.Ports.SSDP)
		targets = []netip.AddrPort{netip.AddrPortFrom(c.Gateway, c.Ports.SSDP)}
	case c.Gateway.Is4():
		targets = append(targets, netip.AddrPortFrom(c.Gateway, c.Ports.SSDP)) // where multicasts do not come through
	}
	for version := 1; version <= 2; version++ {
		for _, to := range targets {
			s := ssdp.Search{Target: igd.DeviceType(igd.GatewayDevice, version), Wait: 1}
			conn.WriteToUDPAddrPort(s.Append(nil, group.String()), to) // one that gets lost is followed by another
		}
	}
	until := time.Now().Add(searching)
	if limit, ok := ctx.Deadline(); ok && limit.Before(until) {
		until = limit
	}
	var found []*device
	data := make([]byte, ssdp.MostSize+1)
	for len(found) < 16 {
		conn.SetReadDeadline(until)
		n, from, err := conn.ReadFromUDPAddrPort(data)
		if errors.Is(err, syscall.ECONNREFUSED) {
			continue
		}
		if err != nil {
			break
		}
		a, err := ssdp.ParseResponse(data[:n])
		at := from.Addr().Unmap()
		if err != nil || !all && at != c.Gateway {
			continue
		}
		// Of a device of version 2 and 1, the description of the newer one is read.
		known := slices.IndexFunc(found, func(d *device) bool { return d.at == at })
		newer := strings.HasSuffix(a.Target, ":2")
		switch {
		case known < 0:
			found = append(found, &device{at: at, location: a.Location, server: a.Server})
		case newer:
			found[known].location = a.Location
		}
		if !all && newer {
			break
		}
	}
	if len(found) == 0 {
		return nil, &Unanswered{network.IGD, c.Gateway, false}
	}
	return found, nil
}

// web returns what calls a device: at its own address alone.
func (c *Client) web(at netip.Addr) *http.Client {
	dialer := &net.Dialer{Timeout: 3 * time.Second}
	if c.From.Is4() {
		dialer.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(c.From, 0))
	}
	return &http.Client{
		Timeout:       35 * time.Second, // an administrator may have to decide
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, protocol, to string) (net.Conn, error) {
			host, _, err := net.SplitHostPort(to)
			if a, bad := netip.ParseAddr(host); err != nil || bad != nil || a != at {
				return nil, fmt.Errorf("the device at %s leads to %s", at, to)
			}
			return dialer.DialContext(ctx, protocol, to)
		}},
	}
}

// describe reads where a device is called.
func (c *Client) describe(ctx context.Context, d *device) error {
	location, err := url.Parse(d.location)
	if err != nil || location.Scheme != "http" {
		return fmt.Errorf("%s: the device at %s names no place of its description", network.IGD, d.at)
	}
	data, _, err := c.fetch(ctx, d, http.MethodGet, location, "", nil, igd.MostDescription)
	if err != nil {
		return err
	}
	base, control, err := igd.ParseDescription(data)
	if err != nil {
		return fmt.Errorf("%s: the device at %s: %w", network.IGD, d.at, err)
	}
	d.control, d.base = control, location
	if base != "" {
		if u, err := url.Parse(base); err == nil {
			d.base = u
		}
	}
	return nil
}

func (c *Client) fetch(ctx context.Context, d *device, method string, at *url.URL, action string, body []byte, most int64) (data []byte, status int, err error) {
	r, err := http.NewRequestWithContext(ctx, method, at.String(), bytes.NewReader(body))
	if err != nil {
		return nil, 0, err
	}
	if action != "" {
		r.Header.Set("Content-Type", `text/xml; charset="utf-8"`)
		r.Header["SOAPACTION"] = []string{action}
	}
	answer, err := c.web(d.at).Do(r)
	if err != nil {
		return nil, 0, fmt.Errorf("%s: %w", network.IGD, err)
	}
	defer answer.Body.Close()
	data, err = io.ReadAll(io.LimitReader(answer.Body, most+1))
	if err == nil && int64(len(data)) > most {
		err = errors.New("an answer that is too long")
	}
	if err == nil && answer.StatusCode != http.StatusOK && answer.StatusCode != http.StatusInternalServerError {
		err = fmt.Errorf("it answers %s", answer.Status)
	}
	if err != nil {
		return nil, 0, fmt.Errorf("%s: the device at %s: %w", network.IGD, d.at, err)
	}
	return data, answer.StatusCode, nil
}

// adviceIGD is what to do about a fault.
var adviceIGD = map[int]string{
	igd.NotAuthorized: "its rules do not let this machine have it, or it is somebody else's; its administrator can tell with mapping try",
	igd.Conflict:      "that port is taken; ask for another one with -outside", igd.NoPortMapsAvailable: "it has no port left, or this machine has as many as it may have",
	igd.ActionFailed: "try again when its uplink is there", igd.NoSuchEntry: "this machine has no such mapping; mapping list shows those that it has",
	725: "it grants leases without an end only: ask with -for 365d", 726: "it opens ports for everybody only: ask without -only",
}

// call calls an action of a service of a device.
func (c *Client) call(ctx context.Context, d *device, kind, action string, args igd.Args) (igd.Args, error) {
	at := slices.IndexFunc(d.control, func(s igd.Control) bool { return s.Kind == kind })
	if at < 0 {
		return nil, fmt.Errorf("%s: the device at %s has no %s", network.IGD, d.at, kind)
	}
	where, err := d.base.Parse(d.control[at].URL)
	if err != nil {
		return nil, fmt.Errorf("%s: the device at %s: %w", network.IGD, d.at, err)
	}
	call := igd.Call{Kind: kind, Version: min(d.control[at].Version, 2), Action: action, Args: args}
	data, _, err := c.fetch(ctx, d, http.MethodPost, where, call.Header(), call.Append(nil), 128<<10)
	if err != nil {
		c.device = nil // it may be elsewhere the next time
		return nil, err
	}
	out, err := call.ParseAnswer(data)
	var fault *igd.Fault
	if errors.As(err, &fault) {
		return nil, &Denied{network.IGD, fault.Error(), adviceIGD[fault.Code], 0, fault.Code}
	}
	if err != nil {
		return nil, fmt.Errorf("%s: the device at %s: %w", network.IGD, d.at, err)
	}
	return out, nil
}

// gatewayDevice finds the gateway's device and reads how it is called, once.
func (c *Client) gatewayDevice(ctx context.Context) (*device, error) {
	if c.device != nil {
		return c.device, nil
	}
	list, err := c.search(ctx, false)
	if err != nil {
		return nil, err
	}
	if err := c.describe(ctx, list[0]); err != nil {
		return nil, err
	}
	c.device = list[0]
	return c.device, nil
}

// noAddress is the error of a device that has no outside address.
var noAddress = &Denied{By: network.IGD, Code: "no outside address", Advice: adviceIGD[igd.ActionFailed]}

// connect finds the service of a device that maps ports, the one that has an outside address where there are several.
func (c *Client) connect(ctx context.Context, d *device) (err error) {
	d.kind, d.external = "", netip.Addr{}
	for _, kind := range []string{igd.WANIPConnection, igd.WANPPPConnection} {
		if d.version(kind) == 0 {
			continue
		}
		if d.kind == "" {
			d.kind = kind
		}
		out, failure := c.call(ctx, d, kind, "GetExternalIPAddress", nil)
		if a, bad := netip.ParseAddr(out["NewExternalIPAddress"]); failure == nil && bad == nil && !a.IsUnspecified() {
			d.kind, d.external = kind, a
			return nil
		}
		var denied *Denied
		if failure != nil && !errors.As(failure, &denied) && err == nil {
			err = failure
		}
	}
	switch {
	case err != nil:
		return err
	case d.kind == "":
		return fmt.Errorf("%s: the device at %s maps no ports", network.IGD, d.at)
	}
	return noAddress
}

func (d *device) version(kind string) int {
	for _, s := range d.control {
		if s.Kind == kind {
			return s.Version
		}
	}
	return 0
}

// own returns this machine's address on the way to a device.
func (c *Client) own(d *device) (netip.Addr, error) {
	if c.From.IsValid() {
		return c.From, nil
	}
	conn, err := net.Dial("udp", netip.AddrPortFrom(d.at, c.Ports.SSDP).String()) // which sends nothing
	if err != nil {
		return netip.Addr{}, err
	}
	defer conn.Close()
	at, err := netip.ParseAddrPort(conn.LocalAddr().String())
	return at.Addr(), err
}

func (c *Client) addIGD(ctx context.Context, a Ask) (*Got, error) {
	if a.Peer.IsValid() || len(a.Only) > 1 || len(a.Only) == 1 && !a.Only[0].IsSingleIP() {
		return nil, fmt.Errorf("upnp-igd %w: it knows single senders only", ErrCannot)
	}
	d, err := c.gatewayDevice(ctx)
	if err != nil {
		return nil, err
	}
	machine := a.Machine
	if !machine.IsValid() {
		if machine, err = c.own(d); err != nil {
			return nil, err
		}
	}
	if machine.Is6() {
		return c.addPinhole(ctx, d, machine, a)
	}
	if err := c.connect(ctx, d); err != nil {
		return nil, err // before there is a mapping that nobody knows of
	}
	args := igd.Args{
		"NewRemoteHost": "", "NewExternalPort": strconv.Itoa(int(a.Outside)), "NewProtocol": strings.ToUpper(a.Protocol.String()), "NewInternalPort": strconv.Itoa(int(a.Port)),
		"NewInternalClient": machine.String(), "NewEnabled": "1", "NewPortMappingDescription": a.Text, "NewLeaseDuration": strconv.Itoa(int(a.Lifetime / time.Second)),
	}
	if a.Outside == 0 {
		args["NewExternalPort"] = strconv.Itoa(int(a.Port))
	}
	if len(a.Only) == 1 {
		args["NewRemoteHost"] = a.Only[0].Addr().String()
	}
	action := "AddPortMapping"
	if !a.Exact && d.kind == igd.WANIPConnection && d.version(d.kind) >= 2 {
		action = "AddAnyPortMapping"
	}
	out, err := c.addMapping(ctx, d, action, args, a.Outside == 0)
	if err != nil {
		return nil, err
	}
	port := args["NewExternalPort"]
	if out["NewReservedPort"] != "" {
		port = out["NewReservedPort"]
	}
	outside, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		c.call(ctx, d, d.kind, "DeletePortMapping", args) // what it was asked for, if anything: it has answered nonsense
		return nil, fmt.Errorf("%s: the device at %s: %q is no port", network.IGD, d.at, port)
	}
	lifetime := a.Lifetime
	entry, err := c.call(ctx, d, d.kind, "GetSpecificPortMappingEntry", igd.Args{"NewRemoteHost": args["NewRemoteHost"], "NewExternalPort": port, "NewProtocol": args["NewProtocol"]})
	if lease, bad := strconv.Atoi(entry["NewLeaseDuration"]); err == nil && bad == nil && lease > 0 { // it may be shorter than was asked for
		lifetime = time.Duration(lease) * time.Second
	}
	return &Got{By: network.IGD, Protocol: a.Protocol, Outside: netip.AddrPortFrom(d.external, uint16(outside)), Inside: netip.AddrPortFrom(machine, a.Port), Lifetime: lifetime}, nil
}

// addMapping asks a device for a mapping, where any port will do for others where it refuses one; args has the last one then.
func (c *Client) addMapping(ctx context.Context, d *device, action string, args igd.Args, any bool) (out igd.Args, err error) {
	for tries := 0; ; tries++ {
		out, err = c.call(ctx, d, d.kind, action, args)
		var denied *Denied
		if tries == mostPorts || !any || !errors.As(err, &denied) || denied.number != igd.Conflict {
			return out, err
		}
		args["NewExternalPort"] = strconv.Itoa(49152 + rand.IntN(65536-49152))
	}
}

// mostPorts is how many other ports are asked for where those before are taken.
const mostPorts = 8

func (c *Client) addPinhole(ctx context.Context, d *device, machine netip.Addr, a Ask) (*Got, error) {
	remote := ""
	if len(a.Only) == 1 {
		remote = a.Only[0].Addr().String()
	}
	lifetime := min(a.Lifetime, 24*time.Hour)
	out, err := c.call(ctx, d, igd.WANIPv6FirewallControl, "AddPinhole", igd.Args{
		"RemoteHost": remote, "RemotePort": "0", "InternalClient": machine.String(), "InternalPort": strconv.Itoa(int(a.Port)),
		"Protocol": strconv.Itoa(int(a.Protocol)), "LeaseTime": strconv.Itoa(int(lifetime / time.Second)),
	})
	if err != nil {
		return nil, err
	}
	at := netip.AddrPortFrom(machine, a.Port)
	return &Got{By: network.IGD, Protocol: a.Protocol, Outside: at, Inside: at, Lifetime: lifetime, Pinhole: out["UniqueID"]}, nil
}

func (c *Client) removeIGD(ctx context.Context, a Ask) error {
	d, err := c.gatewayDevice(ctx)
	if err != nil {
		return err
	}
	if a.Pinhole != "" {
		_, err := c.call(ctx, d, igd.WANIPv6FirewallControl, "DeletePinhole", igd.Args{"UniqueID": a.Pinhole})
		return err
	}
	if d.at.Is6() {
		return fmt.Errorf("upnp-igd %w: a way to an IPv6 address is taken away by its number, which whoever opened it was told", ErrCannot)
	}
	outside := a.Outside
	if outside == 0 {
		outside = a.Port
	}
	if d.kind == "" {
		if err := c.connect(ctx, d); err != nil && d.kind == "" {
			return err
		}
	}
	_, err = c.call(ctx, d, d.kind, "DeletePortMapping", igd.Args{"NewRemoteHost": "", "NewExternalPort": strconv.Itoa(int(outside)), "NewProtocol": strings.ToUpper(a.Protocol.String())})
	return err
}

func (c *Client) findIGD(ctx context.Context, all bool) ([]Found, error) {
	list, err := c.search(ctx, all)
	if err != nil {
		return nil, err
	}
	var found []Found
	for _, d := range list {
		f := Found{Gateway: d.at, By: network.IGD, Device: d.server}
		if err = c.describe(ctx, d); err == nil && c.connect(ctx, d) == nil { // without an address it is found all the same
			f.External = d.external
		}
		found = append(found, f)
	}
	return found, err
}

// mostListed is how many mappings are read from a device.
const mostListed = 1000

// List asks a gateway by UPnP, the only protocol that tells, which mappings it has as far as this
// machine may know.
func (c *Client) List(ctx context.Context) (list []Got, err error) {
	d, err := c.gatewayDevice(ctx)
	if err != nil {
		return nil, err
	}
	if err := c.connect(ctx, d); err != nil {
		return nil, err
	}
	for n := range mostListed {
		out, err := c.call(ctx, d, d.kind, "GetGenericPortMappingEntry", igd.Args{"NewPortMappingIndex": strconv.Itoa(n)})
		if err != nil {
			var denied *Denied
			if errors.As(err, &denied) { // there are no more
				break
			}
			return list, err
		}
		outside, err1 := strconv.ParseUint(out["NewExternalPort"], 10, 16)
		inside, err2 := strconv.ParseUint(out["NewInternalPort"], 10, 16)
		client, err3 := netip.ParseAddr(out["NewInternalClient"])
		lease, err4 := strconv.ParseUint(out["NewLeaseDuration"], 10, 32)
		if err := errors.Join(err1, err2, err3, err4); err != nil {
			return list, fmt.Errorf("%s: the device at %s lists a mapping that can't be: %w", network.IGD, d.at, err)
		}
		protocol := header.TCP
		if strings.EqualFold(out["NewProtocol"], "udp") {
			protocol = header.UDP
		}
		list = append(list, Got{
			By: network.IGD, Protocol: protocol, Outside: netip.AddrPortFrom(d.external, uint16(outside)), Inside: netip.AddrPortFrom(client, uint16(inside)),
			Lifetime: time.Duration(lease) * time.Second, Text: out["NewPortMappingDescription"],
		})
	}
	return list, nil
}
