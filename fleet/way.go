package fleet

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// The way of a call: it comes in at any member, and is answered by the one that leads the partition that it is for.
// Whatever happens on the way it gets an answer, and a success only where the engine that leads has said so: who
// is told nothing would take that for one.

// own gives what answers calls while this member leads; nil while it does not.
func (n *Node) own() http.Handler {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.handler
}

// waitForLeader is how long a call waits where nobody leads: another member takes over meanwhile.
const waitForLeader = 12 * time.Second

// stuck is how long the log may take nothing until calls are refused at once.
const stuck = 4 * time.Second

// ServeHTTP answers a call at a member: itself where it leads, else the one that does. A message for a
// webhook comes into a partition that this member leads, if it leads one; where it belongs to another, the
// engine hands it over (HandTo).
func (d *Door) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	part := 0
	if len(d.n.parts) > 1 && isMessage(r) {
		part = d.n.entry()
	}
	d.serve(part, w, r, time.Now().Add(waitForLeader))
}

// HandTo answers a call by the member that leads a partition.
func (d *Door) HandTo(part int, w http.ResponseWriter, r *http.Request) {
	hops, _ := strconv.Atoi(r.Header.Get(hopsHeader))
	if hops >= mostHops {
		refuse(w, http.StatusServiceUnavailable, "The members do not agree where the message belongs",
			"its flow was published just now; nothing was stored, send it again later")
		return
	}
	r.Header.Set(hopsHeader, strconv.Itoa(hops+1))
	d.serve(part, w, r, time.Now().Add(waitForLeader))
}

// Ask posts something to a path of the member that leads a partition, and gives what that answers.
func (d *Door) Ask(ctx context.Context, part int, path string, body []byte) (status int, said []byte, err error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, path, bytes.NewReader(body))
	if err != nil {
		return 0, nil, err
	}
	r.RemoteAddr = "127.0.0.1:0"
	k := &kept{head: http.Header{}}
	d.serve(part, k, r, time.Now().Add(waitForLeader))
	return k.status, k.body.Bytes(), nil
}

// isMessage tells whether a call is for a webhook.
func isMessage(r *http.Request) bool { return strings.HasPrefix(r.URL.Path, "/in/") }

// The headers by which members tell each other which partition a call is for, and how often it was handed
// over; what a caller says of them has to be taken away.
const (
	partitionHeader = "Readyferry-Partition"
	hopsHeader      = "Readyferry-Hops"
	mostHops        = 3
)

// TrustedHeader tells that a person sends a message from a flow's own page.
const TrustedHeader = "Readyferry-Trusted"

// Said are the headers that members alone say to each other.
var Said = []string{ForwardedBy, partitionHeader, hopsHeader, TrustedHeader}

// partOf gives the node of a partition by its number as a text; "" is the first. nil: there is none.
func (n *Node) partOf(text string) *Node {
	part := 0
	if text != "" {
		var err error
		if part, err = strconv.Atoi(text); err != nil {
			return nil
		}
	}
	if part < 0 || part >= len(n.first.parts) {
		return nil
	}
	return n.first.parts[part]
}

// ownOf gives what answers a call for the partition that it is for; nil where this member does not lead that.
func (n *Node) ownOf(r *http.Request) http.Handler {
	one := n.partOf(r.Header.Get(partitionHeader))
	if one == nil {
		return nil
	}
	return one.own()
}

// entry chooses the partition that a message comes in by: one that this member leads, the first one last, since that
// has most to do; else any.
func (n *Node) entry() int {
	for part := len(n.parts) - 1; part >= 0; part-- {
		if n.parts[part].own() != nil {
			return part
		}
	}
	return rand.IntN(len(n.parts))
}

func (d *Door) serve(part int, w http.ResponseWriter, r *http.Request, deadline time.Time) {
	n := d.n.parts[part]
	for {
		n.mu.Lock()
		own, changed, pending := n.handler, n.changed, n.pending
		cut := n.whole && len(n.there()) < n.File.majority()
		n.mu.Unlock()
		if own != nil {
			if !pending.IsZero() && time.Since(pending) > stuck {
				refuse(w, http.StatusServiceUnavailable, "Nothing can be kept now", n.why())
				return
			}
			own.ServeHTTP(w, r)
			return
		}
		if l := n.leader(); l != nil && l.Name != n.File.This {
			d.hand(n, w, r, l, deadline)
			return
		}
		wait := time.Until(deadline)
		if wait <= 0 || cut { // no waiting helps who is cut off
			refuse(w, http.StatusServiceUnavailable, "No member leads now", n.why())
			return
		}
		select {
		case <-r.Context().Done():
			refuseGivenUp(w)
			return
		case <-n.ctx.Done():
			refuse(w, http.StatusServiceUnavailable, "The member stops", "ask another one")
			return
		case <-changed:
		case <-time.After(min(wait, lookEvery)):
		}
	}
}

