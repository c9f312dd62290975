package api

import (
	_ "embed" // the description of the interface
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/retry"
	"readyferry/core/step"
)

//go:embed openapi.yaml
var openAPIText []byte

func (s *Server) openAPI(c *gin.Context) error {
	source, bad := flow.Parse(openAPIText)
	if bad != nil {
		return bad
	}
	c.Data(http.StatusOK, "application/json", jsonfmt.Encode(source.Root))
	return nil
}

func (s *Server) health(c *gin.Context) error {
	if err := s.engine.Watch.Check(c.Request.Context()); err != nil {
		problem(c, http.StatusServiceUnavailable, "The store cannot be written", err.Error(), nil)
		return nil
	}
	return reply(c, gin.H{"status": "ok"})
}

// metrics serves counts in the Prometheus text format, read when asked for.
func (s *Server) metrics() handler {
	registry := prometheus.NewRegistry()
	registry.MustRegister(&collector{s,
		prometheus.NewDesc(
			"readyferry_transactions",
			"Transactions by flow and present state.",
			[]string{"flow", "state"},
			nil,
		),
		prometheus.NewDesc(
			"readyferry_queue_depth",
			"Messages in a queue that nobody works on.",
			[]string{"queue"},
			nil,
		),
		prometheus.NewDesc("readyferry_dead_letters_open", "Dead letters that a person must decide about.", nil, nil),
		prometheus.NewDesc(
			"readyferry_subscription_lag",
			"Messages of a topic that a subscription has not read.",
			[]string{"topic", "subscription"},
			nil,
		),
		prometheus.NewDesc(
			"readyferry_topic_unheard_total",
			"Messages put into a topic while it had no subscription.",
			[]string{"topic"},
			nil,
		),
		prometheus.NewDesc("readyferry_groups_open", "Groups that wait for members.", nil, nil),
		prometheus.NewDesc(
			"readyferry_source_failing_since_timestamp_seconds",
			"Since when the source of a flow, or a bulk load, has failed, and why.",
			[]string{"flow", "kind", "reason"},
			nil,
		),
		prometheus.NewDesc("readyferry_sources_failing", "Sources of flows, and bulk loads, that fail.", nil, nil),
		prometheus.NewDesc(
			"readyferry_refused_callers_total",
			"Calls of webhooks that were not let in since the application began.",
			[]string{"flow"},
			nil,
		),
		prometheus.NewDesc("readyferry_disk_free_bytes", "Free room where the data lies.", nil, nil),
		prometheus.NewDesc("readyferry_journal_bytes", "The journal without its free pages, with what is written ahead.",
			nil, nil),
		prometheus.NewDesc("readyferry_room_short",
			"1 while nothing is taken in because disk or journal are short, else 0.",
			nil, nil),
		prometheus.NewDesc("readyferry_held", "What is kept in memory of work under way.", []string{"what"}, nil),
		prometheus.NewDesc("readyferry_held_limit", "The most that is kept of it.", []string{"what"}, nil),
		newConnectionMetrics(),
		newFlowMetrics(),
	})
	if s.fleet != nil {
		registry.MustRegister(newOfFleet(s.fleet))
	}
	serve := gin.WrapH(promhttp.HandlerFor(registry, promhttp.HandlerOpts{}))
	return func(c *gin.Context) error {
		serve(c)
		return nil
	}
}

type collector struct {
	s                          *Server
	transactions, queues, dead *prometheus.Desc
	lag, unheard, groups       *prometheus.Desc
	failing, count, refused    *prometheus.Desc
	free, journal, short       *prometheus.Desc
	held, heldLimit            *prometheus.Desc
	connections                connectionMetrics
	flows                      flowMetrics
}

func (m *collector) Describe(ch chan<- *prometheus.Desc) {
	ch <- m.transactions
	ch <- m.queues
	ch <- m.dead
	ch <- m.lag
	ch <- m.unheard
	ch <- m.groups
	ch <- m.failing
	ch <- m.count
	ch <- m.refused
	ch <- m.free
	ch <- m.journal
	ch <- m.short
	ch <- m.held
	ch <- m.heldLimit
	m.connections.describe(ch)
	m.flows.describe(ch)
}

