package contract

import (
	"fmt"
	"strings"

	"readyferry/core/format"
	"readyferry/core/message"
)

var methods = []string{"post", "put", "patch", "delete", "get"}

func readOpenAPI(root *message.Node) (*Contract, error) {
	c := &Contract{Kind: OpenAPI}
	bodies := map[string]*message.Node{}
	for _, group := range []string{"paths", "webhooks"} {
		paths := root.Get(group)
		if paths == nil {
			continue
		}
		for _, path := range paths.Members {
			for _, method := range methods {
				op := path.Value.Get(method)
				if op == nil || op.Get("requestBody") == nil {
					continue
				}
				name := strings.ToUpper(method) + " " + path.Name
				title := name
				if t := op.Get("summary"); t != nil {
					title += ", " + t.Text
				}
				bodies[name] = op.Get("requestBody")
				c.Choices = append(c.Choices, Choice{name, title})
			}
		}
	}
	c.partner = ofOpenAPI(c, root)
	if c.Choices == nil && len(c.Partner().Operations) == 0 {
		return nil, fmt.Errorf("the OpenAPI document has no operation")
	}
	c.make = func(name string) (Made, error) {
		body, err := follow(root, bodies[name])
		if err != nil {
			return Made{}, err
		}
		content := body.Get("content")
		if content == nil || len(content.Members) == 0 {
			return Made{}, fmt.Errorf("the request body of %s has no content", name)
		}
		chosen, kind := content.Members[0], ""
		for _, m := range content.Members {
			if f := format.Of("auto", m.Name); f == format.JSON || f == format.Form && kind == "" ||
				f == format.XML && kind == "" {
				chosen, kind = m, f
			}
			if kind == format.JSON {
				break
			}
		}
		if kind == "" {
			return Made{}, fmt.Errorf(
				"the media type %s of %s has no schema that is read here; there are JSON, XML and forms",
				chosen.Name,
				name,
			)
		}
		s := &standalone{root: root, old: strings.HasPrefix(root.Get("openapi").Text, "3.0")}
		if len(content.Members) > 1 {
			s.note("of several media types " + chosen.Name + " was taken")
		}
		declared := chosen.Value.Get("schema")
		if declared == nil {
			return Made{}, fmt.Errorf("%s of %s has no schema", chosen.Name, name)
		}
		if kind == format.XML {
			s.note(
				"the schema was written for JSON; attributes and names of the XML are not in it, so the sample shows elements only",
			)
		}
		out, err := s.schema(declared)
		if err != nil {
			return Made{}, err
		}
		return finish(out, kind, "root", s.notes)
	}
	return c, nil
}

func readAsyncAPI(root *message.Node) (*Contract, error) {
	c := &Contract{Kind: AsyncAPI}
	found := map[string]*message.Node{}
	add := func(name, title string, m *message.Node) {
		if found[name] == nil {
			found[name] = m
			c.Choices = append(c.Choices, Choice{name, title})
		}
	}
	if channels := root.Get("channels"); channels != nil {
		for _, channel := range channels.Members {
			for _, m := range membersOf(channel.Value.Get("messages")) {
				add(channel.Name+"/"+m.Name, m.Name+" on "+channel.Name, m.Value)
			}
		}
	}
	for _, m := range membersOf(root.Get("components").Get("messages")) {
		add(m.Name, m.Name, m.Value)
	}
	if c.Choices == nil {
		return nil, fmt.Errorf("the AsyncAPI document has no messages")
	}
	c.partner = ofAsyncAPI(c, root)
	c.make = func(name string) (Made, error) {
		m, err := follow(root, found[name])
		if err != nil {
			return Made{}, err
		}
		payload := m.Get("payload")
		if payload == nil {
			return Made{}, fmt.Errorf("the message %s has no payload", name)
		}
		if payload, err = follow(root, payload); err != nil {
			return Made{}, err
		}
		if f := payload.Get("schemaFormat"); f != nil {
			if !strings.Contains(f.Text, "schema+json") && !strings.Contains(f.Text, "aai.asyncapi") &&
				!strings.Contains(f.Text, "schema+yaml") {
				return Made{}, fmt.Errorf(
					"the schema of %s is written as %s, which is not read here; there is JSON Schema",
					name,
					f.Text,
				)
			}
			if payload = payload.Get("schema"); payload == nil {
				return Made{}, fmt.Errorf("the payload of %s has no schema", name)
			}
		}
		s := &standalone{root: root}
		if m.Get("headers") != nil {
			s.note("the headers of the message are not part of its body's schema")
		}
		if m.Get("traits") != nil {
			s.note("traits of the message were left out")
		}
		out, err := s.schema(payload)
		if err != nil {
			return Made{}, err
		}
		kind := format.JSON
		if t := m.Get("contentType"); t != nil {
			if kind = format.Of("auto", t.Text); kind != format.XML && kind != format.Form {
				kind = format.JSON
			}
		}
		return finish(out, kind, "root", s.notes)
	}
	return c, nil
}

func membersOf(n *message.Node) []message.Member {
	if n == nil {
		return nil
	}
	return n.Members
}
