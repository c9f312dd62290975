package api

import (
	"bytes"
	"errors"
	"regexp"
	"slices"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/core/mask"
	"readyferry/core/pointer"
	"readyferry/engine"
	"readyferry/engine/journal"
	"readyferry/engine/watch"
)

// veiling lets nothing out that is masked, to whoever lacks the right to see it: of every
// transaction that an answer names, the values of its masked fields are hidden wherever
// they stand in the answer. So a new route need not think of it.
type veiling struct {
	gin.ResponseWriter
	s    *Server
	c    *gin.Context
	kept bytes.Buffer
	ids  map[watch.ID]bool
	err  error
}

// veil begins to hide, where there is anything to hide from who calls.
func (s *Server) veil(c *gin.Context) *veiling {
	if w := who(c); w == nil || w.Everywhere(access.Unmask) || !s.engine.Watch.Masking() {
		return nil
	}
	v := &veiling{ResponseWriter: c.Writer, s: s, c: c, ids: map[watch.ID]bool{}}
	v.note([]byte(c.Request.URL.Path))
	c.Writer = v
	return v
}

// Write implements io.Writer.
func (v *veiling) Write(p []byte) (int, error) { return v.kept.Write(p) }

// WriteString implements io.StringWriter.
func (v *veiling) WriteString(p string) (int, error) { return v.kept.WriteString(p) }

// Written implements gin.ResponseWriter.
func (v *veiling) Written() bool { return v.kept.Len() > 0 || v.ResponseWriter.Written() }

// Flush implements http.Flusher.
func (v *veiling) Flush() {
	v.send()
	v.ResponseWriter.Flush()
}

// end sends what is kept, with what is masked hidden.
func (v *veiling) end() error {
	if v == nil {
		return nil
	}
	v.c.Writer = v.ResponseWriter
	v.send()
	return v.err
}

var anID = regexp.MustCompile(`[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}`)

func (v *veiling) note(text []byte) {
	for _, found := range anID.FindAll(text, -1) {
		if id, err := watch.ParseID(string(found)); err == nil {
			v.ids[id] = true
		}
	}
}

func (v *veiling) send() {
	if v.kept.Len() == 0 || v.err != nil {
		return
	}
	v.note(v.kept.Bytes())
	veil, err := v.s.veilFor(v.c, v.ids)
	if err != nil {
		v.err = err
		v.kept.Reset()
		return
	}
	text := v.kept.String()
	if veil != nil {
		text = withheld.ReplaceAllString(veil.Hide(text), `${1}""`)
		v.Header().Del("Content-Length")
	}
	v.kept.Reset()
	_, _ = v.ResponseWriter.WriteString(text)
}

// withheld are members with contents that a veil cannot look into.
var withheld = regexp.MustCompile(`("(?:base64|bodyBase64)"\s*:\s*)"[^"]*"`)

// veilFor makes a veil of all that is masked in some transactions and in what they came of;
// nil where nothing is. Ids of dead letters and deliveries stand for their transactions.
func (s *Server) veilFor(c *gin.Context, ids map[watch.ID]bool) (*mask.Veil, error) {
	var values []string
	var paths []mask.Path
	may := func(flow string) bool { return s.may(c, access.Unmask, access.Flow, flow) }
	add := func(some []string, of []mask.Path) {
		values, paths = append(values, some...), append(paths, of...)
	}
	for id := range ids {
		err := s.engine.Watch.Masked(id, may, add)
		if errors.Is(err, engine.ErrNotFound) {
			err = s.maskedBehind(id, may, add)
		}
		if err != nil && !errors.Is(err, engine.ErrNotFound) {
			return nil, err
		}
	}
	if len(values) == 0 {
		return nil, nil
	}
	slices.Sort(values)
	return mask.NewVeil(slices.Compact(values), paths), nil
}

func (s *Server) maskedBehind(id watch.ID, may func(string) bool, add func([]string, []mask.Path)) error {
	l, err := s.engine.Watch.Letter(id)
	if err == nil {
		return s.engine.Watch.Masked(l.Tx, may, add)
	}
	d, bad := s.engine.Watch.Delivery(id)
	if bad != nil {
		return bad
	}
	return s.engine.Watch.Masked(d.Tx, may, add)
}

// leavesMasked refuses a repair by somebody who may not see what is masked, that would look
// at it or change it: a patch that touches a masked field, a search through the text, a map.
func (s *Server) leavesMasked(c *gin.Context, d *journal.Decision, flows ...string) error {
	var paths []mask.Path
	for _, flow := range flows {
		if !s.may(c, access.Unmask, access.Flow, flow) {
			paths = append(paths, s.engine.Journal.MaskOf(flow, nil)...)
		}
	}
	if len(paths) == 0 {
		return nil
	}
	if d.Replace != nil || d.Map != nil {
		return &lackingError{"the flow masks fields: finding and replacing in its messages, and mapping them, needs the right unmask; " +
			"a patch of other fields does not"}
	}
	if d.Patch == nil {
		return nil
	}
	patch, err := pointer.ParsePatch(d.Patch)
	if err != nil {
		return nil // it is refused where it is read
	}
	for _, at := range patch.Touches() {
		if mask.Touches(paths, at) {
			return &lackingError{"the patch touches " + at + ", which the flow masks: that needs the right unmask"}
		}
	}
	return nil
}
