package gateway

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"time"

	"golang.org/x/net/netutil"

	"hollowbridge/core/header"
	"hollowbridge/internal/netfile"
)

// Limits of the control API.
const (
	mostClients  = 128
	mostBody     = 2*netfile.MostBytes + 1<<20 // a network file as JSON
	mostSmall    = 1 << 20                     // every other body
	mostListed   = 100_000
	usualListed  = 200
	mostPackets  = 10_000 // in one call
	mostAnswered = time.Minute
)

// A call is one that the control API answers in JSON. docs/control-api.yaml is made of them.
type call struct {
	method, path string
	about        string
	query        []parameter
	body, result any // a value of the type, or nil
	handle       func(*Server, http.ResponseWriter, *http.Request) (any, error)
}

// A parameter is one of a query.
type parameter struct{ name, about string }

// ofFilter are the parameters of sessions and events.
var ofFilter = []parameter{
	{fromKey, "from these addresses: a host or group of the network in force, an address, a prefix or a range"}, {toKey, "to these addresses"},
	{addressKey, "from or to these addresses"}, {portKey, "with this port at either end"}, {serviceKey, "for this service, as https or tcp/8443"},
	{ruleKey, "by this rule: NAME, or LIST/NAME"}, {outcomeKey, "with this outcome; of events"}, {sinceKey, "not before this time, RFC 3339 or as 30m, 2h, 7d ago; of events"},
}

var (
	topParameter    = parameter{"top", "at most so many; 200 where absent"}
	numberParameter = parameter{"number", "the one of this number alone"}
)

// Ended says how many sessions were ended.
type Ended struct {
	Ended int    `json:"ended"`
	Note  string `json:"note"` // what it can't hold to; empty where there is nothing
}

type nothing struct{}

var calls = []call{
	{"GET", "/v1/status", "What the gateway says of itself.", nil, nil, Status{}, (*Server).status},
	{"GET", "/v1/revisions", "All revisions without their text, the latest first.", nil, nil, []Revision{}, (*Server).revisions},
	{"GET", "/v1/revisions/{number}", "A revision with its text; 0 is the one in force.", nil, nil, Revision{}, (*Server).revision},
	{"POST", "/v1/prepare", "Gets ready for a network; nothing is touched. 409 where another revision is in force than base, or the machine can't.", nil, Proposal{}, Prepared{}, (*Server).prepare},
	{"POST", "/v1/commit", "Puts what was prepared into force. When it answers, that is so, also after a restart.", nil, Commit{}, Committed{}, (*Server).commit},
	{"POST", "/v1/keep", "Keeps the revision in force that would go back by itself.", nil, nil, nothing{}, (*Server).keep},
	{"POST", "/v1/confirm", "Says of an apply that all of its gateways have it, so that it stays. 409 where it has gone back.", nil, Confirm{}, nothing{}, (*Server).confirm},
	{"POST", "/v1/undo", "Takes the revision in force back to the one before, or forgets a proposal.", nil, Undo{}, nothing{}, (*Server).undo},
	{"GET", "/v1/sessions", "The sessions that match, those that carried most first.", append(slices.Clone(ofFilter), topParameter), nil, Sessions{}, (*Server).sessions},
	{"DELETE", "/v1/sessions", "Ends the sessions that match.", append(slices.Clone(ofFilter), numberParameter), nil, Ended{}, (*Server).endSessions},
	{"GET", "/v1/hits", "What each rule did since the counters were reset.", nil, nil, Hits{}, (*Server).hits},
	{"GET", "/v1/pools", "What source-nat rules have of their ports.", nil, nil, Pools{}, (*Server).pools},
	{"DELETE", "/v1/hits", "Makes all rules count from nothing.", nil, nil, nothing{}, (*Server).resetHits},
	{"GET", "/v1/log", "The latest events that match, in their order.", append(slices.Clone(ofFilter), topParameter, numberParameter, parameter{"sum", "anything: all of them in a few lines instead"}), nil, Log{}, (*Server).log},
	{"POST", "/v1/trial", "Logs one rule for a while.", nil, Trial{}, nothing{}, (*Server).trial},
	{"GET", "/v1/mappings", "The mappings that programs have, the wishes that wait for an administrator, and the machines that get nothing.", nil, nil, Mappings{}, (*Server).mappings},
	{"DELETE", "/v1/mappings", "Ends the mappings of a name.", []parameter{{"name", "as tcp/7777"}, {"who", "who wants it"}}, nil, nothing{}, (*Server).removeMapping},
	{"POST", "/v1/mappings/settle", "Approves or refuses a wish that waits. 404 where nothing waits by the number.", nil, Settlement{}, nothing{}, (*Server).settle},
	{"POST", "/v1/mappings/block", "Takes all mappings of machines away, and refuses them others, or lets them ask again. 404 where none of them is blocked.", nil, Block{}, nothing{}, (*Server).block},
	{"POST", tryCall, "Says what would become of a wish, and changes nothing.", nil, MappingTrial{}, MappingVerdict{}, (*Server).tryMapping},
	{"POST", "/v1/packets", "Puts packets before a simulated gateway, one after the other. 409 on the kernel.", nil, []Arriving{}, []Decided{}, (*Server).packets},
}

