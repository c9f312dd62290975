package step

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/pointer"
	"readyferry/core/system"
	"readyferry/core/want"
)

// HTTPQuestion is the JSON Schema of what a question over HTTP says.
const HTTPQuestion = `{"properties": {
	"method": {"enum": ["GET", "POST", "PUT", "PATCH", "DELETE"], "title": "Method", "default": "GET", "description":
		"HTTP method, GET by default"},
	"path": {"type": "string", "title": "Path", "format": "template", "description":
		"template; below the connection's address"},
	"headers": {"type": "object", "title": "Headers", "format": "template", "description": "name: template",
		"additionalProperties": {"type": ["string", "number", "null"]}},
	"body": {"type": "string", "title": "Body", "format": "expression", "description":
		"expression; the value is sent as JSON. By default nothing is sent"}
}}`

// SQLQuestion is the JSON Schema of what a question to a database says.
const SQLQuestion = `{"required": ["sql"], "properties": {
	"sql": {"type": "string", "title": "Statement", "format": "lines", "minLength": 1, "description":
		"one statement with :name for each parameter; values are bound, never put into the text"},
	"params": {"type": "object", "title": "Parameters", "format": "expression", "description":
		"name: expression, for the parameters of the statement", "additionalProperties": {"type": ["string", "number",
			"boolean"]}},
	"rows": {"enum": ["many", "one", "first"], "title": "Rows", "default": "many", "description":
		"many: the body is the list of rows; one: there must be exactly one, which is the body; first: the first, or null"},
	"most": {"type": "integer", "title": "Most rows", "minimum": 1, "maximum": 100000, "default": 1000, "description":
		"a query that gives more fails"}
}}`

var askKind = Kind{
	Name:    "ask",
	Summary: "Asks another system and waits for its answer: over HTTP, by an SQL query, in the way of its broker, or by a queue with a reply.",
	Reason: "Use it when the message is not enough: call back for the full record, read a row of a database, ask " +
		"a system behind a queue. The answer stands under replies and the message stays as it is. Behind a queue " +
		"the other flow delivers its reply to the queue that the header reply-to names, with the same " +
		"correlation-id. What cannot be asked now is tried again on the retry plan. The present message is not " +
		"sent unless body says what is.",
	Example: `{id: record, kind: ask, of: member-desk, path: '/members/${body.member}', retry: {first: 1s, tries: 4, delivered: [404]}}`,
	Properties: `{
		"of": {"description": "name of a connection, or {queue: name, reply-to: name} for a question by a queue",
			"if": {"type": "string"}, "then": {"minLength": 1},
			"else": {"type": "object", "additionalProperties": false, "required": ["queue"], "properties": {
				"queue": {"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]*$", "description":
					"where the question is put, with the headers correlation-id and reply-to"},
				"reply-to": {"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]*$", "description":
					"queue for the replies, the name of the other with .replies by default; a reply carries the same correlation-id"}}}},
		"method": {"default": "GET", "enum": ["GET", "POST", "PUT", "PATCH", "DELETE"], "description":
			"HTTP method, GET by default"},
		"path": {"type": "string", "description": "template; below the connection's address"},
		"headers": {"type": "object", "description": "name: template", "additionalProperties": {"type": ["string", "number",
			"null"]}},
		"body": {"type": "string", "description":
			"expression; the value is sent as JSON. By default nothing is sent over HTTP, and the present message to a queue"},
		"sql": {"type": "string", "minLength": 1, "description":
			"one statement with :name for each parameter; values are bound, never put into the text"},
		"params": {"type": "object", "description": "name: expression, for the parameters of the statement",
			"additionalProperties": {"type": ["string", "number", "boolean"]}},
		"rows": {"default": "many", "enum": ["many", "one", "first"], "description":
			"many (default): the body is the list of rows; one: there must be exactly one, which is the body; first: the first, or null"},
		"most": {"default": 1000, "type": "integer", "minimum": 1, "maximum": 100000, "description":
			"most rows, 1000 by default; a query that gives more fails"},
		"within": {"default": "30s", "type": "string", "description":
			"how long the reply by a queue is waited for, 30s by default"},
		"harmless": {"type": "boolean", "default": false, "description":
			"the question changes nothing there, so it may be asked for real while the flow is designed"},
		"retry": {"$ref": "#/$defs/retry"}
	}`,
	Required: []string{"of"},
	compile:  compileAsk,
}

