package step

import (
	"fmt"
	"mime"
	"net/textproto"
	"regexp"
	"slices"
	"strings"
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/format"
	"readyferry/core/format/charset"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/system"
	"readyferry/core/want"
)

// HTTPDelivery is the JSON Schema of what a delivery over HTTP says.
const HTTPDelivery = `{"properties": {
	"method": {"enum": ["POST", "PUT", "PATCH", "DELETE", "GET"], "title": "Method", "default": "POST", "description":
		"HTTP method, POST by default"},
	"path": {"type": "string", "title": "Path", "format": "template", "description":
		"template; below the connection's address"},
	"headers": {"type": "object", "title": "Headers", "format": "template", "description": "name: template",
		"additionalProperties": {"type": ["string", "number", "null"]}}
}}`

var deliverKind = Kind{
	Name:    "deliver",
	Summary: "Hands the message over for guaranteed delivery, to a connection over HTTP, to a queue or to a topic.",
	Reason: "Use it for everything that must arrive. The message is stored first, tried on a retry plan that " +
		"ends, and kept as a dead letter when it cannot be delivered. Steps after it see the answer under replies.",
	Example: `{id: to-shelf, kind: deliver, to: shelf-printer, method: POST, path: '/${body.branch}/slips', retry: {first: 5s, tries: 6}}`,
	Properties: `{
		"to": {"description": "name of a connection, {queue: name} or {topic: name}", "if": {"type": "string"},
			"then": {"minLength": 1},
			"else": {"type": "object", "additionalProperties": false, "minProperties": 1, "properties": {
				"queue": {"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]*$|[$][{]", "description":
					"each message goes to one reader; a template such as ${headers[\"reply-to\"]} is filled in for each message"},
				"topic": {"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]*$", "description":
					"every subscription gets each message"},
				"priority": {"default": 4, "type": ["string", "integer"], "description":
					"expression from 0 to 9, 4 by default; the higher are taken first"},
				"expires": {"type": "string", "description":
					"how long it may wait in the queue, such as 10m; then it is a dead letter"},
				"readers": {"enum": ["inside", "outside"], "default": "inside", "description":
					"outside: something else than a flow takes the messages of the queue, so that nobody need read it here"}}}},
		"method": {"default": "POST", "enum": ["POST", "PUT", "PATCH", "DELETE", "GET"], "description":
			"HTTP method, POST by default"},
		"path": {"type": "string", "description": "template; below the connection's address"},
		"headers": {"type": "object", "description": "name: template", "additionalProperties": {"type": ["string", "number",
			"null"]}},
		"encoding": {"type": "string", "minLength": 1, "description":
			"character set in which the body leaves, such as windows-1252; else that of its Content-Type, or UTF-8"},
		"retry": {"$ref": "#/$defs/retry"}
	}`,
	Required: []string{"to"},
	compile:  compileDeliver,
}

// What a step hands its message over by.
const (
	byHTTP  = "http"
	bySQL   = "sql"
	byQueue = "queue"
	byTopic = "topic"
	byReply = "reply" // a question by a queue
)

type deliver struct {
	kind, target, method string
	path                 *expr.Template
	headers              []headerTemplate
	retry                *retry.Plan
	queue                *expr.Template // nil for a queue whose name stands there
	priority             *expr.Program  // nil for the usual one
	expires              time.Duration
	own                  []ownSetting // of another system than HTTP
	encoding             string       // character set of the body; "": what its Content-Type says
}

// outside reads the settings of a delivery to a system. Which kind it is of, the
// flow does not say; the settings tell, and where they do not it is HTTP.
func (r *deliver) outside(c *Compiler, s *flow.Step) {
	use := Use{Kind: UseConnection, Name: r.target, Step: s.ID, Pointer: s.Pointer + "/to", As: AsDeliver}
	for _, m := range s.Settings.Members {
		if !slices.Contains(stepSettings, m.Name) {
			use.Says = append(use.Says, m.Name)
		}
	}
	c.Uses = append(c.Uses, use)
	if k, schema := c.spokenTo(use.Says, func(k system.Kind) *message.Node { return k.Deliver }); k != "" {
		r.kind, r.own = k, c.ownSettings(s, schema)
		if k == bySQL {
			c.change(s)
		}
	}
}

// spokenTo gives the system other than HTTP that has all of what a step says,
// with the schema of that; "" where what it says is said over HTTP.
func (c *Compiler) spokenTo(says []string, of func(k system.Kind) *message.Node) (kind string, schema *message.Node) {
	if !slices.ContainsFunc(says, func(name string) bool { return !httpSettings[name] }) {
		return "", nil
	}
	for _, k := range c.Systems {
		schema := of(k)
		if schema != nil && k.Name != byHTTP && !slices.ContainsFunc(says, func(name string) bool {
			return system.Property(schema, name) == nil && name != "headers" && name != "body"
		}) {
			return k.Name, schema
		}
	}
	return "", nil
}

// stepSettings are those of every delivery, whatever its system.
var stepSettings = []string{"id", "kind", "title", "note", "when", "off", "else", "to", "retry", "encoding"}