// A Server answers the control API of a service.
type Server struct {
	service *Service
	http    *http.Server
	guarded bool            // by a token
	ends    context.Context // for those who follow
	end     context.CancelFunc
}

// NewServer returns a server. Where token is not empty, nobody is answered without it.
func NewServer(s *Service, tokens ...Token) *Server {
	v := &Server{service: s}
	v.ends, v.end = context.WithCancel(context.Background())
	mux := http.NewServeMux()
	for _, c := range calls {
		mux.HandleFunc(c.method+" "+c.path, func(w http.ResponseWriter, r *http.Request) {
			var result any
			err := once(r)
			if takesWork[c.path] { // and is asked meanwhile how far it is
				http.NewResponseController(w).SetWriteDeadline(time.Now().Add(patience))
			}
			if err == nil {
				result, err = c.handle(v, w, r)
			}
			answer(w, result, err)
		})
	}
	mux.HandleFunc("GET /v1/log/follow", v.follow)
	mux.HandleFunc("POST "+backupCall, v.backup)
	mux.HandleFunc("POST "+restoreCall, v.restore)
	mux.Handle("GET /metrics", metricsOf(s))
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		answer(w, nil, &refused{http.StatusNotFound, r.Method + " " + r.URL.Path + ": no such call; docs/control-api.yaml lists them", nil})
	})
	v.http = &http.Server{
		Handler: authorized(tokens, mux), ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 2 * time.Minute, WriteTimeout: 2 * time.Minute,
		IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 1 << 16, ConnContext: withGuest,
	}
	v.guarded = len(tokens) > 0
	return v
}

// Handler returns what answers requests.
func (v *Server) Handler() http.Handler { return v.http.Handler }

// Serve answers what comes to a listener until Shutdown.
func (v *Server) Serve(l net.Listener) error {
	if v.guarded {
		l = &gate{Listener: l}
	} else {
		l = netutil.LimitListener(l, mostClients)
	}
	err := v.http.Serve(l)
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// Shutdown answers what has been asked, and then no more.
func (v *Server) Shutdown() error {
	v.end()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := v.http.Shutdown(ctx); err != nil {
		return v.http.Close()
	}
	return nil
}

// authorized lets only those through who know a token that lets them do what they want. How long it takes says nothing about the words.
func authorized(tokens []Token, next http.Handler) http.Handler {
	if len(tokens) == 0 {
		return next
	}
	want := make([][sha256.Size]byte, len(tokens))
	for i, t := range tokens {
		want[i] = sha256.Sum256([]byte("Bearer " + t.Word))
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got := sha256.Sum256([]byte(r.Header.Get("Authorization")))
		right := Right("")
		for i := range want {
			if subtle.ConstantTimeCompare(want[i][:], got[:]) == 1 && right != Change {
				right = tokens[i].Right
			}
		}
		if right == "" {
			w.Header().Set("WWW-Authenticate", "Bearer")
			w.Header().Set("Connection", "close") // else it would keep a place
			answer(w, nil, &refused{http.StatusUnauthorized, "the token is missing or wrong", nil})
			return
		}
		if !admits(r.Context()) {
			w.Header().Set("Connection", "close")
			answer(w, nil, &refused{http.StatusServiceUnavailable, fmt.Sprintf("%d clients are connected, and there is room for no more", mostClients), nil})
			return
		}
		if needs(r) == Change && right != Change {
			answer(w, nil, &refused{http.StatusForbidden, "this token is for looking, and this would change something: it needs one that is for change", nil})
			return
		}
		next.ServeHTTP(w, r)
	})
}

// needs returns the right that a request needs.
func needs(r *http.Request) Right {
	if r.Method == http.MethodGet || r.Method == http.MethodHead || r.URL.Path == tryCall {
		return Look
	}
	return Change
}

