package http

import (
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/core/want"
)

// A path that a message brought does not lead to another host, whatever it is.
func TestAPathStaysAtItsHost(t *testing.T) {
	asked := 0
	own := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	defer own.Close()
	stranger := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter,
		*http.Request) {
		t.Error("the stranger is asked")
	}))
	defer stranger.Close()
	at := stranger.Listener.Addr().String()
	opened, err := New("").Open(t.Context(), &connect.Connection{Name: "c", Address: own.URL,
		SignIn: connect.SignIn{Kind: connect.SignInNone}, TimeLimit: 5 * time.Second})
	if err != nil {
		t.Fatal(err)
	}
	l := opened.(connect.Sender)
	for _, path := range []string{"@" + at + "/", ":x@" + at + "/", ".stranger.example/", "0/"} {
		if _, err := l.Send(t.Context(), connect.Request{Request: want.Request{Method: "GET", Path: path}}); err == nil {
			t.Errorf("%q is sent", path)
		}
	}
	for _, path := range []string{"/a", "", "//" + at, "/@" + at, "/?to=http://" + at} {
		if _, err := l.Send(t.Context(), connect.Request{Request: want.Request{Method: "GET", Path: path}}); err != nil {
			t.Errorf("%q: %v", path, err)
		}
	}
	if asked != 5 {
		t.Errorf("it was asked %d times", asked)
	}
}
