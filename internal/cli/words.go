package cli

import (
	"fmt"
	"io"
	"strings"

	"hollowbridge/core/engine"
)

// A word that the program uses, and what it means by it.
type word struct{ word, means string }

// glossary is those that are not outcomes, in the order of the alphabet.
var glossary = []word{
	{"apart", "what is let through to where nobody is known to be: listed, but not among the ways in"},
	{"back", "from the host to the client: the answer's way"},
	{"beside", "machines on the segment of an uplink that are none of the provider's routers, and those routers themselves: they can send straight to the gateway"},
	{"closes", "a change takes this way in away"},
	{"claims", "outside addresses that a rule has the gateway answer for, though no interface has them"},
	{"delivered", "what the host gets, after every translation"},
	{"forth", "from the client to the host"},
	{"hairpin", "a client inside uses the outside address of a service that is inside too"},
	{"hits", "how many connections a rule decided about since it counts"},
	{"named", "a change gives a machine a name, or takes it; who gets there stays as it was"},
	{"near", "a rule that would have mattered if one thing were different, and which thing"},
	{"on trial", "in force until a time, and then what was before, unless it is kept"},
	{"opens", "a change makes this way in"},
	{"outside address", "the address that strangers connect to; the host has another one"},
	{"revision", "one state of a gateway that was applied, with its number"},
	{"session", "a connection that a gateway remembers, so that what follows is translated alike and answers find back"},
	{"stopped", "a rule of NAT took the connection, and a later step did not let it through"},
	{"told", "the client hears that it was refused, or that nobody is there; else it waits until it gives up"},
	{"turn-back", "a connection leaves by the interface that it came in by"},
	{"twins", "two machines with one address, on different segments"},
	{"unmatched", "no filter rule is for it, so the gateway's habit decides"},
	{"zone", "a name for what is behind some interfaces; rules speak of zones"},
}

// printWords prints what words mean: the outcomes first.
func printWords(w io.Writer, width int) {
	const column = 19
	line := func(one word) {
		for i, text := range wrap(one.means, max(width-column, 20)) {
			head := one.word
			if i > 0 {
				head = ""
			}
			fmt.Fprintf(w, "%-*s%s\n", column, "  "+head, text)
		}
	}
	fmt.Fprintln(w, "what becomes of a connection:")
	for _, o := range engine.Outcomes() {
		line(word{o.String(), o.Meaning()})
	}
	fmt.Fprintln(w, "\nother words:")
	for _, one := range glossary {
		line(one)
	}
	fmt.Fprintf(w, "\n%s\n", strings.Join(wrap("docs/trace.md says more of each, and what to look at.", width), "\n"))
}