// tryCall is the one call with a body that changes nothing, and keeps nothing.
const tryCall = "/v1/mappings/try"

// answer writes a result, or why there is none.
func answer(w http.ResponseWriter, result any, err error) {
	status := http.StatusOK
	if err != nil {
		status = http.StatusInternalServerError
		said := Conflict{Error: err.Error()}
		var why *refused
		if errors.As(err, &why) {
			status, said.Revision = why.status, why.revision
		}
		result = said
	}
	data, err := json.Marshal(result)
	if err != nil {
		http.Error(w, `{"error": "the answer can't be written"}`, http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.WriteHeader(status)
	w.Write(append(data, '\n')) // whoever asked may be gone
}

// body reads the body of a request, of at most so many bytes.
func body(w http.ResponseWriter, r *http.Request, most int64, into any) error {
	decoder := json.NewDecoder(http.MaxBytesReader(w, r.Body, most))
	decoder.DisallowUnknownFields()
	err := decoder.Decode(into)
	if err == nil && decoder.More() {
		err = errors.New("there is something behind the value")
	}
	var long *http.MaxBytesError
	if errors.As(err, &long) {
		return &refused{http.StatusRequestEntityTooLarge, fmt.Sprintf("more than %d MiB is not read", most>>20), nil}
	}
	if err != nil {
		return &refused{http.StatusBadRequest, "the body is not as docs/control-api.yaml has it: " + err.Error(), nil}
	}
	return nil
}

// once refuses a query in which something is left that nobody knows.
// once refuses a query that can't be read, or says one thing twice: whichever of the two were taken, it could be the other that was meant.
func once(r *http.Request) error {
	query, err := url.ParseQuery(r.URL.RawQuery)
	if err != nil {
		return &refused{http.StatusBadRequest, "the query can't be read: " + err.Error(), nil}
	}
	for _, key := range slices.Sorted(maps.Keys(query)) {
		if len(query[key]) > 1 {
			return &refused{http.StatusBadRequest, fmt.Sprintf("%s: it is given %d times in the query", key, len(query[key])), nil}
		}
	}
	return nil
}

func empty(query url.Values) error {
	for key := range query {
		return &refused{http.StatusBadRequest, key + ": no such parameter", nil}
	}
	return nil
}

// filter reads a filter of a query, and takes what it knows out of that.
func (v *Server) filter(query url.Values) (*Filter, error) {
	f, err := ParseFilter(v.service.network(), query, time.Now())
	if err != nil {
		return nil, &refused{http.StatusBadRequest, err.Error(), nil}
	}
	return f, nil
}

// number reads a whole number of a query.
func number(query url.Values, key string, usual, most int) (int, error) {
	text := take(query, key)
	if text == "" {
		return usual, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > most {
		return 0, &refused{http.StatusBadRequest, fmt.Sprintf("%s: %s: a whole number up to %d is asked for", key, text, most), nil}
	}
	return n, nil
}

func (v *Server) status(http.ResponseWriter, *http.Request) (any, error) {
	return v.service.Status(), nil
}

func (v *Server) revisions(http.ResponseWriter, *http.Request) (any, error) {
	return v.service.state.Revisions()
}

func (v *Server) revision(_ http.ResponseWriter, r *http.Request) (any, error) {
	n, err := strconv.Atoi(r.PathValue("number"))
	if err != nil || n < 0 {
		return nil, &refused{http.StatusBadRequest, r.PathValue("number") + ": revisions are numbers from 1 on", nil}
	}
	found, err := v.service.state.Revision(n)
	if errors.Is(err, errNoRevision) {
		text := fmt.Sprintf("there is no revision %d", n)
		if n == 0 {
			text = errNothingInForce.Error()
		}
		return nil, &refused{http.StatusNotFound, text, nil}
	}
	return found, err
}

func (v *Server) prepare(w http.ResponseWriter, r *http.Request) (any, error) {
	var p Proposal
	if err := body(w, r, mostBody, &p); err != nil {
		return nil, err
	}
	return v.service.Prepare(p)
}

func (v *Server) commit(w http.ResponseWriter, r *http.Request) (any, error) {
	var c Commit
	if err := body(w, r, mostSmall, &c); err != nil {
		return nil, err
	}
	return v.service.Commit(c)
}

func (v *Server) keep(http.ResponseWriter, *http.Request) (any, error) {
	return nothing{}, v.service.Keep()
}

func (v *Server) confirm(w http.ResponseWriter, r *http.Request) (any, error) {
	var c Confirm
	if err := body(w, r, mostSmall, &c); err != nil {
		return nil, err
	}
	return nothing{}, v.service.Confirm(c)
}

func (v *Server) undo(w http.ResponseWriter, r *http.Request) (any, error) {
	var u Undo
	if err := body(w, r, mostSmall, &u); err != nil {
		return nil, err
	}
	return nothing{}, v.service.Undo(u)
}

func (v *Server) sessions(_ http.ResponseWriter, r *http.Request) (any, error) {
	query := r.URL.Query()
	f, err := v.filter(query)
	if err != nil {
		return nil, err
	}
	most, err := number(query, "top", usualListed, mostListed)
	if err = errors.Join(err, empty(query)); err != nil {
		return nil, err
	}
	return v.service.Sessions(f, most)
}

func (v *Server) endSessions(_ http.ResponseWriter, r *http.Request) (any, error) {
	query := r.URL.Query()
	f, err := v.filter(query)
	if err == nil {
		var only int
		if only, err = number(query, "number", 0, 1<<62); err == nil {
			if err = empty(query); err == nil {
				var n int
				n, err = v.service.endThose(f, uint64(only))
				return Ended{n, v.service.reopens(n)}, err
			}
		}
	}
	return nil, err
}

func (v *Server) hits(http.ResponseWriter, *http.Request) (any, error) { return v.service.Hits() }

func (v *Server) pools(http.ResponseWriter, *http.Request) (any, error) { return v.service.Pools() }

func (v *Server) resetHits(http.ResponseWriter, *http.Request) (any, error) {
	return nothing{}, v.service.ResetHits()
}

func (v *Server) log(_ http.ResponseWriter, r *http.Request) (any, error) {
	query := r.URL.Query()
	f, err := v.filter(query)
	if err != nil {
		return nil, err
	}
	most, err := number(query, "top", usualListed, mostListed)
	sum := take(query, "sum") != ""
	only, err2 := number(query, "number", 0, 1<<62)
	if err = errors.Join(err, err2, empty(query)); err != nil {
		return nil, err
	}
	return v.service.Log(f, most, sum, int64(only))
}

func (v *Server) trial(w http.ResponseWriter, r *http.Request) (any, error) {
	var t Trial
	if err := body(w, r, mostSmall, &t); err != nil {
		return nil, err
	}
	return nothing{}, v.service.Try(t)
}

func (v *Server) mappings(http.ResponseWriter, *http.Request) (any, error) {
	return v.service.Mappings(), nil
}

func (v *Server) removeMapping(_ http.ResponseWriter, r *http.Request) (any, error) {
	query := r.URL.Query()
	name, who := take(query, "name"), take(query, "who")
	if err := empty(query); err != nil {
		return nil, err
	}
	return nothing{}, v.service.RemoveMapping(name, who)
}

func (v *Server) settle(w http.ResponseWriter, r *http.Request) (any, error) {
	var d Settlement
	if err := body(w, r, mostSmall, &d); err != nil {
		return nil, err
	}
	return nothing{}, v.service.Settle(d)
}

func (v *Server) block(w http.ResponseWriter, r *http.Request) (any, error) {
	var b Block
	if err := body(w, r, mostSmall, &b); err != nil {
		return nil, err
	}
	return nothing{}, v.service.Block(b)
}

func (v *Server) tryMapping(w http.ResponseWriter, r *http.Request) (any, error) {
	var t MappingTrial
	if err := body(w, r, mostSmall, &t); err != nil {
		return nil, err
	}
	return v.service.TryMapping(t)
}

func (v *Server) packets(w http.ResponseWriter, r *http.Request) (any, error) {
	var list []Arriving
	if err := body(w, r, 8<<20, &list); err != nil {
		return nil, err
	}
	if len(list) > mostPackets {
		return nil, &refused{http.StatusBadRequest, fmt.Sprintf("at most %d packets at once", mostPackets), nil}
	}
	return v.service.Decide(list)
}

// Parts of a packet in its connection, as the API names them.
var parts = map[string]header.Part{
	"begins": header.Begins, "answers": header.Answers, "continues": header.Continues,
	"finishes": header.Finishes, "resets": header.Resets, "reports": header.Reports,
}

// partName returns the word for a part.
func partName(p header.Part) string {
	for name, part := range parts {
		if part == p {
			return name
		}
	}
	return ""
}

// Calls about backups, which are files and no JSON. They need the right to change things: whoever has a state knows all of it.
const (
	backupCall  = "/v1/backup"
	restoreCall = "/v1/restore"
)

func (v *Server) backup(w http.ResponseWriter, r *http.Request) {
	http.NewResponseController(w).SetWriteDeadline(time.Now().Add(patience))
	f, err := v.service.Backup()
	if err != nil {
		answer(w, nil, err)
		return
	}
	defer f.Close()
	w.Header().Set("Content-Type", "application/vnd.sqlite3")
	http.ServeContent(w, r, "", time.Time{}, f) // with its length, so that one that breaks off is known
}

func (v *Server) restore(w http.ResponseWriter, r *http.Request) {
	control := http.NewResponseController(w)
	control.SetReadDeadline(time.Now().Add(patience))
	control.SetWriteDeadline(time.Now().Add(patience))
	answer(w, nothing{}, v.service.Restore(r.Body))
}

// breath is how often those who follow get a sign of life.
const breath = 15 * time.Second

// follow writes events as they come, one a line, until whoever asked is gone.
func (v *Server) follow(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	err := once(r)
	var f *Filter
	if err == nil {
		f, err = v.filter(query)
	}
	if err == nil {
		err = empty(query)
	}
	if err != nil {
		answer(w, nil, err)
		return
	}
	control := http.NewResponseController(w)
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.WriteHeader(http.StatusOK)
	encoder := json.NewEncoder(w)
	last := v.service.journal.latest()
	for {
		events, more, ok := v.service.journal.recent.after(last)
		if !ok { // it was too slow
			gap := Event{Time: time.Now(), Gateway: v.service.name(), What: serviceEvent, Text: "events came faster than they were read; hollowbridge log lists them"}
			last = v.service.journal.latest()
			events = []Event{gap}
		}
		if control.SetWriteDeadline(time.Now().Add(mostAnswered)) != nil {
			return
		}
		for i := range events {
			e := &events[i]
			last = max(last, e.Number)
			if f.matchesEvent(e) && encoder.Encode(e) != nil {
				return
			}
		}
		if control.Flush() != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-v.ends.Done():
			return
		case <-more:
		case <-time.After(breath):
			if _, err := w.Write([]byte("\n")); err != nil {
				return
			}
		}
	}
}

// endThose ends the sessions that match, or the one of a number.
func (s *Service) endThose(f *Filter, number uint64) (int, error) {
	if number != 0 {
		return s.backend.End(map[uint64]bool{number: true})
	}
	return s.EndSessions(f)
}

// Log returns the latest events that match, or the one of a number, and, where that is wanted,
// all of them in a few lines.
func (s *Service) Log(f *Filter, most int, sum bool, number int64) (Log, error) {
	found := Log{Events: []Event{}}
	var err error
	switch {
	case sum:
		if found.Sum, err = s.journal.sum(f); err == nil {
			found.Count = found.Sum.Events
		}
		return found, err
	case number > 0:
		err = s.journal.look(&Filter{}, number, func(e *stored) error {
			if e.Number == number {
				found.Events = append(found.Events, e.own())
			}
			return nil
		})
		if err == nil && len(found.Events) == 0 {
			err = &refused{http.StatusNotFound, fmt.Sprintf("there is no event %d, or it is kept no longer", number), nil}
		}
		for i := range found.Events {
			found.Events[i].Gateway = s.name()
		}
		found.Count = len(found.Events)
		return found, err
	}
	events, all, err := s.journal.List(s.name(), f, most, false)
	found.Events, found.Count = append(found.Events, events...), all
	return found, err
}

// Decide takes packets through a simulated gateway, one after the other.
func (s *Service) Decide(list []Arriving) ([]Decided, error) {
	simulated, ok := s.backend.(*Simulated)
	if !ok {
		return nil, &refused{http.StatusConflict, s.options.Gateway + " runs on the kernel: it decides about real packets", nil}
	}
	decided := make([]Decided, len(list))
	for i, a := range list {
		part, known := parts[a.Part]
		if !known {
			return nil, &refused{http.StatusBadRequest, fmt.Sprintf("packet %d: part: %q: there are begins, answers, continues, finishes, resets, reports", i+1, a.Part), nil}
		}
		p, err := a.Packet.Header()
		if err == nil && (a.Size < 0 || a.Size > 1<<16) {
			err = fmt.Errorf("size: a packet has 0 to 65536 bytes")
		}
		if err != nil {
			return nil, &refused{http.StatusBadRequest, fmt.Sprintf("packet %d: %s", i+1, err), nil}
		}
		if decided[i], err = simulated.decided(a, p, part); err != nil {
			return nil, &refused{http.StatusConflict, err.Error(), nil}
		}
	}
	return decided, nil
}