// DefaultRows is the most rows of a query whose step says nothing.
const DefaultRows = 1000

// DefaultReply is how long a reply by a queue is waited for where a step says nothing.
const DefaultReply = 30 * time.Second

// The phases of an ask at which the answer itself is at fault: sent again, it is
// asked anew.
const (
	PhaseReply = "reply"
	PhaseRows  = "rows"
)

// sqlSettings are said to databases and queues alone.
var sqlSettings = []string{"params", "rows", "most", "within"}

type ask struct {
	deliver
	body   *expr.Program
	query  *want.Query // without values
	params []struct {
		name  string
		value *expr.Program
	}
	rows    string
	within  time.Duration // for the reply by a queue
	replyTo string        // "" for anything else
}

func compileAsk(c *Compiler, s *flow.Step) Runner {
	r := &ask{rows: scalar(s.Settings.Get("rows"))}
	r.kind, r.target, r.method, r.headers = byHTTP, scalar(
		s.Settings.Get("of"),
	), scalar(
		s.Settings.Get("method"),
	), c.headers(
		s,
	)
	if r.method == "" {
		r.method = "GET"
	}
	of, sql := s.Settings.Get("of"), s.Settings.Get("sql")
	var needless []string
	switch {
	case of.Kind == message.Map:
		r.kind, r.target = byReply, scalar(of.Get("queue"))
		r.replyTo, r.within = scalar(of.Get("reply-to")), DefaultReply
		if r.replyTo == "" {
			r.replyTo = r.target + ".replies"
		}
		if n := s.Settings.Get("within"); n != nil {
			r.within = c.span(s.Pointer+"/within", scalar(n))
		}
		c.Uses = append(
			c.Uses,
			Use{Kind: UseQueue, Name: r.target, Step: s.ID, Pointer: s.Pointer + "/of/queue"},
			Use{Kind: UseReplies, Name: r.replyTo, Step: s.ID, Pointer: s.Pointer + "/of"},
		)
		needless = []string{"method", "path", "retry", "sql", "params", "rows", "most"}
	case sql != nil:
		r.kind = bySQL
		c.Uses = append(
			c.Uses,
			Use{Kind: UseConnection, Name: r.target, Step: s.ID, Pointer: s.Pointer + "/of", SQL: true, As: AsAsk},
		)
		r.compileQuery(c, s)
		needless = []string{"method", "path", "headers", "body", "within"}
	default:
		use := Use{Kind: UseConnection, Name: r.target, Step: s.ID, Pointer: s.Pointer + "/of", As: AsAsk}
		for _, m := range s.Settings.Members {
			if !slices.Contains(stepSettings, m.Name) && m.Name != "of" && m.Name != "harmless" && !slices.Contains(sqlSettings, m.Name) {
				use.Says = append(use.Says, m.Name)
			}
		}
		c.Uses = append(c.Uses, use)
		needless = sqlSettings
		if k, schema := c.spokenTo(use.Says, func(k system.Kind) *message.Node { return k.Ask }); k != "" {
			r.kind, r.own = k, c.ownSettings(s, schema)
		}
	}
	for _, name := range needless {
		if s.Settings.Get(name) != nil {
			c.Find(s.Pointer+"/"+name, flow.Warning, "no-effect", name+" has no effect here", "remove it")
		}
	}
	r.common(c, s)
	if n := s.Settings.Get("body"); n != nil {
		r.body = c.Expression(s.Pointer+"/body", scalar(n))
	}
	c.outside = s.ID
	return r
}

