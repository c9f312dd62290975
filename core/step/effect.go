package step

import (
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// Want is something that a step needs of the world.
type Want struct {
	Path    string   // of the step in this transaction; the key of the effect
	Step    string   // its id
	Kind    string   // WantHTTP or WantQueue
	Target  string   // name of the connection or queue
	Request *Request // what is to be handed over
	Retry   *Retry   // the step's own plan, or nil
}

// The kinds of want.
const (
	WantHTTP  = "http"  // a delivery over HTTP, guaranteed by the engine
	WantQueue = "queue" // a message for a queue inside the application
)

// Request is what a delivery hands over.
type Request struct {
	Method  string           `json:"method,omitempty"`
	Path    string           `json:"path,omitempty"` // below the connection's address
	Headers []message.Header `json:"headers"`
	Format  string           `json:"format"`
	Body    []byte           `json:"body"`
}

// Effect is what a want came to. The journal keeps it.
type Effect struct {
	Status  int              `json:"status,omitempty"` // HTTP status of the answer
	Headers []message.Header `json:"headers,omitempty"`
	Body    []byte           `json:"body,omitempty"`
	Item    string           `json:"item,omitempty"` // id of the message in its queue
}

// reply gives an effect as what later steps see under replies.
func (e *Effect) reply() *message.Node {
	headers := message.HeaderMap(e.Headers)
	body := message.NewString(string(e.Body))
	if len(e.Body) == 0 {
		body = message.NewNull()
	} else if FormatOf("auto", headers.Get("content-type")) == "json" {
		if r, err := jsonfmt.Decode(e.Body); err == nil {
			body = r.Root
		}
	}
	return message.NewMap(
		message.Member{Name: "status", Value: jsonInt(e.Status)},
		message.Member{Name: "headers", Value: headers},
		message.Member{Name: "body", Value: body},
	)
}
