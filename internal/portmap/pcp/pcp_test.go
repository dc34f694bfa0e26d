package pcp_test

import (
	"bytes"
	"encoding/hex"
	"errors"
	"net/netip"
	"reflect"
	"strings"
	"testing"

	"hollowbridge/internal/portmap/pcp"
)

// bytesOf reads hexadecimal digits, whatever the spaces; what stands behind # is for people.
func bytesOf(t testing.TB, text string) []byte {
	t.Helper()
	var digits strings.Builder
	for line := range strings.Lines(text) {
		line, _, _ = strings.Cut(line, "#")
		digits.WriteString(strings.Join(strings.Fields(line), ""))
	}
	b, err := hex.DecodeString(digits.String())
	if err != nil {
		t.Fatal(err)
	}
	return b
}

var nonce = pcp.Nonce{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12}

const nonceBytes = "0102 0304 0506 0708 090a 0b0c"

// The vectors are written from the diagrams of RFC 6887: figures 2 and 3 (headers), 9 and 10 (MAP),
// 12 and 13 (PEER), and those of the options in chapter 13.
var requests = []struct {
	name    string
	bytes   string
	message pcp.Message
}{
	{"announce", `
		02 00 0000            # version 2, opcode 0
		00000000              # lifetime
		0000 0000 0000 0000 0000 ffff 0a3d 0834 # 10.61.8.52`,
		pcp.Message{Opcode: pcp.Announce, Client: netip.MustParseAddr("10.61.8.52")}},
	{"map with options", `
		02 01 0000
		00000e10              # 3600 s
		0000 0000 0000 0000 0000 ffff 0a3d 0834
		` + nonceBytes + `
		06 000000             # tcp
		4f60 1e61             # inside 20320, wished for 7777
		0000 0000 0000 0000 0000 ffff c633 6412 # 198.51.100.18
		01 00 0010            # THIRD_PARTY
		0000 0000 0000 0000 0000 ffff 0a3d 0835
		02 00 0000            # PREFER_FAILURE
		03 00 0014            # FILTER
		00 78 0050            # 96 + 24 bits, port 80
		0000 0000 0000 0000 0000 ffff cb00 7100`,
		pcp.Message{
			Opcode: pcp.Map, Lifetime: 3600, Client: netip.MustParseAddr("10.61.8.52"), Nonce: nonce, Protocol: 6, InternalPort: 20320, ExternalPort: 7777,
			External: netip.MustParseAddr("198.51.100.18"), Party: netip.MustParseAddr("10.61.8.53"), PreferFailure: true,
			Filters: []pcp.Filter{{From: netip.MustParsePrefix("203.0.113.0/24"), Port: 80}},
		}},
	{"peer over IPv6", `
		02 02 0000
		00000078
		2001 0db8 0061 0000 0000 0000 0000 0009
		` + nonceBytes + `
		11 000000             # udp
		03e8 0000
		0000 0000 0000 0000 0000 0000 0000 0000
		1388 0000             # the peer's port 5000
		2001 0db8 00f0 0000 0000 0000 0000 0001`,
		pcp.Message{
			Opcode: pcp.Peer, Lifetime: 120, Client: netip.MustParseAddr("2001:db8:61::9"), Nonce: nonce, Protocol: 17, InternalPort: 1000,
			External: netip.IPv6Unspecified(), PeerPort: 5000, Peer: netip.MustParseAddr("2001:db8:f0::1"),
		}},
}

func TestRequestsAreAsTheDiagramsHaveThem(t *testing.T) {
	for _, c := range requests {
		want := bytesOf(t, c.bytes)
		if got := c.message.Append(nil); !bytes.Equal(got, want) {
			t.Errorf("%s is written\n%x, not\n%x", c.name, got, want)
		}
		if got, err := pcp.ParseRequest(want); err != nil || !reflect.DeepEqual(*got, c.message) {
			t.Errorf("%s is read %+v, %v", c.name, got, err)
		}
		for n := range want { // none that breaks off is read as a whole one, and none is read beyond its end
			if got, err := pcp.ParseRequest(want[:n]); err == nil && reflect.DeepEqual(*got, c.message) {
				t.Errorf("%s: the first %d bytes are read as all", c.name, n)
			}
		}
	}
}

