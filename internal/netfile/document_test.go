package netfile

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"go.yaml.in/yaml/v3"
)

// A text that is read with the words of its comments left out is read as it is: each node, where it is, and what is wrong.
func TestTextsAreReadAsTheyAre(t *testing.T) {
	pieces := []string{"# a\n", "# b: c\r\n", "#\n", "#d\u2028e: f\n", "a: b\n", "a: 'b\n", "b'\n", "a: \"b\n", "b\"\n", "a: |\n", "a: >-\n", "  # c\n", "  d\n", " d\n", "- a # b\n", "a: {b: c,\n", " d: e}\n", "---\n", "...\n", "\n", "# x\r", "\tq\n", "? a\n", ": b\n", "'#': 1\n"}
	random := rand.New(rand.NewPCG(26, 19))
	read, wrong, shortened := 0, 0, 0
	for range 30_000 {
		var b strings.Builder
		for range 1 + random.IntN(8) {
			b.WriteString(pieces[random.IntN(len(pieces))])
		}
		text := []byte(b.String())
		got, gotErr := decode(text)
		want, wantErr := decodeAll(text)
		if fmt.Sprint(gotErr) != fmt.Sprint(wantErr) || !reflect.DeepEqual(placed(got), placed(want)) {
			t.Fatalf("%q: %v, %v instead of %v, %v", text, placed(got), gotErr, placed(want), wantErr)
		}
		if wantErr != nil {
			wrong++
		} else {
			read++
		}
		if got != nil && gotErr == nil && strings.Contains(b.String(), "# a\n") && !strings.Contains(fmt.Sprintf("%+v", comments(got)), "# a") {
			shortened++
		}
	}
	if read < 1000 || wrong < 1000 || shortened < 300 {
		t.Errorf("only %d were read, %d wrong, %d shortened", read, wrong, shortened)
	}
}

// placed returns what a node and those in it say, and where.
func placed(n *yaml.Node) (list []string) {
	if n == nil {
		return nil
	}
	list = append(list, fmt.Sprint(n.Kind, n.Style, n.Tag, n.Line, n.Column, n.Value))
	for _, child := range n.Content {
		list = append(list, placed(child)...)
	}
	return list
}

func comments(n *yaml.Node) (list []string) {
	list = append(list, n.HeadComment, n.LineComment, n.FootComment)
	for _, child := range n.Content {
		list = append(list, comments(child)...)
	}
	return list
}
