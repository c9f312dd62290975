package api

import (
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/core/flow"
	"readyferry/engine/perform"
	"readyferry/engine/watch"
)

// topicView is a topic as people read it.
type topicView struct {
	Name          string             `json:"name"`
	First         int64              `json:"firstOffset"`
	Next          int64              `json:"nextOffset"`
	Messages      int64              `json:"messages"`
	Bytes         int64              `json:"bytes"`
	OldestAt      *time.Time         `json:"oldestAt"`
	In            int                `json:"inPerMinute"`
	Unheard       int64              `json:"unheard"` // put while there was no subscription
	KeepFor       int64              `json:"keepFor"` // milliseconds
	KeepBytes     int64              `json:"keepBytes"`
	DropUnread    bool               `json:"dropUnread"`
	Subscriptions []subscriptionView `json:"subscriptions"`
}

type subscriptionView struct {
	Name     string     `json:"name"`
	Position int64      `json:"position"` // the offset that is read next
	Lag      int64      `json:"lag"`      // messages not read yet
	InFlight int64      `json:"inFlight"`
	OldestAt *time.Time `json:"oldestAt"` // of what is not read yet
	Out      int        `json:"outPerMinute"`
	Missed   int64      `json:"missed"` // dropped before they were read
	Readers  []string   `json:"readers"`
}

// topics lists every topic with its subscriptions.
func (s *Server) topics(c *gin.Context) error {
	topics, err := s.engine.Watch.Topics()
	if err != nil {
		return err
	}
	topics = visible(s, c, topics, access.Topic, func(t *watch.Topic) string { return t.Name })
	subscriptions, err := s.engine.Watch.Subscriptions("")
	if err != nil {
		return err
	}
	flights, err := s.engine.Watch.TopicFlights()
	if err != nil {
		return err
	}
	inFlight, readers := map[string]int64{}, s.engine.Watch.Catalog.TopicReaders()
	for _, f := range flights {
		inFlight[watch.SubscriptionKey(f.Topic, f.Subscription)] = f.N
	}
	out := make([]topicView, len(topics))
	for i, t := range topics {
		v := topicView{
			Name: t.Name, First: t.First, Next: t.Next, Messages: t.Next - t.First, Bytes: t.Bytes,
			In: s.engine.Watch.TopicRate(t.Name), Unheard: t.Unheard,
			KeepFor: t.KeepFor.Milliseconds(), KeepBytes: t.KeepBytes, DropUnread: t.DropUnread,
			Subscriptions: []subscriptionView{},
		}
		if v.OldestAt, err = s.engine.Watch.PutAt(t.Name, t.First); err != nil {
			return err
		}
		for _, sub := range subscriptions {
			if sub.Topic != t.Name {
				continue
			}
			key := watch.SubscriptionKey(t.Name, sub.Name)
			w := subscriptionView{
				Name: sub.Name, Position: sub.Position, Lag: t.Next - sub.Position, InFlight: inFlight[key],
				Out: s.engine.Watch.SubscriptionRate(
					t.Name,
					sub.Name,
				), Missed: sub.Missed, Readers: append([]string{}, readers[key]...),
			}
			if w.OldestAt, err = s.engine.Watch.PutAt(t.Name, sub.Position); err != nil {
				return err
			}
			v.Subscriptions = append(v.Subscriptions, w)
		}
		out[i] = v
	}
	return reply(c, out)
}

// topicMessages lists messages of a topic from an offset on, or those before
// one, the newest first.
func (s *Server) topicMessages(c *gin.Context) error {
	n, err := limit(c, 50, 500)
	if err != nil {
		return err
	}
	at, newest := int64(0), false
	for _, name := range []string{"from", "before"} {
		if text := c.Query(name); text != "" {
			if at, err = strconv.ParseInt(text, 10, 64); err != nil {
				return bad("%s must be an offset, not %q", name, text)
			}
			newest = name == "before"
		}
	}
	rows, err := s.engine.Watch.ReadLog(c.Param("name"), at, newest, n)
	if err != nil {
		return err
	}
	readers, err := s.engine.Watch.ReadersOf(c.Param("name"), rows)
	if err != nil {
		return err
	}
	type view struct {
		storedMessage
		Readers []watch.TopicReader `json:"readers"`
	}
	out := make([]view, len(rows))
	for i, r := range rows {
		if out[i].storedMessage, err = showStored(r.N, r.From, r.Reference, r.PutAt, r.Headers, r.Body); err != nil {
			return err
		}
		out[i].Readers = append([]watch.TopicReader{}, readers[r.N]...)
	}
	return reply(c, out)
}

// putTopic keeps how old and how large a topic may become.
func (s *Server) putTopic(c *gin.Context) error {
	var in struct {
		KeepFor    int64 `json:"keepFor"` // milliseconds
		KeepBytes  int64 `json:"keepBytes"`
		DropUnread bool  `json:"dropUnread"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if in.KeepFor > (100 * 365 * 24 * time.Hour).Milliseconds() {
		return bad("keepFor is at most a hundred years; 0 stands for no bound")
	}
	r := perform.Retention{
		KeepFor:    time.Duration(in.KeepFor) * time.Millisecond,
		KeepBytes:  in.KeepBytes,
		DropUnread: in.DropUnread,
	}
	if err := s.engine.Perform.SetRetention(c.Request.Context(), c.Param("name"), r); err != nil {
		return err
	}
	return done(c)
}

// rewind sets a subscription to another place in its topic.
func (s *Server) rewind(c *gin.Context) error {
	var in struct {
		To     string     `json:"to"` // earliest or latest
		Time   *time.Time `json:"time"`
		Offset *int64     `json:"offset"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	given := 0
	for _, is := range []bool{in.To != "", in.Time != nil, in.Offset != nil} {
		if is {
			given++
		}
	}
	if given != 1 || in.To != "" && in.To != "earliest" && in.To != "latest" {
		return bad("say where to: to, which is earliest or latest, or time, or offset")
	}
	begin := flow.Begin{Latest: in.To == "latest", Offset: in.Offset}
	if in.Time != nil {
		begin.Time = *in.Time
	}
	at, err := s.engine.Perform.Rewind(c.Request.Context(), c.Param("name"), c.Param("subscription"), begin)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"position": at})
}

func (s *Server) unsubscribe(c *gin.Context) error {
	if err := s.engine.Perform.Unsubscribe(c.Request.Context(), c.Param("name"), c.Param("subscription")); err != nil {
		return err
	}
	return done(c)
}
