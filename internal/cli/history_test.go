package cli

import (
	"testing"

	"hollowbridge/internal/netfile"
)

// The text of a revision has its lists, and is a network file still.
func TestTheTextOfARevisionHasItsLists(t *testing.T) {
	b := &netfile.Bundle{Text: "network: x", Lists: map[string]string{"fronts.txt": "203.0.113.0/24\r\n# ours\n192.0.2.7", "b.txt": ""}}
	const want = "network: x\n\n# b.txt\n\n# fronts.txt\n#   203.0.113.0/24\n#   # ours\n#   192.0.2.7\n"
	if got := withLists(b); got != want {
		t.Errorf("%q, want %q", got, want)
	}
}
