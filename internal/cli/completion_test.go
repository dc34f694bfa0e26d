package cli_test

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// What may come next is offered: commands, flags, their values, the names in the file.
func TestCompletionKnowsWhatMayComeNext(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", edge)
	write(t, folder, "other.yaml", strings.ReplaceAll(edge, "archive", "library"))
	write(t, folder, "broken.yaml", "network: [")
	for line, want := range map[string]string{
		"": "add apply", "tr": "trace", "none ": "", "trace ar": "archive", "trace archive rim:": "rim:fibre rim:yard", "trace archive rim:fibre htt": "http http-alt", "trace a b c ": "",
		"trace -f other.yaml ": "any internet library", "trace -f ": "", "trace -f broken.yaml arch": "", "trace -liv": "-live", "trace -json arch": "archive", "trace -sport 5 arch": "archive",
		"show ": "expectations gateways", "show rule ": "web", "show kernel ": "rim", "hits -gateway ": "rim", "log -outcome dro": "dropped", "log -rule w": "web",
		"mapping a": "add approve", "mapping add tcp/80 -by ": "nat-pmp pcp upnp-igd", "gateway rim -on ": "kernel simulated", "add port": "port-forward", "add port-forward x -on fi": "fibre",
		"remove w": "web", "move web be": "before", "lab i": "internet", "check -explain mappings-o": "mappings-open mappings-outside", "help comp": "compare completion", "completion f": "fish",
	} {
		r := run(t, folder, append([]string{"completion", "--"}, strings.Split(line, " ")...)...)
		got := strings.Join(strings.Fields(r.out), " ")
		if r.status != 0 || want == "" && got != "" || !strings.HasPrefix(got, want) {
			t.Errorf("%q: %q, not %q %s", line, got, want, r.err)
		}
	}
	if r := run(t, folder, "completion", "tcsh"); r.status != 2 || !strings.Contains(r.err, "bash, zsh or fish") {
		t.Error(r)
	}
}

// In the shells that this machine has, the scripts do what they are for.
func TestCompletionInShells(t *testing.T) {
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", edge)
	path := "PATH=" + filepath.Dir(program) + ":/usr/bin:/bin"
	for shell, script := range map[string]string{
		"bash": `source <(hollowbridge completion bash)
try() { COMP_LINE="$1" COMP_POINT=${#1} COMP_WORDBREAKS=$' \t\n:'; _hollowbridge; echo "${COMPREPLY[*]}"; }
try "hollowbridge trace arch"; try "hollowbridge trace archive rim:f"; try "hollowbridge show "`,
		"fish": `hollowbridge completion fish | source
complete -C "hollowbridge trace arch"; complete -C "hollowbridge trace archive rim:f" | string replace "rim:" ""; complete -C "hollowbridge show gat"`,
	} {
		at, err := exec.LookPath(shell)
		if err != nil {
			continue
		}
		c := exec.Command(at, "-c", script)
		c.Dir, c.Env = folder, []string{path, "HOME=" + folder}
		out, err := c.CombinedOutput()
		if lines := strings.Fields(string(out)); err != nil || len(lines) < 3 || lines[0] != "archive" || lines[1] != "fibre" || !strings.Contains(string(out), "gateways") {
			t.Errorf("%s: %v %s", shell, err, out)
		}
	}
}
