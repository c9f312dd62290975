package api

import (
	"errors"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/core/mask"
	"readyferry/engine/audit"
	"readyferry/engine/watch"
)

// looks remembers who was shown what is masked, so that opening a page, which asks several times,
// is one line of the audit.
type looks struct {
	mu  sync.Mutex
	all map[look]time.Time
}

type look struct {
	who string
	at  watch.ID
}

// One line stands for all looks of somebody at a transaction within lookEach; so many are kept
// in mind.
const (
	lookEach = 15 * time.Minute
	looksMax = 10_000
)

// first tells whether somebody has not looked at a transaction for a while.
func (l *looks) first(one look, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if at, known := l.all[one]; known && now.Sub(at) < lookEach {
		return false
	}
	if len(l.all) >= looksMax {
		clear(l.all) // then some stand in the audit twice
	}
	if l.all == nil {
		l.all = map[look]time.Time{}
	}
	l.all[one] = now
	return true
}

// looked keeps in the audit who is shown the masked values of a transaction: whoever holds the
// right to see them may, and it is written down that they did, without the values.
func (s *Server) looked(c *gin.Context, r route) error {
	w := who(c)
	ofTransaction := strings.HasPrefix(r.path, "/api/v1/transactions/:id")
	if w == nil || !ofTransaction && r.path != "/api/v1/dead-letters/:id" || !s.engine.Watch.Masking() {
		return nil
	}
	at, err := id(c)
	if err != nil {
		return nil // the handler says so
	}
	if !ofTransaction {
		l, err := s.engine.Watch.Letter(at)
		if err != nil {
			return nil
		}
		at = l.Tx
	}
	t, err := s.engine.Watch.Transaction(at)
	if err != nil || !s.may(c, access.Unmask, access.Flow, t.Flow) {
		return nil
	}
	shown := false
	err = s.engine.Watch.Masked(at, func(flow string) bool { return !s.may(c, access.Unmask, access.Flow, flow) },
		func(values []string, _ []mask.Path) { shown = shown || len(values) > 0 })
	if err != nil || !shown || !s.looks.first(look{w.String(), at}, s.now()) {
		return err
	}
	thing := s.engine.Catalog.Thing(access.Flow, t.Flow)
	ctx, deed := s.engine.Audit.Begin(c.Request.Context(), w, "is shown what is masked", access.Thing{
		Kind: "transaction", Name: at.String(), Area: thing.Area})
	if bad := s.engine.Audit.End(ctx, deed, audit.Done); bad != nil {
		return errors.Join(errors.New("the audit cannot be written, so nothing masked is shown"), bad)
	}
	return nil
}
