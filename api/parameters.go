package api

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/message"
)

// parameters are the parameters of the query that each operation of the interface
// has, as openapi.yaml says, by method and path as the router writes it. So nobody
// believes to have filtered a list by a name that is misspelt.
type parameters map[string]operation

// operation is what the description says of one.
type operation struct {
	id         string
	parameters []string // of the query
}

// described gives those of this interface. They are read once: a member of a fleet that takes over makes a server
// while callers wait.
var described = sync.OnceValue(func() parameters {
	all, err := readParameters(openAPIText)
	if err != nil {
		panic(err) // it ships with the program, and a test reads it
	}
	return all
})

// readParameters reads them from the description of the interface.
func readParameters(description []byte) (parameters, error) {
	source, bad := flow.Parse(description)
	if bad != nil {
		return nil, bad
	}
	shared := source.Root.Get("components").Get("parameters")
	names := func(n *message.Node) (out []string) {
		if n == nil {
			return nil
		}
		for _, p := range n.Items {
			if ref := p.Get("$ref"); ref != nil {
				p = shared.Get(strings.TrimPrefix(ref.Text, "#/components/parameters/"))
			}
			if in := p.Get("in"); in != nil && in.Text == "query" {
				out = append(out, p.Get("name").Text)
			}
		}
		return out
	}
	all := parameters{}
	for _, path := range source.Root.Get("paths").Members {
		for _, op := range path.Value.Members {
			if op.Name == "parameters" {
				continue
			}
			key := strings.ToUpper(op.Name) + " " + routed(path.Name)
			all[key] = describedBy(op.Value, append(names(path.Value.Get("parameters")), names(op.Value.Get("parameters"))...))
		}
	}
	return all, nil
}

func describedBy(n *message.Node, parameters []string) operation {
	o := operation{parameters: parameters}
	if id := n.Get("operationId"); id != nil {
		o.id = id.Text
	}
	return o
}

// operation gives the name of what a request does.
func (p parameters) operation(c *gin.Context) string {
	if id := p[c.Request.Method+" "+routed(c.FullPath())].id; id != "" {
		return id
	}
	return c.Request.Method + " " + c.FullPath()
}

// routed gives a path of the description as the router matches it: with the names of
// parameters taken out, which may differ.
func routed(path string) string {
	parts := strings.Split(path, "/")
	for i, p := range parts {
		if strings.HasPrefix(p, "{") || strings.HasPrefix(p, ":") || strings.HasPrefix(p, "*") {
			parts[i] = "*"
		}
	}
	return strings.Join(parts, "/")
}

// known refuses parameters of the query that the operation does not have.
func (p parameters) known(c *gin.Context) error {
	of, described := p[c.Request.Method+" "+routed(c.FullPath())]
	names := of.parameters
	if !described || c.Request.URL.RawQuery == "" {
		return nil
	}
	for name := range c.Request.URL.Query() {
		if slices.Contains(names, name) {
			continue
		}
		hint := "it has none"
		if near := expr.Nearest(name, names); len(near) > 0 {
			hint = "did you mean " + strings.Join(near, " or ") + "?"
		} else if len(names) > 0 {
			hint = "there are " + strings.Join(names, ", ")
		}
		return bad("the query has no parameter %q; %s", name, fmt.Sprint(hint))
	}
	return nil
}
