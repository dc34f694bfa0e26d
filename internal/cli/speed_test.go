package cli_test

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"hollowbridge/internal/gen"
)

var rules = flag.Int("rules", 10_000, "how many NAT rules, and as many filter rules, the large networks have")

// Whole processes on large networks of every shape, with reading the file and printing; compare is given
// the file and another in which one filter rule does the opposite.
func BenchmarkLargeNetworks(b *testing.B) {
	for _, shape := range gen.Shapes() {
		folder := b.TempDir()
		text := shape.Network(*rules)
		for name, text := range map[string]string{"hollowbridge.yaml": text, "new.yaml": otherwise(text)} {
			if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600); err != nil {
				b.Fatal(err)
			}
		}
		for _, line := range []string{"trace 203.0.113.7 198.18.1.2 tcp/7", "reach", "compare hollowbridge.yaml new.yaml", "check"} {
			args := strings.Fields(line)
			b.Run(strings.ReplaceAll(shape.Name, " ", "-")+"/"+args[0], func(b *testing.B) {
				var most int64
				for range b.N {
					command := exec.Command(program, args...)
					command.Dir, command.Env = folder, []string{"HOME=" + folder}
					output, err := command.CombinedOutput()
					if command.ProcessState.ExitCode() == 2 { // there would be more to say than it can
						b.Skipf("%.2000s", output)
					}
					if err != nil && !command.ProcessState.Exited() {
						b.Fatalf("%v\n%.2000s", err, output)
					}
					most = max(most, command.ProcessState.SysUsage().(*syscall.Rusage).Maxrss)
				}
				b.ReportMetric(float64(most)/1024, "MB")
			})
		}
	}
}

var large = flag.Bool("large", false, "whether analyses that outgrow their memory are tried")

// An analysis that would need more memory than it may have says so, and the process has not taken much more; what
// an answer takes follows the size of the file.
func TestAnalysesKeepToTheirMemory(t *testing.T) {
	if !*large {
		t.Skip("it takes 3 GB and some minutes: -large")
	}
	at := slices.IndexFunc(gen.Shapes(), func(s gen.Shape) bool { return s.Name == "campus" })
	var members strings.Builder
	for i := range 3_000_000 {
		fmt.Fprintf(&members, "%d.%d.%d.%d\n", 20+i%150, i*7%256, i/150%256, i/38400*2)
	}
	for _, test := range []struct {
		question, network, members string
		most                       int64 // MB
		answers                    bool
	}{
		{"check", gen.Shapes()[at].Network(5000), "", 3000, false}, // its groups are from all its zones
		{"reach", gen.Large(1, 100_000), "", 3000, true},
		{"check", `network: many
groups: {many: {file: members.txt}}
gateways:
  rim:
    interfaces: {fibre: {address: 198.51.100.18/29, zone: outside}, yard: {address: 10.61.24.1/28, zone: yard}}
    routes: [{to: default, via: 198.51.100.17}]
    filter: [{allow: web, from: many, to: yard, service: https}]
`, members.String(), 2000, true},
	} {
		command := exec.Command(program, test.question)
		command.Dir = t.TempDir()
		write(t, command.Dir, "hollowbridge.yaml", test.network)
		write(t, command.Dir, "members.txt", test.members)
		output, _ := command.CombinedOutput()
		most := command.ProcessState.SysUsage().(*syscall.Rusage).Maxrss / 1024
		last := string(output[max(0, len(output)-300):])
		fmt.Printf("%s took %d MB: %s\n", test.question, most, last)
		refused := strings.Contains(strings.Join(strings.Fields(last), " "), "findings can't be told")
		if most > test.most || command.ProcessState.ExitCode() == 2 && (test.answers || !refused) {
			t.Errorf("%d MB, exit status %d", most, command.ProcessState.ExitCode())
		}
	}
}

// otherwise returns a network whose middle filter rule does the opposite.
func otherwise(text string) string {
	at := strings.Index(text, ": r0,")
	middle := at + (len(text)-at)/2
	before, after := text[:middle], text[middle:]
	allow, drop := strings.Index(after, "{allow: r"), strings.Index(after, "{drop: r")
	if drop < 0 || allow >= 0 && allow < drop {
		return before + strings.Replace(after, "{allow: r", "{drop: r", 1)
	}
	return before + strings.Replace(after, "{drop: r", "{allow: r", 1)
}