func (r *ask) compileQuery(c *Compiler, s *flow.Step) {
	r.query = &want.Query{SQL: scalar(s.Settings.Get("sql")), Most: DefaultRows}
	if n := s.Settings.Get("most"); n != nil {
		_, _ = fmt.Sscan(n.Text, &r.query.Most)
	}
	for _, m := range members(s.Settings.Get("params")) {
		r.params = append(r.params, struct {
			name  string
			value *expr.Program
		}{m.Name, c.Expression(s.Pointer+"/params"+pointer.Pointer{m.Name}.String(), scalar(m.Value))})
	}
	c.statement(s)
}

// statement checks that a statement has no holes, and that its parameters have values.
func (c *Compiler) statement(s *flow.Step) {
	text := scalar(s.Settings.Get("sql"))
	if strings.Contains(text, "${") {
		c.Find(
			s.Pointer+"/sql",
			flow.Error,
			"wrong-value",
			"a statement has no holes: a value put into its text could change what it does",
			"write :name, and give params: {name: expression}",
		)
	}
	given := map[string]bool{}
	_, names := BindNames(text, func(int) string { return "?" })
	for _, m := range members(s.Settings.Get("params")) {
		given[m.Name] = true
	}
	for _, name := range names {
		if !given[name] {
			c.Find(
				s.Pointer+"/sql",
				flow.Error,
				"missing-key",
				fmt.Sprintf("the statement names :%s, which has no value", name),
				fmt.Sprintf("add params: {%s: expression}", name),
			)
		}
	}
	for _, p := range members(s.Settings.Get("params")) {
		if !slices.Contains(names, p.Name) {
			c.Find(
				s.Pointer+"/params"+pointer.Pointer{p.Name}.String(),
				flow.Warning,
				"no-effect",
				fmt.Sprintf("the statement does not name :%s", p.Name),
				"remove it, or use it",
			)
		}
	}
}

// BindNames writes a statement with the placeholders of a driver in place of
// its :names, and lists the names in order. Texts, quoted names, comments and
// casts (::type) stay as they are.
func BindNames(sql string, placeholder func(n int) string) (out string, names []string) {
	var b strings.Builder
	for i := 0; i < len(sql); {
		switch c := sql[i]; {
		case c == '\'' || c == '"' || c == '`':
			end := i + 1
			for end < len(sql) && sql[end] != c {
				end++
			}
			end = min(end+1, len(sql))
			b.WriteString(sql[i:end])
			i = end
		case strings.HasPrefix(sql[i:], "--"):
			end := i + len(sql[i:])
			if n := strings.IndexByte(sql[i:], '\n'); n >= 0 {
				end = i + n
			}
			b.WriteString(sql[i:end])
			i = end
		case strings.HasPrefix(sql[i:], "/*"):
			end := len(sql)
			if n := strings.Index(sql[i:], "*/"); n >= 0 {
				end = i + n + 2
			}
			b.WriteString(sql[i:end])
			i = end
		case strings.HasPrefix(sql[i:], "::"):
			b.WriteString("::")
			i += 2
		case c == ':' && i+1 < len(sql) && (sql[i+1] == '_' || sql[i+1] >= 'a' && sql[i+1] <= 'z' || sql[i+1] >= 'A' &&
			sql[i+1] <= 'Z'):
			end := i + 1
			for end < len(sql) && (sql[end] == '_' || sql[end] >= 'a' && sql[end] <= 'z' || sql[end] >= 'A' &&
				sql[end] <= 'Z' || sql[end] >= '0' && sql[end] <= '9') {
				end++
			}
			names = append(names, sql[i+1:end])
			b.WriteString(placeholder(len(names)))
			i = end
		default:
			b.WriteByte(c)
			i++
		}
	}
	return b.String(), names
}

