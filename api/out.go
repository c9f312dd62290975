package api

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"readyferry/core/cloudevents"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/engine"
	"readyferry/engine/catalog"
	"readyferry/engine/perform"
	"readyferry/engine/watch"
)

// maxOut is the largest message that is put from outside, in bytes.
const maxOut = 4 << 20

// mayOut lets in who has a key with a right on a queue or topic, and gives the key's name.
func (s *Server) mayOut(c *gin.Context, may, kind string) (key string, err error) {
	on := kind + ":" + c.Param("name")
	key, err = s.engine.Catalog.Permits(c.Request.Context(), presentedKey(c.Request.Header), may, on, time.Now().UTC())
	if errors.Is(err, catalog.ErrNoKey) {
		c.Header("WWW-Authenticate", `Bearer realm="Ready Ferry"`)
	}
	if err == nil {
		err = s.engine.Catalog.Within(key, c.Request.ContentLength)
	}
	return key, err
}

// presentedKey gives the key that a program presents: as a bearer token (RFC 6750, 2.1), or
// in X-Api-Key.
func presentedKey(h http.Header) string {
	if token, is := strings.CutPrefix(h.Get("Authorization"), "Bearer "); is {
		return strings.TrimSpace(token)
	}
	return h.Get("X-Api-Key")
}

// outPut puts a message, or the events of a batch, into a queue.
func (s *Server) outPut(c *gin.Context) error {
	return s.putOut(c, "queue", s.engine.Perform.Put)
}

// outPublish puts a message, or the events of a batch, into a topic.
func (s *Server) outPublish(c *gin.Context) error {
	return s.putOut(c, "topic", s.engine.Perform.PublishFrom)
}

func (s *Server) putOut(
	c *gin.Context,
	kind string,
	put func(ctx context.Context, name string, all []perform.Offered) (int, error),
) error {
	key, err := s.mayOut(c, catalog.MaySend, kind)
	if err != nil {
		return err
	}
	if err := s.engine.Intake.Roomy(); err != nil {
		return err
	}
	content, err := body(c, maxOut)
	if c.Request.ContentLength < 0 { // it was not known how much there is
		s.engine.Catalog.Spent(key, int64(len(content)))
	}
	if err == nil {
		content, err = unfold(c, content, maxOut)
	}
	if err != nil {
		return err
	}
	header := c.Request.Header
	if folded(c) {
		header = header.Clone()
		header.Del("Content-Encoding")
	}
	offered, err := offeredOf(header, content)
	if err != nil {
		return bad("%w", err)
	}
	repeated, err := put(c.Request.Context(), c.Param("name"), offered)
	if err != nil {
		return err
	}
	status := http.StatusAccepted
	if repeated == len(offered) {
		status = http.StatusOK // it is there already
	}
	c.JSON(status, gin.H{"put": len(offered) - repeated, "repeated": repeated})
	return nil
}

// offeredOf makes messages of a request: one as it is, or those of CloudEvents.
func offeredOf(h http.Header, content []byte) ([]perform.Offered, error) {
	var headers []message.Header
	for name, values := range h {
		switch lower := strings.ToLower(name); {
		case lower == "content-type", strings.HasPrefix(lower, "ce-"), strings.HasPrefix(lower, "x-") && lower != "x-api-key" &&
			!strings.HasPrefix(lower, "x-forwarded"), lower == "correlation-id", lower == "reply-to", lower == "traceparent":
			headers = append(headers, message.Header{Name: lower, Value: strings.Join(values, ", ")})
		}
	}
	if !cloudevents.Is(headers) {
		return []perform.Offered{{Headers: headers, Body: content, Once: h.Get("Idempotency-Key")}}, nil
	}
	events, err := cloudevents.Read(headers, content)
	if err != nil {
		return nil, err
	}
	out := make([]perform.Offered, len(events))
	for i, e := range events {
		out[i] = perform.Offered{Headers: e.Headers, Body: e.Body, Once: "event\x00" + e.Key}
	}
	return out, nil
}

