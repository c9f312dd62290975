package records

import (
	"bufio"
	"bytes"
	"errors"
	"io"
)

// batch reads the messages of an HL7 batch (HL7 2.5.1, 2.10.3): each begins with MSH, and
// the segments around them (FHS, BHS, BTS, FTS) are no messages. Segments end with CR, LF
// or both; a record has CR behind each.
type batch struct {
	of io.Closer
	r  *bufio.Reader
	at Place
	// What was read of the next message, and where that ends.
	next   []byte
	offset int64
}

func openHL7(source Source, at Place) (Reader, error) {
	f, err := source(at.Offset)
	if err != nil {
		return nil, err
	}
	return &batch{of: f, r: bufio.NewReaderSize(f, 256<<10), at: at, offset: at.Offset}, nil
}

// Close implements Reader.
func (r *batch) Close() error { return r.of.Close() }

// Next implements Reader.
func (r *batch) Next() (Record, error) {
	msg := r.next
	r.next = nil
	for {
		began := r.offset
		segment, err := upTo(r.r, func(b byte) bool { return b == '\r' || b == '\n' })
		if err == nil || errors.Is(err, io.EOF) {
			r.offset += int64(len(segment))
			if began == 0 {
				segment = bytes.TrimPrefix(segment, []byte(byteOrderMark))
			}
			segment = bytes.Trim(segment, "\r\n\x0B\x1C") // files may hold the frames of MLLP, too
		}
		switch {
		case errors.Is(err, io.EOF) && len(segment) == 0:
			if len(msg) == 0 {
				return Record{}, io.EOF
			}
			return r.message(msg, r.offset), nil
		case errors.Is(err, errTooLarge) || len(msg)+len(segment) > Largest:
			return Record{}, &BrokenError{r.at, errTooLarge.Error()}
		case err != nil && !errors.Is(err, io.EOF):
			return Record{}, err
		case len(segment) == 0:
		case bytes.HasPrefix(segment, []byte("MSH")):
			if r.next = append(bytes.Clone(segment), '\r'); len(msg) > 0 {
				return r.message(msg, began), nil
			}
			msg, r.next = r.next, nil
		case around(segment):
			if len(msg) > 0 {
				return r.message(msg, r.offset), nil
			}
		case len(msg) == 0:
			return Record{}, &BrokenError{r.at, "a message begins with the segment MSH"}
		default:
			msg = append(append(msg, segment...), '\r')
		}
	}
}

func (r *batch) message(msg []byte, offset int64) Record {
	r.at = Place{offset, r.at.N + 1}
	return Record{msg, r.at}
}

// around tells whether a segment is one of those around the messages of a batch.
func around(segment []byte) bool {
	for _, name := range []string{"FHS", "BHS", "BTS", "FTS"} {
		if bytes.HasPrefix(segment, []byte(name)) {
			return true
		}
	}
	return false
}
