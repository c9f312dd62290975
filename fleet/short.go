package fleet

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/textproto"
	"strconv"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
)

// Most calls are short messages for webhooks. They are handed over between the engines, many in one message
// (carrier), where HTTP makes a write of each: what handing over costs is then a quarter. All other calls, long
// ones, and those for members of a release that does not know these, go through the door.

// shortBody is the largest body that is handed over so, in bytes, and mostShort how many such calls are
// under way at once at a member.
const (
	shortBody = 64 << 10
	mostShort = 8192
)

// isShort tells whether a call may be handed over between the engines.
func isShort(r *http.Request) bool {
	return isMessage(r) && r.ContentLength >= 0 && r.ContentLength <= shortBody &&
		r.Header.Get("Upgrade") == "" && r.Header.Get("Expect") == "" && len(r.Trailer) == 0
}

// handShort hands a short call over, and tells whether the member has heard of it.
func (d *Door) handShort(n *Node, w http.ResponseWriter, r *http.Request, to string) (heard bool) {
	body, err := io.ReadAll(io.LimitReader(r.Body, shortBody+1))
	if err != nil || int64(len(body)) != r.ContentLength {
		refuse(w, http.StatusBadRequest, "The body cannot be read", "it is not as long as it says")
		return true
	}
	ctx, stop := context.WithCancel(r.Context())
	defer stop()
	defer context.AfterFunc(n.spanOf(to), stop)()
	c, err := d.n.carrierTo(to)
	var said []byte
	if err == nil {
		said, err = c.call(ctx, asBytes(r, body, d.n.File.This, n.part))
	}
	if err == nil {
		err = answerWith(w, said)
	}
	switch {
	case errors.Is(err, nats.ErrNoResponders), errors.Is(err, errNotLeading):
		r.Body = io.NopCloser(bytes.NewReader(body))
		return false
	case r.Context().Err() != nil:
		refuseGivenUp(w)
	case err != nil:
		d.n.Log.Info("a call was handed over, and nothing came back", "to", to, "error", err)
		refuse(w, http.StatusServiceUnavailable, "The member that leads was lost",
			"nobody knows whether it has stored it; send it again later")
	}
	return true
}

// asBytes writes a call as HTTP/1.1 has it (RFC 9112).
func asBytes(r *http.Request, body []byte, by string, part int) []byte {
	var b bytes.Buffer
	b.Grow(len(body) + 512)
	fmt.Fprintf(&b, "%s %s HTTP/1.1\r\nHost: %s\r\n", r.Method, r.URL.RequestURI(), r.Host)
	h := r.Header.Clone()
	if at, _, err := net.SplitHostPort(r.RemoteAddr); err == nil {
		h.Set("X-Forwarded-For", strings.Join(append(h.Values("X-Forwarded-For"), at), ", "))
	}
	if h.Get("X-Forwarded-Proto") == "" {
		h.Set("X-Forwarded-Proto", map[bool]string{true: "https", false: "http"}[r.TLS != nil])
	}
	h.Set(ForwardedBy, by)
	h.Set(partitionHeader, strconv.Itoa(part))
	h.Set("Content-Length", strconv.Itoa(len(body)))
	_ = h.WriteSubset(&b, map[string]bool{"Connection": true, "Keep-Alive": true, "Transfer-Encoding": true,
		"Te": true})
	b.WriteString("\r\n")
	b.Write(body)
	return b.Bytes()
}

// notLeading is a header by which a member says that it has done nothing with a call.
const notLeading = "Readyferry-Not-Leading"

// errNotLeading tells that a member does not lead any more, and has done nothing with a call.
var errNotLeading = errors.New("it does not lead any more")

// answerWith gives a caller what the other member has answered.
func answerWith(w http.ResponseWriter, b []byte) error {
	in := textproto.NewReader(bufio.NewReader(bytes.NewReader(b)))
	line, err := in.ReadLine()
	if err != nil {
		return err
	}
	status, err := strconv.Atoi(line)
	if err != nil || status < 200 || status > 999 {
		return fmt.Errorf("it answers the status %q", line)
	}
	h, err := in.ReadMIMEHeader()
	if err != nil {
		return err
	}
	if h.Get(notLeading) != "" {
		return errNotLeading
	}
	for name, values := range h {
		w.Header()[name] = values
	}
	w.WriteHeader(status)
	_, err = io.Copy(w, in.R)
	return err
}

// kept is an answer that is kept until it is whole.
type kept struct {
	status int
	head   http.Header
	body   bytes.Buffer
}

// Header implements http.ResponseWriter.
func (k *kept) Header() http.Header { return k.head }

// WriteHeader implements http.ResponseWriter.
func (k *kept) WriteHeader(status int) {
	if k.status == 0 && status >= 200 {
		k.status = status
	}
}

// Write implements io.Writer.
func (k *kept) Write(p []byte) (int, error) {
	k.WriteHeader(http.StatusOK)
	return k.body.Write(p)
}

// asBytes gives it as answerWith reads it.
func (k *kept) asBytes() []byte {
	k.WriteHeader(http.StatusOK)
	var b bytes.Buffer
	fmt.Fprintf(&b, "%d\r\n", k.status)
	_ = k.head.Write(&b)
	b.WriteString("\r\n")
	b.Write(k.body.Bytes())
	return b.Bytes()
}

func (n *Node) answerShort(b []byte) (k *kept) {
	k = &kept{head: http.Header{}}
	defer func() {
		if p := recover(); p != nil { // as the server of HTTP does
			n.Log.Error("answering a call of another member", "panic", p)
			k = &kept{head: http.Header{}}
			refuse(k, http.StatusServiceUnavailable, "The call failed",
				"nobody knows whether it was stored; send it again later")
		}
	}()
	r, err := http.ReadRequest(bufio.NewReader(bytes.NewReader(b)))
	if err != nil {
		refuse(k, http.StatusBadRequest, "The call cannot be read", err.Error())
		return k
	}
	h := n.ownOf(r)
	if h == nil {
		k.head.Set(notLeading, "yes")
		refuse(k, http.StatusServiceUnavailable, "This member does not lead",
			"another one does by now; nothing was stored")
		return k
	}
	// Where this member stops its work ends, and says to each call what came of it. A call that was given up
	// instead would be answered by whatever a handler says to nobody.
	ctx, stop := context.WithTimeout(context.WithoutCancel(n.ctx), longestShort)
	defer stop()
	r.RemoteAddr, r.URL.Scheme = "127.0.0.1:0", ""
	if r.URL.Host == "" {
		r.RequestURI = r.URL.RequestURI()
	}
	h.ServeHTTP(k, r.WithContext(ctx))
	return k
}

// longestShort is how long such a call may wait for its answer.
const longestShort = time.Hour
