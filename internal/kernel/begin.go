package kernel

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"
)

// Tracking is a program that lets everything pass and makes the kernel remember connections, as it does only where some rule asks for them.
func Tracking() *Program {
	c := &compiler{Program: newProgram("")}
	in := c.base("tracking", "connections are remembered", "filter", unix.NF_INET_PRE_ROUTING, behindTracking, accepts)
	in.add(inState(known), ends(accepts))
	out := c.base("tracking-own", "those of the machine too", "filter", unix.NF_INET_LOCAL_OUT, behindTracking, accepts)
	out.add(inState(known), ends(accepts))
	return c.Program
}

// Tracks reports whether the machine remembers connections already, because some rule asks for them: ours, or somebody else's where
// there are connections. (What the kernel itself says of its hooks, many are built without.)
func (m *Machine) Tracks(namespace int) (bool, error) {
	tables, err := m.tables(namespace)
	if err != nil || len(tables) == 0 {
		return false, err
	}
	if slices.Contains(tables, Table) {
		return true, nil
	}
	n, err := ConnectionCount(namespace)
	return n > 0, err
}

// Others returns the names of tables of rules on the machine that are not ours, also of the older kind that the kernel has.
func (m *Machine) Others(namespace int) ([]string, error) {
	tables, err := m.tables(namespace)
	return slices.DeleteFunc(tables, func(name string) bool { return name == Table }), err
}

// tables returns the names of all tables.
func (m *Machine) tables(namespace int) ([]string, error) {
	data, err := body(unix.AF_UNSPEC, 0, nil)
	if err != nil {
		return nil, err
	}
	answers, err := m.dump(unix.NFT_MSG_GETTABLE, data)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, a := range answers {
		if err := decode(a, func(d *netlink.AttributeDecoder) {
			if d.Type() == unix.NFTA_TABLE_NAME {
				names = append(names, d.String())
			}
		}); err != nil {
			return nil, err
		}
	}
	for _, file := range []string{"/proc/net/ip_tables_names", "/proc/net/ip6_tables_names"} {
		text, err := readIn(namespace, strings.Replace(file, "/proc/net", "/proc/thread-self/net", 1))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("the machine's older tables: %w", err)
		}
		names = append(names, strings.Fields(string(text))...)
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

// Closed is a program that forwards nothing, for where nobody knows what may pass. What the machine itself does and answers it leaves alone.
func Closed() *Program {
	c := &compiler{Program: newProgram("")}
	c.base("closed", "nobody knows what may pass: nothing is forwarded", "filter", unix.NF_INET_FORWARD, filterPlace, drops).add(c.counted("closed"), ends(drops))
	return c.Program
}
