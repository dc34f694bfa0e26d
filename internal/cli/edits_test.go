package cli

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
)

// Edits as they are printed are read back as they were, whatever is in them, also over several lines.
func TestEditsAreReadAsTheyArePrinted(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1))
	letters := []rune("ab-:/,. '\"\\#&|$[]{}äß=")
	word := func() string {
		var b strings.Builder
		for range 1 + random.IntN(8) {
			b.WriteRune(letters[random.IntN(len(letters))])
		}
		return b.String()
	}
	c := &call{Environment: &Environment{Width: 60}}
	for range 3000 {
		var list network.Edits
		var want [][]string
		for range 1 + random.IntN(3) {
			edit := network.Edit{Verb: network.Change, Kind: "allow", Name: "n", Settings: []network.Setting{{Key: "note", Value: word()}, {Key: "to", Value: word()}}}
			list = append(list, edit)
			want = append(want, []string{"hollowbridge", "change", "allow", "n", "note=" + edit.Settings[0].Value, "to=" + edit.Settings[1].Value})
		}
		for _, text := range []string{netfile.Commands(list), "  " + netfile.Commands(list) + "   # for people"} {
			if strings.Contains(text, "\\ ") || strings.HasSuffix(strings.TrimSpace(text), "\\") {
				continue // a backslash in quotes at the end of a line
			}
			got, err := editLines(strings.NewReader(text + "\n"))
			if err != nil {
				t.Fatalf("%s: %v", text, err)
			}
			if len(got) != len(want) {
				t.Fatalf("%s: %d edits, not %d", text, len(got), len(want))
			}
			for i := range got {
				if !slices.Equal(got[i].words, want[i]) {
					t.Fatalf("%s\nis read as %q,\nnot %q", text, got[i].words, want[i])
				}
			}
		}
	}
	text := c.commandText("hollowbridge change allow archive-web -gateway rim from=fronts,internet 'note=a longer word in quotes' && hollowbridge disable allow other", 4)
	got, err := editLines(strings.NewReader(text))
	if err != nil || len(got) != 2 || len(got[0].words) != 8 || got[1].number != 1 {
		t.Errorf("%s\nis read as %v, %v", text, got, err)
	}
}

// Lines that are wrong are errors, with their number, and none makes the program fall.
func FuzzEditLines(f *testing.F) {
	for _, text := range []string{"add allow x", "a 'b", "a \"b\\\"c\" && d", "&& a", "a && && b", "a \\", "# only words", "a\\\nb", "\"\"", "'", "\\"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		list, err := editLines(strings.NewReader(text))
		if err != nil {
			return
		}
		for _, line := range list {
			if len(line.words) == 0 || line.number < 1 || line.number > strings.Count(text, "\n")+1 {
				t.Errorf("%q: %+v", text, line)
			}
		}
	})
}
