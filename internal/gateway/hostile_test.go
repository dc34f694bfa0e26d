package gateway_test

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
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
	t.Parallel()
	s, _ := service(t, house)
	at := gateway.Endpoint{Socket: filepath.Join(t.TempDir(), "s.sock")}
	l, err := at.Listen()
	if err != nil {
		t.Fatal(err)
	}
	server := gateway.NewServer(s)
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
		{"GET", "/v1/sessions?top=3&top=5", ``, http.StatusBadRequest},
		{"GET", "/v1/log/follow?rule=web&rule=web", ``, http.StatusBadRequest},
		{"GET", "/v1/hits?a=%zz", ``, http.StatusBadRequest},
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

// Whoever does not know the token can't keep out who does, however many connections they hold.
func TestStrangersDoNotKeepOutWhoKnowsTheToken(t *testing.T) {
	t.Parallel()
	s, _ := service(t, house)
	folder := t.TempDir()
	certificate(t, folder)
	token := filepath.Join(folder, "token")
	if err := os.WriteFile(token, []byte("twenty-four-signs-of-it\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	at := gateway.Endpoint{Address: "127.0.0.1:0", Token: token, Certificate: filepath.Join(folder, "cert.pem"), Key: filepath.Join(folder, "key.pem")}
	l, err := at.Listen()
	if err != nil {
		t.Fatal(err)
	}
	at.Address = l.Addr().String()
	server := gateway.NewServer(s, gateway.Token{Right: gateway.Change, Word: "twenty-four-signs-of-it"})
	var serving sync.WaitGroup
	serving.Go(func() { server.Serve(l) })
	defer serving.Wait()
	defer server.Shutdown()
	var held []net.Conn
	strangers := func(from byte, say string) {
		dialer := tls.Dialer{NetDialer: &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, from)}}, Config: &tls.Config{InsecureSkipVerify: true}}
		for range 200 {
			conn, err := dialer.Dial("tcp", at.Address)
			if err != nil {
				continue // it had to make room while it shook hands
			}
			held = append(held, conn)
			if _, err := io.WriteString(conn, say); err == nil && say != "" {
				answer, _ := http.ReadResponse(bufio.NewReader(conn), nil)
				if answer == nil || answer.StatusCode != http.StatusUnauthorized || !answer.Close {
					t.Fatalf("a stranger gets %v, and the connection stays", answer)
				}
			}
		}
	}
	strangers(2, "")
	strangers(3, "GET /v1/status HTTP/1.1\r\nHost: g\r\n\r\n")
	defer func() {
		for _, conn := range held {
			conn.Close()
		}
	}()
	for range 4 {
		client, err := gateway.NewClient("rim", at)
		if err != nil {
			t.Fatal(err)
		}
		begun := time.Now()
		if _, err := client.Status(context.Background()); err != nil || time.Since(begun) > 3*time.Second {
			t.Fatalf("beside %d strangers, after %v: %v", len(held), time.Since(begun), err)
		}
		strangers(2, "")
	}
}

// A gateway that says nothing, or next to nothing, is not waited for.
func TestASlowGatewayIsNotWaitedFor(t *testing.T) {
	for what, say := range map[string]func(net.Conn){
		"nothing": func(net.Conn) {},
		"trickles": func(c net.Conn) {
			io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n\r\n")
			for {
				if _, err := io.WriteString(c, " "); err != nil {
					return
				}
				time.Sleep(10 * time.Millisecond)
			}
		},
	} {
		l, err := net.Listen("unix", filepath.Join(t.TempDir(), "s"))
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				defer c.Close()
				go say(c)
			}
		}()
		client, err := gateway.NewClient("rim", gateway.Endpoint{Socket: l.Addr().String()})
		if err != nil {
			t.Fatal(err)
		}
		client.Heeds(300 * time.Millisecond)
		begun := time.Now()
		_, err = client.Status(context.Background())
		var absent gateway.Absent
		if took := time.Since(begun); !errors.As(err, &absent) || !strings.Contains(err.Error(), "rim does not answer") || took > 3*time.Second {
			t.Errorf("%s: after %v: %v", what, took, err)
		}
	}
}