// why says why nobody can be asked.
func (n *Node) why() string {
	n.mu.Lock()
	there := len(n.there())
	n.mu.Unlock()
	if m := n.File.majority(); there < m {
		return fmt.Sprintf(
			"%s sees %d of %d members and needs %d: it is cut off from the majority of the fleet; nothing was stored, "+
				"send it again later",
			n.File.This,
			there,
			len(n.File.Members),
			m,
		)
	}
	return "the members choose which of them leads; nothing was stored, send it again later"
}

// unclosed is a body that stays open where a call could not be handed over: it is not read then.
type unclosed struct{ io.Reader }

// Close implements io.Closer.
func (unclosed) Close() error { return nil }

// unreached tells that a member was not connected to, so that it has heard nothing of a call.
func unreached(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) && op.Op == "dial"
}

// hand hands a call over to a member. What it says of who has called (X-Forwarded-…) was taken away
// where nobody is to be believed it. Where the member is not reached the call waits for another one to lead.
func (d *Door) hand(n *Node, w http.ResponseWriter, r *http.Request, leads *heard, deadline time.Time) {
	to := leads.Name
	if r.Header.Get(ForwardedBy) != "" {
		refuse(w, http.StatusServiceUnavailable, "No member leads now", "the one that was asked does not any more")
		return
	}
	if isShort(r) && leads.Calls {
		if d.handShort(n, w, r, to) {
			return
		}
		// It is not there any more, or leads no more: another one will.
		if time.Now().After(deadline) {
			refuse(w, http.StatusServiceUnavailable, "The member that leads is not reached",
				"nothing was stored; send it again later")
			return
		}
		select {
		case <-r.Context().Done():
			refuseGivenUp(w)
		case <-time.After(lookEvery):
			d.serve(n.part, w, r, deadline)
		}
		return
	}
	if c := http.NewResponseController(w); c != nil { // streams of events and lines stay open
		_ = c.SetReadDeadline(time.Time{})
		_ = c.SetWriteDeadline(time.Time{})
	}
	ctx, stop := context.WithCancel(r.Context())
	defer stop()
	defer context.AfterFunc(n.spanOf(to), stop)()
	at := &url.URL{Scheme: "https", Host: d.n.File.Member(to).Door}
	p := &httputil.ReverseProxy{
		Transport: d.way, BufferPool: &d.buffers,
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(at)
			r.Out.Host = r.In.Host
			r.Out.Header["X-Forwarded-For"] = r.In.Header["X-Forwarded-For"]
			r.SetXForwarded()
			if said := r.In.Header.Get("X-Forwarded-Proto"); said != "" {
				r.Out.Header.Set("X-Forwarded-Proto", said)
			}
			r.Out.Header.Set(ForwardedBy, d.n.File.This)
			r.Out.Header.Set(partitionHeader, strconv.Itoa(n.part))
		},
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
			if r.Context().Err() != nil {
				refuseGivenUp(w)
				return
			}
			if unreached(err) && time.Now().Before(deadline) {
				n.missed(to, err)
				select {
				case <-r.Context().Done():
				case <-time.After(lookEvery):
				}
				d.serve(n.part, w, r, deadline)
				return
			}
			d.n.Log.Info("a call could not be handed over", "to", to, "error", err)
			refuse(w, http.StatusServiceUnavailable, "The member that leads was lost",
				"nobody knows whether it has stored it; send it again later")
		},
		ErrorLog: slog.NewLogLogger(d.n.Log.Handler(), slog.LevelDebug),
	}
	if r.Body != nil && r.Body != http.NoBody {
		r.Body = unclosed{r.Body}
	}
	p.ServeHTTP(w, r.WithContext(ctx))
}

// missed notes that a member's door is closed: who listens nowhere is gone.
func (n *Node) missed(member string, err error) {
	if !errors.Is(err, syscall.ECONNREFUSED) {
		return
	}
	for _, one := range n.first.parts {
		one.mu.Lock()
		if h := one.beats[member]; h != nil {
			h.when = time.Time{}
			one.change()
		}
		one.mu.Unlock()
	}
}
