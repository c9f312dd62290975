package contract

import (
	"fmt"
	"strings"

	"readyferry/core/message"
)

// Offered is an operation that a partner takes messages for, as a delivery says it.
type Offered struct {
	Name, Title string
	Settings    *message.Node // of the delivery: method, path, headers; topic
	Sample      []byte        // what it takes, made up; nil where that is not known
	Format      string
}

// Server is where a partner listens.
type Server struct {
	Kind    string // of connection
	Address string
	Title   string
}

// Partner is what a contract says of a partner that messages are sent to.
type Partner struct {
	Servers    []Server
	Operations []Offered
	Notes      []string
}

// Partner gives what a delivery can do with the partner whose contract this is. A JSON
// Schema or XSD says nothing of that.
func (c *Contract) Partner() Partner {
	if c.partner == nil {
		return Partner{}
	}
	return c.partner()
}

func settings(pairs ...string) *message.Node {
	out := message.NewMap()
	for i := 0; i+1 < len(pairs); i += 2 {
		out = out.With(pairs[i], message.NewString(pairs[i+1]))
	}
	return out
}

// made adds the sample of an operation that a flow could begin with as well.
func (o *Offered) made(c *Contract) {
	if m, err := c.Make(o.Name); err == nil {
		o.Sample, o.Format = m.Sample, m.Format
	}
}

// ofOpenAPI lists every operation with its method and path, whose parameters are taken from
// the message.
func ofOpenAPI(c *Contract, root *message.Node) func() Partner {
	return func() (p Partner) {
		for _, s := range items(root.Get("servers")) {
			if url := serverURL(s); strings.HasPrefix(url, "http://") || strings.HasPrefix(url, "https://") {
				p.Servers = append(p.Servers, Server{"http", url, textOf(s, "description")})
			}
		}
		if len(p.Servers) == 0 {
			p.Notes = append(p.Notes, "the document names no server by its whole address; write it yourself")
		}
		for _, path := range membersOf(root.Get("paths")) {
			for _, method := range methods {
				op := path.Value.Get(method)
				if op == nil {
					continue
				}
				o := Offered{Name: strings.ToUpper(method) + " " + path.Name, Settings: settings("method", strings.ToUpper(method),
					"path", strings.ReplaceAll(path.Name, "{", "${body."))}
				o.Title = o.Name
				if t := textOf(op, "summary"); t != "" {
					o.Title += ", " + t
				}
				o.made(c)
				p.Operations = append(p.Operations, o)
			}
		}
		return p
	}
}

// serverURL gives the address of a server with the usual values of its variables.
func serverURL(s *message.Node) string {
	url := textOf(s, "url")
	for _, v := range membersOf(s.Get("variables")) {
		url = strings.ReplaceAll(url, "{"+v.Name+"}", textOf(v.Value, "default"))
	}
	return strings.TrimSuffix(url, "/")
}

// protocols are the kinds of connection for the protocols that AsyncAPI names, with the
// setting of a delivery for the address of a channel.
var protocols = map[string]struct{ kind, scheme, setting string }{
	"mqtt": {"mqtt", "mqtt", "topic"}, "mqtts": {"mqtt", "mqtts", "topic"}, "secure-mqtt": {"mqtt", "mqtts", "topic"},
	"amqp": {"amqp", "amqp", "routing-key"}, "amqps": {"amqp", "amqps", "routing-key"},
	"kafka": {"stream", "stream", "topic"}, "kafka-secure": {"stream", "streams", "topic"},
	"nats": {"nats", "nats", "subject"}, "http": {"http", "http", "path"}, "https": {"http", "https", "path"},
}

// ofAsyncAPI lists what the application that is described receives, or every channel where
// it says nothing of that.
func ofAsyncAPI(c *Contract, root *message.Node) func() Partner {
	return func() (p Partner) {
		setting := "topic"
		for _, s := range membersOf(root.Get("servers")) {
			of, known := protocols[textOf(s.Value, "protocol")]
			if !known {
				p.Notes = append(p.Notes, fmt.Sprintf("the server %s speaks %s, which is not spoken here", s.Name,
					textOf(s.Value, "protocol")))
				continue
			}
			if len(p.Servers) == 0 {
				setting = of.setting
			}
			p.Servers = append(p.Servers, Server{of.kind, of.scheme + "://" + textOf(s.Value, "host") + textOf(s.Value,
				"pathname"), s.Name})
		}
		receives := map[string]bool{}
		for _, op := range membersOf(root.Get("operations")) {
			if textOf(op.Value, "action") == "receive" && op.Value.Get("channel") != nil {
				ref := textOf(op.Value.Get("channel"), "$ref")
				receives[ref[strings.LastIndexByte(ref, '/')+1:]] = true
			}
		}
		for _, ch := range membersOf(root.Get("channels")) {
			if root.Get("operations") != nil && !receives[ch.Name] {
				continue
			}
			address := textOf(ch.Value, "address")
			if address == "" {
				address = ch.Name
			}
			to := strings.ReplaceAll(address, "{", "${body.")
			if setting == "path" && !strings.HasPrefix(to, "/") {
				to = "/" + to
			}
			o := Offered{Name: ch.Name, Title: "to " + address, Settings: settings(setting, to)}
			for _, m := range membersOf(ch.Value.Get("messages")) {
				one := o
				one.Name = ch.Name + "/" + m.Name
				one.Title = m.Name + " to " + address
				one.made(c)
				p.Operations = append(p.Operations, one)
			}
			if ch.Value.Get("messages") == nil {
				p.Operations = append(p.Operations, o)
			}
		}
		return p
	}
}

// partner lists the operations of a service, each with its envelope.
func (w *wsdl) partner(c *Contract, by map[string]*bound) Partner {
	var p Partner
	seen := map[string]bool{}
	for _, choice := range c.Choices {
		o := by[choice.Name]
		if o.address != "" && !seen[o.address] {
			seen[o.address] = true
			p.Servers = append(p.Servers, Server{"http", o.address, "SOAP " + o.version})
		}
		m, err := w.make(o)
		if err != nil {
			p.Notes = append(p.Notes, fmt.Sprintf("the operation %s: %v", o.name, err))
			continue
		}
		headers := settings("content-type", m.SOAP.ContentType)
		if o.version == SOAP11 {
			headers = headers.With("soapaction", message.NewString(`"`+o.action+`"`))
		}
		p.Operations = append(p.Operations, Offered{Name: choice.Name, Title: choice.Title,
			Settings: settings("method", "POST").With("headers", headers), Sample: m.Sample, Format: m.Format})
	}
	p.Notes = append(p.Notes, w.notes...)
	return p
}

func textOf(n *message.Node, name string) string {
	if n == nil {
		return ""
	}
	if v := n.Get(name); v != nil {
		return v.Text
	}
	return ""
}

func items(n *message.Node) []*message.Node {
	if n == nil {
		return nil
	}
	return n.Items
}
