package body

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// codecs are shared: both are safe for concurrent use, and making one costs more
// than using it.
type codecs struct {
	encoder *zstd.Encoder
	decoder *zstd.Decoder
}

var shared = sync.OnceValue(func() codecs {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err != nil {
		panic(err) // the options are constants
	}
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1))
	if err != nil {
		panic(err)
	}
	return codecs{e, d}
})

// ErrDamaged tells that what is kept is not the content that the reference names.
var ErrDamaged = errors.New("a stored body is damaged")

// Unpack gives a content from its only piece, and checks it.
func Unpack(k *Kept, codec Codec, piece []byte) ([]byte, error) {
	content := piece
	if codec == Zstd {
		var err error
		if content, err = shared().decoder.DecodeAll(piece, make([]byte, 0, k.Size)); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
		}
	}
	if int64(len(content)) != k.Size || sha256.Sum256(content) != k.Key {
		return nil, ErrDamaged
	}
	return content, nil
}

// Open reads a content piece by piece: never more than one of them is in memory.
// next gives the pieces in order, and io.EOF behind the last. The last Read
// before io.EOF has checked the whole.
func Open(k *Kept, codec Codec, next func() ([]byte, error)) (io.ReadCloser, error) {
	pieces := &pieces{next: next}
	r := &checked{key: k.Key, size: k.Size, sum: sha256.New()}
	if codec == Raw {
		r.from, r.close = pieces, func() {}
		return r, nil
	}
	d, err := zstd.NewReader(pieces, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	r.from, r.close = d, d.Close
	return r, nil
}

// pieces reads one piece after the other.
type pieces struct {
	next func() ([]byte, error)
	now  bytes.Reader
}

func (p *pieces) Read(b []byte) (int, error) {
	for p.now.Len() == 0 {
		piece, err := p.next()
		if err != nil {
			return 0, err
		}
		p.now.Reset(piece)
	}
	return p.now.Read(b)
}

// checked compares what is read with the reference.
type checked struct {
	from  io.Reader
	close func()
	key   Key
	size  int64
	read  int64
	sum   interface {
		io.Writer
		Sum([]byte) []byte
	}
}

func (c *checked) Read(b []byte) (int, error) {
	n, err := c.from.Read(b)
	c.read += int64(n)
	_, _ = c.sum.Write(b[:n])
	if errors.Is(err, io.EOF) && (c.read != c.size || !bytes.Equal(c.sum.Sum(nil), c.key[:])) {
		return n, ErrDamaged
	}
	return n, err
}

func (c *checked) Close() error {
	c.close()
	return nil
}
