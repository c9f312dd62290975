package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"

	"github.com/klauspost/compress/zstd"

	"readyferry/store/body"
)

// A large content that nobody reads goes into the file while it comes, a piece at a time, and
// is never in memory as a whole. Its key is known behind its last byte alone, so that its
// pieces stand under a name of their own until the message that it belongs to is stored.

// stagedBody names pieces that no content has yet. What a start finds of them was left by a
// process that ended in between.
type stagedBody struct {
	Name []byte `gorm:"primaryKey"`
}

// TableName implements schema.Tabler.
func (stagedBody) TableName() string { return "staged_bodies" }

// Staged is a content whose pieces are in the file, and which no message has yet.
type Staged struct {
	Body   body.Body // a reference
	name   []byte
	codec  body.Codec
	pieces int
}

// Stage reads a content to its end. It has to be adopted by a message, or to be dropped.
func (s *Store) Stage(ctx context.Context, from io.Reader) (*Staged, error) {
	g := &staging{ctx: ctx, store: s, name: make([]byte, 16), sum: sha256.New()}
	_, _ = rand.Read(g.name)
	first := make([]byte, body.Piece)
	n, err := io.ReadFull(from, first)
	first = first[:n]
	ended := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
	if err != nil && !ended {
		return nil, err
	}
	out := &Staged{name: g.name}
	var into io.WriteCloser = g
	if body.Shrinks(first) {
		out.codec = body.Zstd
		if into, err = zstd.NewWriter(g, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1)); err != nil {
			return nil, err
		}
	}
	size, err := g.copy(into, first, from, ended)
	if into != io.WriteCloser(g) {
		err = errors.Join(err, into.Close())
	}
	if err = errors.Join(err, g.Close()); err != nil {
		return nil, errors.Join(err, s.DropStaged(context.WithoutCancel(ctx), out))
	}
	out.Body, out.pieces = body.Referring(body.Key(g.sum.Sum(nil)), size), g.pieces
	return out, nil
}

// staging writes pieces.
type staging struct {
	ctx    context.Context
	store  *Store
	name   []byte
	sum    hash.Hash // of the content
	now    []byte    // the next piece
	pieces int
}

// copy reads the content behind its first bytes.
func (g *staging) copy(into io.Writer, first []byte, from io.Reader, ended bool) (size int64, err error) {
	for some := first; ; {
		_, _ = g.sum.Write(some)
		size += int64(len(some))
		if _, err := into.Write(some); err != nil || ended {
			return size, err
		}
		n, err := from.Read(first[:cap(first)])
		if some = first[:n]; errors.Is(err, io.EOF) {
			ended = true
		} else if err != nil {
			return size, err
		}
	}
}

// Write implements io.Writer: it takes what is kept, in any portions.
func (g *staging) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		k := min(len(p), body.Piece-len(g.now))
		g.now, p = append(g.now, p[:k]...), p[k:]
		if len(g.now) == body.Piece {
			if err := g.flush(); err != nil {
				return n - len(p), err
			}
		}
	}
	return n, nil
}

// Close writes the last piece.
func (g *staging) Close() error {
	if len(g.now) == 0 && g.pieces > 0 {
		return nil
	}
	return g.flush()
}

func (g *staging) flush() error {
	err := g.store.Write(g.ctx, func(tx *Tx) error {
		if g.pieces == 0 {
			if err := tx.prepared.exec("INSERT INTO staged_bodies (name) VALUES (?)", []any{g.name}); err != nil {
				return err
			}
		}
		return tx.prepared.exec("INSERT INTO body_pieces (key, i, data) VALUES (?, ?, ?)", []any{g.name, g.pieces, g.now})
	})
	g.pieces, g.now = g.pieces+1, g.now[:0]
	return err
}

// Adopt makes what is staged a content that messages refer to; it must be called before the
// message is stored, in the same write. Where the content is there already, that one stays.
func (tx *Tx) Adopt(g *Staged) error {
	k := g.Body.Kept()
	if err := tx.sql().Error; err != nil { // what this write has made so far comes before
		return err
	}
	var had int64
	if err := tx.sql().Model(&keptBody{}).Where("key = ?", k.Key[:]).Count(&had).Error; err != nil {
		return err
	}
	if had > 0 {
		return tx.dropPieces(g.name)
	}
	return errors.Join(
		tx.prepared.exec("INSERT INTO bodies (key, size, codec, pieces, data, stands) VALUES (?, ?, ?, ?, NULL, ?)",
			[]any{k.Key[:], k.Size, int64(g.codec), g.pieces, g.name}),
		tx.prepared.exec("DELETE FROM staged_bodies WHERE name = ?", []any{g.name}),
	)
}

func (tx *Tx) dropPieces(name []byte) error {
	return errors.Join(
		tx.sql().Exec("DELETE FROM body_pieces WHERE key = ?", name).Error,
		tx.sql().Exec("DELETE FROM staged_bodies WHERE name = ?", name).Error,
	)
}

// DropStaged forgets what is staged, unless a message has it.
func (s *Store) DropStaged(ctx context.Context, g *Staged) error {
	return s.Write(ctx, func(tx *Tx) error {
		var left int64
		err := tx.sql().Model(&stagedBody{}).Where("name = ?", g.name).Count(&left).Error
		if err != nil || left == 0 {
			return err
		}
		return tx.dropPieces(g.name)
	})
}

// SweepStaged removes what a process that has ended has left; it must be called before
// anything is staged.
func (s *Store) SweepStaged(ctx context.Context) error {
	var left []stagedBody
	if err := s.sql().Find(&left).Error; err != nil {
		return err
	}
	for _, one := range left {
		if err := s.Write(ctx, func(tx *Tx) error { return tx.dropPieces(one.Name) }); err != nil {
			return fmt.Errorf("removing a body that nobody has: %w", err)
		}
	}
	return nil
}
