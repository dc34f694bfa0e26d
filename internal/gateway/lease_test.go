package gateway_test

import (
	"encoding/json"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"hollowbridge/internal/gateway"
)

// What is committed for several gateways goes back by itself unless it is confirmed, also after a restart; nothing comes in between, and a
// trial that ran before goes on.
func TestALeaseEndsUnlessItIsConfirmed(t *testing.T) {
	var since atomic.Int64
	back := gateway.Boot(func() time.Duration { return time.Duration(since.Load()) }, "one")
	defer func() { back() }()
	b := &bench{T: t, folder: t.TempDir()}
	simulated := func(r gateway.Recorder) (gateway.Backend, error) { return gateway.NewSimulated(r), nil }
	b.start(simulated)
	defer func() { b.Stop(false) }()
	pass := func(d time.Duration) { since.Add(int64(d)) }
	again := func() { b.Stop(false); b.start(simulated) }
	is := func(when string, number int, note string, fate string, pending bool) {
		t.Helper()
		s := b.Status()
		if s.Revision == nil || s.Revision.Number != number || !strings.Contains(s.Revision.Note, note) || s.Revision.Fate != fate || (s.Pending != nil) != pending {
			t.Fatalf("%s: %+v, pending %+v", when, s.Revision, s.Pending)
		}
	}
	refused := func(what, want string, err error) {
		t.Helper()
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, without %q", what, err, want)
		}
	}
	both := func(id string, seconds float64) func(*gateway.Commit) {
		return func(c *gateway.Commit) {
			c.Apply, c.For, c.Note = &gateway.Apply{ID: id, Gateways: []string{"keep", "rim"}}, seconds, id
		}
	}
	text := func(word string) string { return house + "# " + word + "\n" }
	b.apply(text("one"), nil)
	made, _ := b.apply(text("two"), both("two", 0))
	is("leased", 2, "two", "", true)
	refused("kept", "waits for the other gateways of its apply (keep, rim)", b.Keep())
	refused("undone", "waits for the other gateways", b.Undo(gateway.Undo{Revision: 2}))
	other, err := b.Prepare(gateway.Proposal{Bundle: bundle(text("other")), Base: 2})
	if err != nil {
		t.Fatal(err)
	}
	_, err = b.Commit(gateway.Commit{Token: other.Token, Author: "bob", For: 60})
	refused("another", "waits for the other gateways", err)
	refused("another's word", "not of this apply", b.Confirm(gateway.Confirm{ID: "one"}))
	again()
	is("started again", 2, "two", "", true)
	pass(61 * time.Second)
	again()
	is("not confirmed", 3, "not all gateways of its apply had in time", "", false)
	refused("confirmed too late", "not of this apply", b.Confirm(gateway.Confirm{ID: "two"}))
	if err := b.Undo(gateway.Undo{Token: made.Token}); err != nil { // that is so already
		t.Error(err)
	}

	b.apply(text("four"), func(c *gateway.Commit) { c.For = 3600 })
	is("a trial", 4, "a test", gateway.OnTrial, true)
	b.apply(text("five"), both("five", 7200))
	pass(61 * time.Second)
	again()
	is("not confirmed, over a trial", 6, "had in time", gateway.OnTrial, true)
	if p := b.Status().Pending; p.Back != 3 || time.Until(p.Until) < 58*time.Minute || time.Until(p.Until) > time.Hour-time.Minute {
		t.Errorf("the trial before goes on as %+v", p)
	}
	made, _ = b.apply(text("seven"), both("seven", 7200))
	if err := b.Undo(gateway.Undo{Token: made.Token, Note: "keep did not follow"}); err != nil {
		t.Error(err)
	}
	is("taken back", 8, "keep did not follow", gateway.OnTrial, true)

	made, _ = b.apply(text("nine"), both("nine", 7200))
	for range 2 { // an answer may get lost
		if err := b.Confirm(gateway.Confirm{ID: "nine"}); err != nil {
			t.Error(err)
		}
	}
	refused("taken back when it is confirmed", "is confirmed by now, and stays", b.Undo(gateway.Undo{Token: made.Token}))
	is("confirmed", 9, "nine", gateway.OnTrial, true)
	if p := b.Status().Pending; p.Back != 3 || time.Until(p.Until) < 119*time.Minute {
		t.Errorf("its own trial is %+v", p)
	}
	if err := b.Confirm(gateway.Confirm{ID: "nine", Whole: true}); err != nil {
		t.Error(err)
	}
	if err := b.Keep(); err != nil {
		t.Error(err)
	}
	again()
	is("kept", 9, "nine", gateway.Kept, false)
	if a := b.Status().Revision.Applied; a == nil || a.State != gateway.Whole || a.ID != "nine" || len(a.Gateways) != 2 {
		t.Errorf("%+v", a)
	}
	var list []gateway.Revision
	answer := httptest.NewRecorder()
	gateway.NewServer(b.Service).Handler().ServeHTTP(answer, httptest.NewRequest("GET", "/v1/revisions", nil))
	if err := json.Unmarshal(answer.Body.Bytes(), &list); err != nil {
		t.Fatal(err)
	}
	var fates []string
	for _, r := range list {
		fates = append(fates, r.Fate)
	}
	if got := strings.Join(fates, ","); got != "kept,gone back,gone back,gone back,gone back,gone back,,," {
		t.Errorf("fates: %s", got)
	}
	b.apply(text("ten"), both("ten", 0))
	b.Stop(false)
	back()
	back = gateway.Boot(func() time.Duration { return 0 }, "another")
	b.start(simulated)
	is("after a restart of the machine", 11, "had in time", "", false)
}
