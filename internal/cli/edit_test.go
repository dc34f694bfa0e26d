package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

func read(t *testing.T, folder string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(folder, "hollowbridge.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// must runs a line that has to succeed.
func must(t *testing.T, folder, line string) result {
	t.Helper()
	r := shell(t, folder, line)
	if r.status != 0 {
		t.Fatalf("%s: %d\n%s%s", line, r.status, r.out, r.err)
	}
	return r
}

// The smallest example is what the commands of the README make.
func TestCottageIsBuiltByCommandsAlone(t *testing.T) {
	folder := t.TempDir()
	for _, line := range []string{
		"hollowbridge init cottage -outside fibre=198.51.100.18/29 -via 198.51.100.17 -inside yard=10.61.24.1/28",
		"hollowbridge add host archive -address 10.61.24.5 -serves https",
		"hollowbridge add port-forward archive-web -on fibre -service https -to archive -allow",
	} {
		must(t, folder, line)
	}
	wantIn(t, must(t, folder, "hollowbridge trace internet rim:fibre https").out, "reached archive")
	example, err := os.ReadFile("../../examples/cottage/hollowbridge.yaml")
	if err != nil {
		t.Fatal(err)
	}
	other := t.TempDir()
	write(t, other, "hollowbridge.yaml", string(example))
	if a, b := must(t, folder, "hollowbridge show"), must(t, other, "hollowbridge show"); withoutLines(a.out) != withoutLines(b.out) {
		t.Errorf("built:\n%s\nexample:\n%s", a.out, b.out)
	}
}

// withoutLines drops line numbers, which comments move.
func withoutLines(text string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' || r == ' ' {
			return -1
		}
		return r
	}, text)
}

const edited = `# what a house needs
network: house   # its name

hosts:
  # the archive
  archive: {address: 10.61.24.5, serves: [https, ssh]}   # in the yard
  desk:
    address: 10.61.8.40
    # its screen
    serves: [rfb]

gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      yard: {address: 10.61.24.1/28, zone: yard}
      staff: {address: 10.61.8.1/24, zone: staff}
    routes:
    - {to: default, via: 198.51.100.17}
    nat:
    # first of all
    - port-forward: web
      on: fibre     # the uplink
      service: https
      to: archive

    - {port-forward: shell, on: fibre, service: tcp/2222, to: 'archive:22', note: "a, b"}
    # everybody
    - source-nat: out
      on: fibre
      as: interface
    filter: [{allow: web, from: outside, to: archive, service: [https, ssh]}, {allow: inside, from: [yard, staff]}]
`

