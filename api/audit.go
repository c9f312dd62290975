package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/engine/audit"
	"readyferry/engine/catalog"
)

// asks are the routes that change nothing though they are no GET: they reckon over what is
// sent to them. All others are written down.
var asks = under("/api/v1",
	"/eval", "/contracts", "/words", "/forms", "/conditions", "/flows/:name/check", "/flows/:name/rehearse",
	"/flows/:name/follow", "/flows/:name/here", "/flows/:name/analyse", "/flows/:name/touched", "/flows/:name/reach",
	"/flows/:name/make-up", "/flows/:name/infer", "/flows/:name/lines", "/drills", "/alarm-rule-tries",
	"/calendar-previews", "/tables/:name/guess", "/connections/:name/query", "/session", "/session/link",
	"/session/password/link", "/session/password/strength",
	"/session/passkey", "/session/passkey/answer", "/passkeys",
	"/demo/visitor", "/audit/verify",
)

func under(prefix string, paths ...string) map[string]bool {
	out := map[string]bool{}
	for _, path := range paths {
		out[prefix+path] = true
	}
	return out
}

// written runs a handler, and keeps in the audit what it did: in the commit of its first
// write, or behind it where it wrote nothing.
func (s *Server) written(c *gin.Context, r route) error {
	if c.Request.Method == http.MethodGet || asks[r.path] && c.Request.Method != http.MethodDelete ||
		r.need.on == byKey.on ||
		who(c) == nil {
		return r.handle(c)
	}
	thing := s.thingOf(c, r)
	ctx, deed := s.engine.Audit.Begin(c.Request.Context(), who(c), s.parameters.operation(c), thing)
	deed.Before = s.before(c, thing)
	sent := &sent{ReadCloser: c.Request.Body}
	deed.Fill = func(l *audit.Line) {
		l.After = sent.shown()
		if l.Thing == "" {
			l.Thing = strings.TrimPrefix(c.Request.URL.Path, "/api/v1/")
		}
	}
	if c.Request = c.Request.WithContext(ctx); c.Request.Body != nil {
		c.Request.Body = sent
	}
	err := r.handle(c)
	result := audit.Done
	if err != nil {
		result = "refused: " + clip(err.Error(), 300)
	}
	if bad := s.engine.Audit.End(ctx, deed, result); bad != nil {
		s.log.Error("the audit cannot be written", "what", deed.What, "error", bad)
		return errors.Join(err, bad)
	}
	return err
}

func clip(s string, n int) string {
	if len(s) > n {
		return strings.ToValidUTF8(s[:n], "") + "…"
	}
	return s
}

// jot keeps a line of something that is no change by somebody who is signed in: signing in.
func (s *Server) jot(c *gin.Context, what, name string, err error) {
	w := &access.Who{Kind: access.Person, Name: name, From: s.address(c)}
	ctx, deed := s.engine.Audit.Begin(c.Request.Context(), w, what, access.Thing{})
	result := audit.Done
	if err != nil {
		if !s.refusals.take(s.now()) {
			return
		}
		result = "refused: " + err.Error()
		deed.Who = clip(name, 100)
	}
	if bad := s.engine.Audit.End(ctx, deed, result); bad != nil {
		s.log.Error("the audit cannot be written", "what", what, "error", bad)
	}
}

// refusals bounds how many refusals are written down in a minute: nobody fills the disk by
// asking for what they may not.
type refusals struct {
	mu    sync.Mutex
	since time.Time
	n     int
}

const refusalsAMinute = 60

func (r *refusals) take(now time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if now.Sub(r.since) >= time.Minute {
		r.since, r.n = now, 0
	}
	r.n++
	return r.n <= refusalsAMinute
}

// refused keeps a line of somebody who asked for what they may not.
func (s *Server) refused(c *gin.Context, err error) {
	if !errors.Is(err, errNotPermitted) || !s.refusals.take(s.now()) {
		return
	}
	ctx, deed := s.engine.Audit.Begin(c.Request.Context(), who(c), s.parameters.operation(c), access.Thing{})
	deed.Thing = strings.TrimPrefix(c.Request.URL.Path, "/api/v1/")
	if bad := s.engine.Audit.End(ctx, deed, "refused: "+err.Error()); bad != nil {
		s.log.Error("the audit cannot be written", "what", deed.What, "error", bad)
	}
}

