package api

import (
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/core/run"
	"readyferry/engine/watch"
)

type placeTry struct {
	At      time.Time `json:"at"`
	Took    float64   `json:"took"`
	Outcome string    `json:"outcome"`
	Status  int       `json:"status"`
	Detail  string    `json:"detail"`
}

type placeDelivery struct {
	ID        watch.ID           `json:"id"`
	Path      string             `json:"path"`
	Step      string             `json:"step"`
	Target    string             `json:"target"`
	State     string             `json:"state"`
	NextTryAt *time.Time         `json:"nextTryAt"`
	Behind    bool               `json:"behind"`
	Tries     []placeTry         `json:"tries"`
	Upcoming  []watch.PlannedTry `json:"upcoming"`
}

type placeView struct {
	Transaction *transactionView `json:"transaction"` // null for a queue in which it waits
	By          string           `json:"by"`
	Above       *watch.ID        `json:"above"`
	Depth       int              `json:"depth"`
	Queue       string           `json:"queue"`
	PutAt       *time.Time       `json:"putAt"`
	Source      string           `json:"source"`
	Deliveries  []placeDelivery  `json:"deliveries"`
	PartsLeft   int              `json:"partsLeft"`
}

// journey gives all that came of one business message.
func (s *Server) journey(c *gin.Context) error {
	id, err := id(c)
	if err != nil {
		return err
	}
	j, err := s.engine.Watch.Journey(id)
	if err != nil {
		return err
	}
	places := make([]placeView, 0, len(j.Places))
	for i := range j.Places {
		if tx := j.Places[i].Tx; tx != nil && !s.sees(c, access.Flow, tx.Flow) {
			j.More++ // it went on where who calls does not see
			continue
		}
		places = append(places, viewPlace(&j.Places[i]))
	}
	joined := j.Joined
	if joined == nil {
		joined = []watch.ID{}
	}
	return reply(c, struct {
		ID        watch.ID    `json:"id"`
		State     string      `json:"state"`
		Reference string      `json:"reference"`
		Places    []placeView `json:"places"`
		More      int         `json:"more"`
		Joined    []watch.ID  `json:"joined"`
	}{j.Root, j.State.String(), j.Reference, places, j.More, joined})
}

func viewPlace(p *watch.Place) placeView {
	v := placeView{By: p.By, Above: p.Above, Depth: p.Depth, Queue: p.Queue, PutAt: p.PutAt, Source: p.Source,
		Deliveries: []placeDelivery{}, PartsLeft: p.PartsLeft}
	if p.Tx != nil {
		t := viewTransaction(p.Tx)
		v.Transaction = &t
	}
	for i := range p.Deliveries {
		d := &p.Deliveries[i]
		one := placeDelivery{d.ID, d.Path, d.Step, d.Target, d.State.String(), d.NextAt, d.State == watch.Behind,
			[]placeTry{}, d.Upcoming}
		for _, t := range d.Tries {
			one.Tries = append(one.Tries, placeTry{t.At, float64(t.Took) / 1000, t.Outcome, t.Status, t.Detail})
		}
		v.Deliveries = append(v.Deliveries, one)
	}
	return v
}

type partingValue struct {
	Name     string `json:"name"`
	Was      string `json:"was"`
	Is       string `json:"is"`
	Table    string `json:"table"`
	WasFound string `json:"wasFound"`
	IsFound  string `json:"isFound"`
}

// beside tells where a transaction parts from another of its flow.
func (s *Server) beside(c *gin.Context) error {
	a, err := id(c)
	if err != nil {
		return err
	}
	b, err := watch.ParseID(c.Param("other"))
	if err != nil {
		return bad("the other must be the id of a transaction: %w", err)
	}
	other, err := s.engine.Watch.Transaction(b)
	if err == nil {
		err = s.mayFlows(c, access.Bodies, other.Flow)
	}
	if err != nil {
		return err
	}
	p, err := s.engine.Watch.Beside(a, b)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"parting": viewParting(p)})
}

func viewParting(p *run.Parting) any {
	if p == nil {
		return nil
	}
	values := make([]partingValue, len(p.Values))
	for i, v := range p.Values {
		values[i] = partingValue{v.Name, v.Was, v.Is, v.Table, v.WasFound, v.IsFound}
	}
	return gin.H{"path": p.Path, "step": p.Step, "kind": p.Kind, "was": p.Was, "is": p.Is, "values": values}
}

// like names a transaction of the same flow that came through.
func (s *Server) like(c *gin.Context) error {
	id, err := id(c)
	if err != nil {
		return err
	}
	t, err := s.engine.Watch.Like(id)
	if err != nil {
		return err
	}
	return reply(c, viewTransaction(t))
}