func TestAnswersAreAsTheDiagramsHaveThem(t *testing.T) {
	want := bytesOf(t, `
		02 81 00 00           # version 2, answer to opcode 1, success
		00000708              # 1800 s
		0001e240              # epoch 123456
		00000000 00000000 00000000
		`+nonceBytes+`
		06 000000
		4f60 4f61
		0000 0000 0000 0000 0000 ffff c633 6412`)
	m := pcp.Message{
		Opcode: pcp.Map, Response: true, Lifetime: 1800, Epoch: 123456, Nonce: nonce, Protocol: 6, InternalPort: 20320, ExternalPort: 20321, External: netip.MustParseAddr("198.51.100.18"),
	}
	if got := m.Append(nil); !bytes.Equal(got, want) {
		t.Errorf("it is written\n%x, not\n%x", got, want)
	}
	if got, err := pcp.ParseResponse(want); err != nil || !reflect.DeepEqual(*got, m) {
		t.Errorf("it is read %+v, %v", got, err)
	}
	// 8.2: a refusal is the request, with the answer's header.
	request := bytesOf(t, requests[1].bytes)
	refused := pcp.Refuse(request, pcp.NotAuthorized, 77)
	head := bytesOf(t, "02 81 00 02 00000708 0000004d 00000000 00000000 00000000")
	if !bytes.Equal(refused[:24], head) || !bytes.Equal(refused[24:], request[24:]) {
		t.Errorf("the refusal is %x", refused)
	}
	if got, err := pcp.ParseResponse(refused); err != nil || got.Result != pcp.NotAuthorized || got.Nonce != nonce || got.Lifetime != 1800 {
		t.Errorf("the refusal is read %+v, %v", got, err)
	}
	for _, c := range []struct{ request, want string }{
		{"02 01 00", "02 81 00 03 00000708 00000000" + strings.Repeat("00", 12)},
		{"07 05 0000 aa", "02 85 00 03 00000708 00000000" + strings.Repeat("00", 12)},
	} {
		if got := pcp.Refuse(bytesOf(t, c.request), pcp.MalformedRequest, 0); !bytes.Equal(got, bytesOf(t, c.want)) {
			t.Errorf("%s is refused with %x", c.request, got)
		}
	}
	if got := pcp.Refuse(make([]byte, 1400), pcp.MalformedRequest, 0); len(got) != pcp.MostSize {
		t.Errorf("a long one is refused with %d bytes", len(got))
	}
}

