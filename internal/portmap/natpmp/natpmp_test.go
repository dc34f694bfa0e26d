package natpmp_test

import (
	"bytes"
	"encoding/hex"
	"errors"
	"net/netip"
	"strings"
	"testing"

	"hollowbridge/internal/portmap/natpmp"
)

func bytesOf(t testing.TB, text string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// The vectors are written from the diagrams of RFC 6886, 3.2 and 3.3.
func TestMessagesAreAsTheDiagramsHaveThem(t *testing.T) {
	for bytesText, want := range map[string]natpmp.Request{
		"00 00":                         {},
		"00 01 0000 4f60 1e61 00000e10": {Opcode: natpmp.MapUDP, Port: 20320, Wished: 7777, Lifetime: 3600},
		"00 02 0000 4f60 0000 00000000": {Opcode: natpmp.MapTCP, Port: 20320},
	} {
		data := bytesOf(t, bytesText)
		if got := want.Append(nil); !bytes.Equal(got, data) {
			t.Errorf("%+v is written %x", want, got)
		}
		if got, err := natpmp.ParseRequest(data); err != nil || got != want {
			t.Errorf("%s is read %+v, %v", bytesText, got, err)
		}
	}
	for bytesText, want := range map[string]natpmp.Response{
		"00 80 0000 0001e240 c6336412":           {Opcode: natpmp.ExternalAddress, Epoch: 123456, External: netip.MustParseAddr("198.51.100.18")},
		"00 81 0000 0001e240 4f60 1e61 00000e10": {Opcode: natpmp.MapUDP, Epoch: 123456, Port: 20320, Mapped: 7777, Lifetime: 3600},
		"00 82 0002 0001e240 4f60 0000 00000000": {Opcode: natpmp.MapTCP, Epoch: 123456, Port: 20320, Result: natpmp.NotAuthorized},
	} {
		data := bytesOf(t, bytesText)
		if got := want.Append(nil); !bytes.Equal(got, data) {
			t.Errorf("%+v is written %x", want, got)
		}
		if got, err := natpmp.ParseResponse(data); err != nil || got != want {
			t.Errorf("%s is read %+v, %v", bytesText, got, err)
		}
	}
}

// 3.5, and what gets no answer at all.
func TestWhatIsNoRequestIsRefusedByItsCode(t *testing.T) {
	for text, want := range map[string]natpmp.Result{"02 01 0000": natpmp.UnsupportedVersion, "00 05": natpmp.UnsupportedOpcode, "01 00": natpmp.UnsupportedVersion} {
		_, err := natpmp.ParseRequest(bytesOf(t, text))
		var no *natpmp.Refusal
		if !errors.As(err, &no) || no.Result != want {
			t.Errorf("%s: %v, not %v", text, err, want)
		}
	}
	for _, text := range []string{"", "00", "00 80", "00 81 0000", "00 01 0000 4f60"} {
		if _, err := natpmp.ParseRequest(bytesOf(t, text)); !errors.Is(err, natpmp.ErrSilence) {
			t.Errorf("%q: %v", text, err)
		}
	}
	if got := natpmp.Refuse(bytesOf(t, "00 05"), natpmp.UnsupportedOpcode, 9); !bytes.Equal(got, bytesOf(t, "00 85 0005 00000009")) {
		t.Errorf("an unknown opcode is refused with %x", got)
	}
	if got := natpmp.Refuse(bytesOf(t, "00 02 0000 4f60 0000 00000e10"), natpmp.OutOfResources, 9); !bytes.Equal(got, bytesOf(t, "00 82 0004 00000009 4f60 0000 00000000")) {
		t.Errorf("a mapping is refused with %x", got)
	}
}

// 3.6: seven eighths of the client's time must have gone by at the server.
func TestLostEpochsAreSeen(t *testing.T) {
	for _, c := range []struct {
		before, now uint32
		apart       int64
		lost        bool
	}{{1000, 1100, 100, false}, {1000, 1086, 100, false}, {1000, 1084, 100, true}, {1000, 3, 10, true}, {1000, 999, 0, false}} {
		if got := natpmp.Lost(c.before, c.now, c.apart); got != c.lost {
			t.Errorf("%+v: %v", c, got)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte{0, 1, 0, 0, 1, 2, 3, 4, 0, 0, 0, 9})
	f.Add([]byte{0, 128, 0, 0, 1, 2, 3, 4, 9, 9, 9, 9})
	f.Fuzz(func(t *testing.T, data []byte) {
		if r, err := natpmp.ParseRequest(data); err == nil {
			if again, err := natpmp.ParseRequest(r.Append(nil)); err != nil || again != r {
				t.Fatalf("%+v becomes %+v, %v", r, again, err)
			}
		}
		if len(data) >= 2 {
			natpmp.Refuse(data, natpmp.OutOfResources, 1)
		}
		natpmp.ParseResponse(data)
	})
}
