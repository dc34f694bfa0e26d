package cli_test

import (
	"encoding/json"
	"strings"
	"testing"

	"hollowbridge/core/engine"
)

// Every outcome can be produced, says why, and says what an administrator can do.
func TestEveryOutcomeSaysWhatToDo(t *testing.T) {
	if testing.Short() {
		t.Skip("it asks much")
	}
	t.Parallel()
	demo := demoFolder(t)
	narrow, circle := t.TempDir(), t.TempDir()
	write(t, narrow, "hollowbridge.yaml", buildHouse("", `      - {source-nat: s, on: fibre, as: interface, ports: "40000"}`, ""))
	write(t, circle, "hollowbridge.yaml", strings.Replace(buildHouse("", webForward, webAllowed), "serves: [https, ssh]", "relays: [{listen: https, to: '127.0.0.1:443'}]", 1))
	met := map[string]bool{}
	for _, c := range []struct{ want, folder, trace, at, step string }{
		{"reached", demo, "fronts rim:fibre https", "archive", ""},
		{"dropped", demo, "internet rim:fibre https", "rim", "filter"},
		{"rejected", demo, "archive night-desk tcp/5900", "rim", "filter"},
		{"itself", demo, "internet rim:fibre http", "rim", "itself"},
		{"unrouted", demo, "night-desk 10.61.200.1 https", "rim", ""},
		{"absent", demo, "night-desk 10.61.8.200 https", "rim:staff", ""},
		{"refused", demo, "remote-observers rim:fibre tcp/2222", "archive", "host"},
		{"host-firewall", demo, "log-box night-desk http", "night-desk", "host"},
		{"upstream", demo, "internet rim:radio https", "the internet", ""},
		{"exhausted", narrow, `desk institute https -after "archive institute https"`, "rim", ""},
		{"unanswered", demo, "remote-observers rim:fibre tcp/8443", "keep", ""},
		{"loop", circle, "internet rim:fibre tcp/8443", "archive", ""},
	} {
		r := shell(t, c.folder, "hollowbridge trace -json "+c.trace)
		var got struct {
			Outcome, At, Next string
			Why               []string
			Steps             []struct {
				Step string
				Back bool
			}
		}
		if err := json.Unmarshal([]byte(r.out), &got); err != nil {
			t.Fatalf("%s: %v %s", c.want, err, r.err)
		}
		met[got.Outcome] = true
		stopped := c.want != "reached"
		if got.Outcome != c.want || got.At != c.at || stopped != (got.Next != "") || stopped != (len(got.Why) > 0) || stopped != (r.status == 1) {
			t.Errorf("%s: %+v, exit status %d", c.want, got, r.status)
		}
		last := "" // on the way in
		for _, s := range got.Steps {
			if !s.Back {
				last = s.Step
			}
		}
		if c.step != "" && last != c.step {
			t.Errorf("%s: the last step is %s, want %s", c.want, last, c.step)
		}
		plain := shell(t, c.folder, "hollowbridge trace "+c.trace)
		lines := strings.Split(strings.TrimSpace(plain.out), "\n")
		if !strings.HasPrefix(lines[len(lines)-1], c.want) {
			t.Errorf("%s: the answer is not last:\n%s", c.want, plain.out)
		}
		for _, line := range lines {
			if len([]rune(line)) > 100 {
				t.Errorf("wider than 100 columns: %s", line)
			}
		}
	}
	for _, o := range engine.Outcomes() {
		if !met[o.String()] {
			t.Errorf("%s was not produced", o)
		}
	}
}
