package kernel

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
)

// The login is found by the processes that lead to it, and by the session behind a terminal multiplexer; at the console and without a
// terminal there is none, and where it can't be found that is said.
func TestTheLoginIsFound(t *testing.T) {
	const terminal, serial, console = 136<<8 | 3, 4<<8 | 64, 4<<8 | 1
	type process struct{ parent, terminal, session int }
	sockets := `  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode
   0: 00000000:0016 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 11 1
   1: 126433C6:0016 077100CB:C738 01 00000000:00000000 00:00000000 00000000     0        0 555 1
   2: 126433C6:9C40 097100CB:01BB 01 00000000:00000000 00:00000000 00000000     0        0 556 1
`
	sockets6 := `  sl  local_address remote_address st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode
   0: B80D0120000061000000000002000000:0016 B80D01200F0000000000000009000000:C739 01 00000000:00000000 00:00000000 00000000     0        0 557 1
`
	for what, c := range map[string]struct {
		processes map[int]process
		holds     map[int]int // which holds which socket
		want      Login
	}{
		"sudo cleared the environment": {map[int]process{9: {8, terminal, 3}, 8: {7, terminal, 3}, 7: {1, 0, 3}, 1: {0, 0, 0}}, map[int]int{7: 555},
			Login{From: netip.MustParseAddrPort("203.0.113.7:51000"), To: netip.MustParseAddrPort("198.51.100.18:22")}},
		"by IPv6": {map[int]process{9: {8, terminal, 3}, 8: {1, 0, 3}, 1: {0, 0, 0}}, map[int]int{8: 557},
			Login{From: netip.MustParseAddrPort("[2001:db8:0:f::9]:51001"), To: netip.MustParseAddrPort("[2001:db8:61::2]:22")}},
		"behind a multiplexer": {map[int]process{9: {8, terminal, 3}, 8: {1, 0, 3}, 5: {1, 0, 3}, 4: {1, 0, 2}, 1: {0, 0, 0}}, map[int]int{5: 555, 4: 557},
			Login{From: netip.MustParseAddrPort("203.0.113.7:51000"), To: netip.MustParseAddrPort("198.51.100.18:22")}},
		"at the console":             {map[int]process{9: {1, console, 3}, 1: {0, 0, 0}}, nil, Login{}},
		"at a serial line":           {map[int]process{9: {1, serial, 3}, 1: {0, 0, 0}}, nil, Login{}},
		"no terminal":                {map[int]process{9: {1, 0, 3}, 1: {0, 0, 0}}, nil, Login{}},
		"nobody holds its socket":    {map[int]process{9: {8, terminal, 4294967295}, 8: {1, 0, 4294967295}, 1: {0, 0, 0}}, nil, Login{Unknown: true}},
		"what it opened is no login": {map[int]process{9: {8, terminal, 3}, 8: {1, 0, 3}, 1: {0, 0, 0}}, map[int]int{8: 556}, Login{Unknown: true}},
	} {
		root := t.TempDir()
		put := func(text string, path ...string) {
			file := filepath.Join(append([]string{root}, path...)...)
			if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		put(sockets, "net", "tcp")
		put(sockets6, "net", "tcp6")
		for pid, p := range c.processes {
			put(fmt.Sprintf("%d (a (strange) name) S %d %d %d %d -1 4194560\n", pid, p.parent, pid, pid, p.terminal), fmt.Sprint(pid), "stat")
			put(fmt.Sprint(p.session), fmt.Sprint(pid), "sessionid")
		}
		for pid, inode := range c.holds {
			folder := filepath.Join(root, fmt.Sprint(pid), "fd")
			if err := os.MkdirAll(folder, 0o700); err != nil {
				t.Fatal(err)
			}
			if err := os.Symlink(fmt.Sprintf("socket:[%d]", inode), filepath.Join(folder, "3")); err != nil {
				t.Fatal(err)
			}
		}
		if got := processes(root).login(9); got != c.want {
			t.Errorf("%s: %+v, want %+v", what, got, c.want)
		}
	}
}
