package connect

import "strings"

// Said is a message as its source says it, for a simulated one that is to say it.
type Said struct {
	Topic    string // or a routing key, a subject, the name of a file, the subject of a mail
	Exchange string
	Key      string // of a record; who a mail is from
	Body     []byte
	Headers  map[string]string
}

// SaidWith begins what is said with the headers that are not the system's own, which begin
// with a prefix; the names of headers are in lower case.
func SaidWith(prefix string, headers map[string]string, body []byte) Said {
	out := Said{Body: body, Headers: map[string]string{}}
	for name, value := range headers {
		switch {
		case name == "content-type":
			out.Headers["Content-Type"] = value
		case prefix == "" || !strings.HasPrefix(name, prefix):
			out.Headers[name] = value
		}
	}
	return out
}