// Chapter 8.2 and 7.3, case by case.
func TestWhatIsNoRequestIsRefusedByItsCode(t *testing.T) {
	edit := func(text string, do func([]byte) []byte) []byte { return do(bytesOf(t, text)) }
	withMap := func(option string) []byte {
		m := requests[1].message
		m.Party, m.PreferFailure, m.Filters = netip.Addr{}, false, nil
		return append(m.Append(nil), bytesOf(t, option)...)
	}
	for _, c := range []struct {
		name string
		data []byte
		want error
	}{
		{"nothing", nil, pcp.ErrSilence},
		{"one byte", []byte{2}, pcp.ErrSilence},
		{"an answer", []byte{2, 0x81, 0, 0}, pcp.ErrSilence},
		{"another version", edit(requests[1].bytes, func(b []byte) []byte { b[0] = 3; return b }), &pcp.Refusal{Result: pcp.UnsupportedVersion}},
		{"another version that is short", []byte{1, 1}, &pcp.Refusal{Result: pcp.UnsupportedVersion}},
		{"a short header", []byte{2, 1, 0, 0}, pcp.ErrSilence},
		{"a header that lacks a byte", append([]byte{2, 1}, make([]byte, 21)...), pcp.ErrSilence},
		{"no multiple of four", edit(requests[0].bytes, func(b []byte) []byte { return append(b, 0) }), &pcp.Refusal{Result: pcp.MalformedRequest}},
		{"more than 1100 bytes", edit(requests[0].bytes, func(b []byte) []byte { return append(b, make([]byte, 1100)...) }), &pcp.Refusal{Result: pcp.MalformedRequest}},
		{"an unknown opcode", edit(requests[0].bytes, func(b []byte) []byte { b[1] = 9; return b }), &pcp.Refusal{Result: pcp.UnsupportedOpcode}},
		{"a short map", edit(requests[1].bytes, func(b []byte) []byte { return b[:56] }), &pcp.Refusal{Result: pcp.MalformedRequest}},
		{"an option that breaks off", withMap("01 00 0010 00000000"), &pcp.Refusal{Result: pcp.MalformedOption}},
		{"an option of a wrong length", withMap("02 00 0004 00000000"), &pcp.Refusal{Result: pcp.MalformedOption}},
		{"an option twice", withMap("02 00 0000 02 00 0000"), &pcp.Refusal{Result: pcp.MalformedOption}},
		{"an option that must be understood", withMap("40 00 0000"), &pcp.Refusal{Result: pcp.UnsupportedOption}},
		{"one that need not", withMap("c0 00 0003 01020300"), nil},
		{"a filter with too many bits", withMap("03 00 0014 00 81 0000" + strings.Repeat("00", 16)), &pcp.Refusal{Result: pcp.MalformedOption}},
		{"a filter of IPv4 with too few", withMap("03 00 0014 00 10 0000 0000 0000 0000 0000 0000 ffff cb00 7100"), &pcp.Refusal{Result: pcp.MalformedOption}},
		{"a filter for a peer", append(bytesOf(t, requests[2].bytes), bytesOf(t, "03 00 0014 00 80 0000"+strings.Repeat("00", 16))...), &pcp.Refusal{Result: pcp.MalformedOption}},
	} {
		_, err := pcp.ParseRequest(c.data)
		var got, want *pcp.Refusal
		switch {
		case errors.As(c.want, &want) && errors.As(err, &got) && got.Result == want.Result, errors.Is(err, c.want) && want == nil:
		default:
			t.Errorf("%s: %v, not %v", c.name, err, c.want)
		}
	}
}

// 8.5: how a client sees that a server has begun anew.
func TestEpochsTellWhetherMappingsAreLost(t *testing.T) {
	for _, c := range []struct {
		server []uint32
		client []int64
		lost   bool
	}{
		{[]uint32{100, 160}, []int64{0, 60}, false}, {[]uint32{100, 99}, []int64{0, 0}, false}, {[]uint32{100, 98}, []int64{0, 0}, true}, {[]uint32{100, 5}, []int64{0, 60}, true},
		{[]uint32{100, 1100}, []int64{0, 1060}, false}, {[]uint32{100, 1100}, []int64{0, 1080}, true}, {[]uint32{100, 1100}, []int64{0, 930}, true}, {[]uint32{5}, []int64{0}, false},
	} {
		var e pcp.Epochs
		lost := false
		for i := range c.server {
			lost = e.Lost(c.server[i], c.client[i])
		}
		if lost != c.lost {
			t.Errorf("%v at %v: %v", c.server, c.client, lost)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, c := range requests {
		f.Add(bytesOf(f, c.bytes))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := pcp.ParseRequest(data)
		if err == nil {
			again, err := pcp.ParseRequest(m.Append(nil))
			if len(m.Append(nil)) <= pcp.MostSize && (err != nil || !reflect.DeepEqual(m, again)) {
				t.Fatalf("%+v becomes %+v, %v", m, again, err)
			}
		}
		if len(data) >= 2 && len(pcp.Refuse(data, pcp.MalformedRequest, 1)) > pcp.MostSize {
			t.Fatal("a refusal that is too long")
		}
		pcp.ParseResponse(data)
	})
}
