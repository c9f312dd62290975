package api

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/expr"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/forms"
	"readyferry/core/message"
	"readyferry/core/step"
	"readyferry/engine"
)

// mostWords is how many expressions are read at once.
const mostWords = 2000

// words reads expressions and conditions back.
func (s *Server) words(c *gin.Context) error {
	var in struct {
		Expressions []string `json:"expressions"`
		Conditions  []string `json:"conditions"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if len(in.Expressions)+len(in.Conditions) > mostWords {
		return bad("at most %d expressions are read at once", mostWords)
	}
	read := make([]forms.Read, len(in.Expressions))
	for i, source := range in.Expressions {
		read[i] = forms.ReadBack(source)
	}
	drawn := make([]*forms.Condition, len(in.Conditions))
	for i, source := range in.Conditions {
		drawn[i] = forms.ReadCondition(source)
	}
	return reply(c, gin.H{"expressions": read, "conditions": drawn})
}

// condition writes a condition that was put together.
func (s *Server) condition(c *gin.Context) error {
	var in struct {
		Condition forms.Condition `json:"condition"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	text, err := in.Condition.Write()
	if err != nil {
		return fmt.Errorf("%w: %w", engine.ErrDecision, err)
	}
	return reply(c, gin.H{"expression": text})
}

// seenBody is a body as a rehearsal shows it.
type seenBody struct {
	Format    string `json:"format"`
	Text      string `json:"text"`
	Base64    []byte `json:"base64"`
	Header    bool   `json:"header"`
	Delimiter string `json:"delimiter"`
}

// decode reads it.
func (b *seenBody) decode() (root *message.Node, size int, err error) {
	raw := []byte(b.Text)
	if len(b.Base64) > 0 {
		raw = b.Base64
	}
	l := message.Layout{Header: b.Header}
	for _, r := range b.Delimiter {
		l.Delimiter = r
	}
	d, err := format.Decode(b.Format, raw, l, format.Limits{})
	if err != nil {
		return nil, 0, err
	}
	return d.Root, len(raw), nil
}

// seen is what expressions see at a step, as a rehearsal shows it.
type seen struct {
	Body    *seenBody         `json:"body"`
	Headers map[string]string `json:"headers"`
	Names   []struct {
		Name string `json:"name"`
		JSON string `json:"json"`
	} `json:"names"`
	// Earlier are the bodies behind earlier steps, by the names that expressions have for them.
	Earlier []struct {
		Name string `json:"name"`
		seenBody
	} `json:"earlier"`
	Loops []struct {
		Each string `json:"each"`
		As   string `json:"as"`
	} `json:"loops"` // those around a field, the outermost first; of each the first item is taken
}

// forms offers what may become of a value.
func (s *Server) forms(c *gin.Context) error {
	var in struct {
		Expression string              `json:"expression"`
		Seen       seen                `json:"seen"`
		Tables     map[string][]string `json:"tables"` // columns by name
	}
	if err := input(c, &in); err != nil {
		return err
	}
	env, scope, err := in.Seen.scope(s.engine.Design.Env().WithKept(true))
	if err != nil {
		return fmt.Errorf("%w: %w", engine.ErrDecision, err)
	}
	scope.Rows = s.engine.Design.Rows()
	offers := forms.Offers(env, in.Expression, scope, in.Tables)
	value := any(nil)
	if p, err := env.Compile(in.Expression); err == nil {
		if v, err := p.Eval(scope); err == nil {
			value = string(jsonfmt.Encode(v))
		}
	}
	return reply(c, gin.H{"value": value, "offers": offers, "read": forms.ReadBack(in.Expression)})
}

// scope gives the language and the values that an expression has there.
func (v *seen) scope(env *expr.Env) (*expr.Env, *expr.Scope, error) {
	now := time.Now().UTC().Truncate(time.Millisecond)
	m := &message.Message{ID: "019cf2b1-77a4-7000-8000-000000000001", ReceivedAt: now}
	scope := &expr.Scope{Now: now, Seed: m.ID + "/forms", Message: m, Locals: map[string]*message.Node{}}
	if v.Body != nil {
		var err error
		if scope.Body, m.Size, err = v.Body.decode(); err != nil {
			return nil, nil, err
		}
		m.Format = v.Body.Format
	}
	for _, one := range v.Earlier {
		root, _, err := one.decode()
		if err != nil {
			return nil, nil, err
		}
		if scope.Bodies == nil {
			scope.Bodies = message.NewMap()
		}
		scope.Bodies = scope.Bodies.With(one.Name, root)
	}
	var headers []message.Header
	for name, value := range v.Headers {
		headers = append(headers, message.Header{Name: name, Value: value})
	}
	scope.Headers = message.HeaderMap(headers)
	var locals []string
	for _, one := range v.Names {
		r, err := jsonfmt.Decode([]byte(one.JSON))
		if err != nil {
			return nil, nil, err
		}
		switch one.Name {
		case "vars":
			scope.Vars = r.Root
		case "replies":
			scope.Replies = r.Root
		default:
			scope.Locals[one.Name] = r.Root
			locals = append(locals, one.Name)
		}
	}
	env, err := env.With(locals...)
	if err != nil {
		return nil, nil, err
	}
	return v.within(env, scope)
}

// within adds the first item of each loop around a field.
func (v *seen) within(env *expr.Env, scope *expr.Scope) (*expr.Env, *expr.Scope, error) {
	for _, loop := range v.Loops {
		p, err := env.Compile(loop.Each)
		if err != nil {
			return nil, nil, err
		}
		list, err := p.Eval(scope)
		if err != nil {
			return nil, nil, err
		}
		if list.Kind == message.List {
			if len(list.Items) == 0 {
				return nil, nil, fmt.Errorf("%s has no items", loop.Each)
			}
			list = list.Items[0]
		}
		if env, err = env.With(loop.As, "index"); err != nil {
			return nil, nil, err
		}
		scope.Locals[loop.As], scope.Locals["index"] = list, message.NewNumber("0")
	}
	return env, scope, nil
}

// lines gives the lines of what a map writes.
func (s *Server) targetLines(c *gin.Context) error {
	var in struct {
		Settings json.RawMessage `json:"settings"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	r, err := jsonfmt.Decode(in.Settings)
	if err != nil || r.Root.Kind != message.Map {
		return bad("settings are those of a map: a JSON object")
	}
	if _, err := s.engine.Watch.Flow(c.Param("name")); err != nil {
		return err
	}
	files, err := s.engine.Watch.Files(c.Param("name"))
	if err != nil {
		return err
	}
	lines, err := step.TargetLines(r.Root, files)
	if err != nil {
		return fmt.Errorf("%w: %w", engine.ErrDecision, err)
	}
	return reply(c, gin.H{"lines": lines})
}
