package ssdp_test

import (
	"strings"
	"testing"

	"hollowbridge/internal/portmap/ssdp"
)

// Messages as chapter 1 of the UPnP Device Architecture prints them.
func TestMessagesAreAsTheArchitecturePrintsThem(t *testing.T) {
	search := ssdp.Search{Target: "urn:schemas-upnp-org:device:InternetGatewayDevice:1", Wait: 2}
	want := "M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nMAN: \"ssdp:discover\"\r\nMX: 2\r\nST: urn:schemas-upnp-org:device:InternetGatewayDevice:1\r\n\r\n"
	if got := string(search.Append(nil, "239.255.255.250:1900")); got != want {
		t.Errorf("%q", got)
	}
	if got, err := ssdp.ParseSearch([]byte(want)); err != nil || got != search {
		t.Errorf("%+v, %v", got, err)
	}
	advert := ssdp.Advert{Target: ssdp.RootDevice, Name: "uuid:1::upnp:rootdevice", Location: "http://10.61.8.1:49152/igd2.xml", Server: "s", MaxAge: 1800, Boot: 7, NextBoot: 8}
	answer := string(advert.AppendResponse(nil))
	if !strings.HasPrefix(answer, "HTTP/1.1 200 OK\r\nCACHE-CONTROL: max-age=1800\r\nEXT:\r\nLOCATION: http://10.61.8.1:49152/igd2.xml\r\n") || !strings.HasSuffix(answer, "\r\n\r\n") {
		t.Errorf("%q", answer)
	}
	got, err := ssdp.ParseResponse([]byte(answer))
	if err != nil || got.Target != advert.Target || got.Name != advert.Name || got.Location != advert.Location {
		t.Errorf("%+v, %v", got, err)
	}
	for kind, has := range map[string][2]string{ssdp.Alive: {"NTS: ssdp:alive", "LOCATION"}, ssdp.Update: {"NEXTBOOTID.UPNP.ORG: 8", "LOCATION"}, ssdp.ByeBye: {"NTS: ssdp:byebye", "BOOTID"}} {
		text := string(advert.AppendNotify(nil, kind, "239.255.255.250:1900"))
		if !strings.Contains(text, has[0]) || !strings.Contains(text, has[1]) || kind == ssdp.ByeBye && strings.Contains(text, "LOCATION") {
			t.Errorf("%s: %q", kind, text)
		}
		if got, said, err := ssdp.ParseNotify([]byte(text)); err != nil || said != kind || got.Name != advert.Name {
			t.Errorf("%s: %+v %s %v", kind, got, said, err)
		}
	}
}

func TestWhatIsNoSearchGetsNoAnswer(t *testing.T) {
	for _, text := range []string{
		"", "GET / HTTP/1.1\r\n\r\n", "M-SEARCH * HTTP/1.1\r\nST: ssdp:all\r\n\r\n", "M-SEARCH * HTTP/1.1\r\nMAN: \"ssdp:discover\"\r\n\r\n",
		"M-SEARCH / HTTP/1.1\r\nMAN: \"ssdp:discover\"\r\nST: ssdp:all\r\n\r\n", "M-SEARCH * HTTP/1.1\r\nMAN: \"ssdp:discover\"\r\nST: ssdp:all\r\nMX: many\r\n\r\n",
		"M-SEARCH * HTTP/1.1\r\nMAN: \"ssdp:discover\"\r\nST: ssdp:all\r\nX: " + strings.Repeat("x", ssdp.MostSize) + "\r\n\r\n",
	} {
		if s, err := ssdp.ParseSearch([]byte(text)); err == nil {
			t.Errorf("%.60q is a search: %+v", text, s)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("M-SEARCH * HTTP/1.1\r\nMAN: \"ssdp:discover\"\r\nST: ssdp:all\r\nMX: 1\r\n\r\n"))
	f.Add([]byte("HTTP/1.1 200 OK\r\nST: a\r\nUSN: b\r\nLOCATION: c\r\n\r\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if s, err := ssdp.ParseSearch(data); err == nil && (s.Wait > 5 || strings.ContainsAny(s.Target, "\r\n")) {
			t.Fatalf("%+v", s)
		}
		ssdp.ParseResponse(data)
		ssdp.ParseNotify(data)
	})
}
