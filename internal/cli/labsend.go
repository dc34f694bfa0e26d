package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/lab"
)

// labSocket is where the lab that a command runs in is asked to send real packets, in the folder of
// its gateways' sockets.
const labSocket = "lab"

// labWait is how long a connection that nobody answers is waited for.
const labWait = 500 * time.Millisecond

// A labAsk is connections that the lab is to send, and a labTold what became of them.
type labAsk struct {
	Packets []gateway.Packet `json:"packets"`
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
	e := engine.Compile(n, nil)
	var sending sync.Mutex // the numbers of connections are those of one call at a time
	server := &http.Server{ReadHeaderTimeout: 5 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		var ask labAsk
		if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, 1<<20)).Decode(&ask); err != nil || len(ask.Packets) > lab.MostNumbers {
			http.Error(w, "not understood", http.StatusBadRequest)
			return
		}
		sending.Lock()
		defer sending.Unlock()
		json.NewEncoder(w).Encode(labTold{r.sendAll(e, ask.Packets)}) // whoever asked may be gone
	})}
	r.sends = server
	r.serving.Go(func() {
		if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			trouble(err)
		}
	})
	return nil
}

// sendAll sends connections at once, each from where its source is.
func (r *runningLab) sendAll(e *engine.Engine, packets []gateway.Packet) []labAnswer {
	answers := make([]labAnswer, len(packets))
	var sending sync.WaitGroup
	for i, packet := range packets {
		p, err := packet.Header()
		c := engine.Connection{Packet: p, Moment: network.MomentAt(time.Now())}
		if err == nil {
			c.From, err = e.Locate(p.Source)
		}
		if err != nil {
			answers[i].Error = err.Error()
			continue
		}
		sending.Go(func() {
			got := r.Send(c, i+1, labWait)
			answers[i] = labAnswer{Answer: got.Answer.String(), By: got.By, Code: got.Code}
			if got.Err != nil {
				answers[i].Error = got.Err.Error()
			}
		})
	}
	sending.Wait()
	return answers
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
		var ask labAsk
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
	defer response.Body.Close()
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
