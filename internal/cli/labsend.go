package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/lab"
)

// labSocket is where the lab that a command runs in is asked to send real packets, in the folder of
// its gateways' sockets.
const labSocket = "lab"

// labWait is how long a connection that nobody answers is waited for.
const labWait = 500 * time.Millisecond

// mostHeldInLab is how many connections a lab holds open: each needs a socket at both ends.
const mostHeldInLab = 400

// A labAsk is connections that the lab is to send, and a labTold what became of them.
type labAsk struct {
	Packets []gateway.Packet `json:"packets"`
	Bytes   int              `json:"bytes"` // that each carries, half of them back
	Hold    bool             `json:"hold"`  // until the asker goes away
}

type labTold struct {
	Answers []labAnswer `json:"answers"`
}

type labAnswer struct {
	Answer string     `json:"answer"`
	By     netip.Addr `json:"by"`
	Code   string     `json:"code"`
	Error  string     `json:"error"`
}

// serveSends lets commands inside the lab send real packets from any machine of it.
func (r *runningLab) serveSends(n *network.Network, trouble func(error)) error {
	l, err := gateway.Endpoint{Socket: filepath.Join(r.folder, labSocket+".sock")}.Listen()
	if err != nil {
		return err
	}
	e := walk.Compile(n, nil)
	var sending sync.Mutex // the numbers of connections are those of one call at a time
	var held atomic.Int64
	server := &http.Server{ReadHeaderTimeout: 5 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		var ask labAsk
		if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, 1<<20)).Decode(&ask); err != nil || len(ask.Packets) > lab.MostNumbers || ask.Bytes < 0 || ask.Bytes > mostCarried {
			http.Error(w, "not understood", http.StatusBadRequest)
			return
		}
		if ask.Hold {
			defer held.Add(-int64(len(ask.Packets)))
			if held.Add(int64(len(ask.Packets))) > mostHeldInLab {
				http.Error(w, fmt.Sprintf("the lab holds %d connections open at most", mostHeldInLab), http.StatusTooManyRequests)
				return
			}
		}
		sending.Lock()
		answers, open := r.sendAll(q.Context(), e, &ask)
		sending.Unlock()
		defer closeAll(open)
		json.NewEncoder(w).Encode(labTold{answers}) // whoever asked may be gone
		if ask.Hold {
			http.NewResponseController(w).Flush()
			<-q.Context().Done()
		}
	})}
	r.sends = server
	r.serving.Go(func() {
		if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			trouble(err)
		}
	})
	return nil
}

// sendAll sends connections at once, each from where its source is, and returns those that are
// to be held.
func (r *runningLab) sendAll(ctx context.Context, e *walk.Engine, ask *labAsk) ([]labAnswer, []*lab.Opened) {
	answers := make([]labAnswer, len(ask.Packets))
	open := make([]*lab.Opened, len(ask.Packets))
	var sending sync.WaitGroup
	for i, packet := range ask.Packets {
		p, err := packet.Header()
		c := walk.Connection{Packet: p, Moment: e.Network().MomentAt(time.Now())}
		if err == nil {
			c.From, err = e.Locate(p.Source)
		}
		if err != nil {
			answers[i].Error = err.Error()
			continue
		}
		sending.Go(func() { open[i], answers[i] = r.sendOne(ctx, c, i+1, ask) })
	}
	sending.Wait()
	return answers, slices.DeleteFunc(open, func(o *lab.Opened) bool { return o == nil })
}

// sendOne sends a connection and what it carries. It returns it where it is to be held.
func (r *runningLab) sendOne(ctx context.Context, c walk.Connection, number int, ask *labAsk) (*lab.Opened, labAnswer) {
	opened, got := r.Open(c, number, labWait)
	told := labAnswer{Answer: got.Answer.String(), By: got.By, Code: got.Code}
	err := got.Err
	if got.Answer == lab.Answered {
		for left := ask.Bytes / 2; left > 0 && err == nil && ctx.Err() == nil; left -= carriedAtOnce {
			err = opened.Carry(min(left, carriedAtOnce))
		}
	}
	if err != nil {
		told.Error = err.Error()
	}
	if opened != nil && (!ask.Hold || got.Answer != lab.Answered) {
		opened.Close()
		opened = nil
	}
	return opened, told
}

// carriedAtOnce is how many bytes go before somebody looks whether the asker is still there.
const carriedAtOnce = 1 << 20

func closeAll(open []*lab.Opened) {
	for _, o := range open {
		o.Close()
	}
}

// inLab returns what asks the lab that this command runs in; ok is false where it runs in none.
func inLab() (client *http.Client, ok bool) {
	folder := os.Getenv(gateway.ControlFolder)
	path := filepath.Join(folder, labSocket+".sock")
	if info, err := os.Stat(path); folder == "" || err != nil || info.Mode()&os.ModeSocket == 0 {
		return nil, false
	}
	return &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{Timeout: time.Second}).DialContext(ctx, "unix", path)
	}}}, true
}

// sendInLab sends the connections of a call by real packets.
func (s *sending) sendInLab(ctx context.Context, client *http.Client) error {
	begun := time.Now()
	for first := 0; first < s.options.count && ctx.Err() == nil; {
		most := min(lab.MostNumbers, s.options.count-first)
		if rate := s.options.rate; rate > 0 {
			most = min(most, max(1, rate/10))
			select {
			case <-ctx.Done():
			case <-time.After(time.Until(begun.Add(time.Duration(first) * time.Second / time.Duration(rate)))):
			}
		}
		ask := labAsk{Bytes: s.options.bytes, Hold: s.options.hold}
		for i := range most {
			ask.Packets = append(ask.Packets, gateway.PacketOf(s.connection(first+i).Packet))
		}
		if err := s.askLab(ctx, client, ask); err != nil {
			return err
		}
		first += most
	}
	return nil
}

func (s *sending) askLab(ctx context.Context, client *http.Client, ask labAsk) error {
	body, err := json.Marshal(ask)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://lab/", bytes.NewReader(body))
	if err != nil {
		return err
	}
	response, err := client.Do(request)
	if err != nil {
		return fmt.Errorf("the lab: %w", err)
	}
	if ask.Hold {
		s.holding = append(s.holding, response.Body)
	} else {
		defer response.Body.Close()
	}
	if response.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(response.Body, 1000))
		return fmt.Errorf("the lab: %s", strings.TrimSpace(string(text)))
	}
	var told labTold
	if err := json.NewDecoder(response.Body).Decode(&told); err != nil {
		return fmt.Errorf("the lab: %w", err)
	}
	for _, a := range told.Answers {
		if a.Error != "" {
			return errors.New(a.Error)
		}
		text := a.Answer
		if a.By.IsValid() {
			text += fmt.Sprintf(" from %s: %s", a.By, a.Code)
		}
		if a.Answer == lab.Answered.String() {
			s.reached++
			if ask.Hold {
				s.open++
			}
		}
		s.outcomes[text]++
	}
	return nil
}

// onKernel reports whether gateways on the way are on the kernel, which decides about real packets.
func onKernel(list []*gateway.Client) (string, bool) {
	statuses, failures := askAll(list, func(g *gateway.Client) (gateway.Status, error) { return g.Status(context.Background()) })
	at := slices.IndexFunc(statuses, func(s gateway.Status) bool { return s.On == "kernel" })
	if at < 0 || failures[at] != nil {
		return "", false
	}
	return statuses[at].Gateway, true
}
