package api

import (
	"time"

	"readyferry/engine/watch"
)

// partView says which part a transaction is.
type partView struct {
	Split string `json:"split"` // path of the split
	Index int    `json:"index"` // from 0
}

// progressView says how far the parts of a transaction are.
type progressView struct {
	Split      string `json:"split"` // path of the split
	Total      int    `json:"total"`
	Begun      int    `json:"begun"`
	Stopped    bool   `json:"stopped"` // a dead part keeps the rest from beginning
	UnderWay   int    `json:"underWay"`
	Waiting    int    `json:"waiting"`
	Delivered  int    `json:"delivered"`
	TurnedAway int    `json:"turnedAway"`
	Dead       int    `json:"deadLetters"`
}

// parts tells how far the parts of a transaction are, and names the first.
func (s *Server) parts(t *watch.Transaction) ([]progressView, []watch.ID, error) {
	progress, parts := []progressView{}, []watch.ID{}
	if t.Parts == 0 {
		return progress, parts, nil
	}
	splits, err := s.engine.Watch.Splits(t.ID)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range splits {
		progress = append(
			progress,
			progressView{
				p.Path,
				p.Total,
				p.Next,
				p.Stop && p.Dead > 0 && p.Next < p.Total,
				p.UnderWay,
				p.Waiting,
				p.Delivered,
				p.TurnedAway,
				p.Dead,
			},
		)
	}
	rows, err := s.engine.Watch.Parts(t.ID, nil, nil, 100)
	for _, r := range rows {
		parts = append(parts, r.ID)
	}
	return progress, parts, err
}

// membership is a group that a transaction is a member of.
type membership struct {
	ID   watch.ID `json:"id"` // of the group, and once it has closed of its transaction
	Key  string   `json:"key"`
	N    int      `json:"n"`
	Path string   `json:"path"`
	Open bool     `json:"open"`
}

// goneOn is a group that goes on in a transaction.
type goneOn struct {
	Key      string     `json:"key"`
	Members  int        `json:"members"`
	OpenedAt time.Time  `json:"openedAt"`
	ClosedAt *time.Time `json:"closedAt"`
	Why      string     `json:"why"`
}

func (s *Server) gathering(t *watch.Transaction) ([]membership, *goneOn, error) {
	out := []membership{}
	rows, err := s.engine.Watch.Memberships(t.ID)
	if err != nil {
		return nil, nil, err
	}
	for _, m := range rows {
		g, err := s.engine.Watch.Group(m.GroupID)
		if err != nil {
			return nil, nil, err
		}
		out = append(out, membership{g.ID, g.Key, m.N, m.Path, g.State == watch.GroupOpen})
	}
	if !t.FromGroup {
		return out, nil, nil
	}
	g, err := s.engine.Watch.Group(t.ID)
	return out, &goneOn{g.Key, g.Members, g.OpenedAt, g.ClosedAt, g.Why}, err
}