var httpSettings = map[string]bool{"method": true, "path": true, "headers": true, "body": true}

var queueName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*$`)

// UsualPriority is that of a message for a queue whose step says none.
const UsualPriority = 4

func compileDeliver(c *Compiler, s *flow.Step) Runner {
	r := &deliver{
		kind:    byHTTP,
		target:  scalar(s.Settings.Get("to")),
		method:  scalar(s.Settings.Get("method")),
		headers: c.headers(s),

		encoding: scalar(s.Settings.Get("encoding")),
	}
	if err := charset.Check(r.encoding); err != nil {
		c.Find(s.Pointer+"/encoding", flow.Error, "wrong-value", err.Error(), "write it as iso-8859-1 or windows-1252")
	}
	if to := s.Settings.Get("to"); to.Kind == message.Map {
		r.inside(c, s, to)
	} else {
		r.outside(c, s)
		c.outside = s.ID
	}
	if r.method == "" {
		r.method = "POST"
	}
	r.common(c, s)
	return r
}

// common reads the settings that every call of an outside system has.
func (r *deliver) common(c *Compiler, s *flow.Step) {
	if n := s.Settings.Get("path"); n != nil {
		if t := scalar(n); t != "" && !strings.HasPrefix(t, "/") && !strings.HasPrefix(t, "?") {
			c.Find(s.Pointer+"/path", flow.Error, "wrong-value", "the path must begin with /", "write it as /"+t)
		}
		r.path = c.Template(s.Pointer+"/path", scalar(n), expr.URLPath)
	}
	if n := s.Settings.Get("retry"); n != nil {
		plan, bad := ReadRetry(n)
		for _, b := range bad {
			c.Find(s.Pointer+"/retry/"+b.Setting, flow.Error, "retry", b.Reason, "")
		}
		r.retry = plan
		if len(bad) == 0 {
			if err := plan.Check(); err != nil {
				c.Find(s.Pointer+"/retry", flow.Error, "retry", err.Error(), "")
			}
		}
	}
}

// inside reads the settings of a delivery that stays in the application.
func (r *deliver) inside(c *Compiler, s *flow.Step, to *message.Node) {
	queue, topic := scalar(to.Get("queue")), scalar(to.Get("topic"))
	switch {
	case queue == "" && topic == "" || queue != "" && topic != "":
		c.Find(
			s.Pointer+"/to",
			flow.Error,
			"wrong-value",
			"a delivery goes either to a queue or to a topic",
			"write {queue: name} or {topic: name}",
		)
	case queue != "":
		if r.kind, r.target = byQueue, queue; strings.Contains(queue, "${") {
			r.queue = c.Template(s.Pointer+"/to/queue", queue, expr.PlainText)
			break
		}
		c.Uses = append(c.Uses, Use{
			Kind: UseQueue, Name: r.target, Step: s.ID, Pointer: s.Pointer + "/to/queue",
			Outside: scalar(to.Get("readers")) == "outside",
		})
	default:
		r.kind, r.target = byTopic, topic
		c.Uses = append(c.Uses, Use{Kind: UseTopic, Name: r.target, Step: s.ID, Pointer: s.Pointer + "/to/topic"})
		for _, name := range []string{"priority", "expires"} {
			if to.Get(name) != nil {
				c.Find(
					s.Pointer+"/to/"+name,
					flow.Warning,
					"no-effect",
					name+" has no effect on a topic, whose log keeps its order and its own age",
					"remove it",
				)
			}
		}
	}
	for _, name := range []string{"method", "path", "retry"} {
		if s.Settings.Get(name) != nil {
			c.Find(
				s.Pointer+"/"+name,
				flow.Warning,
				"no-effect",
				name+" has no effect on a delivery to a queue or topic",
				"remove it",
			)
		}
	}
	if n := to.Get("priority"); n != nil {
		r.priority = c.Expression(s.Pointer+"/to/priority", scalar(n))
	}
	if n := to.Get("expires"); n != nil {
		var err error
		if r.expires, err = flow.Duration(n.Text); err != nil {
			c.Find(s.Pointer+"/to/expires", flow.Error, "wrong-value", err.Error(), "write it as 30s, 10m or 24h")
		}
	}
}

// want says what is to be handed over, and to whom.
func (r *deliver) want(c *Call, req *want.Request) (want.Want, error) {
	switch r.kind {
	case byQueue:
		return r.put(c, req)
	case byTopic:
		return &want.Publish{Topic: r.target, Request: req}, nil
	}
	return &want.Send{System: r.kind, Connection: r.target, Request: req, Retry: r.retry, Order: c.State.Order}, nil
}

// put fills in what a queue is told about a message.
func (r *deliver) put(c *Call, req *want.Request) (want.Want, error) {
	w := &want.Put{Queue: r.target, Request: req, Expires: r.expires, Priority: UsualPriority}
	if r.queue != nil {
		name, err := r.queue.Eval(c.Scope())
		if err != nil {
			return nil, fail("to/queue", err)
		}
		if !queueName.MatchString(name) {
			return nil, &Failure{
				Phase:  "to/queue",
				Class:  Data,
				Reason: fmt.Sprintf("%s comes to %q, which is no name of a queue", r.queue.Source, name),
			}
		}
		w.Queue = name
	}
	if r.priority == nil {
		return w, nil
	}
	n, err := r.priority.Eval(c.Scope())
	if err != nil {
		return nil, fail("to/priority", err)
	}
	text, _ := n.Scalar()
	if len(text) != 1 || text[0] < '0' || text[0] > '9' {
		return nil, fail(
			"to/priority",
			fmt.Errorf("%s is %q; a priority is a whole number from 0 to 9", r.priority.Source, text),
		)
	}
	w.Priority = int(text[0] - '0')
	return w, nil
}

func (r *deliver) Run(c *Call) (Result, error) {
	if c.Effect != nil && c.Effect.Failed != "" {
		return Result{Outcome: "given up"}, &Failure{Phase: "delivery", Class: Target, Reason: c.Effect.Failed}
	}
	if c.Effect != nil {
		return r.done(c), nil
	}
	req := &want.Request{Format: c.State.Message.Format, Body: Bytes(&c.State.Message)}
	if r.kind == byHTTP {
		req.Method = r.method
	}
	if err := r.address(c, req); err != nil {
		return Result{}, err
	}
	if r.kind == bySQL { // the settings say it all
		req.Format, req.Body = format.Text, nil
	} else if err := r.leaves(req, &c.State.Message); err != nil {
		return Result{}, err
	}
	var err error
	if req.Settings, err = say(r.own, c); err != nil {
		return Result{}, err
	}
	w, err := r.want(c, req)
	if err != nil {
		return Result{}, err
	}
	return Result{State: c.State, Outcome: "not yet", Want: w}, nil
}

// leaves gives the body of a request the type and the character set with which it leaves.
func (r *deliver) leaves(req *want.Request, m *message.Message) error {
	typed(req, ContentType(m))
	i := slices.IndexFunc(req.Headers, func(h message.Header) bool { return strings.EqualFold(h.Name, "Content-Type") })
	kind := &req.Headers[i]
	to := r.encoding
	if to == "" && kind.Value != m.ContentType { // one that somebody wrote
		to = Charset(message.NewString(kind.Value))
	}
	if to == "" || m.Format == format.Binary {
		return nil
	}
	body, err := format.InCharset(m.Format, req.Body, m.Layout.Charset, to)
	if err != nil {
		return &Failure{Phase: "encoding", Class: Data, Reason: err.Error()}
	}
	req.Body = body
	if media, params, err := mime.ParseMediaType(kind.Value); err == nil && r.encoding != "" && m.Format != format.JSON {
		params["charset"] = r.encoding
		kind.Value = mime.FormatMediaType(media, params)
	}
	return nil
}

// typed names the type of the body, unless the headers do.
func typed(r *want.Request, contentType string) {
	if len(without(r.Headers, "Content-Type")) == len(r.Headers) {
		r.Headers = append([]message.Header{{Name: "Content-Type", Value: contentType}}, r.Headers...)
	}
}

// address fills in the path and headers of a request.
func (r *deliver) address(c *Call, req *want.Request) error {
	if r.path != nil {
		path, err := r.path.Eval(c.Scope())
		if err != nil {
			return fail("path", err)
		}
		req.Path = path
	}
	own, err := fillHeaders(r.headers, c.Scope())
	if err != nil {
		return err
	}
	for _, h := range append(c.State.Sent[:len(c.State.Sent):len(c.State.Sent)], own...) {
		req.Headers = append(
			without(req.Headers, h.Name),
			message.Header{Name: textproto.CanonicalMIMEHeaderKey(h.Name), Value: h.Value},
		)
	}
	return nil
}

// done goes on with the answer that the delivery got.
func (r *deliver) done(c *Call) Result {
	st := c.State
	switch {
	case r.kind == byQueue:
		return Result{State: st, Outcome: "queued"}
	case r.kind == byTopic && c.Effect.Unheard:
		return Result{
			State:   st,
			Outcome: "put, nobody reads it",
			Note: &Note{
				"warning",
				"the topic " + r.target + " has no subscription; the message stays in its log for as long as the topic keeps it",
			},
		}
	case r.kind == byTopic:
		return Result{State: st, Outcome: "put"}
	}
	if st.Replies == nil {
		st.Replies = message.NewMap()
	}
	id := c.Path[strings.LastIndexByte(c.Path, '/')+1:]
	st.Replies = st.Replies.With(id, reply(c.Effect))
	st.Answered, st.Replied = true, st.Message.Body
	if r.own != nil {
		return Result{State: st, Outcome: "delivered"}
	}
	return Result{State: st, Outcome: fmt.Sprint(c.Effect.Status)}
}

func without(headers []message.Header, name string) []message.Header {
	out := make([]message.Header, 0, len(headers)+1)
	for _, h := range headers {
		if !strings.EqualFold(h.Name, name) {
			out = append(out, h)
		}
	}
	return out
}
