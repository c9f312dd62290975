// Package standin serves simulated outside systems: they note what they
// receive and answer as they are told, so that a flow can be tried against
// refusals, delays and outages without a real system.
//
// A stand-in is addressed as stand-in://name in a connection. Its behaviour is a
// document of its own that a person, a sample or the interface changes while it
// runs. People make, change and remove stand-ins as they need them. It keeps the last calls in memory,
// without limit of time but bounded in
// number, and on disk only the files of those that have some. All methods are safe for concurrent use.
package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"
)

const (
	kept    = 500     // calls that a stand-in remembers
	maxBody = 1 << 20 // bytes of a call's body, and of an answer's

	maxDelay = 120_000 // milliseconds

	never = -2 // in place of a status: nothing is ever said
)

// Definition says what a stand-in does when nothing else is asked of it.
type Definition struct {
	Name    string            `json:"name"`
	Kind    string            `json:"kind,omitempty"` // "" for one over HTTP, or one of Kinds
	Title   string            `json:"title"`
	Note    string            `json:"note,omitempty"`
	Status  int               `json:"status"`          // 200 when 0
	Headers map[string]string `json:"headers"`         // of the answer
	Body    string            `json:"body"`            // ${n} is the number of the call
	Delay   int               `json:"delay,omitempty"` // milliseconds before every answer
	// Falters makes every N-th call fail with a status, as real systems do now and then.
	Falters *Falters `json:"falters,omitempty"`
	// Routes are answers to particular calls; what fits none gets the usual one.
	Routes []Route `json:"routes,omitempty"`
	// Has is what there is in one that speaks another protocol, a line for each: queues
	// and their bindings, topics and their partitions, streams and their subjects.
	Has []string `json:"has,omitempty"`
	// Tokens lets one over HTTP give access tokens, and take nothing without one.
	Tokens *Tokens `json:"tokens,omitempty"`
}

// Falters is how often a stand-in fails by itself.
type Falters struct {
	Every  int `json:"every"`
	Status int `json:"status"`
}

// Behaviour is what a stand-in does next, in place of its definition.
type Behaviour struct {
	Status     *int       `json:"status"`     // null: as defined
	Body       *string    `json:"body"`       // null: as defined
	Delay      int        `json:"delay"`      // milliseconds before the answer, at most 120000; 0: as defined
	Refuse     int        `json:"refuse"`     // so many calls are refused, -1: all of them
	RefuseWith int        `json:"refuseWith"` // status of a refusal, 503 when 0; -1 breaks the connection off, -2 says nothing
	OutUntil   *time.Time `json:"outUntil"`   // until then it answers 503 with Retry-After
}

// Check says what is wrong with a behaviour, or nil.
func (b Behaviour) Check() error {
	switch {
	case b.Status != nil && !answers(*b.Status):
		return fmt.Errorf("status must be between 200 and 599, not %d", *b.Status)
	case b.Delay < 0 || b.Delay > maxDelay:
		return fmt.Errorf("delay must be between 0 and %d milliseconds, not %d", maxDelay, b.Delay)
	case b.Refuse < -1:
		return fmt.Errorf("refuse must be -1 for always, or a number of calls, not %d", b.Refuse)
	case b.RefuseWith != 0 && b.RefuseWith != -1 && b.RefuseWith != never && !answers(b.RefuseWith):
		return fmt.Errorf(
			"refuseWith must be between 200 and 599, -1 to break the connection off, or -2 to say nothing, not %d",
			b.RefuseWith,
		)
	}
	return nil
}

// Call is what a stand-in received.
type Call struct {
	N       int               `json:"n"`
	At      time.Time         `json:"at"`
	Method  string            `json:"method"`
	Path    string            `json:"path"`
	Headers map[string]string `json:"headers"`
	Body    string            `json:"body"`
	Key     string            `json:"key"`    // Idempotency-Key
	Status  int               `json:"status"` // what it answered; 0: it broke the connection off
	Copy    int               `json:"copy"`   // how many calls with this key it has accepted, this one included; 0 when it did not accept
	TimeOut bool              `json:"gaveUp"` // the caller did not wait for the answer
}

// System is one stand-in.
type System struct {
	mu        sync.Mutex
	def       Definition
	behaviour Behaviour
	calls     []Call // the newest last
	n         int
	accepted  map[string]int    // by key, for the calls that are remembered
	gate      gate              // of one that gives tokens
	conns     map[net.Conn]bool // to it, where it speaks
	speaker   speaker           // of one that speaks something else than HTTP
	folders   string            // where those with files have them
}

// Set is all stand-ins of an application. It is safe for concurrent use.
type Set struct {
	mu      sync.RWMutex
	systems map[string]*System
	now     func() time.Time
	changed func()
	// Folders is where stand-ins with files have them, a folder each; it is set before the
	// first is defined.
	Folders string
}

