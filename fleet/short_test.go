package fleet

import (
	"bytes"
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
)

// A call that another member has handed over is answered by what its handler says, also while this member
// stops: nothing that is said to nobody comes to the caller as a success.
func TestACallIsNotGivenUpWhereTheMemberStops(t *testing.T) {
	ctx, end := context.WithCancel(context.Background())
	n := &Node{Config: Config{Log: slog.New(slog.NewTextHandler(io.Discard, nil))}, ctx: ctx}
	n.first, n.parts = n, []*Node{n}
	n.handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		end() // it stops while the call is under way
		if r.Context().Err() != nil {
			return // as many do, since nobody hears them
		}
		w.WriteHeader(http.StatusAccepted)
	})
	r := httptest.NewRequest("POST", "/in/loans", strings.NewReader("{}"))
	k := n.answerShort(asBytes(r, []byte("{}"), "b", 0))
	said := httptest.NewRecorder()
	if err := answerWith(said, bytes.Clone(k.asBytes())); err != nil || said.Code != http.StatusAccepted {
		t.Errorf("%d %v", said.Code, err)
	}
}