func (r *ask) Run(c *Call) (Result, error) {
	if c.Effect != nil && c.Effect.Failed != "" {
		return Result{Outcome: "no answer"}, &Failure{Phase: "delivery", Class: Target, Reason: c.Effect.Failed}
	}
	if c.Effect != nil {
		return r.answered(c)
	}
	req := &want.Request{}
	switch {
	case r.kind == bySQL:
		q := *r.query
		for _, p := range r.params {
			n, err := p.value.Eval(c.Scope())
			if err != nil {
				return Result{}, fail("params/"+p.name, err)
			}
			if n.Kind == message.List || n.Kind == message.Map || n.Kind == message.Bytes {
				return Result{}, &Failure{
					Phase: "params/" + p.name,
					Class: Data,
					Reason: fmt.Sprintf(
						"%s is a %s; a parameter is a text, number, true, false or null",
						p.value.Source,
						n.Kind,
					),
				}
			}
			q.Params = append(q.Params, want.QueryParameter{Name: p.name, Value: jsonfmt.Encode(n)})
		}
		req.Method, req.Format, req.Query = "SQL", format.Text, &q
		req.Body = []byte(q.SQL)
		return r.asks(c, req)
	case r.kind == byHTTP:
		req.Method = r.method
	}
	if err := r.address(c, req); err != nil {
		return Result{}, err
	}
	switch {
	case r.body != nil:
		n, err := r.body.Eval(c.Scope())
		if err != nil {
			return Result{}, fail("body", err)
		}
		req.Format, req.Body = format.JSON, jsonfmt.Encode(n)
		typed(req, "application/json")
	case r.kind == byReply, r.own != nil:
		req.Format, req.Body = c.State.Message.Format, Bytes(&c.State.Message)
		typed(req, ContentType(&c.State.Message))
	default:
		req.Format = format.Text
	}
	if r.own != nil {
		var err error
		if req.Settings, err = say(r.own, c); err != nil {
			return Result{}, err
		}
		req.Ask = true
	}
	return r.asks(c, req)
}

func (r *ask) asks(c *Call, req *want.Request) (Result, error) {
	var w want.Want = &want.Send{System: r.kind, Connection: r.target, Ask: true, Request: req, Retry: r.retry,
		Unordered: true}
	if r.kind == byReply {
		w = &want.Question{Queue: r.target, Request: req, Priority: UsualPriority, ReplyTo: r.replyTo, Within: r.within}
	}
	return Result{State: c.State, Outcome: "not yet", Want: w}, nil
}

// answered goes on with the answer.
func (r *ask) answered(c *Call) (Result, error) {
	st := c.State
	if st.Replies == nil {
		st.Replies = message.NewMap()
	}
	if err := unreadable(c.Effect); err != nil {
		return Result{Outcome: "unreadable"}, &Failure{Phase: PhaseReply, Class: Target, Reason: err.Error()}
	}
	answer, outcome := reply(c.Effect), fmt.Sprint(c.Effect.Status)
	if r.kind == bySQL {
		list := answer.Get("body")
		if list == nil || list.Kind != message.List {
			list = message.NewList()
		}
		n := len(list.Items)
		if outcome = fmt.Sprintf("%d rows", n); n == 1 {
			outcome = "1 row"
		}
		if affected := answer.Get("headers").Get("affected-rows"); affected != nil {
			if outcome = affected.Text + " rows affected"; affected.Text == "1" {
				outcome = "1 row affected"
			}
		}
		switch {
		case r.rows == "one" && n != 1:
			return Result{
					Outcome: outcome,
				}, &Failure{
					Phase:  PhaseRows,
					Class:  Data,
					Reason: fmt.Sprintf("the query gives %s, and there must be exactly one", outcome),
				}
		case r.rows == "one", r.rows == "first" && n > 0:
			answer = answer.With("body", list.Items[0])
		case r.rows == "first":
			answer = answer.With("body", message.NewNull())
		}
	}
	if r.kind == byReply || r.own != nil {
		outcome = "replied"
	}
	id := c.Path[strings.LastIndexByte(c.Path, '/')+1:]
	st.Replies = st.Replies.With(id, answer)
	st.Answered, st.Replied = true, st.Message.Body
	return Result{State: st, Outcome: outcome}, nil
}
