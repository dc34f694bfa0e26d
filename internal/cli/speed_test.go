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

// An analysis that would need more memory than it may have says so, and the process has not taken much more. It is
// tried by check of a campus of 5,000 rules, whose groups are from all its zones.
func TestAnalysesKeepToTheirMemory(t *testing.T) {
	if !*large {
		t.Skip("it takes 2 GB and a minute: -large")
	}
	at := slices.IndexFunc(gen.Shapes(), func(s gen.Shape) bool { return s.Name == "campus" })
	command := exec.Command(program, "check")
	command.Dir = t.TempDir()
	write(t, command.Dir, "hollowbridge.yaml", gen.Shapes()[at].Network(5000))
	output, _ := command.CombinedOutput()
	most := command.ProcessState.SysUsage().(*syscall.Rusage).Maxrss / 1024
	fmt.Printf("check took %d MB: %s", most, output)
	if most > 3000 || command.ProcessState.ExitCode() == 2 && !strings.Contains(strings.Join(strings.Fields(string(output)), " "), "findings can't be told") {
		t.Errorf("%d MB, exit status %d", most, command.ProcessState.ExitCode())
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
