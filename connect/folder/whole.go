package folder

import (
	"bytes"
	"encoding/csv"
	"path"
	"strings"

	"readyferry/connect"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/records"
)

// Whole gives the file, by its name below the place, whose only message an intake would make
// of this one: so a sample is laid down as its source would. called is the name that it had,
// "" for any that fits.
func Whole(settings connect.Settings, called string, body []byte) (name string, file []byte, err error) {
	in, err := readIntake(settings)
	if err != nil {
		return "", nil, err
	}
	if called = path.Base(called); !in.fits(called) {
		called = "sample"
		if len(in.names) > 0 {
			called = strings.NewReplacer("*", "sample", "?", "1").Replace(in.names[0])
		}
	}
	file = body
	switch in.take {
	case records.CSV:
		file, err = row(in.separator, body)
	case records.Lines:
		file = append(bytes.Clone(body), '\n')
	}
	return path.Join(in.folder, called), file, err
}

// row writes a record of CSV, with a first row that names its columns.
func row(separator rune, body []byte) ([]byte, error) {
	r, err := jsonfmt.Decode(body)
	if err != nil {
		return nil, err
	}
	var names, values []string
	for _, m := range r.Root.Members {
		names = append(names, m.Name)
		text := m.Value.Text
		if m.Value.Kind == message.Map || m.Value.Kind == message.List {
			text = string(jsonfmt.Encode(m.Value))
		}
		values = append(values, text)
	}
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	w.Comma, w.UseCRLF = separator, true
	err = w.WriteAll([][]string{names, values})
	return out.Bytes(), err
}

// Says makes the file that a message or a part of it was in.
func Says(in connect.Settings, headers map[string]string, body []byte) (connect.Said, error) {
	name, file, err := Whole(in, headers[HeaderName], body)
	return connect.Said{Topic: name, Body: file, Headers: map[string]string{}}, err
}
