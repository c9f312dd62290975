package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/contract"
	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/engine"
	"readyferry/engine/design"
)

// eval evaluates one expression over a body.
func (s *Server) eval(c *gin.Context) error {
	var in struct {
		Expression string            `json:"expression"`
		Body       string            `json:"body"`
		Format     string            `json:"format"`
		Tables     map[string]string `json:"tables"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	tables := map[string][]byte{}
	for name, text := range in.Tables {
		tables[expr.TableFile(name)] = []byte(text)
	}
	value, err := s.evaluate(
		s.engine.Design.Env().WithTables(expr.NewTables(tables)).WithKept(true),
		in.Expression,
		in.Body,
		format.Of(in.Format, ""),
	)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"value": value})
}

func (s *Server) evaluate(env *expr.Env, source, body, name string) (string, error) {
	p, err := env.Compile(source)
	var bad *expr.CompileError
	if errors.As(err, &bad) {
		return "", &design.FindingsError{What: "the expression cannot be compiled", Findings: []flow.Finding{{
			Level: flow.Error, Code: "expression", Line: bad.Line, Column: bad.Column, Message: bad.Message, Repair: bad.Repair,
		}}}
	}
	now := time.Now().UTC().Truncate(time.Millisecond)
	m := &message.Message{ID: "019cf2b1-77a4-7000-8000-000000000001", ReceivedAt: now, Format: name, Size: len(body)}
	scope := &expr.Scope{Now: now, Seed: m.ID + "/eval", Message: m, Rows: s.engine.Design.Rows()}
	if body != "" {
		d, err := format.Decode(name, []byte(body), message.Layout{}, format.Limits{})
		if err != nil {
			return "", fmt.Errorf("%w: %w", engine.ErrDecision, err)
		}
		scope.Body = d.Root
	}
	value, err := p.EvalJSON(scope)
	if err != nil {
		return "", fmt.Errorf("%w: %w", engine.ErrDecision, err)
	}
	return value, nil
}

// contract reads what a partner sent, and makes a schema and a sample of what
// is chosen in it.
func (s *Server) contract(c *gin.Context) error {
	var in struct {
		Text   string `json:"text"`
		Choose string `json:"choose"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	read, err := contract.Read([]byte(in.Text))
	if err != nil {
		return fmt.Errorf("%w: %w", engine.ErrDecision, err)
	}
	out := gin.H{"kind": read.Kind, "choices": read.Choices}
	if in.Choose != "" {
		m, err := read.Make(in.Choose)
		if err != nil {
			return fmt.Errorf("%w: %w", engine.ErrDecision, err)
		}
		made := gin.H{
			"schema": json.RawMessage(jsonfmt.Encode(m.Schema)), "sample": string(m.Sample), "format": m.Format,
			"notes": append([]string{}, m.Notes...),
		}
		if len(m.Prefixes) > 0 {
			made["prefixes"] = m.Prefixes
		}
		if o := m.SOAP; o != nil {
			made["soap"] = gin.H{"operation": o.Name, "version": o.Version, "action": o.Action, "address": o.Address,
				"contentType": o.ContentType, "answer": string(o.Answer)}
		}
		out["made"] = made
	}
	if p := read.Partner(); len(p.Operations) > 0 {
		out["partner"] = partner(&p)
	}
	return reply(c, out)
}

// mostOperations is how many operations of a partner are offered.
const mostOperations = 500

// partner says what a delivery can do with a partner, as the connection's document keeps it.
func partner(p *contract.Partner) gin.H {
	servers, operations := []gin.H{}, []gin.H{}
	for _, s := range p.Servers {
		servers = append(servers, gin.H{"kind": s.Kind, "address": s.Address, "title": s.Title})
	}
	for i, o := range p.Operations {
		if i == mostOperations {
			p.Notes = append(p.Notes, fmt.Sprintf("it has %d operations; the first %d are offered", len(p.Operations),
				mostOperations))
			break
		}
		one := gin.H{"name": o.Name, "title": o.Title, "settings": json.RawMessage(jsonfmt.Encode(o.Settings))}
		if len(o.Sample) > 0 {
			one["sample"], one["format"] = string(o.Sample), o.Format
		}
		operations = append(operations, one)
	}
	return gin.H{"servers": servers, "operations": operations, "notes": append([]string{}, p.Notes...)}
}

// infer makes a schema that the samples of a flow fit.
func (s *Server) infer(c *gin.Context) error {
	var in struct {
		Samples []string `json:"samples"`
		Enums   bool     `json:"enums"`
		Formats bool     `json:"formats"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	schema, left, err := s.engine.Design.InferSchema(c.Param("name"), in.Samples, contract.Inferring{Enums: in.Enums,
		Formats: in.Formats})
	if err != nil {
		return err
	}
	return reply(c, gin.H{"schema": json.RawMessage(jsonfmt.Encode(schema)), "left": append([]string{}, left...)})
}
