package gateway_test

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"hollowbridge/internal/gateway"
)

// Whoever opens many connections, says nothing, says too much or never ends, is shown the door,
// and others are served.
func TestRudeCallersKeepNobodyWaiting(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for callers to be shown the door")
	}
	s, _ := service(t, house)
	at := gateway.Endpoint{Socket: filepath.Join(t.TempDir(), "s.sock")}
	l, err := at.Listen()
	if err != nil {
		t.Fatal(err)
	}
	server := gateway.NewServer(s, "")
	var serving sync.WaitGroup
	serving.Go(func() { server.Serve(l) })
	defer serving.Wait()
	defer server.Shutdown()
	var silent []net.Conn
	for i := range 300 {
		conn, err := net.Dial("unix", at.Socket)
		if err != nil {
			break // there is no room for more
		}
		defer conn.Close()
		switch i % 3 {
		case 1:
			fmt.Fprint(conn, "GET /v1/status HTTP/1.1\r\nHost: g\r\nX-Slow: ")
		case 2:
			fmt.Fprintf(conn, "GET /v1/status HTTP/1.1\r\nHost: g\r\nX-Long: %s", strings.Repeat("x", 1<<17))
		}
		silent = append(silent, conn)
	}
	client, err := gateway.NewClient("rim", at)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	begun := time.Now()
	if _, err := client.Status(ctx); err != nil {
		t.Errorf("behind %d rude callers: %v", len(silent), err)
	}
	if took := time.Since(begun); took > 20*time.Second {
		t.Errorf("behind %d rude callers it took %s", len(silent), took)
	}
	for _, c := range []struct {
		method, path, body string
		status             int
	}{
		{"POST", "/v1/commit", `{"token": "` + strings.Repeat("x", 2<<20) + `"}`, http.StatusRequestEntityTooLarge},
		{"POST", "/v1/commit", `{"token": "x", "more": 1}`, http.StatusBadRequest},
		{"POST", "/v1/commit", `{"token": "x"} {}`, http.StatusBadRequest},
		{"POST", "/v1/commit", `{"token": "x", "for": 1e300}`, http.StatusBadRequest},
		{"POST", "/v1/commit", `{"token": "x", "author": "` + strings.Repeat("x", 501) + `"}`, http.StatusBadRequest},
		{"POST", "/v1/commit", `{"token": "x", "note": "\u001b[2J"}`, http.StatusBadRequest},
		{"POST", "/v1/undo", `{"revision": 1, "note": "a\nb"}`, http.StatusBadRequest},
		{"POST", "/v1/prepare", `{"base": 1}`, http.StatusBadRequest},
		{"POST", "/v1/prepare", strings.Repeat("[", 100_000), http.StatusBadRequest},
		{"POST", "/v1/packets", `[{"in": "nowhere", "part": "begins", "packet": {"protocol": "tcp", "source": "203.0.113.7", "destination": "198.51.100.18"}}]`, http.StatusConflict},
		{"POST", "/v1/packets", `[{"in": "fibre", "part": "flies", "packet": {"protocol": "tcp", "source": "203.0.113.7", "destination": "198.51.100.18"}}]`, http.StatusBadRequest},
		{"POST", "/v1/packets", `[` + strings.Repeat(`{},`, 10_000) + `{}]`, http.StatusBadRequest},
		{"POST", "/v1/trial", `{"rule": "nothing", "for": 60}`, http.StatusNotFound},
		{"POST", "/v1/trial", `{"rule": "web", "for": 0.1}`, http.StatusBadRequest},
		{"POST", "/v1/keep", ``, http.StatusConflict},
		{"GET", "/v1/sessions?top=1000000", ``, http.StatusBadRequest},
		{"GET", "/v1/sessions?colour=red", ``, http.StatusBadRequest},
		{"GET", "/v1/revisions/77", ``, http.StatusNotFound},
		{"GET", "/v1/revisions/x", ``, http.StatusBadRequest},
		{"GET", "/v1/log?number=99999", ``, http.StatusNotFound},
		{"GET", "/v2/status", ``, http.StatusNotFound},
		{"PATCH", "/v1/status", ``, http.StatusNotFound},
	} {
		conn, err := net.Dial("unix", at.Socket)
		if err != nil {
			t.Fatal(err)
		}
		go fmt.Fprintf(conn, "%s %s HTTP/1.1\r\nHost: g\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s", c.method, c.path, len(c.body), c.body)
		response, err := http.ReadResponse(bufio.NewReader(conn), nil)
		if err != nil {
			t.Errorf("%s %s %.40s: %v", c.method, c.path, c.body, err)
			continue
		}
		if response.StatusCode != c.status && !(c.method == "PATCH" && response.StatusCode == http.StatusMethodNotAllowed) {
			t.Errorf("%s %s %.40s: %d, want %d", c.method, c.path, c.body, response.StatusCode, c.status)
		}
		conn.Close()
	}
	if r := s.Status().Revision; r == nil || r.Number != 1 {
		t.Errorf("%+v", r)
	}
}