// taking says how one takes from a queue.
type taking struct {
	Subscription string `json:"subscription"` // of a topic
	Begin        string `json:"begin"`        // of one that is not there: latest when absent, or earliest
	Max          int    `json:"max"`          // messages, 1 when absent
	Wait         string `json:"wait"`         // for the first, none when absent
	Lease        string `json:"lease"`        // 30s when absent
}

// outLeased is a message in somebody's hands outside.
type outLeased struct {
	ID      string           `json:"id"`
	Lease   watch.ID         `json:"lease"`
	Until   time.Time        `json:"until"`
	Taken   int              `json:"taken"` // how often before, without a word
	PutAt   time.Time        `json:"putAt"`
	Headers []message.Header `json:"headers"`
	Body    string           `json:"body"`
	Base64  bool             `json:"base64"` // the body is no text, and stands in base64
}

// outTake hands messages of a queue over.
func (s *Server) outTake(c *gin.Context) error {
	return s.take(c, "queue", func(in *taking, key string, wait, lease time.Duration) ([]perform.Leased, error) {
		if in.Subscription != "" || in.Begin != "" {
			return nil, bad("a queue has no subscriptions")
		}
		return s.engine.Perform.TakeFrom(c.Request.Context(), c.Param("name"), key, in.Max, wait, lease)
	})
}

