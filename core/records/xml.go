package records

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// mostDeep is how deep the elements of a file may lie within each other.
const mostDeep = 100

// elements reads the elements of one local name, as they stand in the file. Prefixes that
// are declared around a record are declared in it (Namespaces in XML 1.0, 6.1), so that it
// is a document of its own. The file is in UTF-8; document types are refused.
type elements struct {
	of   io.Closer
	r    *xml.Decoder
	seen *window
	name string
	// What is declared around the place, one entry for each open element.
	around [][]xml.Attr
	at     Place
}

func openXML(source Source, element string) (Reader, error) {
	if element == "" {
		return nil, errors.New("name the elements that are records")
	}
	f, err := source(0)
	if err != nil {
		return nil, err
	}
	seen := &window{r: bufio.NewReaderSize(f, 256<<10)}
	r := xml.NewDecoder(seen)
	r.CharsetReader = func(charset string, _ io.Reader) (io.Reader, error) {
		return nil, fmt.Errorf("the file is in %s; files are cut in UTF-8", charset)
	}
	return &elements{of: f, r: r, seen: seen, name: element}, nil
}

// Close implements Reader.
func (r *elements) Close() error { return r.of.Close() }

// Next implements Reader.
func (r *elements) Next() (Record, error) {
	for {
		r.seen.keepFrom(r.r.InputOffset())
		t, err := r.r.RawToken()
		if err != nil {
			if errors.Is(err, io.EOF) && len(r.around) > 0 {
				return Record{}, &BrokenError{r.at, fmt.Sprintf("%d elements do not end", len(r.around))}
			}
			return Record{}, r.wrong(err)
		}
		switch t := t.(type) {
		case xml.Directive:
			if bytes.HasPrefix(t, []byte("DOCTYPE")) {
				return Record{}, &BrokenError{r.at, "a document type is not read"}
			}
		case xml.StartElement:
			if t.Name.Local == r.name {
				return r.record(t)
			}
			if len(r.around) == mostDeep {
				return Record{}, &BrokenError{r.at, fmt.Sprintf("elements lie more than %d deep", mostDeep)}
			}
			r.around = append(r.around, declared(t.Attr))
		case xml.EndElement:
			if len(r.around) == 0 {
				return Record{}, &BrokenError{r.at, fmt.Sprintf("</%s> ends nothing", nameOf(t.Name))}
			}
			r.around = r.around[:len(r.around)-1]
		}
	}
}

// record reads to the end of an element that has begun.
func (r *elements) record(start xml.StartElement) (Record, error) {
	var open []xml.Name
	open = append(open, start.Name)
	head := r.r.InputOffset()
	for len(open) > 0 {
		t, err := r.r.RawToken()
		if errors.Is(err, io.EOF) {
			err = &BrokenError{r.at, fmt.Sprintf("<%s> does not end", nameOf(open[len(open)-1]))}
		}
		if err != nil {
			return Record{}, r.wrong(err)
		}
		switch t := t.(type) {
		case xml.StartElement:
			if open = append(open, t.Name); len(open) > mostDeep {
				return Record{}, &BrokenError{r.at, fmt.Sprintf("elements lie more than %d deep", mostDeep)}
			}
		case xml.EndElement:
			if last := open[len(open)-1]; last != t.Name {
				return Record{}, &BrokenError{r.at, fmt.Sprintf("</%s> ends <%s>", nameOf(t.Name), nameOf(last))}
			}
			open = open[:len(open)-1]
		}
	}
	r.at = Place{r.r.InputOffset(), r.at.N + 1}
	whole := r.seen.kept(r.at.Offset)
	return Record{r.alone(whole, int(head-r.seen.from), start), r.at}, nil
}

// alone declares in a record what is declared around it.
func (r *elements) alone(whole []byte, head int, start xml.StartElement) []byte {
	have := declared(start.Attr)
	var add []string
	for _, level := range slices.Backward(r.around) {
		for _, a := range level {
			if slices.ContainsFunc(have, func(h xml.Attr) bool { return h.Name == a.Name }) {
				continue
			}
			have = append(have, a)
			var value bytes.Buffer
			_ = xml.EscapeText(&value, []byte(a.Value))
			add = append(add, fmt.Sprintf(` %s="%s"`, nameOf(a.Name), value.Bytes()))
		}
	}
	if len(add) == 0 {
		return bytes.Clone(whole)
	}
	slices.Sort(add)
	at := len("<" + nameOf(start.Name))
	if at > head {
		return bytes.Clone(whole)
	}
	return slices.Concat(whole[:at], []byte(strings.Join(add, "")), whole[at:])
}

// declared are the declarations of namespaces among attributes.
func declared(attrs []xml.Attr) (out []xml.Attr) {
	for _, a := range attrs {
		if a.Name.Space == "xmlns" || a.Name.Space == "" && a.Name.Local == "xmlns" {
			out = append(out, a)
		}
	}
	return out
}

func nameOf(n xml.Name) string {
	if n.Space == "" {
		return n.Local
	}
	return n.Space + ":" + n.Local
}

// wrong tells what is no XML from what the source could not give.
func (r *elements) wrong(err error) error {
	var syntax *xml.SyntaxError
	switch {
	case errors.As(err, &syntax):
		return &BrokenError{r.at, syntax.Msg}
	case errors.Is(err, errTooLarge):
		return &BrokenError{r.at, err.Error()}
	case r.seen.failed == nil && !errors.Is(err, io.EOF):
		return &BrokenError{r.at, err.Error()} // the decoder's own, such as of another encoding
	}
	return err
}

// window gives bytes one by one, so that the decoder reads nothing ahead, and keeps those
// from a place on.
type window struct {
	r      *bufio.Reader
	bytes  []byte
	from   int64 // where bytes begins
	failed error
}

// keepFrom forgets what lies before a place.
func (w *window) keepFrom(at int64) {
	w.bytes, w.from = append(w.bytes[:0], w.bytes[at-w.from:]...), at
}

// kept gives what was read up to a place.
func (w *window) kept(to int64) []byte { return w.bytes[:to-w.from] }

// ReadByte implements io.ByteReader.
func (w *window) ReadByte() (byte, error) {
	if len(w.bytes) > Largest {
		return 0, errTooLarge
	}
	b, err := w.r.ReadByte()
	if err == nil {
		w.bytes = append(w.bytes, b)
	} else if !errors.Is(err, io.EOF) {
		w.failed = err
	}
	return b, err
}

// Read implements io.Reader; the decoder does not use it.
func (w *window) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	b, err := w.ReadByte()
	if err != nil {
		return 0, err
	}
	p[0] = b
	return 1, nil
}
