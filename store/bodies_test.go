package store

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"testing"

	"readyferry/store/body"
)

func TestABodyIsKeptOnceAndComesBack(t *testing.T) {
	s := open(t, t.TempDir())
	noise := make([]byte, 3*body.Piece+17)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	for name, content := range map[string][]byte{
		"empty": {}, "short": []byte("x"), "inline": bytes.Repeat([]byte("a"), body.Inline),
		"kept":       bytes.Repeat([]byte("b"), body.Inline+1),
		"compressed": bytes.Repeat([]byte("<loan/>"), 100_000), "pieces": noise, "two pieces": noise[:body.Piece+1],
		"one piece": noise[:body.Piece],
	} {
		id := NewID()
		for range 2 { // twice the same
			id = NewID()
			if err := s.Write(t.Context(), func(tx *Tx) error {
				return tx.AddTransaction(&Transaction{ID: id, Flow: "f"}, &Message{Tx: id, Body: body.Of(content)})
			}); err != nil {
				t.Fatal(err)
			}
		}
		m, err := s.Message(id)
		if err != nil || !bytes.Equal(m.Body.Bytes(), content) {
			t.Errorf("%s: %v, %d bytes, want %d", name, err, m.Body.Size(), len(content))
		}
		head, err := s.MessageHead(id)
		if err != nil || head.Body.Size() != int64(len(content)) {
			t.Fatalf("%s: %v, %d", name, err, head.Body.Size())
		}
		stream, err := s.OpenBody(&head.Body)
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(stream)
		if err != nil || !bytes.Equal(got, content) {
			t.Errorf("%s, as a stream: %v, %d bytes", name, err, len(got))
		}
		if err := stream.Close(); err != nil {
			t.Error(err)
		}
	}
	var n, stored int64
	if err := s.db.Raw("SELECT COUNT(*), SUM(length(data)) FROM bodies").Row().Scan(&n, &stored); err != nil || n != 5 {
		t.Errorf("%d bodies, %v", n, err)
	}
	if stored > body.Piece+4000 {
		t.Errorf("they take %d bytes; 700,000 of them are the same word", stored)
	}
}

func TestADamagedBodyIsTold(t *testing.T) {
	s := open(t, t.TempDir())
	id := NewID()
	if err := s.Write(t.Context(), func(tx *Tx) error {
		if err := tx.AddTransaction(&Transaction{ID: id, Flow: "f"}, &Message{Tx: id,
			Body: body.Of(bytes.Repeat([]byte("z"), 500))}); err != nil {
			return err
		}
		return tx.sql().Exec("UPDATE bodies SET data = replace(CAST(data AS TEXT), 'zz', 'zy')").Error
	}); err != nil {
		t.Fatal(err)
	}
	if _, err := (View{db: s.db}).Message(id); !errors.Is(err, body.ErrDamaged) { // as the file has it
		t.Errorf("%v", err)
	}
}
