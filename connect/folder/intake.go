package folder

import (
	"errors"
	"fmt"
	"mime"
	"path"
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/records"
)

// The headers of a message that was a file, or a part of one.
const (
	HeaderName     = "file-name"
	HeaderFolder   = "file-folder"
	HeaderSize     = "file-size"
	HeaderModified = "file-modified"
	HeaderRecord   = "file-record"
)

// IntakeSchema is what intakes from files say.
const IntakeSchema = `{"properties": {
	"folder": {"type": "string", "title": "Folder", "offers": true, "description": "below the folder of the connection; that itself when empty",
		"examples": ["out"]},
	"names": {"type": "string", "title": "Names", "default": "*", "description":
		"* is any run of characters, ? any one, [a-z] one of these; several with spaces between", "examples": ["*.csv *.txt"]},
	"below": {"type": "boolean", "title": "folders below it, too"},
	"take": {"enum": ["file", "line", "csv", "json", "xml", "hl7"], "title": "A message is", "default": "file", "titles": {
		"file": "each file", "line": "each line", "csv": "each row of CSV, under the names of the first row",
		"json": "each value of a JSON list", "xml": "each element of a name", "hl7": "each HL7 message of a batch"}},
	"separator": {"enum": ["comma", "semicolon", "tab", "bar"], "title": "Between fields", "default": "comma", "when": {"take": ["csv"]},
		"titles": {"comma": "comma", "semicolon": "semicolon", "tab": "tabulator", "bar": "vertical bar"}},
	"element": {"type": "string", "title": "Element", "when": {"take": ["xml"]}, "description": "its name without a prefix",
		"examples": ["record"]},
	"settled": {"type": "string", "title": "Settled", "format": "duration", "default": "5s", "description":
		"a file is whole when its size and time have not changed for so long"},
	"every": {"type": "string", "title": "Looked for every", "format": "duration", "default": "10s"},
	"order": {"enum": ["name", "time"], "title": "In the order of", "default": "name", "titles": {"name": "names", "time":
		"times, the oldest first"}},
	"then": {"enum": ["move", "rename", "remove"], "title": "Then", "default": "move", "titles": {
		"move": "moved into a folder", "rename": "given another ending", "remove": "removed"}},
	"to": {"type": "string", "title": "To", "default": "done", "when": {"then": ["move"]}, "description":
		"a folder within the one it is in; made when it is not there"},
	"ending": {"type": "string", "title": "Ending", "default": ".done", "when": {"then": ["rename"]}}}}`

// intake is what an intake says.
type intake struct {
	folder, take, element, order, then, to, ending string
	names                                          []string
	below                                          bool
	separator                                      rune
	settled, every                                 time.Duration
}

// separators are what stands between the fields of CSV.
var separators = map[string]rune{"": ',', "comma": ',', "semicolon": ';', "tab": '\t', "bar": '|'}

// usual is what an intake says that says nothing.
var usual = map[string]string{"names": "*", "take": "file", "order": "name", "then": "move", "to": "done",
	"ending":  ".done",
	"settled": "5s", "every": "10s"}

func readIntake(s connect.Settings) (in intake, err error) {
	text := func(name string) string {
		if s != nil {
			if n := s.Get(name); n != nil && n.Text != "" {
				return n.Text
			}
		}
		return usual[name]
	}
	in = intake{take: text("take"), element: text("element"), order: text("order"), then: text("then"),
		names: strings.Fields(text("names")), below: text("below") == "true", separator: separators[text("separator")]}
	in.folder, err = Below(text("folder"))
	if in.then == "move" && err == nil {
		in.to, err = Below(text("to"))
	}
	if in.then == "rename" && err == nil {
		in.ending = text("ending")
		err = checkName("x" + in.ending)
	}
	for _, pattern := range in.names {
		if _, bad := path.Match(pattern, "x"); bad != nil {
			err = errors.Join(err, fmt.Errorf("%q is no pattern of names", pattern))
		}
	}
	for name, into := range map[string]*time.Duration{"settled": &in.settled, "every": &in.every} {
		d, bad := flow.Duration(text(name))
		if bad != nil {
			err = errors.Join(err, fmt.Errorf("%s: %w", name, bad))
		}
		*into = d
	}
	if in.every < time.Second {
		err = errors.Join(err, errors.New("every: files are looked for at most once a second"))
	}
	if in.take == records.XML && in.element == "" {
		err = errors.Join(err, errors.New("element: name the elements that are messages"))
	}
	return in, err
}

// fits tells whether a file is one that is taken.
func (in *intake) fits(name string) bool {
	if strings.HasPrefix(name, ".") || in.then == "rename" && strings.HasSuffix(name, in.ending) {
		return false
	}
	for _, pattern := range in.names {
		if is, _ := path.Match(pattern, name); is {
			return true
		}
	}
	return false
}

// file is a file that may be taken.
type file struct {
	path     string
	size     int64
	modified time.Time
}

// id tells a file from another of its name: it is the same when it comes again.
func (f *file) id() string {
	return fmt.Sprintf("%s@%d/%d", f.path, f.size, f.modified.UnixMilli())
}

// arrival makes a message of a file or a part of it; n is 0 for the whole.
func (f *file) arrival(in *intake, n int64, body []byte) connect.Arrival {
	dir := path.Dir(f.path)
	if dir == "." {
		dir = ""
	}
	a := connect.Arrival{ID: f.id(), Body: body, Headers: []message.Header{
		{Name: "content-type", Value: contentType(f.path, in.take)},
		{Name: HeaderName, Value: connect.HeaderText(path.Base(f.path))},
		{Name: HeaderFolder, Value: connect.HeaderText(dir)},
		{Name: HeaderSize, Value: fmt.Sprint(f.size)},
		{Name: HeaderModified, Value: f.modified.UTC().Format(time.RFC3339Nano)},
	}}
	if n > 0 {
		a.ID = fmt.Sprintf("%s#%d", a.ID, n)
		a.Headers = append(a.Headers, message.Header{Name: HeaderRecord, Value: fmt.Sprint(n)})
	}
	return a
}

// types are the content types of names' endings (those of IANA where one is registered),
// the same on every machine.
var types = map[string]string{".json": "application/json", ".xml": "application/xml", ".csv": "text/csv",
	".txt": "text/plain",
	".hl7": "application/hl7-v2", ".jsonl": "application/jsonl", ".html": "text/html", ".pdf": "application/pdf"}

// contentType says what a message is.
func contentType(name, take string) string {
	switch take {
	case records.CSV, records.JSON:
		return "application/json"
	case records.XML:
		return "application/xml"
	case records.HL7:
		return "application/hl7-v2"
	case records.Lines:
		if strings.EqualFold(path.Ext(name), ".jsonl") {
			return "application/json"
		}
		return "text/plain"
	}
	ending := strings.ToLower(path.Ext(name))
	if t := types[ending]; t != "" {
		return t
	}
	if t := mime.TypeByExtension(ending); t != "" {
		return t
	}
	return "application/octet-stream"
}
