package api

import (
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"net/http"
	"slices"
	"sort"
	"strings"

	"github.com/gin-gonic/gin"

	"readyferry/connect/sign"
	"readyferry/core/message"
	"readyferry/core/step"
	"readyferry/engine/intake"
	"readyferry/fleet"
)

// intake serves the webhooks below /in.
func (s *Server) intake(c *gin.Context) {
	path := strings.TrimPrefix(c.Request.URL.EscapedPath(), "/in")
	in, allowed := s.engine.Intake.Find(c.Request.Method, path)
	if in == nil && s.handOver != nil && !s.engine.Journal.Partition.First() {
		s.handOver(0, c.Writer, c.Request) // it may be a draft, or published just now
		return
	}
	if in == nil {
		if len(allowed) > 0 {
			sort.Strings(allowed)
			c.Header("Allow", strings.Join(slices.Compact(allowed), ", "))
			problem(
				c,
				http.StatusMethodNotAllowed,
				"This webhook does not take "+c.Request.Method,
				"it takes "+strings.Join(slices.Compact(allowed), ", "),
				nil,
			)
			return
		}
		problem(
			c,
			http.StatusNotFound,
			"No flow listens here",
			"no flow has the path "+path+"; its address stands on its sheet",
			nil,
		)
		return
	}
	if in.Streams(c.ContentType(), c.Request.ContentLength) {
		s.intakeStream(c, in, path)
		return
	}
	content, err := body(c, int64(in.Limit))
	if err != nil {
		s.fail(c, err)
		return
	}
	raw := content
	signed, header := sign.Of(c.Request, content), c.Request.Header
	if folded(c) { // what was signed is what was sent, and what is kept is what was meant
		if content, err = unfold(c, content, int64(in.Limit)); err != nil {
			s.fail(c, err)
			return
		}
		header = header.Clone()
		header.Del("Content-Encoding")
		header.Del("Content-Length")
	}
	if signed.Scheme = "http"; s.secure(c.Request) {
		signed.Scheme = "https"
	}
	answer, err := s.engine.Intake.Accept(
		c.Request.Context(),
		in,
		intake.Call{Method: c.Request.Method, Path: path, Header: header, Query: queryOf(c), Body: content,
			From: s.from(c), Signed: signed, Trusted: s.door.Members && c.GetHeader(fleet.TrustedHeader) != ""},
	)
	s.came(c, answer, err, bytes.NewReader(raw))
}

// intakeStream takes a body that goes to the disk while it comes.
func (s *Server) intakeStream(c *gin.Context, in *intake.Intake, path string) {
	limit := int64(in.Limit)
	var content io.Reader = http.MaxBytesReader(c.Writer, c.Request.Body, limit)
	header := c.Request.Header
	if folded(c) {
		content = &foldedStream{of: content, limit: limit}
		header = header.Clone()
		header.Del("Content-Encoding")
		header.Del("Content-Length")
	}
	answer, err := s.engine.Intake.Accept(c.Request.Context(), in, intake.Call{Method: c.Request.Method, Path: path,
		Header: header, Query: queryOf(c), Stream: content, From: s.from(c)})
	s.came(c, answer, err, c.Request.Body) // of which nothing was read where it belongs elsewhere
}

// came tells a caller what became of a call, or hands it over with its body.
func (s *Server) came(c *gin.Context, answer *step.Answer, err error, body io.Reader) {
	var elsewhere *intake.ElsewhereError
	switch {
	case errors.As(err, &elsewhere) && s.handOver != nil:
		c.Request.Body = io.NopCloser(body)
		s.handOver(elsewhere.Partition, c.Writer, c.Request)
	case err != nil:
		s.fail(c, err)
	default:
		write(c, answer)
	}
}

// foldedStream unfolds what comes from its first byte that is asked for.
type foldedStream struct {
	of    io.Reader
	limit int64
	to    io.Reader
}

// Read implements io.Reader.
func (u *foldedStream) Read(p []byte) (int, error) {
	if u.to == nil {
		r, err := gzip.NewReader(u.of)
		if err != nil {
			return 0, notFolded(err)
		}
		u.to = &bounded{r, u.limit, u.limit}
	}
	return u.to.Read(p)
}

// from gives where a call is from: the caller's address, and its port where it is known.
func (s *Server) from(c *gin.Context) string {
	if s.trusted(c.Request.RemoteAddr) {
		return c.ClientIP()
	}
	return c.Request.RemoteAddr
}

// queryOf gives the query of a call, by name.
func queryOf(c *gin.Context) (query []message.Header) {
	for name, values := range c.Request.URL.Query() {
		for _, v := range values {
			query = append(query, message.Header{Name: name, Value: v})
		}
	}
	sort.SliceStable(query, func(i, j int) bool { return query[i].Name < query[j].Name })
	return query
}

func write(c *gin.Context, a *step.Answer) {
	for _, h := range a.Headers {
		c.Writer.Header().Set(h.Name, h.Value)
	}
	c.Status(a.Status)
	if len(a.Body) > 0 && a.Status != http.StatusNoContent && a.Status != http.StatusNotModified {
		_, _ = c.Writer.Write(a.Body)
	}
	c.Writer.WriteHeaderNow()
}

// standInCall serves the simulated systems.
func (s *Server) standInCall(c *gin.Context) {
	path := c.Param("path")
	if path == "" {
		path = "/"
	}
	if err := s.standIns.Serve(c.Writer, c.Request, c.Param("name"), path); err != nil {
		s.fail(c, err)
	}
}
