package fleet

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"sync"
	"time"
)

// Door is how members call each other, and how whoever calls a member comes to the one that leads.
type Door struct {
	n      *Node
	server *http.Server
	way    http.RoundTripper
	buffers
}

// buffers are those that answers are handed through.
type buffers struct{ pool sync.Pool }

// Get implements httputil.BufferPool.
func (b *buffers) Get() []byte {
	if p, is := b.pool.Get().(*[]byte); is {
		return *p
	}
	return make([]byte, 32<<10)
}

// Put implements httputil.BufferPool.
func (b *buffers) Put(p []byte) { b.pool.Put(&p) }

// The paths of the door that are its own; what stands at others is the leader's.
const (
	copyPath   = "/fleet/copy"
	StatusPath = "/fleet/status"
	DrainPath  = "/fleet/drain"
	RemovePath = "/fleet/remove"
)

// ForwardedBy is the header that names the member which hands a call over, so that none goes round in a
// circle. Where somebody else than a member says it, it has to be taken away before.
const ForwardedBy = "Readyferry-Member"

// OpenDoor listens for the other members.
func (n *Node) OpenDoor() (*Door, error) {
	d := &Door{n: n, way: n.transport()}
	l, err := net.Listen("tcp", n.File.Self().Door)
	if err != nil {
		return nil, fmt.Errorf("the door of %s: %w", n.File.This, err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET "+copyPath, func(w http.ResponseWriter, r *http.Request) {
		if one := n.partOf(r.FormValue("partition")); one != nil {
			one.sendCopy(w, r)
			return
		}
		refuse(w, http.StatusNotFound, "There is no such partition", r.FormValue("partition"))
	})
	mux.HandleFunc("GET "+StatusPath, func(w http.ResponseWriter, _ *http.Request) { answer(w, n.Status()) })
	mux.HandleFunc("POST "+DrainPath, func(w http.ResponseWriter, r *http.Request) {
		if err := n.Drain(r.Context(), r.FormValue("member"), r.FormValue("drained") != "false"); err != nil {
			refuse(w, http.StatusConflict, "The member was not told", err.Error())
			return
		}
		answer(w, struct{}{})
	})
	mux.HandleFunc("POST "+RemovePath, func(w http.ResponseWriter, r *http.Request) {
		if err := n.Remove(r.Context(), r.FormValue("member")); err != nil {
			refuse(w, http.StatusConflict, "The member was not removed", err.Error())
			return
		}
		answer(w, struct{}{})
	})
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		h := n.ownOf(r)
		if h == nil {
			refuse(w, http.StatusServiceUnavailable, "This member does not lead", "another one does by now")
			return
		}
		h.ServeHTTP(w, r)
	})
	d.server = &http.Server{Handler: mux, TLSConfig: n.id.config(), ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10, ErrorLog: slog.NewLogLogger(n.Log.Handler(),
			slog.LevelDebug)}
	go func() {
		if err := d.server.ServeTLS(l, "", ""); !errors.Is(err, http.ErrServerClosed) {
			n.Log.Error("the door of the fleet", "error", err)
		}
	}()
	return d, nil
}

// Close ends it; what is under way has a little time to come to its end.
func (d *Door) Close() error {
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Second)
	defer stop()
	if d.server.Shutdown(ctx) != nil {
		return d.server.Close()
	}
	return nil
}

// Client gives a client that calls the doors of members as the one whose file it is.
func Client(f *File) *http.Client {
	n := &Node{id: &identity{f: f}}
	return &http.Client{Transport: n.transport(), Timeout: time.Minute}
}

func (n *Node) transport() *http.Transport {
	return &http.Transport{TLSClientConfig: n.id.config(), MaxIdleConnsPerHost: 512, IdleConnTimeout: time.Minute,
		TLSHandshakeTimeout: 5 * time.Second, DialContext: (&net.Dialer{Timeout: 3 * time.Second}).DialContext,
		TLSNextProto: map[string]func(string, *tls.Conn) http.RoundTripper{}}
}

// refuseGivenUp answers a call that was given up by whoever has handed it on.
func refuseGivenUp(w http.ResponseWriter) {
	refuse(
		w,
		http.StatusServiceUnavailable,
		"The call was given up",
		"nobody knows whether it was stored; send it again later",
	)
}

// refuse answers with a problem document (RFC 9457) and Retry-After (RFC 9110, 10.2.3).
func refuse(w http.ResponseWriter, status int, title, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Set("Retry-After", "2")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"type": "about:blank", "title": title, "status": status,
		"detail": detail})
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

// Remove has the others forget a member that is gone and does not come back.
func (n *Node) Remove(ctx context.Context, member string) error {
	n.mu.Lock()
	h := n.beats[member]
	there := h != nil && time.Since(h.when) < silentFor
	n.mu.Unlock()
	switch {
	case there:
		return fmt.Errorf("%s is there: stop it first", member)
	case time.Since(n.began) < 2*silentFor:
		return fmt.Errorf("%s was started just now and may not have heard of %s yet: ask again in some seconds",
			n.File.This, member)
	}
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	return n.link.remove(ctx, member)
}

// Drain tells a member that it is not to lead, so that it can be stopped without anybody waiting; or
// that it may again.
func (n *Node) Drain(ctx context.Context, member string, drained bool) error {
	if n.File.Member(member) == nil {
		return fmt.Errorf("%q is no member", member)
	}
	ctx, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	_, err := n.link.conn.RequestWithContext(ctx, "fleet.drain."+member, []byte(strconv.FormatBool(drained)))
	if err != nil {
		return fmt.Errorf("%s is not there: %w", member, err)
	}
	return nil
}