func (m *collector) Collect(ch chan<- prometheus.Metric) {
	totals, err := m.s.engine.Watch.Totals()
	if err != nil {
		ch <- prometheus.NewInvalidMetric(m.transactions, err)
		return
	}
	for _, t := range totals {
		ch <- prometheus.MustNewConstMetric(m.transactions, prometheus.GaugeValue, float64(t.N), t.Flow, t.State.String())
	}
	depths, err := m.s.engine.Watch.QueueDepths()
	if err != nil {
		ch <- prometheus.NewInvalidMetric(m.queues, err)
		return
	}
	for _, d := range depths {
		ch <- prometheus.MustNewConstMetric(m.queues, prometheus.GaugeValue, float64(d.Depth), d.Queue)
	}
	n, err := m.s.engine.Watch.CountOpenLetters()
	if err != nil {
		ch <- prometheus.NewInvalidMetric(m.dead, err)
		return
	}
	ch <- prometheus.MustNewConstMetric(m.dead, prometheus.GaugeValue, float64(n))
	m.connections.collect(ch, m.s.engine.Watch)
	m.flows.collect(ch, m.s)
	m.gathered(ch)
	m.sources(ch)
	m.bounded(ch)
}

// bounded tells of room on the disk and in memory.
func (m *collector) bounded(ch chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, n int64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, float64(n), labels...)
	}
	room, short := m.s.engine.Intake.RoomOfAll(), int64(0)
	if room.Short() {
		short = 1
	}
	gauge(m.free, room.Free)
	gauge(m.journal, room.Journal)
	gauge(m.short, short)
	for _, h := range m.s.engine.Held() {
		gauge(m.held, h.N, h.What)
		gauge(m.heldLimit, h.Most, h.What)
	}
}

// sources tells of what does not come in.
func (m *collector) sources(ch chan<- prometheus.Metric) {
	troubles, err := m.s.engine.Watch.Troubles()
	if err != nil {
		ch <- prometheus.NewInvalidMetric(m.failing, err)
		return
	}
	ch <- prometheus.MustNewConstMetric(m.count, prometheus.GaugeValue, float64(len(troubles)))
	type labels struct{ flow, kind, reason string }
	told := map[labels]bool{}
	for _, t := range troubles { // the longest first
		l := labels{t.Flow, t.Kind, strings.ToValidUTF8(t.Why[:min(len(t.Why), 200)], "")}
		if !told[l] { // a flow may have several loads that failed alike
			told[l] = true
			since := float64(t.Since.UnixMilli()) / 1000
			ch <- prometheus.MustNewConstMetric(m.failing, prometheus.GaugeValue, since, l.flow, l.kind, l.reason)
		}
	}
	_, counts := m.s.engine.Intake.Refusals()
	for flow, n := range counts {
		ch <- prometheus.MustNewConstMetric(m.refused, prometheus.CounterValue, float64(n), flow)
	}
}

// gathered tells of topics and open groups.
func (m *collector) gathered(ch chan<- prometheus.Metric) {
	topics, err := m.s.engine.Watch.Topics()
	if err != nil {
		ch <- prometheus.NewInvalidMetric(m.lag, err)
		return
	}
	subscriptions, err := m.s.engine.Watch.Subscriptions("")
	if err != nil {
		ch <- prometheus.NewInvalidMetric(m.lag, err)
		return
	}
	next := map[string]int64{}
	for _, t := range topics {
		next[t.Name] = t.Next
		ch <- prometheus.MustNewConstMetric(m.unheard, prometheus.CounterValue, float64(t.Unheard), t.Name)
	}
	for _, s := range subscriptions {
		ch <- prometheus.MustNewConstMetric(m.lag, prometheus.GaugeValue, float64(next[s.Topic]-s.Position), s.Topic,
			s.Name)
	}
	open, err := m.s.engine.Watch.CountAllOpenGroups()
	if err != nil {
		ch <- prometheus.NewInvalidMetric(m.groups, err)
		return
	}
	ch <- prometheus.MustNewConstMetric(m.groups, prometheus.GaugeValue, float64(open))
}

// events tells what has changed, as server-sent events.
func (s *Server) events(c *gin.Context) error {
	changes, cancel := s.engine.Watch.Events.Listen()
	defer cancel()
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	send := func(text string) bool {
		if _, err := fmt.Fprint(c.Writer, text); err != nil {
			return false
		}
		c.Writer.Flush()
		return true
	}
	if !send(": listening\n\n") {
		return nil
	}
	beat := time.NewTicker(20 * time.Second)
	defer beat.Stop()
	for {
		select {
		case topics, open := <-changes:
			if !open {
				return nil
			}
			data, err := json.Marshal(gin.H{"changed": topics})
			if err != nil || !send("event: changed\ndata: "+string(data)+"\n\n") {
				return nil
			}
		case <-beat.C:
			if _, err := s.whoIs(c); err != nil {
				return nil // the session is over, or the key
			}
			if !send(": still here\n\n") {
				return nil
			}
		case <-s.engine.Closing():
			return nil
		case <-c.Request.Context().Done():
			return nil
		}
	}
}

