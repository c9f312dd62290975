package store

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"
)

// modelTopic is the simple topic that the store's is held against: a slice that
// keeps everything, and how much of its beginning has been dropped.
type modelTopic struct {
	puts    []time.Duration // when each was put
	first   int
	subs    map[string]int
	missed  map[string]int
	keepFor time.Duration
	keep    int // messages of equal size
	force   bool
}

func (m *modelTopic) old(now time.Duration) bool {
	if m.first == len(m.puts) {
		return false
	}
	return m.puts[m.first] < now-m.keepFor || len(m.puts)-m.first > m.keep
}

func (m *modelTopic) retain(now time.Duration) {
	for m.old(now) {
		for _, at := range m.subs {
			if at <= m.first && !m.force {
				return
			}
		}
		m.first++
		for name, at := range m.subs {
			if at < m.first {
				m.subs[name] = m.first
				m.missed[name]++
			}
		}
	}
}

// Random interleavings of put, read, subscribe, rewind, drop and a crash agree
// with a plain slice. Two subscriptions each get everything (common practice).
func TestTopicAgreesWithAPlainSlice(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 2))
	dir := t.TempDir()
	s, now := open(t, dir), time.Duration(0)
	m := &modelTopic{subs: map[string]int{}, missed: map[string]int{}, keepFor: 40 * time.Second, keep: 60}
	names := []string{"one", "two", "three"}
	const body = 10
	one := func(tx *Tx) error {
		now += time.Duration(r.IntN(1000)) * time.Millisecond
		name := names[r.IntN(len(names))]
		switch what := r.IntN(100); {
		case what < 45:
			msg := &TopicMessage{Topic: "t", Headers: []byte("[]"), Body: make([]byte, body-2), PutAt: epoch.Add(now)}
			heard, err := tx.Append(msg)
			if err != nil || heard != (len(m.subs) > 0) || int(msg.N) != len(m.puts) {
				return fmt.Errorf(
					"append gives offset %d, heard %v, %w; want %d and %d readers",
					msg.N,
					heard,
					err,
					len(m.puts),
					len(m.subs),
				)
			}
			m.puts = append(m.puts, now)
		case what < 80:
			if _, ok := m.subs[name]; !ok {
				return nil
			}
			sub, err := tx.Subscription("t", name)
			if err != nil || int(sub.Position) != m.subs[name] || int(sub.Missed) != m.missed[name] {
				return fmt.Errorf(
					"%s stands at %+v %w, want %d, missed %d",
					name,
					sub,
					err,
					m.subs[name],
					m.missed[name],
				)
			}
			rows, err := tx.ReadTopic(&sub, 1+r.IntN(5))
			if err != nil {
				return err
			}
			for i, row := range rows {
				if int(row.N) != m.subs[name]+i || !row.PutAt.Equal(epoch.Add(m.puts[row.N])) {
					return fmt.Errorf("%s reads %d at place %d", name, row.N, m.subs[name]+i)
				}
			}
			if len(rows) == 0 && m.subs[name] < len(m.puts) {
				return fmt.Errorf("%s reads nothing at %d of %d", name, m.subs[name], len(m.puts))
			}
			sub.Position += int64(len(rows))
			m.subs[name] += len(rows)
			return tx.SaveSubscription(&sub)
		case what < 84:
			_, there := m.subs[name]
			latest := r.IntN(2) == 0
			err := tx.Subscribe("t", name, epoch.Add(now), func(t Topic) (int64, error) {
				if int(t.First) != m.first || int(t.Next) != len(m.puts) {
					return 0, fmt.Errorf(
						"the topic holds %d to %d, want %d to %d",
						t.First,
						t.Next,
						m.first,
						len(m.puts),
					)
				}
				if latest {
					return t.Next, nil
				}
				return t.First, nil
			})
			if !there {
				m.subs[name] = map[bool]int{true: len(m.puts), false: m.first}[latest]
			}
			return err
		case what < 86:
			delete(m.subs, name)
			delete(m.missed, name)
			return tx.Unsubscribe("t", name)
		case what < 92: // rewind to a time
			if _, ok := m.subs[name]; !ok {
				return nil
			}
			topic, err := tx.Topic("t")
			if err != nil {
				return err
			}
			at := now - time.Duration(r.IntN(60000))*time.Millisecond
			n, err := tx.OffsetAt(topic, epoch.Add(at))
			want := m.first
			for want < len(m.puts) && m.puts[want] < at {
				want++
			}
			if err != nil || int(n) != want {
				return fmt.Errorf("offset at %s is %d %w, want %d", at, n, err, want)
			}
			sub, err := tx.Subscription("t", name)
			if err != nil {
				return err
			}
			sub.Position, m.subs[name] = n, want
			return tx.SaveSubscription(&sub)
		case what < 93:
			m.force = !m.force
			topic, err := tx.Topic("t")
			if err != nil {
				return err
			}
			topic.KeepFor, topic.KeepBytes, topic.DropUnread = m.keepFor, int64(m.keep*body), m.force
			return tx.SaveTopic(&topic)
		default:
			topic, err := tx.Topic("t")
			if err != nil || topic.KeepBytes == UsualKeepBytes {
				return err
			}
			for {
				n, err := tx.Retain("t", epoch.Add(now), 7)
				if err != nil {
					return err
				}
				if n < 7 {
					break
				}
			}
			m.retain(now)
		}
		return nil
	}
	for chunk := range 200 {
		write(t, s, func(tx *Tx) error {
			for step := range 40 {
				if err := one(tx); err != nil {
					return fmt.Errorf("step %d: %w", chunk*40+step, err)
				}
			}
			return nil
		})
		if t.Failed() {
			return
		}
		if r.IntN(20) == 0 {
			if err := s.Close(); err != nil {
				t.Fatal(err)
			}
			s = open(t, dir)
		}
	}
	topics, err := s.Topics()
	if err != nil || len(topics) != 1 || int(topics[0].Bytes) != body*(len(m.puts)-m.first) {
		t.Errorf("%+v %v, want %d messages of %d bytes", topics, err, len(m.puts)-m.first, body)
	}
	if rows, err := s.ReadLog("t", 0, false, 10000); err != nil || len(rows) != len(m.puts)-m.first {
		t.Errorf("%d in the log, want %d; %v", len(rows), len(m.puts)-m.first, err)
	}
}