// subscriptionIs is what the name of a subscription may be made of.
var subscriptionIs = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`)

// outTakeTopic hands messages of a topic over, under a subscription.
func (s *Server) outTakeTopic(c *gin.Context) error {
	return s.take(c, "topic", func(in *taking, key string, wait, lease time.Duration) ([]perform.Leased, error) {
		switch {
		case !subscriptionIs.MatchString(in.Subscription):
			return nil, bad("subscription must be a name of letters, digits and ._-, not %q", in.Subscription)
		case in.Begin != "" && in.Begin != "latest" && in.Begin != "earliest":
			return nil, bad("begin must be latest or earliest, not %q", in.Begin)
		}
		return s.engine.Perform.TakeFromTopic(c.Request.Context(), c.Param("name"), in.Subscription, key, in.Begin == "earliest",
			in.Max, wait, lease)
	})
}

func (s *Server) take(c *gin.Context, kind string, from func(in *taking, key string, wait, lease time.Duration) ([]perform.Leased, error)) error {
	key, err := s.mayOut(c, catalog.MayTake, kind)
	if err != nil {
		return err
	}
	in := taking{Max: 1, Wait: "0s", Lease: "30s"}
	if c.Request.ContentLength != 0 {
		if err := input(c, &in); err != nil {
			return err
		}
	}
	wait, err := span("wait", in.Wait, 0, perform.LongestWait)
	if err != nil {
		return err
	}
	lease, err := span("lease", in.Lease, time.Second, perform.MostLease)
	if err != nil {
		return err
	}
	if in.Max < 1 || in.Max > perform.MostTaken {
		return bad("max must be between 1 and %d, not %d", perform.MostTaken, in.Max)
	}
	got, err := from(&in, key, wait, lease)
	if err != nil {
		return err
	}
	out := make([]outLeased, len(got))
	for i, l := range got {
		out[i] = outLeased{ID: fmt.Sprint(l.N), Lease: l.Lease, Until: l.Until, Taken: l.Lapsed, PutAt: l.PutAt, Headers: l.Headers, Body: string(l.Body)}
		if !utf8.Valid(l.Body) {
			out[i].Body, out[i].Base64 = base64.StdEncoding.EncodeToString(l.Body), true
		}
	}
	return reply(c, out)
}

func span(name, text string, least, most time.Duration) (time.Duration, error) {
	if text == "" || text == "0" || text == "0s" {
		if least > 0 {
			return 0, bad("%s must be at least %s", name, least)
		}
		return 0, nil
	}
	d, err := flow.Duration(text)
	if err != nil || d < least || d > most {
		return 0, bad("%s must be a time between %s and %s, such as 30s, not %q", name, least, most, text)
	}
	return d, nil
}

// outDone says that a message is done, outBack that somebody else is to have it.
func (s *Server) outDone(c *gin.Context) error { return s.endLease(c, "queue", c.Param("name"), true) }
func (s *Server) outBack(c *gin.Context) error { return s.endLease(c, "queue", c.Param("name"), false) }

// outDoneTopic and outBackTopic say the same of a message of a topic.
func (s *Server) outDoneTopic(c *gin.Context) error {
	return s.endLease(c, "topic", perform.OfTopic(c.Param("name")), true)
}

func (s *Server) outBackTopic(c *gin.Context) error {
	return s.endLease(c, "topic", perform.OfTopic(c.Param("name")), false)
}

func (s *Server) endLease(c *gin.Context, kind, queue string, isDone bool) error {
	key, err := s.mayOut(c, catalog.MayTake, kind)
	if err != nil {
		return err
	}
	lease, err := watch.ParseID(c.Param("lease"))
	if err != nil {
		return engine.ErrNotFound
	}
	if err := s.engine.Perform.EndLease(c.Request.Context(), queue, key, lease, isDone); err != nil {
		return err
	}
	return done(c)
}

// outLook shows messages of a queue and takes nothing.
func (s *Server) outLook(c *gin.Context) error {
	if _, err := s.mayOut(c, catalog.MayRead, "queue"); err != nil {
		return err
	}
	return s.peek(c)
}

// outPause pauses a queue, outResume lets it go on.
func (s *Server) outPause(c *gin.Context) error  { return s.manageOut(c, true) }
func (s *Server) outResume(c *gin.Context) error { return s.manageOut(c, false) }

func (s *Server) manageOut(c *gin.Context, pause bool) error {
	if _, err := s.mayOut(c, catalog.MayManage, "queue"); err != nil {
		return err
	}
	return s.setQueue(c, pause)
}

// outEvents gives the messages of a topic as server-sent events, each with its offset as
// id, so that a browser or program that was cut off goes on behind it.
func (s *Server) outEvents(c *gin.Context) error {
	if _, err := s.mayOut(c, catalog.MayRead, "topic"); err != nil {
		return err
	}
	from, err := s.eventsFrom(c)
	if err != nil {
		return err
	}
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	c.Writer.Flush()
	send := func(text string) error {
		if _, err := c.Writer.WriteString(text); err != nil {
			return err
		}
		c.Writer.Flush()
		return nil
	}
	err = s.engine.Perform.Follow(c.Request.Context(), c.Param("name"), from, func(m *perform.TopicMessage) error {
		if m == nil {
			return send(": still here\n\n")
		}
		out := struct {
			Headers json.RawMessage `json:"headers"`
			Body    string          `json:"body"`
			Base64  bool            `json:"base64"`
			PutAt   time.Time       `json:"putAt"`
		}{m.Headers, string(m.Body), false, m.PutAt}
		if !utf8.Valid(m.Body) {
			out.Body, out.Base64 = base64.StdEncoding.EncodeToString(m.Body), true
		}
		data, err := json.Marshal(out)
		if err != nil {
			return err
		}
		return send(fmt.Sprintf("id: %d\ndata: %s\n\n", m.N, data))
	})
	if err != nil {
		s.log.Debug("giving a topic's messages", "topic", c.Param("name"), "error", err)
	}
	return nil
}

// eventsFrom says where the events begin: behind the one that was seen last, or where the
// query says.
func (s *Server) eventsFrom(c *gin.Context) (int64, error) {
	if last := c.GetHeader("Last-Event-ID"); last != "" {
		n, err := strconv.ParseInt(last, 10, 64)
		if err != nil {
			return 0, bad("Last-Event-ID must be an offset, not %q", last)
		}
		return n + 1, nil
	}
	first, next, err := s.engine.Watch.TopicSpan(c.Param("name"))
	if err != nil {
		return 0, err
	}
	switch from := c.Query("from"); from {
	case "", "latest":
		return next, nil
	case "earliest":
		return first, nil
	default:
		n, err := strconv.ParseInt(from, 10, 64)
		if err != nil {
			return 0, bad("from must be earliest, latest or an offset, not %q", from)
		}
		return n, nil
	}
}