// ErrNotFound tells that there is no stand-in of a name.
var ErrNotFound = errors.New("there is no such stand-in")

// NewSet makes an empty set. changed is called after every call.
func NewSet(now func() time.Time, changed func()) *Set {
	return &Set{systems: map[string]*System{}, now: now, changed: changed}
}

// Define adds or replaces a stand-in; what it has received stays, and so does its kind.
func (s *Set) Define(d Definition) error {
	if d.Status == 0 {
		d.Status = http.StatusOK
	}
	if d.Headers == nil {
		d.Headers = map[string]string{}
	}
	if d.Title == "" {
		d.Title = d.Name
	}
	defer s.changed()
	s.mu.Lock()
	defer s.mu.Unlock()
	if old := s.systems[d.Name]; old != nil {
		old.mu.Lock()
		defer old.mu.Unlock()
		if old.def.Kind != d.Kind {
			return errors.New("a stand-in keeps its kind; remove it and make another one")
		}
		if err := reshape(old.speaker, d); err != nil {
			return err
		}
		old.def = d
		return nil
	}
	sys := &System{def: d, accepted: map[string]int{}, folders: s.Folders}
	if makes := speakers[d.Kind]; makes != nil {
		var err error
		if sys.speaker, err = makes(sys, s.now, s.changed); err != nil {
			return err
		}
		if err = reshape(sys.speaker, d); err != nil {
			return errors.Join(err, sys.speaker.close())
		}
	}
	s.systems[d.Name] = sys
	return nil
}

func reshape(of speaker, d Definition) error {
	if s, is := of.(shaped); is {
		return s.shape(d)
	}
	return nil
}

// View is a stand-in as people see it.
type View struct {
	Definition
	Received  int       `json:"received"` // calls since the start
	Accepted  int       `json:"accepted"` // of those remembered
	Behaviour Behaviour `json:"behaviour"`
}

// Whole is a stand-in with what it received.
type Whole struct {
	View
	Calls  []Call   `json:"calls"`  // the newest first
	Inside []Inside `json:"inside"` // the queues of one that is a broker with queues
}

// List gives all stand-ins by title, without regard to case, and without their calls.
func (s *Set) List() []View {
	s.mu.RLock()
	defer s.mu.RUnlock()
	out := make([]View, 0, len(s.systems))
	for _, sys := range s.systems {
		out = append(out, sys.view().View)
	}
	sort.Slice(out, func(i, j int) bool {
		a, b := strings.ToLower(out[i].Title), strings.ToLower(out[j].Title)
		return a < b || a == b && out[i].Name < out[j].Name
	})
	return out
}

// Get gives a stand-in with its calls, or ErrNotFound.
func (s *Set) Get(name string) (Whole, error) {
	sys := s.find(name)
	if sys == nil {
		return Whole{}, ErrNotFound
	}
	v := sys.view()
	if l, is := sys.speaker.(looked); is {
		v.Inside = l.inside()
	}
	return v, nil
}

func (s *Set) find(name string) *System {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.systems[name]
}

func (sys *System) view() Whole {
	sys.mu.Lock()
	defer sys.mu.Unlock()
	v := Whole{
		View{Definition: sys.def, Received: sys.n, Behaviour: sys.behaviour}, make([]Call, 0, len(sys.calls)), []Inside{},
	}
	for _, c := range sys.calls {
		if c.Copy > 0 {
			v.Accepted++
		}
	}
	for i := len(sys.calls) - 1; i >= 0; i-- {
		v.Calls = append(v.Calls, sys.calls[i])
	}
	return v
}

// Behave tells a stand-in what to do next.
func (s *Set) Behave(name string, b Behaviour) error {
	sys := s.find(name)
	if sys == nil {
		return ErrNotFound
	}
	if err := b.Check(); err != nil {
		return err
	}
	sys.mu.Lock()
	sys.behaviour = b
	sys.mu.Unlock()
	if b.OutUntil != nil {
		sys.cut()
	}
	s.changed()
	return nil
}

// Forget drops what a stand-in has received.
func (s *Set) Forget(name string) error {
	sys := s.find(name)
	if sys == nil {
		return ErrNotFound
	}
	sys.mu.Lock()
	sys.calls, sys.accepted = nil, map[string]int{}
	sys.mu.Unlock()
	s.changed()
	return nil
}

