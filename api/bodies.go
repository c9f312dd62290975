package api

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/gzhttp"

	"readyferry/core/run"
)

// How slowly a body may come. Whoever sends a header and then nothing, or a byte a
// second, would hold a connection and its memory for as long as they like.
const (
	bodyPatience = 10 * time.Second // before the first byte, and on top of what the rate gives
	bodyRate     = 4 << 10          // least bytes a second, over the whole body
	bodyStride   = 64 << 10         // bytes that are read under one deadline
	bodyRest     = 2 * time.Second  // for what nobody has read, behind the answer
	bodyLongest  = 30 * time.Minute // for the largest of loads
)

// bodies lets a request in: its body must be in no encoding that is not understood
// here (RFC 9110, 8.4), and must come in time.
func (s *Server) bodies(c *gin.Context) {
	if e := c.GetHeader("Content-Encoding"); e != "" && !strings.EqualFold(e, "identity") &&
		!(folded(c) && takesGzip(c)) {
		understood := "identity"
		if takesGzip(c) {
			understood = "gzip, identity"
		}
		c.Header("Accept-Encoding", understood) // RFC 9110, 12.5.3
		s.fail(c, &run.RefusedError{
			Status: http.StatusUnsupportedMediaType,
			Title:  "The body's encoding is not understood",
			Detail: fmt.Sprintf("Content-Encoding is %q; understood are %s", e, understood),
		})
		c.Abort()
		return
	}
	if c.Request.Body == nil || c.Request.ContentLength == 0 {
		c.Next()
		return
	}
	b := &timedBody{
		ReadCloser: c.Request.Body,
		deadline:   http.NewResponseController(c.Writer).SetReadDeadline,
		began:      time.Now(),
	}
	c.Request.Body = b
	defer func() {
		if !b.ended || b.armed { // what was not read is read past before the next request, and that must come, too
			_ = b.deadline(time.Now().Add(bodyRest))
		}
	}()
	c.Next()
}

// takesGzip tells whether messages come in here: those may be compressed.
func takesGzip(c *gin.Context) bool {
	path := c.Request.URL.Path
	return strings.HasPrefix(path, "/in/") || strings.HasPrefix(path, "/out/")
}

// folded tells whether a body is compressed.
func folded(c *gin.Context) bool { return strings.EqualFold(c.GetHeader("Content-Encoding"), "gzip") }

// unfold gives a body as it was before it was compressed, where it was (RFC 1952). One that
// unfolds to more than the limit is as one that is larger: it is read no further.
func unfold(c *gin.Context, content []byte, limit int64) ([]byte, error) {
	if !folded(c) {
		return content, nil
	}
	r, err := gzip.NewReader(bytes.NewReader(content))
	var out []byte
	if err == nil {
		out, err = io.ReadAll(io.LimitReader(r, limit+1))
	}
	switch {
	case err != nil:
		return nil, notFolded(err)
	case int64(len(out)) > limit:
		return nil, &http.MaxBytesError{Limit: limit}
	}
	return out, nil
}

// notFolded refuses a body that is not compressed as it says.
func notFolded(err error) error {
	return &run.RefusedError{Status: http.StatusBadRequest, Title: "The body cannot be unfolded",
		Detail: fmt.Sprintf("Content-Encoding is gzip, and the body is none: %v", err)}
}

// bounded reads no more than a limit of what a compressed body unfolds to.
type bounded struct {
	from  io.Reader
	left  int64
	limit int64
}

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.from.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return n, &http.MaxBytesError{Limit: b.limit}
	}
	if err != nil && !errors.Is(err, io.EOF) {
		var tooLarge *http.MaxBytesError
		if !errors.As(err, &tooLarge) && !errors.Is(err, errSlow) {
			err = notFolded(err)
		}
	}
	return n, err
}

// gated lets a handler work on a body when there is room for what it may need.
func (s *Server) gated(h handler) handler {
	return func(c *gin.Context) error {
		content, err := body(c, maxDocument)
		if err != nil {
			return err
		}
		leave, err := s.engine.Intake.Enter(c.Request.Context(), content)
		if err != nil {
			return err
		}
		defer leave()
		c.Request.Body = io.NopCloser(bytes.NewReader(content))
		return h(c)
	}
}

// timedBody gives up on a body that comes too slowly. The deadline stands only while
// it reads: behind the body a caller may wait for its answer as long as that takes.
type timedBody struct {
	io.ReadCloser
	deadline func(time.Time) error
	began    time.Time
	read     int64
	armed    bool  // the deadline stands
	armedAt  int64 // since so many bytes
	ended    bool
}

// errSlow is what reading such a body comes to.
var errSlow = errors.New("the body came too slowly")

func (b *timedBody) Read(p []byte) (int, error) {
	if !b.armed || b.read-b.armedAt >= bodyStride {
		patience := min(bodyLongest, bodyPatience+time.Duration(b.read)*time.Second/bodyRate)
		_ = b.deadline(b.began.Add(patience)) // where a connection has none, there is nothing to wait for
		b.armed, b.armedAt = true, b.read
	}
	n, err := b.ReadCloser.Read(p)
	b.read += int64(n)
	if err != nil {
		_ = b.deadline(time.Time{})
		b.armed = false
	}
	b.ended = b.ended || errors.Is(err, io.EOF)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		err = fmt.Errorf("%w: %d bytes in %s; at least %d a second are expected", errSlow, b.read,
			time.Since(b.began).Round(time.Second), bodyRate)
	}
	return n, err
}

// compressed hands out large answers of the interface compressed, to those who take that.
func compressed(h http.Handler) http.Handler {
	wrap, err := gzhttp.NewWrapper(gzhttp.MinSize(2<<10), gzhttp.CompressionLevel(gzip.BestSpeed),
		gzhttp.ContentTypes([]string{"application/json", "application/problem+json", "application/yaml", "text/plain"}))
	if err != nil {
		panic(err) // the settings are our own
	}
	smaller := wrap(h)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/api/") && r.URL.Path != "/api/v1/events" {
			smaller.ServeHTTP(w, r)
			return
		}
		h.ServeHTTP(w, r)
	})
}
