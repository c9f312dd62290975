package design

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

type object = map[string]any

// OpenAPI describes a flow that is called over HTTP, as OpenAPI 3.1 has it. base is the address
// of the application.
func (c *ForCallers) OpenAPI(base string) object {
	operation := object{"operationId": c.Flow, "summary": c.Title, "responses": c.responses()}
	if c.Note != "" {
		operation["description"] = c.Note
	}
	var parameters []object
	for _, m := range pathParameter.FindAllStringSubmatch(c.Path, -1) {
		parameters = append(
			parameters,
			object{"name": m[1], "in": "path", "required": true, "schema": object{"type": "string"}},
		)
	}
	if len(parameters) > 0 {
		operation["parameters"] = parameters
	}
	if _, security := c.security(); len(security) > 0 {
		operation["security"] = security
	}
	methods := object{}
	for _, m := range c.Methods {
		one := maps.Clone(operation)
		if len(c.Methods) > 1 {
			one["operationId"] = c.Flow + "-" + strings.ToLower(m)
		}
		if m != "GET" && m != "HEAD" && m != "DELETE" {
			one["requestBody"] = object{"required": true, "content": c.content()}
		}
		methods[strings.ToLower(m)] = one
	}
	out := object{
		"openapi": "3.1.0",
		"info":    object{"title": titled(c), "version": strconv.Itoa(max(c.Version, 1))},
		"servers": []object{{"url": base}},
		"paths":   object{c.Path: methods},
	}
	if schemes, _ := c.security(); len(schemes) > 0 {
		out["components"] = object{"securitySchemes": schemes}
	}
	return out
}

func titled(c *ForCallers) string {
	if c.Title != "" {
		return c.Title
	}
	return c.Flow
}

// content says what a message holds, by media type.
func (c *ForCallers) content() object {
	out := object{}
	for _, t := range c.Types {
		one := object{"schema": c.schema(t)}
		if c.Example != nil && t == c.Types[0] {
			one["example"] = exampleAs(t, c.Example.Body)
		}
		out[t] = one
	}
	return out
}

// schema gives what is known of a message of a media type.
func (c *ForCallers) schema(t string) any {
	if c.Schema != nil && (t == "application/json" || strings.HasSuffix(t, "+json")) {
		var v object
		if json.Unmarshal(c.Schema, &v) == nil {
			return v
		}
	}
	if t == "application/json" {
		return object{}
	}
	return object{"type": "string"}
}

// exampleAs gives a body as it stands in a document: of JSON its value, else its text.
func exampleAs(t, body string) any {
	var v any
	if strings.Contains(t, "json") && json.Unmarshal([]byte(body), &v) == nil {
		return json.RawMessage(body)
	}
	return body
}

func (c *ForCallers) responses() object {
	byStatus := map[int][]string{}
	for _, a := range c.Answers {
		byStatus[a.Status] = append(byStatus[a.Status], a.Meaning)
	}
	out := object{}
	for _, status := range slices.Sorted(maps.Keys(byStatus)) {
		one := object{"description": strings.Join(byStatus[status], "; or ")}
		if status >= 400 {
			one["content"] = object{
				"application/problem+json": object{"schema": object{"type": "object", "properties": object{
					"type": object{
						"type": "string",
					}, "title": object{"type": "string"}, "status": object{"type": "integer"},
					"detail": object{"type": "string"}}}},
			}
		}
		if status == 429 || status == 503 {
			one["headers"] = object{
				"Retry-After": object{"description": "seconds", "schema": object{"type": "integer"}},
			}
		}
		out[strconv.Itoa(status)] = one
	}
	return out
}

func (c *ForCallers) security() (schemes object, ways []object) {
	schemes = object{}
	for _, s := range c.SignIns {
		switch s.Kind {
		case "basic":
			schemes[s.Name] = object{"type": "http", "scheme": "basic"}
		case "api-key":
			schemes[s.Name] = object{"type": "apiKey", "in": "header", "name": s.Header}
		default:
			header := s.Header
			if header == "" {
				header = map[string]string{"standard-webhooks": "webhook-signature", "message-signature": "signature"}[s.Scheme]
			}
			if header == "" {
				header = "x-signature"
			}
			schemes[s.Name] = object{"type": "apiKey", "in": "header", "name": header,
				"description": fmt.Sprintf("a signature over the request (%s)", s.Scheme)}
		}
		ways = append(ways, object{s.Name: []string{}})
	}
	return schemes, ways
}

// AsyncAPI describes the queues and topics that a flow reads and fills, as AsyncAPI 3.0 has it.
func (c *ForCallers) AsyncAPI(base string) object {
	channels, operations := object{}, object{}
	message := object{"name": c.Flow, "contentType": c.Types[0], "payload": c.schema(c.Types[0])}
	if c.Example != nil {
		message["examples"] = []object{{"payload": exampleAs(c.Types[0], c.Example.Body)}}
	}
	add := func(kind, name, action string, m object) {
		id := kind + "-" + name
		channels[id] = object{"address": name, "title": kind + " " + name, "messages": object{"message": m}}
		operations[action+"-"+id] = object{"action": action, "channel": object{"$ref": "#/channels/" + id},
			"messages": []object{{"$ref": "#/channels/" + id + "/messages/message"}}}
	}
	switch c.Kind {
	case "queue", "topic":
		add(c.Kind, c.Channel, "receive", message)
	case "webhook":
		id := "webhook"
		channels[id] = object{"address": c.Path, "messages": object{"message": message}}
		operations["receive-"+id] = object{"action": "receive", "channel": object{"$ref": "#/channels/" + id},
			"messages": []object{{"$ref": "#/channels/" + id + "/messages/message"}}}
	}
	for _, h := range c.Hands {
		add(h.Kind, h.Name, "send", object{"name": c.Flow + "-" + h.Name, "payload": object{}})
	}
	_, host, _ := strings.Cut(base, "://")
	scheme, _, _ := strings.Cut(base, "://")
	return object{
		"asyncapi":           "3.0.0",
		"info":               object{"title": titled(c), "version": strconv.Itoa(max(c.Version, 1))},
		"defaultContentType": c.Types[0],
		"servers":            object{"here": object{"host": host, "protocol": scheme}},
		"channels":           channels,
		"operations":         operations,
	}
}
