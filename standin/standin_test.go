package standin

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

func post(t *testing.T, s *Set, key string) *httptest.ResponseRecorder {
	t.Helper()
	r := httptest.NewRequest("POST", "/stand-ins/p/x?q=1", strings.NewReader(`{"a":1}`))
	r.Header.Set("Idempotency-Key", key)
	r.Header.Set("Authorization", "Bearer secret")
	w := httptest.NewRecorder()
	if err := s.Serve(w, r, "p", "/x"); err != nil {
		t.Fatal(err)
	}
	return w
}

func TestItDoesWhatItIsTold(t *testing.T) {
	now := time.Date(2026, 3, 17, 9, 0, 0, 0, time.UTC)
	changes := 0
	s := NewSet(func() time.Time { return now }, func() { changes++ })
	_ = s.Define(Definition{Name: "p", Status: 201, Body: `{"n":${n}}`})
	code := func(key string) string {
		w := post(t, s, key)
		return fmt.Sprint(w.Code, " ", w.Header().Get("Retry-After"))
	}
	if w := post(t, s, "a"); w.Code != 201 || w.Body.String() != `{"n":1}` {
		t.Errorf("%d %s", w.Code, w.Body)
	}
	status, body := 422, "no"
	until := now.Add(90 * time.Second)
	for _, c := range []struct {
		name string
		b    Behaviour
		want []string
	}{
		{"refuse twice", Behaviour{Refuse: 2}, []string{"503 ", "503 ", "201 "}},
		{"refuse always with 429", Behaviour{Refuse: -1, RefuseWith: 429}, []string{"429 ", "429 ", "429 "}},
		{"another status", Behaviour{Status: &status, Body: &body}, []string{"422 ", "422 "}},
		{"out for a time", Behaviour{OutUntil: &until}, []string{"503 90", "503 90"}},
	} {
		if err := s.Behave("p", c.b); err != nil {
			t.Fatal(err)
		}
		for i, want := range c.want {
			if got := code(c.name); got != want {
				t.Errorf("%s, call %d: %s, want %s", c.name, i+1, got, want)
			}
		}
	}
	_ = s.Define(Definition{Name: "p", Status: 201, Delay: 30})
	if err := s.Behave("p", Behaviour{}); err != nil {
		t.Fatal(err)
	}
	if began := time.Now(); code("slow") != "201 " || time.Since(began) < 30*time.Millisecond {
		t.Error("the defined delay is not kept")
	}
	_ = s.Define(Definition{Name: "p", Status: 201})
	if err := s.Behave("p", Behaviour{OutUntil: &until}); err != nil {
		t.Fatal(err)
	}
	now = now.Add(2 * time.Minute)
	if got := code("late"); got != "201 " {
		t.Errorf("after the outage: %s", got)
	}
	if changes == 0 {
		t.Error("nobody was told")
	}
	for name, b := range map[string]Behaviour{"delay": {Delay: -1}, "refuse": {Refuse: -2}, "status": {Status: new(int)},
		"refuseWith": {RefuseWith: 42}} {
		if err := s.Behave("p", b); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestItCountsCopiesAndKeepsNoSecrets(t *testing.T) {
	s := NewSet(time.Now, func() {})
	_ = s.Define(Definition{Name: "p"})
	post(t, s, "a")
	post(t, s, "a")
	post(t, s, "b")
	v, err := s.Get("p")
	if err != nil || v.Received != 3 || v.Accepted != 3 {
		t.Fatalf("%+v %v", v, err)
	}
	if c := v.Calls[1]; c.Copy != 2 || c.Key != "a" || c.Path != "/x?q=1" ||
		strings.Contains(fmt.Sprint(c.Headers), "secret") {
		t.Errorf("%+v", c)
	}
	for range kept + 10 {
		post(t, s, "c")
	}
	if v, _ := s.Get("p"); len(v.Calls) != kept || v.Received != kept+13 {
		t.Errorf("%d calls are kept", len(v.Calls))
	}
	if err := s.Forget("p"); err != nil {
		t.Fatal(err)
	}
	if v, _ := s.Get("p"); len(v.Calls) != 0 {
		t.Error("it remembers")
	}
	if _, err := s.Get("nobody"); err != ErrNotFound {
		t.Error(err)
	}
}

func TestItBreaksOffAndIsLate(t *testing.T) {
	s := NewSet(time.Now, func() {})
	_ = s.Define(Definition{Name: "p"})
	server := httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { _ = s.Serve(w, r, "p", "/") }),
	)
	defer server.Close()
	if err := s.Behave("p", Behaviour{Refuse: 1, RefuseWith: -1}); err != nil {
		t.Fatal(err)
	}
	if _, err := http.Get(server.URL); err == nil {
		t.Error("a broken connection gave an answer")
	}
	if err := s.Behave("p", Behaviour{Delay: 60}); err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	res, err := http.Get(server.URL)
	if err != nil || time.Since(began) < 60*time.Millisecond {
		t.Errorf("%v after %s", err, time.Since(began))
	}
	if err == nil {
		_ = res.Body.Close()
	}
}
