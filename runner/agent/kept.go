package agent

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"readyferry/connect"
	"readyferry/runner/line"
	"readyferry/runner/wire"
)

// The streams of a runner's engine. What comes in is on the disk before anybody is told so.
const (
	cameStream = "came"  // messages that were received, by flow, until they are stored inside
	doneStream = "done"  // deliveries that went through, by id
	asIsStream = "as-is" // what is open and received, sealed
)

// countHeader says how many messages what is kept is.
const countHeader = "Count"

// together is what came together: all of it is kept, or nothing is. The mark is where the source
// stood behind it; it can be large, as one that remembers what it has taken, so it is no header.
type together struct {
	Mark     []byte            `json:"mark"`
	Arrivals []connect.Arrival `json:"arrivals"`
}

// doneFor is how long deliveries that went through are known: longer than anybody tries them again.
const doneFor = 48 * time.Hour

// kept is what a runner keeps.
type kept struct {
	js         jetstream.JetStream
	came, done jetstream.Stream
	asIs       jetstream.Stream
	id         string // of the stream of what came
	// What is open and received, as it was asked for; guarded by the agent's lock.
	openings   map[string]wire.Opening
	receivings map[string]wire.Receiving
	hosting    *wire.Hosting

	mu     sync.Mutex
	counts map[string][]counted // of what came, by flow
}

// counted is how many messages stand under a number.
type counted struct {
	n        uint64
	messages int
}

func cameSubject(flow string) string { return line.Own + "came." + hex.EncodeToString([]byte(flow)) }
func doneSubject(id string) string   { return line.Own + "done." + hex.EncodeToString([]byte(id)) }

const asIsSubject = line.Own + "as-is"

// openKept opens the streams, and makes those that are not there.
func openKept(ctx context.Context, js jetstream.JetStream) (*kept, error) {
	ctx, stop := context.WithTimeout(ctx, 30*time.Second)
	defer stop()
	k := &kept{js: js, openings: map[string]wire.Opening{}, receivings: map[string]wire.Receiving{},
		counts: map[string][]counted{}}
	stream := func(c jetstream.StreamConfig) (jetstream.Stream, error) {
		s, err := js.Stream(ctx, c.Name)
		if errors.Is(err, jetstream.ErrStreamNotFound) {
			c.Metadata = map[string]string{"id": rand.Text()}
			s, err = js.CreateStream(ctx, c)
		}
		if err != nil {
			return nil, fmt.Errorf("what the runner keeps, %s: %w", c.Name, err)
		}
		return s, nil
	}
	var errs [3]error
	k.came, errs[0] = stream(jetstream.StreamConfig{Name: cameStream, Subjects: []string{line.Own + "came.>"},
		Discard: jetstream.DiscardNew})
	k.done, errs[1] = stream(jetstream.StreamConfig{Name: doneStream, Subjects: []string{line.Own + "done.>"},
		MaxMsgsPerSubject: 1,
		MaxAge:            doneFor})
	k.asIs, errs[2] = stream(jetstream.StreamConfig{Name: asIsStream, Subjects: []string{asIsSubject},
		MaxMsgsPerSubject: 1})
	if err := errors.Join(errs[:]...); err != nil {
		return nil, err
	}
	k.id = k.came.CachedInfo().Config.Metadata["id"]
	return k, k.recount(ctx)
}

// put keeps what came together for a flow as one message of the stream, so that all of it is on the
// disk with its mark, or nothing is. mark is where the source stood before. More than heldTogether is
// kept in parts, each up to a place at which the source says where it stands.
func (k *kept) put(ctx context.Context, flow string, mark []byte, list []connect.Arrival) (behind []byte,
	err error) {
	size, first := 0, 0
	for i := range list {
		size += len(list[i].Body)
		if list[i].Mark != nil {
			mark = list[i].Mark
		}
		if i < len(list)-1 && (size < heldTogether || list[i].Mark == nil) {
			continue
		}
		if err := k.putTogether(ctx, flow, mark, list[first:i+1]); err != nil {
			return nil, fmt.Errorf("keeping what came: %w", err)
		}
		size, first = 0, i+1
	}
	return mark, nil
}

// heldTogether is how much is kept as one message of the stream, in bytes of bodies.
const heldTogether = 4 << 20

func (k *kept) putTogether(ctx context.Context, flow string, mark []byte, list []connect.Arrival) error {
	b, err := json.Marshal(together{mark, list})
	if err != nil {
		return err
	}
	m := &nats.Msg{Subject: cameSubject(flow), Data: b, Header: nats.Header{countHeader: {strconv.Itoa(len(list))}}}
	ack, err := k.js.PublishMsg(ctx, m)
	if err == nil {
		k.count(flow, ack.Sequence, len(list))
	}
	return err
}

func (k *kept) count(flow string, n uint64, messages int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.counts[flow] = append(k.counts[flow], counted{n, messages})
}

// recount counts what is kept from before.
func (k *kept) recount(ctx context.Context) error {
	info, err := k.came.Info(ctx, jetstream.WithSubjectFilter(line.Own+"came.>"))
	if err != nil {
		return err
	}
	for subject := range info.State.Subjects {
		name, err := hex.DecodeString(strings.TrimPrefix(subject, line.Own+"came."))
		if err != nil {
			continue
		}
		for n := uint64(0); ; {
			m, err := k.came.GetMsg(ctx, n+1, jetstream.WithGetMsgSubject(subject))
			if errors.Is(err, jetstream.ErrMsgNotFound) {
				break
			}
			if err != nil {
				return err
			}
			n = m.Sequence
			messages, _ := strconv.Atoi(m.Header.Get(countHeader))
			k.count(string(name), n, messages)
		}
	}
	return nil
}