// Each edit changes the lines it is about and nothing else.
func TestEditsTouchOnlyWhatTheyAreAbout(t *testing.T) {
	if testing.Short() {
		t.Skip("it makes many edits")
	}
	t.Parallel()
	for _, c := range []struct{ line, old, new string }{
		{"change port-forward web on=outside", "on: fibre     # the uplink", "on: outside     # the uplink"},
		{"change port-forward web service=https,ssh", "service: https\n      to: archive\n", "service: [https, ssh]\n      to: archive\n"},
		{"change port-forward web service=tcp/80,443", "service: https\n      to: archive\n", "service: tcp/80,443\n      to: archive\n"},
		{"change shell to=archive:23", "'archive:22'", "archive:23"},
		{"change shell note=", `, note: "a, b"`, ""},
		{"change shell port-forward=shelf", "shell", "shelf"},
		{`change shell note="x: y # z"`, `"a, b"`, `"x: y # z"`},
		{"change allow inside from=any", "from: [yard, staff]", "from: any"},
		{"change desk address=10.61.8.41", "10.61.8.40", "10.61.8.41"},
		{"change desk serves=", "    # its screen\n    serves: [rfb]\n", "    # its screen\n"},
		{"change host archive serves=https", "[https, ssh]}   # in", "https}   # in"},
		{"disable port-forward web", "to: archive\n\n", "to: archive\n      disabled: true\n\n"},
		{"disable shell", `note: "a, b"}`, `note: "a, b", disabled: true}`},
		{"enable shell", "", ""},
		{"remove shell", "    - {port-forward: shell, on: fibre, service: tcp/2222, to: 'archive:22', note: \"a, b\"}\n", ""},
		{"remove port-forward web", "    # first of all\n    - port-forward: web\n      on: fibre     # the uplink\n      service: https\n      to: archive\n", ""},
		{"remove allow web", "{allow: web, from: outside, to: archive, service: [https, ssh]}, ", ""},
		{"remove allow inside", ", {allow: inside, from: [yard, staff]}", ""},
		{"remove desk", "  desk:\n    address: 10.61.8.40\n    # its screen\n    serves: [rfb]\n", ""},
		{"add host cup -address 10.61.8.44", "    serves: [rfb]\n", "    serves: [rfb]\n  cup: {address: 10.61.8.44}\n"},
		{"add drop bad -from 192.0.2.0/24", "from: [yard, staff]}]", "from: [yard, staff]}, {drop: bad, from: 192.0.2.0/24}]"},
		{"add drop bad -from 192.0.2.0/24 -before web", "filter: [", "filter: [{drop: bad, from: 192.0.2.0/24}, "},
		{"add no-nat kept -to 10.0.0.0/8 -before out", "    # everybody\n", "    - no-nat: kept\n      to: 10.0.0.0/8\n    # everybody\n"},
		{"add no-nat kept -to 10.0.0.0/8 -after web", "      to: archive\n", "      to: archive\n    - no-nat: kept\n      to: 10.0.0.0/8\n"},
		{"add one-to-one both -on fibre -outside 198.51.100.20 -inside archive -hairpin", "    filter", "    - one-to-one: both\n      on: fibre\n      outside: 198.51.100.20\n      inside: archive\n      hairpin: true\n    filter"},
		{"add prefix-nat six -on fibre -outside 2001:db8:9::/64 -inside fd00:9::/64", "    filter", "    - prefix-nat: six\n      on: fibre\n      outside: 2001:db8:9::/64\n      inside: fd00:9::/64\n    filter"},
		{`add destination-nat lapsed -on staff -to desk -when "sat,sun 22:00-06:00"`, "    filter", "    - destination-nat: lapsed\n      on: staff\n      to: desk\n      when: {days: \"sat,sun\", hours: 22:00-06:00}\n    filter"},
		{"add group fronts 192.0.2.0/24 fd00::/8", "gateways:", "groups:\n  fronts: [192.0.2.0/24, \"fd00::/8\"]\n\ngateways:"},
		{"add service beacon tcp/80,443", "gateways:", "services:\n  beacon: \"tcp/80,443\"\n\ngateways:"},
		{`move out before web`, "", ""},
	} {
		t.Run(c.line, func(t *testing.T) {
			folder := t.TempDir()
			write(t, folder, "hollowbridge.yaml", edited)
			dry := must(t, folder, "hollowbridge "+c.line+" -dry-run")
			if read(t, folder) != edited {
				t.Fatal("a dry run has written")
			}
			r := must(t, folder, "hollowbridge "+c.line)
			want := strings.Replace(edited, c.old, c.new, 1)
			if strings.HasPrefix(c.line, "move") {
				want = movedOut
			}
			if got := read(t, folder); got != want {
				t.Errorf("got\n%s\nwant\n%s", got, want)
			}
			if a, b := strings.TrimSpace(r.out), strings.TrimSpace(dry.out); c.old != "" && a[:strings.LastIndex(a, "\n")] != b[:strings.LastIndex(b, "\n")] {
				t.Errorf("the dry run says\n%s\nthe edit\n%s", b, a)
			}
		})
	}
}

var movedOut = strings.Replace(strings.Replace(edited, "    # everybody\n    - source-nat: out\n      on: fibre\n      as: interface\n", "", 1),
	"    # first of all\n", "    # everybody\n    - source-nat: out\n      on: fibre\n      as: interface\n    # first of all\n", 1)

// There and back gives the same file again, for every rule of the demo.
func TestEditsCanBeTakenBack(t *testing.T) {
	if testing.Short() {
		t.Skip("it makes many edits")
	}
	t.Parallel()
	folder := demoFolder(t)
	before := read(t, folder)
	for _, pair := range [][2]string{
		{"move camera after everyone-out", "move camera after night-desk"},
		{"move drop not-the-fronts before archive-web", "move drop not-the-fronts after archive-web"},
		{"move weather-test before visitors-web", "move weather-test after yard-to-staff"},
		{"disable weather-page", "enable weather-page"},
		{"disable reach-partner", "enable reach-partner"},
		{"add host easel -address 10.61.8.99", "remove easel"},
		{"add group lenders 192.0.2.9", "remove lenders"},
		{"add service beacon tcp/7000", "remove beacon"},
		{"add drop bad -gateway mill -from any", "remove bad"},
		{"add no-nat own -gateway mill -from any", "remove own"},
		{"add no-nat own -gateway rim -from any -after vpn-as-is", "remove own"},
		{"change port-forward weather-page note=x", "change weather-page note="},
		{"change reject yard-to-staff reject=yard-staff", "change yard-staff reject=yard-to-staff"},
	} {
		first := pair[0]
		if strings.HasPrefix(first, "move camera") {
			first = strings.Replace(first, "camera", "port-forward camera", 1)
			pair[1] = strings.Replace(pair[1], "camera", "port-forward camera", 1)
		}
		must(t, folder, "hollowbridge "+first)
		if read(t, folder) == before {
			t.Errorf("%s has changed nothing", first)
		}
		must(t, folder, "hollowbridge "+pair[1])
		if got := read(t, folder); got != before {
			t.Fatalf("%s, %s leaves\n%s", first, pair[1], got)
		}
	}
}

