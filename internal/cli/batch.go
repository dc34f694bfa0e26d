package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"strings"
	"sync"

	"hollowbridge/core/engine"
	"hollowbridge/core/walk"
)

// batchLines is how many lines of a batch are traced together.
const batchLines = 4096

// mostLine is how long a line of a batch may be, in bytes.
const mostLine = 4096

// runBatch traces the connections of a file, a line each, each on its own.
func (c *traceCall) runBatch() int {
	o := &c.options
	if len(c.args) > 0 || o.repair != 0 || len(o.after) > 0 || o.send || c.dryRun || o.every {
		return c.misused("-batch goes with -f, -json, -live, -sport, -in, -at, -6, -is, -down, -list, -without and -with only")
	}
	q, ok := c.options.question(c.call)
	if !ok {
		return wrong
	}
	in := io.Reader(os.Stdin)
	name := "standard input"
	if o.batch != "-" {
		f, err := os.Open(o.batch)
		if err != nil {
			return c.failed(err)
		}
		defer f.Close()
		in, name = f, o.batch
	}
	b := &batch{call: c.call, question: q, name: name, walk: (*walk.Engine).NewWalk}
	n, live := c.liveOrFile(c.options.live)
	if n == nil {
		return wrong
	}
	if live != nil {
		b.walk = live.walk
	}
	b.engine = walk.Compile(n, nil)
	for range runtime.GOMAXPROCS(0) {
		b.walks = append(b.walks, b.walk(b.engine))
	}
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, mostLine)
	var some []string
	for lines.Scan() {
		if some = append(some, lines.Text()); len(some) == batchLines {
			b.trace(some)
			some = some[:0]
		}
	}
	b.trace(some)
	if err := lines.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			err = fmt.Errorf("%s:%d: a line of more than %d bytes", name, b.line+1, mostLine)
		}
		return c.failed(err)
	}
	return b.report()
}

// A batch is connections that are traced one after the other.
type batch struct {
	*call
	question question
	name     string
	engine   *walk.Engine
	walk     func(*walk.Engine) *walk.Walk
	walks    []*walk.Walk // of each that works at it

	line                     int // that was read last
	traced, reached, mistook int
}

// A batchLine is what came of one line.
type batchLine struct {
	text    string // what is printed
	wrong   string // what is wrong with it, or empty
	asked   bool   // it is no empty line
	reached bool
}

// trace traces some lines at once, and prints what came of each in their order.
func (b *batch) trace(lines []string) {
	results := make([]batchLine, len(lines))
	var working sync.WaitGroup
	for w, way := range b.walks {
		working.Go(func() {
			for i := len(lines) * w / len(b.walks); i < len(lines)*(w+1)/len(b.walks); i++ {
				results[i] = b.one(way, lines[i])
			}
		})
	}
	working.Wait()
	for i := range results {
		r := &results[i]
		b.line++
		switch {
		case r.wrong != "":
			b.mistook++
			fmt.Fprintf(b.Err, "%s:%d: %s\n", b.name, b.line, r.wrong)
		case r.asked:
			b.traced++
			if r.reached {
				b.reached++
			}
			fmt.Fprintln(b.Out, r.text)
		}
	}
}

// one traces a line: FROM TO SERVICE, and perhaps the source port.
func (b *batch) one(way *walk.Walk, line string) (r batchLine) {
	line, _, _ = strings.Cut(line, "#")
	words := strings.Fields(line)
	if len(words) == 0 {
		return r
	}
	q := b.question
	if len(words) != 3 && len(words) != 4 {
		r.wrong = fmt.Sprintf("%q: write it as FROM TO SERVICE, with the source port behind it where it matters", strings.TrimSpace(line))
		return r
	}
	q.from, q.to, q.service = words[0], words[1], words[2]
	if len(words) == 4 {
		port, err := parsePort(words[3])
		if err != nil {
			r.wrong = err.Error()
			return r
		}
		q.sport = port
	}
	connection, err := q.connection(b.engine)
	if err != nil {
		r.wrong = err.Error()
		return r
	}
	v := way.Verdict(connection)
	p := connection.Packet
	r.asked, r.reached = true, v.Outcome == engine.Reached
	fate := tracedAs(p, &v)
	if b.json {
		var out bytes.Buffer
		e := json.NewEncoder(&out)
		e.SetEscapeHTML(false)
		err := e.Encode(fate)
		if err != nil {
			r.wrong = err.Error()
		}
		r.text = strings.TrimSpace(out.String())
		return r
	}
	where := v.At.Name()
	if r.reached {
		where = v.To.Name()
	}
	if fate.Rule != "" {
		where += " by " + fate.Rule
	}
	text := fmt.Sprintf("%-13s  %-28s  %s -> %s %s", v.Outcome, where, p.From(), p.To(), p.Protocol)
	if v.Delivered.Destination.IsValid() && v.Delivered.To() != p.To() {
		text += ", as " + v.Delivered.To()
	}
	r.text = text
	return r
}

// report says how many there were, and returns the exit status.
func (b *batch) report() int {
	if !b.json {
		fmt.Fprintf(b.Out, "\n%s, %d reached", count(b.traced, "connection"), b.reached)
		if b.mistook > 0 {
			fmt.Fprintf(b.Out, "; %s can't be traced", count(b.mistook, "line"))
		}
		fmt.Fprintln(b.Out)
	}
	switch {
	case b.mistook > 0:
		return wrong
	case b.reached < b.traced:
		return no
	}
	return yes
}
