package connect

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"readyferry/core/config"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/schema"
	"readyferry/core/system"
)

// Registry holds the kinds of system that an application has.
type Registry struct {
	systems []System
	schemas map[string]*schema.Schema // of connection documents, by kind
	trees   map[string]*message.Node
	config  *config.Config // of the place; nil: it says nothing
}

// NewRegistry makes a registry, in the order in which people are offered systems.
func NewRegistry(systems ...System) (*Registry, error) {
	r := &Registry{systems: systems, schemas: map[string]*schema.Schema{}, trees: map[string]*message.Node{}}
	for i := range systems {
		s := &systems[i]
		tree := s.document()
		compiled, err := schema.CompileOwn(tree)
		if err != nil {
			return nil, fmt.Errorf("the schema of %s connections: %w", s.Name, err)
		}
		r.schemas[s.Name], r.trees[s.Name] = compiled, tree
	}
	return r, nil
}

// document gives the schema of the connection documents of a system.
func (s *System) document() *message.Node {
	properties := message.NewMap()
	add := func(members []message.Member) {
		for _, m := range members {
			properties = properties.With(m.Name, m.Value)
		}
	}
	add(system.Schema(headProperties).Members)
	properties = properties.With(
		"kind",
		message.NewMap(message.Member{Name: "const", Value: message.NewString(s.Name)}),
	)
	add(system.Properties(s.Connection))
	add(system.Schema(secretProperties).Members)
	if s.Open != nil {
		add(system.Schema(reachProperties).Members)
	}
	required := message.NewList(message.NewString("readyferry"), message.NewString("name"), message.NewString("kind"))
	if own := s.Connection.Get("required"); own != nil {
		required.Items = append(required.Items, own.Items...)
	}
	out := s.Connection.With("type", message.NewString("object")).
		With("required", required).
		With("properties", properties)
	return out.With("additionalProperties", message.NewBool(false))
}

// All lists the systems.
func (r *Registry) All() []System { return r.systems }

// Kinds gives what flows know of the systems.
func (r *Registry) Kinds() system.Kinds {
	out := make(system.Kinds, len(r.systems))
	for i, s := range r.systems {
		out[i] = s.Kind
	}
	return out
}

// Schema gives the schema of the connection documents of a kind, or nil.
func (r *Registry) Schema(kind string) *message.Node { return r.trees[kind] }

// Find gives a system by the name of its kind, or nil.
func (r *Registry) Find(kind string) *System {
	i := slices.IndexFunc(r.systems, func(s System) bool { return s.Name == kind })
	if i < 0 {
		return nil
	}
	return &r.systems[i]
}

// Open opens a connection.
func (r *Registry) Open(ctx context.Context, c *Connection) (Link, error) {
	s := r.Find(c.Kind)
	if s == nil || s.Open == nil {
		return nil, fmt.Errorf(
			"%w: a connection of kind %s is called by others, so there is nothing to call",
			ErrCannotSend,
			c.Kind,
		)
	}
	return s.Open(ctx, c)
}

// Document is a connection as it was written, taken apart.
type Document struct {
	Connection *Connection   // without secrets, with the values of this place
	Tree       *message.Node // the document without secrets and values
	Secrets    []string      // what stood in it; nil when nothing did
}

// Read reads a connection document, YAML or JSON. The document is nil when the
// findings hold an error.
func (r *Registry) Read(src []byte) (*Document, []flow.Finding) {
	source, bad := flow.Parse(src)
	if bad != nil {
		return nil, []flow.Finding{*bad}
	}
	var findings []flow.Finding
	found := func(ptr, code, msg, repair string) {
		p := source.Value(ptr)
		findings = append(
			findings,
			flow.Finding{
				Level:   flow.Error,
				Code:    code,
				Pointer: ptr,
				Line:    p.Line,
				Column:  p.Column,
				Message: msg,
				Repair:  repair,
			},
		)
	}
	written := source.Root
	source.Root = r.filled(written, found)
	s := r.shape(source, found)
	if len(findings) > 0 {
		return nil, findings
	}
	d := &Document{Tree: written}
	signIn := source.Root.Get("sign-in")
	if one := signIn.Get("secret"); one != nil {
		d.Secrets = append(d.Secrets, one.Text)
	}
	if list := signIn.Get("secrets"); list != nil {
		for _, one := range list.Items {
			d.Secrets = append(d.Secrets, one.Text)
		}
	}
	if slices.Contains(d.Secrets, "") {
		found("/sign-in", "wrong-value", "a secret must not be empty", "leave it out to keep the one that is stored")
	}
	settings := source.Root
	if signIn != nil {
		d.Tree = written.With("sign-in", written.Get("sign-in").Without("secret").Without("secrets"))
		settings = settings.With("sign-in", signIn.Without("secret").Without("secrets"))
	}
	d.Connection = s.connection(settings, found)
	r.secretFrom(d.Connection, found)
	if len(findings) > 0 {
		return nil, findings
	}
	return d, nil
}

// shape checks a document against the schema of its kind, and gives the system.
func (r *Registry) shape(source *flow.Source, found Found) *System {
	kind := ""
	if source.Root.Kind == message.Map {
		if k := source.Root.Get("kind"); k != nil {
			kind = k.Text
		}
	}
	s := r.Find(kind)
	if s == nil {
		var known []string
		for _, one := range r.systems {
			known = append(known, one.Name)
		}
		found(
			"/kind",
			"wrong-value",
			fmt.Sprintf("kind %q is no kind of connection", kind),
			"known here: "+strings.Join(known, ", "),
		)
		return nil
	}
	failures, err := r.schemas[kind].Validate(source.Root)
	if err != nil {
		found("", "wrong-value", err.Error(), "")
	}
	for _, f := range failures {
		found(f.Pointer, "wrong-value", strings.TrimSpace(strings.TrimPrefix(f.Pointer, "/")+" "+f.Reason), "")
	}
	return s
}