func TestEditsThatAreRefusedChangeNothing(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ line, want string }{
		{"remove archive", "hollowbridge remove port-forward shell -gateway rim"},
		{"remove web", "several things have this name; put the kind in front"},
		{"remove nothing", "nothing: nothing has this name"},
		{"remove shel", "did you mean shell?"},
		{"change port-forward web to=nobody", "nobody: no such host"},
		{"change port-forward web colour=red", "colour: a port-forward has no such key"},
		{"change port-forward web to=", "a port-forward needs to"},
		{"change port-forward web", "it needs NAME and KEY=VALUE"},
		{"add port-forward web -on fibre -service https -to archive", "this list has a rule of that name already"},
		{"add port-forward new -service https -to archive", "a port-forward needs -on"},
		{"add port-forward new -on fibre -service https -to archive -as interface", "-as: a port-forward has no such key"},
		{"add port-forward new -on nowhere -service https -to archive", "rim has no such interface or zone"},
		{"add host desk -address 10.61.8.41", "there are two hosts of this name"},
		{"add host far -address 10.61.8.40", "desk has this address already"},
		{"add group g", "needs what it holds"},
		{"add gruop g 10.0.0.1", "gruop: no such kind; did you mean group?"},
		{"add drop x -before nothing", "nothing: no such rule in filter of rim"},
		{"add drop x -before web -after inside", "either -before or -after"},
		{"add drop x -gateway keep", "keep: no such gateway"},
		{"move shell before inside", "no such rule in nat of rim"},
		{"move shell before shell", "can't be moved to itself"},
		{"move archive before desk", "has no order"},
		{"move shell behind out", "write NAME before OTHER"},
		{"enable archive", "is no rule"},
		{"init other -outside 192.0.2.1/24 -inside 10.0.0.1/8", "is there already"},
		{"init other -outside 192.0.2.1 -inside 10.0.0.1/8", "not a prefix"},
	} {
		folder := t.TempDir()
		write(t, folder, "hollowbridge.yaml", edited)
		r := shell(t, folder, "hollowbridge "+c.line)
		if r.status != 2 || !strings.Contains(strings.Join(strings.Fields(r.err), " "), c.want) {
			t.Errorf("%s: %d %s; want %q", c.line, r.status, r.err, c.want)
		}
		if read(t, folder) != edited {
			t.Errorf("%s: the file was written", c.line)
		}
	}
}

// Files with CR LF keep it, on new lines too.
func TestLineEndsAreKept(t *testing.T) {
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", strings.ReplaceAll(edited, "\n", "\r\n"))
	must(t, folder, "hollowbridge add drop bad -from 192.0.2.0/24")
	must(t, folder, "hollowbridge change port-forward web on=outside")
	text := read(t, folder)
	if strings.Count(text, "\n") != strings.Count(text, "\r\n") || strings.Contains(text, "\r\r") || !strings.Contains(text, "on: outside     # the uplink\r\n") {
		t.Errorf("%q", text)
	}
}

// What a forward needs is said, or added; what it does is traced.
func TestAForwardSaysWhichFilterRuleItNeeds(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", buildHouse("", "", ""))
	r := must(t, folder, "hollowbridge add port-forward web -on fibre -service tcp/8443 -to archive:443")
	wantIn(t, r.out, "rim needs a filter rule as well", "hollowbridge add allow web -from outside -to archive -service tcp/443", "dropped at rim")
	must(t, folder, "hollowbridge add allow web -from outside -to archive -service tcp/443")
	wantIn(t, must(t, folder, "hollowbridge trace internet rim:fibre tcp/8443").out, "reached archive")
	for handling, rule := range map[string]string{"": "to: archive\n        service: tcp/443", "filter-sees: original": "to: rim:fibre\n        service: tcp/8443"} {
		folder := t.TempDir()
		write(t, folder, "hollowbridge.yaml", buildHouse(handling, "", ""))
		r := must(t, folder, "hollowbridge add port-forward web -on fibre -service tcp/8443 -to archive:443 -allow")
		wantIn(t, r.out, "reached archive")
		wantIn(t, read(t, folder), rule)
	}
	folder = t.TempDir()
	write(t, folder, "hollowbridge.yaml", buildHouse("forwards: carry-permission", "", ""))
	if r := must(t, folder, "hollowbridge add port-forward web -on fibre -service tcp/8443 -to archive:443 -json"); strings.Contains(r.out, "needs a filter rule") {
		t.Errorf("this gateway's forwards need none: %s", r.out)
	}
}

// Edits at the same time wait for each other: none is lost, and the mode is kept.
func TestEditsAtTheSameTimeAreAllKept(t *testing.T) {
	if testing.Short() {
		t.Skip("they wait for each other")
	}
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", edited)
	if err := os.Chmod(filepath.Join(folder, "hollowbridge.yaml"), 0o640); err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	for _, name := range []string{"a", "b", "c", "d", "e", "f", "g", "h"} {
		all.Go(func() { shell(t, folder, "hollowbridge add service "+name+" tcp/7000") })
	}
	all.Wait()
	if text := read(t, folder); strings.Count(text, ": tcp/7000") != 8 {
		t.Errorf("edits were lost:\n%s", text)
	}
	info, err := os.Stat(filepath.Join(folder, "hollowbridge.yaml"))
	if err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("mode %v, %v", info.Mode(), err)
	}
	if entries, _ := os.ReadDir(folder); len(entries) != 2 { // what undo needs stands beside it
		t.Errorf("something was left behind: %v", entries)
	}
}
