package store

import (
	"bytes"
	"errors"
	"io"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"readyferry/store/body"
)

// keptBody is a content, kept once. A large one stands in pieces.
type keptBody struct {
	N      int64  `gorm:"primaryKey;autoIncrement"`
	Key    []byte // its SHA-256
	Size   int64  // of the content in bytes
	Codec  uint8  // body.Codec
	Pieces int    // 0: Data is all of it
	Data   []byte
	// Refs counts the rows that refer to it. With the last of them it may go; NULL, which
	// is where no row has referred to it yet, does not count as none.
	Refs *int64
	// Stands is the name under which its pieces stand; nil: its key.
	Stands []byte
}

// TableName implements schema.Tabler.
func (keptBody) TableName() string { return "bodies" }

// bodyPiece is a piece of a large content.
type bodyPiece struct {
	N    int64 `gorm:"primaryKey;autoIncrement"`
	Key  []byte
	I    int
	Data []byte
}

// TableName implements schema.Tabler.
func (bodyPiece) TableName() string { return "body_pieces" }

// keep stores what bodies refer to, unless it is there already. They had better
// be packed: here it would be computed inside of the writer.
func (tx *Tx) keep(bodies ...*body.Body) error {
	for _, b := range bodies {
		*b = b.Packed()
		k := b.Kept()
		if k == nil || k.Pieces == nil || tx.job.known[k.Key] || tx.batch.known[k.Key] {
			continue
		}
		if len(k.Pieces) == 1 {
			tx.job.body(&keptBody{Key: k.Key[:], Size: k.Size, Codec: uint8(k.Codec), Data: k.Pieces[0]})
			continue
		}
		if err := keepBody(tx.sql(), k); err != nil {
			return err
		}
		tx.job.known[k.Key] = true
	}
	return nil
}

func keepBody(db *gorm.DB, k *body.Kept) error {
	row := &keptBody{Key: k.Key[:], Size: k.Size, Codec: uint8(k.Codec), Pieces: len(k.Pieces)}
	if len(k.Pieces) == 1 {
		row.Pieces, row.Data = 0, k.Pieces[0]
	}
	done := db.Clauses(clause.OnConflict{DoNothing: true}).Omit("Refs", "Stands").Create(row)
	if done.Error != nil || done.RowsAffected == 0 || row.Pieces == 0 {
		return done.Error
	}
	for i, piece := range k.Pieces {
		if err := db.Create(&bodyPiece{Key: k.Key[:], I: i, Data: piece}).Error; err != nil {
			return err
		}
	}
	return nil
}

// Fill reads the contents that bodies refer to.
func (v View) Fill(bodies ...*body.Body) error {
	for _, b := range bodies {
		if b.Filled() {
			continue
		}
		if _, is := b.Message(); is {
			return errors.New("a body of a message is read without its transaction")
		}
		row, err := v.bodyRow(b)
		if err != nil {
			return err
		}
		if row.Pieces == 0 {
			content, err := body.Unpack(b.Kept(), body.Codec(row.Codec), row.Data)
			if err != nil {
				return err
			}
			b.Fill(content)
			continue
		}
		r, err := v.pieces(b.Kept(), row)
		if err != nil {
			return err
		}
		content := make([]byte, b.Size())
		_, err = io.ReadFull(r, content)
		if err == nil {
			_, err = r.Read(make([]byte, 1)) // the end, with which the whole is checked
		}
		if err := errors.Join(ignoreEOF(err), r.Close()); err != nil {
			return err
		}
		b.Fill(content)
	}
	return nil
}

// FillOf is Fill for what a delivery of a transaction hands over.
func (v View) FillOf(tx ID, b *body.Body) error {
	n, is := b.Message()
	if !is || b.Filled() {
		return v.Fill(b)
	}
	m, err := v.MessageN(tx, n)
	if err == nil {
		err = v.Fill(&m.Body)
	}
	if err == nil {
		b.Fill(m.Body.Bytes())
	}
	return err
}

func ignoreEOF(err error) error {
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// OpenBodyOf is OpenBody for what a delivery of a transaction hands over.
func (v View) OpenBodyOf(tx ID, b *body.Body) (io.ReadCloser, error) {
	n, is := b.Message()
	if !is || b.Filled() {
		return v.OpenBody(b)
	}
	var m Message
	if err := v.sql().Select("body").Where("tx = ? AND n = ?", tx, n).Take(&m).Error; err != nil {
		return nil, err
	}
	return v.OpenBody(&m.Body)
}

// OpenBody reads a content from its start, a piece at a time, so that a large one
// need not be in memory.
func (v View) OpenBody(b *body.Body) (io.ReadCloser, error) {
	if !b.Filled() {
		row, err := v.bodyRow(b)
		if err != nil {
			return nil, err
		}
		if row.Pieces > 0 {
			return v.pieces(b.Kept(), row)
		}
		if err := v.Fill(b); err != nil {
			return nil, err
		}
	}
	return io.NopCloser(bytes.NewReader(b.Bytes())), nil
}

func (v View) bodyRow(b *body.Body) (keptBody, error) {
	var row keptBody
	return row, v.sql().Where("key = ?", b.Kept().Key[:]).Take(&row).Error
}

func (v View) pieces(k *body.Kept, row keptBody) (io.ReadCloser, error) {
	next, stands := 0, row.Stands
	if stands == nil {
		stands = k.Key[:]
	}
	return body.Open(k, body.Codec(row.Codec), func() ([]byte, error) {
		if next == row.Pieces {
			return nil, io.EOF
		}
		var p bodyPiece
		err := v.sql().Where("key = ? AND i = ?", stands, next).Take(&p).Error
		next++
		return p.Data, err
	})
}
