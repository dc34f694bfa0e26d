package igd_test

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"strings"
	"testing"

	"hollowbridge/internal/portmap/igd"
)

// A call as a program of the trade sends it (UPnP Device Architecture, 3.2.1).
const add = `<?xml version="1.0"?>
<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/" s:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/">
<s:Body><u:AddPortMapping xmlns:u="urn:schemas-upnp-org:service:WANIPConnection:1">
<NewRemoteHost></NewRemoteHost><NewExternalPort>7777</NewExternalPort><NewProtocol>TCP</NewProtocol><NewInternalPort>20320</NewInternalPort>
<NewInternalClient>10.61.8.52</NewInternalClient><NewEnabled>1</NewEnabled><NewPortMappingDescription>a &amp; b</NewPortMappingDescription><NewLeaseDuration>3600</NewLeaseDuration>
</u:AddPortMapping></s:Body></s:Envelope>`

const addHeader = `"urn:schemas-upnp-org:service:WANIPConnection:1#AddPortMapping"`

func TestCallsAreReadAndWritten(t *testing.T) {
	want := igd.Args{
		"NewRemoteHost": "", "NewExternalPort": "7777", "NewProtocol": "TCP", "NewInternalPort": "20320", "NewInternalClient": "10.61.8.52", "NewEnabled": "1",
		"NewPortMappingDescription": "a & b", "NewLeaseDuration": "3600",
	}
	c, s, err := igd.ParseCall([]byte(add), addHeader)
	if err != nil || s.Kind != igd.WANIPConnection || c.Version != 1 || c.Action != "AddPortMapping" || !maps.Equal(c.Args, want) {
		t.Fatalf("%+v, %v", c, err)
	}
	again, _, err := igd.ParseCall(c.Append(nil), c.Header())
	if err != nil || !maps.Equal(again.Args, want) || c.Header() != addHeader {
		t.Errorf("%+v, %v, %s", again, err, c.Header())
	}
	get := igd.Call{Kind: igd.WANIPConnection, Version: 2, Action: "GetExternalIPAddress"}
	out, err := get.ParseAnswer(get.AppendAnswer(nil, igd.Args{"NewExternalIPAddress": "198.51.100.18"}))
	if err != nil || out["NewExternalIPAddress"] != "198.51.100.18" {
		t.Errorf("%v, %v", out, err)
	}
	_, err = get.ParseAnswer(igd.NewFault(igd.Conflict).Append(nil))
	var f *igd.Fault
	if !errors.As(err, &f) || f.Code != 718 || f.Description != "ConflictInMappingEntry" {
		t.Errorf("%v", err)
	}
}

func TestCallsThatTheDeviceHasNotAreFaults(t *testing.T) {
	for name, c := range map[string]struct {
		body, header string
		code         int
	}{
		"another header":    {add, `"urn:schemas-upnp-org:service:WANIPConnection:1#DeletePortMapping"`, igd.InvalidAction},
		"an unknown action": {strings.ReplaceAll(add, "AddPortMapping", "Reboot"), strings.ReplaceAll(addHeader, "AddPortMapping", "Reboot"), igd.InvalidAction},
		"a newer version":   {strings.ReplaceAll(add, "Connection:1", "Connection:3"), strings.ReplaceAll(addHeader, "Connection:1", "Connection:3"), igd.InvalidAction},
		"of version 2 only": {strings.ReplaceAll(add, "AddPortMapping", "AddAnyPortMapping"), strings.ReplaceAll(addHeader, "AddPortMapping", "AddAnyPortMapping"), igd.InvalidAction},
		"no port":           {strings.ReplaceAll(add, "<NewExternalPort>7777</NewExternalPort>", ""), addHeader, igd.InvalidArgs},
		"a port twice":      {strings.ReplaceAll(add, "<NewExternalPort>", "<NewExternalPort>1</NewExternalPort><NewExternalPort>"), addHeader, igd.InvalidArgs},
	} {
		_, _, err := igd.ParseCall([]byte(c.body), c.header)
		var f *igd.Fault
		if !errors.As(err, &f) || f.Code != c.code {
			t.Errorf("%s: %v, not %d", name, err, c.code)
		}
	}
}