// Serve answers one call to a stand-in; path is what follows its name.
func (s *Set) Serve(w http.ResponseWriter, r *http.Request, name, path string) error {
	sys := s.find(name)
	if sys == nil {
		return ErrNotFound
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	if err != nil {
		return err
	}
	call := Call{
		At:      s.now(),
		Method:  r.Method,
		Path:    path,
		Headers: map[string]string{},
		Body:    strings.ToValidUTF8(string(body), "\uFFFD"),
		Key:     r.Header.Get("Idempotency-Key"),
	}
	if r.URL.RawQuery != "" {
		call.Path += "?" + r.URL.RawQuery
	}
	for k, v := range r.Header {
		call.Headers[k] = strings.Join(v, ", ")
		if k == "Authorization" || strings.Contains(strings.ToLower(k), "key") && k != "Idempotency-Key" {
			call.Headers[k] = "(given, not shown)"
		}
	}
	if sys.behind(w, r, path, body, &call, s.now()) {
		s.changed()
		return nil
	}
	status, headers, text, delay := sys.decide(s.now(), r.Method, call.Path)
	if status == never {
		delay = maxDelay * time.Millisecond // longer than anybody waits; then it breaks off
		status = 0
	}
	if delay > 0 {
		select {
		case <-time.After(delay):
		case <-r.Context().Done():
			call.TimeOut = true
		}
	}
	if !call.TimeOut {
		call.Status = status
	}
	n := sys.note(call)
	s.changed()
	switch {
	case call.TimeOut:
		return nil
	case status == 0:
		panic(http.ErrAbortHandler)
	}
	for k, v := range headers {
		w.Header().Set(k, v)
	}
	w.WriteHeader(status)
	_, err = io.WriteString(w, strings.ReplaceAll(text, "${n}", strconv.Itoa(n)))
	return err
}

// behind answers for the gate of a stand-in that gives tokens, and tells whether it did.
func (sys *System) behind(w http.ResponseWriter, r *http.Request, path string, body []byte, call *Call,
	now time.Time) bool {
	sys.mu.Lock()
	t := sys.def.Tokens
	sys.mu.Unlock()
	if t == nil {
		return false
	}
	status, kind, text, done := sys.gate.answer(t, r, path, body, now)
	if !done {
		return false
	}
	if call.Status = status; status != http.StatusUnauthorized {
		call.Body = "(given, not shown)"
	}
	sys.note(*call)
	w.Header().Set("Content-Type", kind)
	w.WriteHeader(status)
	_, _ = io.WriteString(w, text)
	return true
}

// decide says what the next answer is, and counts refusals down.
func (sys *System) decide(
	now time.Time,
	method, path string,
) (status int, headers map[string]string, body string, delay time.Duration) {
	sys.mu.Lock()
	defer sys.mu.Unlock()
	b := &sys.behaviour
	delay = time.Duration(b.Delay) * time.Millisecond
	if b.Delay == 0 {
		delay = time.Duration(sys.def.Delay) * time.Millisecond
	}
	problem := func(status int, title string) string {
		text, _ := json.Marshal(map[string]any{"title": title, "status": status})
		return string(text)
	}
	asProblem := map[string]string{"Content-Type": "application/problem+json"}
	if b.OutUntil != nil {
		if left := b.OutUntil.Sub(now); left > 0 {
			asProblem["Retry-After"] = strconv.Itoa(int((left + time.Second - 1) / time.Second))
			return 503, asProblem, problem(503, "Out of order for a while"), delay
		}
		b.OutUntil = nil
	}
	if b.Refuse != 0 {
		if b.Refuse > 0 {
			b.Refuse--
		}
		switch b.RefuseWith {
		case -1:
			return 0, nil, "", delay
		case never:
			return never, nil, "", delay
		case 0:
			return 503, asProblem, problem(503, "Refused"), delay
		}
		return b.RefuseWith, asProblem, problem(b.RefuseWith, "Refused"), delay
	}
	if f := sys.def.Falters; f != nil && f.Every > 0 && (sys.n+1)%f.Every == 0 {
		return f.Status, asProblem, problem(f.Status, "Fails now and then"), delay
	}
	status, body = sys.def.Status, sys.def.Body
	if r, names := sys.def.route(method, path); r != nil {
		if body = fill(r.Body, names); r.Status != 0 {
			status = r.Status
		}
	}
	if b.Status != nil {
		status = *b.Status
	}
	if b.Body != nil {
		body = *b.Body
	}
	return status, sys.def.Headers, body, delay
}

func (sys *System) note(c Call) int {
	sys.mu.Lock()
	defer sys.mu.Unlock()
	sys.n++
	c.N = sys.n
	if c.Status >= 200 && c.Status <= 299 {
		c.Copy = 1
		if c.Key != "" {
			sys.accepted[c.Key]++
			c.Copy = sys.accepted[c.Key]
		}
	}
	sys.calls = append(sys.calls, c)
	if len(sys.calls) > kept {
		old := sys.calls[0]
		if old.Copy > 0 && old.Key != "" {
			if sys.accepted[old.Key]--; sys.accepted[old.Key] <= 0 {
				delete(sys.accepted, old.Key)
			}
		}
		sys.calls = append([]Call(nil), sys.calls[1:]...)
	}
	return c.N
}