// reference serves what help and completion show.
func (s *Server) reference(c *gin.Context) error {
	type kind struct {
		Name     string          `json:"name"`
		Summary  string          `json:"summary"`
		Reason   string          `json:"reason"`
		Example  string          `json:"example"`
		Required []string        `json:"required"`
		Settings json.RawMessage `json:"settings"`
	}
	kinds := []kind{}
	for _, k := range step.Kinds() {
		kinds = append(
			kinds,
			kind{
				k.Name,
				k.Summary,
				k.Reason,
				k.Example,
				append([]string{}, k.Required...),
				json.RawMessage(k.Properties),
			},
		)
	}
	formats := []gin.H{}
	for _, f := range format.All() {
		formats = append(formats, gin.H{"name": f.Name, "text": f.Text, "contentType": f.ContentType})
	}
	c.JSON(
		http.StatusOK,
		gin.H{"kinds": kinds, "names": append(expr.Names(), s.configNames()...), "functions": expr.Functions(),
			"formats": formats},
	)
	return nil
}

// configNames are the values of this place, as names that expressions may use.
func (s *Server) configNames() (out []expr.Name) {
	values := s.engine.Catalog.Reader().Configured()
	for _, name := range values.Names() {
		out = append(out, expr.Name{Name: "config." + name, Text: "here: " + values[name].Text})
	}
	return out
}

func (s *Server) flowSchema(c *gin.Context) error {
	c.Data(http.StatusOK, "application/schema+json", jsonfmt.EncodeIndent(s.engine.Catalog.Reader().Schema()))
	return nil
}

// schedule previews a retry plan. What is not given takes its default.
func (s *Server) schedule(c *gin.Context) error {
	p := retry.Default()
	var err error
	span := func(name string, into *time.Duration) {
		if text := c.Query(name); text != "" && err == nil {
			if *into, err = flow.Duration(text); err != nil {
				err = bad("%s: %w", name, err)
			}
		}
	}
	span("first", &p.First)
	span("cap", &p.Cap)
	span("within", &p.Within)
	if c.Query("cap") == "" {
		p.Cap = max(p.Cap, p.First)
	}
	if text := c.Query("growth"); text != "" {
		p.Growth = text
	}
	if text := c.Query("spread"); text != "" {
		p.Spread = text
	}
	if text := c.Query("factor"); text != "" && err == nil {
		if p.Factor, err = strconv.ParseFloat(text, 64); err != nil {
			err = bad("factor must be a number, not %q", text)
		}
	}
	if text := c.Query("tries"); text != "" && err == nil {
		if p.Tries, err = strconv.Atoi(text); err != nil {
			err = bad("tries must be a whole number, not %q", text)
		}
	}
	if err == nil {
		if wrong := p.Check(); wrong != nil {
			err = bad("%w", wrong)
		}
	}
	if err != nil {
		return err
	}
	span2 := p.Span()
	tries := []gin.H{}
	for _, t := range p.Schedule([]byte(c.Query("seed"))) {
		tries = append(
			tries,
			gin.H{
				"try":      t.N,
				"earliest": t.Earliest.Milliseconds(),
				"planned":  t.Planned.Milliseconds(),
				"latest":   t.Latest.Milliseconds(),
			},
		)
	}
	c.JSON(
		http.StatusOK,
		gin.H{
			"tries": tries,
			"ends": gin.H{
				"earliest": span2.Earliest.Milliseconds(),
				"expected": span2.Expected.Milliseconds(),
				"latest":   span2.Latest.Milliseconds(),
			},
		},
	)
	return nil
}

// page serves the web application: its files, and its first page for every
// address that it makes itself.
func (s *Server) page(c *gin.Context) {
	path := c.Request.URL.Path
	if strings.HasPrefix(path, "/api/") || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		problem(c, http.StatusNotFound, "There is nothing here", "see /api/openapi.json for what there is", nil)
		return
	}
	name := strings.TrimPrefix(path, "/")
	if info, err := fs.Stat(s.web, name); err == nil && !info.IsDir() && name != "" {
		if strings.HasPrefix(name, "assets/") { // their names change with their content
			c.Header("Cache-Control", "public, max-age=31536000, immutable")
		}
		http.ServeFileFS(c.Writer, c.Request, s.web, name)
		return
	}
	if strings.HasPrefix(name, "assets/") {
		problem(c, http.StatusNotFound, "There is nothing here", "no such file: "+path, nil)
		return
	}
	index, err := fs.ReadFile(s.web, "index.html")
	if err != nil {
		problem(c, http.StatusNotFound, "The web application is not in this build", "build it with make build", nil)
		return
	}
	c.Header("Cache-Control", "no-cache")
	c.Data(http.StatusOK, "text/html; charset=utf-8", index)
}
