package api

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/engine"
	"readyferry/engine/catalog"
	"readyferry/engine/intake"
	"readyferry/engine/perform"
	"readyferry/fleet"
	"readyferry/standin"
)

// sendSample sends a sample, as it stands, to where the flow's messages come from: to its
// webhook, into its queue or topic, or from the stand-in of its outside system. The flow
// must be live, and takes it as any other message.
func (s *Server) sendSample(c *gin.Context) error {
	f := s.engine.Catalog.Flow(c.Param("name"))
	if f == nil {
		return engine.ErrNotFound
	}
	if f.Live == nil || f.Paused {
		return fmt.Errorf("%w: the flow takes no messages: publish it, or let it go on", engine.ErrDecision)
	}
	sample, err := s.engine.Design.Sample(c.Param("name"), c.Param("sample"))
	if err != nil {
		return err
	}
	in := &f.Live.Document.Intake
	said := ""
	switch in.Kind {
	case "webhook":
		said, err = s.sampleToWebhook(c, in, sample)
	case "queue":
		said = "put into the queue " + in.Queue
		_, err = s.engine.Perform.Put(c.Request.Context(), in.Queue, []perform.Offered{offeredBy(sample)})
	case "topic":
		said = "put into the topic " + in.Topic
		_, err = s.engine.Perform.PublishFrom(c.Request.Context(), in.Topic, []perform.Offered{offeredBy(sample)})
	default:
		said, err = s.sampleFromStandIn(in, sample)
	}
	if err != nil {
		return err
	}
	return reply(c, gin.H{"said": said})
}

func bodyOf(s *catalog.Sample) []byte {
	if s.Base64 != nil {
		return s.Base64
	}
	return []byte(s.Body)
}

func offeredBy(s *catalog.Sample) perform.Offered {
	out := perform.Offered{Body: bodyOf(s)}
	for name, value := range s.Headers {
		out.Headers = append(out.Headers, message.Header{Name: name, Value: value})
	}
	return out
}

func (s *Server) sampleToWebhook(c *gin.Context, in *flow.Intake, sample *catalog.Sample) (string, error) {
	path := in.Path
	for name, value := range sample.Params {
		path = strings.ReplaceAll(path, "{"+name+"}", url.PathEscape(value))
	}
	method := in.Methods[0]
	at, _ := s.engine.Intake.Find(method, path)
	if at == nil || at.Flow != c.Param("name") {
		return "", fmt.Errorf("%w: the path %s of the sample leads elsewhere; look at its parameters", engine.ErrDecision,
			path)
	}
	h := http.Header{}
	for name, value := range sample.Headers {
		h.Set(name, value)
	}
	var query []message.Header
	for name, value := range sample.Query {
		query = append(query, message.Header{Name: name, Value: value})
	}
	answer, err := s.engine.Intake.Accept(c.Request.Context(), at, intake.Call{Method: method, Path: path, Header: h,
		Query: query,
		Body:  bodyOf(sample), From: c.Request.RemoteAddr, Trusted: true})
	var elsewhere *intake.ElsewhereError
	if errors.As(err, &elsewhere) && s.handOver != nil {
		return s.sampleElsewhere(c, elsewhere.Partition, method, path, sample)
	}
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%s /in%s answered %d", method, path, answer.Status), nil
}

// sampleElsewhere sends a sample to the partition that it belongs to.
func (s *Server) sampleElsewhere(c *gin.Context, partition int, method, path string, sample *catalog.Sample) (string, error) {
	at := &url.URL{Path: "/in" + path}
	if plain, err := url.PathUnescape(at.Path); err == nil {
		at.Path, at.RawPath = plain, at.Path
	}
	query := url.Values{}
	for name, value := range sample.Query {
		query.Set(name, value)
	}
	at.RawQuery = query.Encode()
	r, err := http.NewRequestWithContext(c.Request.Context(), method, at.String(), bytes.NewReader(bodyOf(sample)))
	if err != nil {
		return "", err
	}
	for name, value := range sample.Headers {
		r.Header.Set(name, value)
	}
	r.Header.Set(fleet.TrustedHeader, "yes")
	r.Host, r.RemoteAddr = c.Request.Host, c.Request.RemoteAddr
	answer := &caught{header: http.Header{}}
	s.handOver(partition, answer, r)
	if answer.status >= 400 {
		return "", fmt.Errorf("%w: %s /in%s answered %d: %s", engine.ErrDecision, method, path, answer.status, answer.body.String())
	}
	return fmt.Sprintf("%s /in%s answered %d", method, path, answer.status), nil
}

// caught is an answer that is kept.
type caught struct {
	status int
	header http.Header
	body   bytes.Buffer
}

// Header implements http.ResponseWriter.
func (a *caught) Header() http.Header { return a.header }

// WriteHeader implements http.ResponseWriter.
func (a *caught) WriteHeader(status int) { a.status = status }

// Write implements io.Writer.
func (a *caught) Write(p []byte) (int, error) {
	if a.status == 0 {
		a.status = http.StatusOK
	}
	return a.body.Write(p)
}

// sampleFromStandIn has the stand-in of an outside system say it.
func (s *Server) sampleFromStandIn(in *flow.Intake, sample *catalog.Sample) (string, error) {
	conn := s.engine.Catalog.Connection(in.Of)
	if conn == nil {
		return "", fmt.Errorf("%w: a flow that begins with %s is sent nothing; run it, or wait", engine.ErrDecision, in.Kind)
	}
	name, is := strings.CutPrefix(conn.Address, "stand-in://")
	if !is {
		return "", fmt.Errorf("%w: %s is a real system; send one there with its own tools", engine.ErrDecision, conn.Name)
	}
	says := s.engine.Catalog.Systems().Find(conn.Kind).Says
	if says == nil {
		return "", fmt.Errorf("%w: nothing can be sent from a stand-in of kind %s", engine.ErrDecision, conn.Kind)
	}
	headers := map[string]string{}
	for header, value := range sample.Headers {
		headers[strings.ToLower(header)] = value
	}
	said, err := says(in.Settings, headers, bodyOf(sample))
	if err != nil {
		return "", fmt.Errorf("%w: %w", engine.ErrDecision, err)
	}
	m := standin.Message{Topic: said.Topic, Exchange: said.Exchange, Key: said.Key, Body: string(said.Body),
		Headers: said.Headers, QoS: 1}
	if err := s.standIns.Send(name, m); err != nil {
		return "", fmt.Errorf("%w: %w", engine.ErrDecision, err)
	}
	return fmt.Sprintf("sent from the stand-in %s: %s", name, strings.Trim(m.Exchange+" "+m.Topic, " ")), nil
}