// What a hostile client sends is an error, and costs no more than it is long.
func TestHostileXMLIsRefused(t *testing.T) {
	inBody := func(text string) string { return strings.Replace(add, "<s:Body>", "<s:Body>"+text, 1) }
	for name, text := range map[string]string{
		"entities":       `<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;&a;">]>` + strings.Replace(add, "a &amp; b", "&b;", 1),
		"an entity":      strings.Replace(add, "a &amp; b", "&secret;", 1),
		"a declaration":  strings.Replace(add, "<s:Envelope", "<!DOCTYPE s SYSTEM \"file:///etc/passwd\"><s:Envelope", 1),
		"an instruction": strings.Replace(add, "<s:Body>", "<?php x?><s:Body>", 1),
		"deep":           inBody(strings.Repeat("<a>", 100) + strings.Repeat("</a>", 100)),
		"many":           inBody(strings.Repeat("<a/>", 1000)),
		"a long value":   strings.Replace(add, "a &amp; b", strings.Repeat("x", 5000), 1),
		"too long":       add + strings.Repeat(" ", igd.MostCall),
		"two bodies":     inBody("<x/>"),
		"no envelope":    "<x/>",
		"breaks off":     add[:200],
		"nothing":        "",
		"two documents":  add + add[strings.Index(add, "<s:Envelope"):],
	} {
		if c, _, err := igd.ParseCall([]byte(text), addHeader); err == nil {
			t.Errorf("%s: %+v", name, c)
		}
	}
	if _, _, err := igd.ParseDescription([]byte(`<!DOCTYPE a [<!ENTITY b "c">]><root/>`)); err == nil {
		t.Error("a description may declare entities")
	}
}

// The descriptions are XML, lead to each other, and say what the device does.
func TestDescriptionsSayWhatThereIs(t *testing.T) {
	d := &igd.Device{UUID: "11111111-2222-8333-8444-555555555555", Name: "rim <&>", Serial: "rim"}
	for version := 1; version <= 2; version++ {
		text := d.Describe(version)
		wellFormed(t, text)
		_, list, err := igd.ParseDescription(text)
		if err != nil {
			t.Fatal(err)
		}
		kinds := map[string]int{}
		for _, c := range list {
			kinds[c.Kind] = c.Version
		}
		want := map[string]int{igd.Layer3Forwarding: 1, igd.WANCommonInterfaceConfig: 1, igd.WANIPConnection: version}
		if version == 2 {
			want[igd.WANIPv6FirewallControl] = 1
		}
		if !maps.Equal(kinds, want) {
			t.Errorf("version %d has %v", version, kinds)
		}
	}
	for _, s := range igd.Services {
		variables := map[string]bool{}
		for _, v := range s.Variables {
			variables[v.Name] = true
		}
		for _, a := range s.Actions {
			for _, arg := range append(a.In, a.Out...) {
				if !variables[arg.Variable] {
					t.Errorf("%s of %s is about %s, which is no variable of %s", arg.Name, a.Name, arg.Variable, s.Kind)
				}
			}
		}
		for version := 1; version <= s.Versions[1]; version++ {
			wellFormed(t, s.Describe(version))
		}
	}
	listing := igd.AppendListing(nil, []igd.Listed{{External: 1, Protocol: "TCP", Internal: 2, Client: "10.0.0.1", Description: "<x>", Lease: 3}})
	wellFormed(t, listing)
}

func wellFormed(t *testing.T, data []byte) {
	t.Helper()
	for d := xml.NewDecoder(strings.NewReader(string(data))); ; {
		if _, err := d.Token(); errors.Is(err, io.EOF) {
			return
		} else if err != nil {
			t.Fatal(fmt.Errorf("%w in %s", err, data))
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(add), addHeader)
	f.Add(igd.NewFault(501).Append(nil), "")
	f.Add((&igd.Device{UUID: strings.Repeat("0", 36)}).Describe(2), "")
	f.Fuzz(func(t *testing.T, data []byte, header string) {
		if c, _, err := igd.ParseCall(data, header); err == nil {
			again, _, err := igd.ParseCall(c.Append(nil), c.Header())
			if err != nil || again.Action != c.Action {
				t.Fatalf("%+v becomes %+v, %v", c, again, err)
			}
		}
		(&igd.Call{Kind: igd.WANIPConnection, Version: 2, Action: "GetExternalIPAddress"}).ParseAnswer(data)
		igd.ParseDescription(data)
	})
}
