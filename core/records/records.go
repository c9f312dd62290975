// Package records cuts what is read from a file into records, one after the other: lines,
// rows of CSV, values of JSON, elements of XML, messages of an HL7 batch. A reader holds
// one record at a time, however large the file, and says where it stands behind each, so
// that another reader can go on from there after a crash.
//
// A file whose rest cannot be cut ends in a *BrokenError; what came before it is good.
package records

import (
	"errors"
	"fmt"
	"io"
)

// Largest is the largest record, in bytes.
const Largest = 16 << 20

// Source opens what is cut, from an offset in bytes on.
type Source func(offset int64) (io.ReadCloser, error)

// Place is how far something was read. The zero value is its beginning.
type Place struct {
	Offset int64 `json:"offset"` // in bytes
	N      int64 `json:"n"`      // in records
}

// Record is one record.
type Record struct {
	Body   []byte
	Behind Place
}

// Reader reads records. Next ends with io.EOF behind the last one, with a *BrokenError
// where the rest is none, and else with an error of the source.
type Reader interface {
	Next() (Record, error)
	Close() error
}

// BrokenError tells that the rest cannot be cut into records.
type BrokenError struct {
	At     Place // behind the last good record
	Reason string
}

// Error implements error.
func (e *BrokenError) Error() string {
	return fmt.Sprintf("behind record %d, %d bytes in: %s", e.At.N, e.At.Offset, e.Reason)
}

// The ways to cut.
const (
	Lines = "line"
	CSV   = "csv"
	JSON  = "json"
	XML   = "xml"
	HL7   = "hl7"
)

// Cutting says how something is cut.
type Cutting struct {
	By        string // one of the ways
	Separator rune   // of CSV; 0: a comma
	Element   string // of XML: the local name of the elements that are records
}

// Open begins to read at a place that an earlier reader was at.
func Open(source Source, c Cutting, at Place) (Reader, error) {
	switch c.By {
	case Lines:
		return openLines(source, at)
	case CSV:
		return openCSV(source, c.Separator, at)
	case JSON:
		return skipped(openJSON(source))(at)
	case XML:
		return skipped(openXML(source, c.Element))(at)
	case HL7:
		return openHL7(source, at)
	}
	return nil, fmt.Errorf("records are cut by line, csv, json, xml or hl7, not by %q", c.By)
}

// skipped goes on in what can only be understood from its beginning on.
func skipped(r Reader, err error) func(at Place) (Reader, error) {
	return func(at Place) (Reader, error) {
		for n := int64(0); err == nil && n < at.N; n++ {
			_, err = r.Next()
		}
		if err != nil && r != nil {
			return nil, errors.Join(err, r.Close())
		}
		return r, err
	}
}

// bounded is a reader that ends when one record takes more than Largest, whatever reads it.
type bounded struct {
	io.Reader
	left int64
}

var errTooLarge = fmt.Errorf("a record has more than %d bytes", Largest)

// again lets the next record be as large as any.
func (b *bounded) again() { b.left = Largest + 1<<16 } // what a decoder reads ahead comes on top

// Read implements io.Reader.
func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, errTooLarge
	}
	if int64(len(p)) > b.left {
		p = p[:b.left]
	}
	n, err := b.Reader.Read(p)
	b.left -= int64(n)
	return n, err
}
