package words_test

import (
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

// Files that someone has torn apart and put together wrongly are read or refused,
// and what is read can be traced; nothing panics.
func TestTornFilesAreReadOrRefused(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many networks")
	}
	data, err := os.ReadFile("../../examples/fernhollow/hollowbridge.yaml")
	if err != nil {
		t.Fatal(err)
	}
	whole := strings.Split(strings.ReplaceAll(string(data), "{file: fronts.txt}", "[203.0.113.16/30, '2001:db8:f0::/64']"), "\n")
	vocabulary := strings.FieldsFunc(string(data), func(r rune) bool { return strings.ContainsRune(" ,[]{}\n", r) })
	read := 0
	for seed := range netfiletest.Few(uint64(2500), 1400) {
		random := rand.New(rand.NewPCG(seed, 5))
		lines := append([]string{}, whole...)
		for range 1 + random.IntN(3) {
			i, j := random.IntN(len(lines)), random.IntN(len(lines))
			switch random.IntN(4) {
			case 0:
				lines = append(lines[:i], lines[i+1:]...)
			case 1:
				lines[i], lines[j] = lines[j], lines[i]
			case 2:
				lines = append(lines[:i+1], append([]string{lines[j]}, lines[i+1:]...)...)
			default:
				parts := strings.Split(lines[i], " ")
				parts[random.IntN(len(parts))] = vocabulary[random.IntN(len(vocabulary))]
				lines[i] = strings.Join(parts, " ")
			}
		}
		text := strings.Join(lines, "\n")
		n, err := netfile.Parse("torn.yaml", []byte(text))
		if (n == nil) == (err == nil) {
			t.Fatalf("seed %d: neither a network nor an error, or both: %v\n%s", seed, err, text)
		}
		if n == nil {
			continue
		}
		read++
		e := walk.Compile(n, nil)
		slow := &reference{n: n, met: map[string]int{}}
		for range 20 {
			c, ok := netfiletest.AnyConnection(random, e, n)
			if !ok {
				continue
			}
			if got, want := netfiletest.Describe(e.NewWalk().Verdict(c)), describeReference(slow.run(c, false)); got != want {
				t.Fatalf("seed %d: %s -> %s\n engine    %s\n reference %s\n%s", seed, c.Packet.From(), c.Packet.To(), got, want, text)
			}
			words.TraceOf(e.NewWalk(), c)
		}
	}
	if read < 100 {
		t.Errorf("only %d of the torn files could be read", read)
	}
}
