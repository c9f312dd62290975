package folder

import (
	"bytes"
	"errors"
	"io"
	"sync"

	"readyferry/connect"
)

// Body is what a file is to hold. It is read from its start as often as it is opened, and
// lies on our own disk where it is too large to be held.
type Body struct {
	open func() (io.ReadCloser, error)
	size int64
}

// bodyOf gives what a request hands over.
func bodyOf(r *connect.Request) Body {
	if r.Content != nil {
		return Body{r.Content, r.Size}
	}
	return Holding(r.Body)
}

// Size gives its bytes.
func (b Body) Size() int64 { return b.size }

// Holding gives a body that is held.
func Holding(b []byte) Body {
	return Body{func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(b)), nil }, int64(len(b))}
}

// Reader reads a body from any place; it goes back by opening the body again.
type Reader interface {
	io.ReadSeekCloser
	io.ReaderAt
}

// Open reads it from its start.
func (b Body) Open() Reader { return &opened{of: b} }

// withLineEnd gives it with a line end behind it, where it has none.
func (b Body) withLineEnd() (Body, error) {
	in := b.Open()
	defer func() { _ = in.Close() }()
	var last [1]byte
	if b.size > 0 {
		if _, err := in.Seek(b.size-1, io.SeekStart); err != nil {
			return b, err
		}
		if _, err := io.ReadFull(in, last[:]); err != nil {
			return b, err
		}
	}
	if last[0] == '\n' {
		return b, nil
	}
	return Body{func() (io.ReadCloser, error) {
		whole, err := b.open()
		if err != nil {
			return nil, err
		}
		return &followed{io.MultiReader(whole, bytes.NewReader([]byte("\n"))), whole}, nil
	}, b.size + 1}, nil
}

// followed is a body with something behind it.
type followed struct {
	io.Reader
	io.Closer
}

// writeTo writes it into a file, which is closed then.
func (b Body) writeTo(f io.WriteCloser) error {
	in := b.Open()
	_, err := io.CopyBuffer(struct{ io.Writer }{f}, in, make([]byte, max(1, min(b.size, 64<<10))))
	return errors.Join(err, in.Close(), f.Close())
}

// is tells whether a file holds just that; the file is read, and no more of it than that.
func (b Body) is(file io.Reader) (bool, error) {
	mine := b.Open()
	defer func() { _ = mine.Close() }()
	var a, c [16 << 10]byte
	for {
		n, err := io.ReadFull(mine, a[:])
		if err != nil && !ended(err) {
			return false, err
		}
		m, gone := io.ReadFull(file, c[:])
		switch {
		case gone != nil && !ended(gone):
			return false, gone
		case !bytes.Equal(a[:n], c[:m]):
			return false, nil
		case err != nil:
			return true, nil
		}
	}
}

func ended(err error) bool { return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) }

// opened is a body that is read. It is opened when the first byte is asked for, and again
// when it is to be read from an earlier place: clients of object storage do so to sign it,
// and to try again.
type opened struct {
	of Body
	mu sync.Mutex // a client that tries again may not have let go of its last try
	in io.ReadCloser
	at int64 // where in is
	to int64 // where the next byte is to be from
}

// Read implements io.Reader.
func (o *opened) Read(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.read(p)
}

// ReadAt implements io.ReaderAt.
func (o *opened) ReadAt(p []byte, from int64) (n int, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.to = from
	for n < len(p) && err == nil {
		var m int
		m, err = o.read(p[n:])
		n += m
	}
	return n, err
}

func (o *opened) read(p []byte) (int, error) {
	if o.in == nil || o.to < o.at {
		_ = o.end()
		in, err := o.of.open()
		if err != nil {
			return 0, err
		}
		o.in, o.at = in, 0
	}
	if o.to > o.at {
		n, err := io.CopyN(io.Discard, o.in, o.to-o.at)
		if o.at += n; err != nil {
			return 0, err
		}
	}
	n, err := o.in.Read(p)
	o.at += int64(n)
	o.to = o.at
	return n, err
}

// Seek implements io.Seeker.
func (o *opened) Seek(offset int64, from int) (int64, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	switch from {
	case io.SeekCurrent:
		offset += o.to
	case io.SeekEnd:
		offset += o.of.size
	}
	if offset < 0 {
		return 0, errors.New("a place before the body")
	}
	o.to = offset
	return offset, nil
}

// Close implements io.Closer.
func (o *opened) Close() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.end()
}

func (o *opened) end() error {
	if o.in == nil {
		return nil
	}
	in := o.in
	o.in, o.at = nil, 0
	return in.Close()
}