// last gives where the source of a flow stood behind the last message that is kept; known is false
// where none is.
func (k *kept) last(ctx context.Context, flow string) (mark []byte, known bool, err error) {
	m, err := k.came.GetLastMsgForSubject(ctx, cameSubject(flow))
	if errors.Is(err, jetstream.ErrMsgNotFound) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	var of together
	err = json.Unmarshal(m.Data, &of)
	return of.Mark, true, err
}

// fetchedMost is how much is handed over at once, in bytes.
const fetchedMost = 8 << 20

// behind gives what came for a flow under larger numbers.
func (k *kept) behind(ctx context.Context, flow string, n uint64) (out []wire.Arrived, err error) {
	for size := 0; size < fetchedMost; {
		m, err := k.came.GetMsg(ctx, n+1, jetstream.WithGetMsgSubject(cameSubject(flow)))
		if errors.Is(err, jetstream.ErrMsgNotFound) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		if size += len(m.Data); size > fetchedMost && len(out) > 0 {
			break
		}
		n = m.Sequence
		var of together
		if err := json.Unmarshal(m.Data, &of); err != nil {
			return nil, fmt.Errorf("message %d that is kept for %s: %w", n, flow, err)
		}
		out = append(out, wire.Arrived{N: n, Arrivals: of.Arrivals})
	}
	return out, nil
}

// letGo forgets what came for a flow up to a number. What stands under that number itself stays: it
// says where the source stands.
func (k *kept) letGo(ctx context.Context, flow string, to uint64) error {
	k.mu.Lock()
	k.counts[flow] = slices.DeleteFunc(k.counts[flow], func(c counted) bool { return c.n <= to })
	k.mu.Unlock()
	return k.came.Purge(ctx, jetstream.WithPurgeSubject(cameSubject(flow)), jetstream.WithPurgeSequence(to))
}

// waiting counts the messages that are kept for a flow.
func (k *kept) waiting(flow string) (n int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, c := range k.counts[flow] {
		n += int64(c.messages)
	}
	return n
}

// tried gives what a delivery came to that went through before; nil where none did.
func (k *kept) tried(ctx context.Context, id string) (*wire.Tried, error) {
	m, err := k.done.GetLastMsgForSubject(ctx, doneSubject(id))
	if errors.Is(err, jetstream.ErrMsgNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out wire.Tried
	return &out, json.Unmarshal(m.Data, &out)
}

// noteTried keeps that a delivery went through.
func (k *kept) noteTried(ctx context.Context, id string, t *wire.Tried) error {
	b, err := json.Marshal(t)
	if err == nil {
		_, err = k.js.Publish(ctx, doneSubject(id), b)
	}
	return err
}

// asItIs is what is open and received, so that a runner that starts without its line goes on.
type asItIs struct {
	Openings   map[string]wire.Opening   `json:"openings"`
	Receivings map[string]wire.Receiving `json:"receivings"`
	Hosting    *wire.Hosting             `json:"hosting,omitempty"`
}

// sealer seals with the runner's key: whoever has its folder alone has no secrets.
func sealer(key string) (cipher.AEAD, error) {
	b, err := hkdf.Key(sha256.New, []byte(key), nil, "what a runner keeps", 32)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(b)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

// note keeps what is open and received.
func (a *Agent) note() error {
	a.noting.Lock()
	defer a.noting.Unlock()
	a.mu.Lock()
	plain, err := json.Marshal(asItIs{a.store.openings, a.store.receivings, a.store.hosting})
	a.mu.Unlock()
	if err != nil {
		return err
	}
	s, err := sealer(a.Key)
	if err != nil {
		return err
	}
	nonce := make([]byte, s.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return err
	}
	_, err = a.store.js.Publish(a.ctx, asIsSubject, s.Seal(nonce, nonce, plain, nil))
	return err
}

// remember opens what was open, and goes on receiving.
func (a *Agent) remember() error {
	m, err := a.store.asIs.GetLastMsgForSubject(a.ctx, asIsSubject)
	if errors.Is(err, jetstream.ErrMsgNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	s, err := sealer(a.Key)
	if err != nil {
		return err
	}
	var was asItIs
	if n := s.NonceSize(); len(m.Data) > n {
		plain, err := s.Open(nil, m.Data[:n], m.Data[n:], nil)
		if err != nil {
			a.Log.Warn("what was open is sealed with another key; the application says it anew")
			return nil
		}
		if err := json.Unmarshal(plain, &was); err != nil {
			return err
		}
	}
	for _, in := range was.Openings {
		if err := a.opened(a.ctx, &in); err != nil {
			a.Log.Error("opening what was open", "connection", in.Connection, "error", err)
		}
	}
	if was.Hosting != nil {
		if err := a.hosted(a.ctx, was.Hosting); err != nil {
			a.Log.Error("going on running flows", "error", err)
		}
	}
	for _, in := range was.Receivings {
		if _, err := a.begin(a.ctx, &in); err != nil {
			a.Log.Error("going on receiving", "flow", in.Flow, "error", err)
		}
	}
	return nil
}
