package standin

import (
	"io"
	"strings"
	"testing"
	"time"
)

// Both ends of a connection to a broker may write at once, before the other reads.
func TestBothEndsOfAPairMayWrite(t *testing.T) {
	ours, theirs, err := pair()
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []io.Writer{ours, theirs} {
		if _, err := io.WriteString(c, "hello"); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []io.ReadCloser{ours, theirs} {
		b := make([]byte, 5)
		if _, err := io.ReadFull(c, b); err != nil || string(b) != "hello" {
			t.Errorf("%s %v", b, err)
		}
		_ = c.Close()
	}
}

func TestABrokerKeepsItsKindAndIsReached(t *testing.T) {
	s := NewSet(time.Now, func() {})
	defer func() { _ = s.Close() }()
	if err := s.Define(Definition{Name: "b", Kind: KindMQTT}); err != nil {
		t.Fatal(err)
	}
	if err := s.Define(Definition{Name: "b"}); err == nil || !strings.Contains(err.Error(), "keeps its kind") {
		t.Error(err)
	}
	_ = s.Define(Definition{Name: "h"})
	if _, err := s.Dial(KindMQTT, "h"); err == nil || !strings.Contains(err.Error(), "does not speak mqtt") {
		t.Error(err)
	}
	if _, err := s.Dial(KindMQTT, "nobody"); err == nil {
		t.Error("nobody is reached")
	}
	until := time.Now().Add(time.Hour)
	_ = s.Behave("b", Behaviour{OutUntil: &until})
	if _, err := s.Dial(KindMQTT, "b"); err == nil || !strings.Contains(err.Error(), "out of order") {
		t.Error(err)
	}
	_ = s.Behave("b", Behaviour{})
	c, err := s.Dial(KindMQTT, "b")
	if err != nil {
		t.Fatal(err)
	}
	_ = c.Close()
	if err := s.Remove("b"); err != nil {
		t.Error(err)
	}
}