// thingOf gives what a route is about, where it names one.
func (s *Server) thingOf(c *gin.Context, r route) access.Thing {
	for _, kind := range []string{access.Flow, access.Queue, access.Topic, access.Connection, access.Table} {
		if strings.HasPrefix(r.path, "/api/v1/"+kind+"s/:name") {
			return s.engine.Catalog.Thing(kind, c.Param("name"))
		}
	}
	if strings.HasPrefix(r.path, "/api/v1/targets/:name") {
		return s.engine.Catalog.Thing(access.Connection, c.Param("name"))
	}
	for path, kind := range map[string]string{"people": "person", "keys": "key", "alarm-rules": "alarm-rule",
		"calendars": "calendar",
		"stand-ins": "stand-in", "views": "view"} {
		if strings.HasPrefix(r.path, "/api/v1/"+path+"/:name") {
			return access.Thing{Kind: kind, Name: c.Param("name")}
		}
	}
	return access.Thing{}
}

// before gives how a thing is that is about to be changed, without secrets.
func (s *Server) before(c *gin.Context, t access.Thing) []byte {
	if c.Request.Method != http.MethodPut && c.Request.Method != http.MethodDelete {
		return nil
	}
	var was any
	switch t.Kind {
	case access.Flow:
		if f, err := s.engine.Watch.Flow(t.Name); err == nil && !strings.Contains(c.Request.URL.Path, "/samples/") {
			was = map[string]any{"document": f.Draft, "version": f.Live}
		}
	case access.Connection:
		if row, err := s.engine.Watch.Connection(t.Name); err == nil {
			return row.Document // holds no secret
		}
	case access.Table:
		if row, err := s.engine.Watch.TableInfo(t.Name); err == nil {
			return row.Document
		}
	case "person":
		was = s.personNamed(t.Name)
	case "key":
		all, _ := s.engine.Catalog.Keys()
		if i := slices.IndexFunc(all, func(k catalog.Key) bool { return k.Name == t.Name }); i >= 0 {
			was = all[i]
		}
	}
	if was == nil {
		return nil
	}
	b, err := json.Marshal(was)
	if err != nil {
		return nil
	}
	return b
}

// sent remembers the beginning of what is read of a body.
type sent struct {
	io.ReadCloser
	kept bytes.Buffer
	size int64
}

// Read implements io.Reader.
func (s *sent) Read(p []byte) (int, error) {
	n, err := s.ReadCloser.Read(p)
	s.size += int64(n)
	if room := audit.KeptOfBody + 1 - s.kept.Len(); room > 0 {
		s.kept.Write(p[:min(n, room)])
	}
	return n, err
}

// shown gives what was sent as it stands in the audit.
func (s *sent) shown() []byte { return audit.Discreet(s.kept.Bytes(), s.size) }

func (s *Server) auditQuery(c *gin.Context) (q audit.Query, err error) {
	q = audit.Query{Who: c.Query("who"), What: c.Query("what"), Thing: c.Query("thing"), Source: c.Query("source"),
		Text: c.Query("text")}
	if q.From, err = moment(c, "from"); err != nil {
		return q, err
	}
	if q.To, err = moment(c, "to"); err != nil {
		return q, err
	}
	if q.Before, err = number(c, "before"); err != nil {
		return q, err
	}
	q.Limit, err = limit(c, 100, 1000)
	return q, err
}

// auditLines lists what was done, the newest first.
func (s *Server) auditLines(c *gin.Context) error {
	q, err := s.auditQuery(c)
	if err != nil {
		return err
	}
	lines, err := s.engine.Audit.Lines(q)
	if err != nil {
		return err
	}
	out := make([]audit.Shown, len(lines))
	for i := range lines {
		out[i] = audit.Show(&lines[i])
	}
	return reply(c, out)
}

// exportAudit gives the lines as JSON lines.
func (s *Server) exportAudit(c *gin.Context) error {
	q, err := s.auditQuery(c)
	if err != nil {
		return err
	}
	c.Header("Content-Disposition", `attachment; filename="audit.jsonl"`)
	c.Header("Content-Type", "application/jsonl")
	c.Status(http.StatusOK)
	if err := s.engine.Audit.Export(c.Request.Context(), c.Writer, q); err != nil {
		s.log.Error("an export of the audit", "error", err)
	}
	return nil
}

// verifyAudit walks the chain.
func (s *Server) verifyAudit(c *gin.Context) error {
	lines, faults, err := s.engine.Audit.Verify(100)
	if err != nil {
		return err
	}
	if faults == nil {
		faults = []audit.Fault{}
	}
	return reply(c, gin.H{"lines": lines, "faults": faults})
}
