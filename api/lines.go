package api

import (
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"readyferry/engine/watch"
)

// logLines gives the log across transactions, the newest line first.
func (s *Server) logLines(c *gin.Context) error {
	n, err := limit(c, 100, 500)
	if err != nil {
		return err
	}
	before, err := number(c, "before")
	if err != nil {
		return err
	}
	q := watch.LineQuery{Flow: c.Query("flow"), Of: s.flowsSeen(c), Words: c.Query("words"), Before: before, Limit: n}
	for what := range strings.FieldsFuncSeq(c.Query("what"), func(r rune) bool { return r == ',' }) {
		if !slices.Contains(watch.LineKinds, what) {
			return bad("what must be of %s, not %q", strings.Join(watch.LineKinds, ", "), what)
		}
		q.What = append(q.What, what)
	}
	lines, next, err := s.engine.Watch.Logged(q)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"lines": append([]watch.Line{}, lines...), "next": next})
}
