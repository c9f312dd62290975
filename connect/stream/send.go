package stream

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/twmb/franz-go/pkg/kgo"

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/core/retry"
)

// KeyHeader is the header that is the same on every try of a delivery.
const KeyHeader = "Idempotency-Key"

// The headers that are properties of a record; any other is a header there too.
const (
	headerTopic     = "Stream-Topic"
	headerPartition = "Stream-Partition"
	headerOffset    = "Stream-Offset"
	headerKey       = "Stream-Key"
	headerTime      = "Stream-Timestamp"

	inBase64 = "base64:" // before a key that is no text
)

type partitionKey struct{}

// partitioner puts a record into the partition that it names, else by its key.
type partitioner struct{ kgo.Partitioner }

// ForTopic implements kgo.Partitioner.
func (p partitioner) ForTopic(topic string) kgo.TopicPartitioner {
	return &ofTopic{p.Partitioner.ForTopic(topic)}
}

type ofTopic struct{ kgo.TopicPartitioner }

// RequiresConsistency implements kgo.TopicPartitioner.
func (p *ofTopic) RequiresConsistency(r *kgo.Record) bool {
	return named(r) >= 0 || p.TopicPartitioner.RequiresConsistency(r)
}

// Partition implements kgo.TopicPartitioner.
func (p *ofTopic) Partition(r *kgo.Record, n int) int {
	if at := named(r); at >= 0 {
		return at
	}
	return p.TopicPartitioner.Partition(r, n)
}

// OnNewBatch implements kgo.TopicPartitionerOnNewBatch.
func (p *ofTopic) OnNewBatch() {
	if on, is := p.TopicPartitioner.(kgo.TopicPartitionerOnNewBatch); is {
		on.OnNewBatch()
	}
}

// named gives the partition that a record names, or -1.
func named(r *kgo.Record) int {
	if r.Context != nil {
		if at, is := r.Context.Value(partitionKey{}).(int); is {
			return at
		}
	}
	return -1
}

// record makes the record of a request, and says which partition it names, or -1.
func record(r connect.Request) (*kgo.Record, int, error) {
	var s struct {
		Topic, Key string
		Partition  json.RawMessage
	}
	if err := json.Unmarshal(r.Settings, &s); err != nil {
		return nil, 0, errors.New("the settings of the delivery cannot be read")
	}
	partition := -1
	if p := strings.Trim(string(s.Partition), `"`); p != "" && p != "null" {
		n, err := strconv.ParseInt(p, 10, 32)
		if err != nil || n < 0 {
			return nil, 0, fmt.Errorf("%w: %q is no number of a partition", connect.ErrBadData, p)
		}
		partition = int(n)
	}
	if s.Topic == "" || len(s.Topic) > 249 {
		return nil, 0, fmt.Errorf("%w: %q is no name of a topic", connect.ErrBadData, s.Topic)
	}
	out := &kgo.Record{Topic: s.Topic, Value: r.Body, Headers: []kgo.RecordHeader{{Key: KeyHeader, Value: []byte(r.ID)}}}
	if s.Key != "" {
		out.Key = []byte(s.Key)
		if rest, coded := strings.CutPrefix(s.Key, inBase64); coded {
			key, err := base64.StdEncoding.DecodeString(rest)
			if err != nil {
				return nil, 0, fmt.Errorf("%w: the key holds no base64", connect.ErrBadData)
			}
			out.Key = key
		}
	}
	for _, h := range r.Headers {
		if !own(h.Name) {
			out.Headers = append(out.Headers, kgo.RecordHeader{Key: h.Name, Value: []byte(h.Value)})
		}
	}
	return out, partition, nil
}

// own tells whether a header says what the record itself does.
func own(name string) bool {
	for _, one := range []string{KeyHeader, headerTopic, headerPartition, headerOffset, headerKey, headerTime} {
		if strings.EqualFold(name, one) {
			return true
		}
	}
	return false
}

// Send implements connect.Sender: one record is appended, and delivered when the replicas
// have it.
func (l *link) Send(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	rec, partition, err := record(r)
	if err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	client, err := l.appends()
	if err != nil {
		return connect.Receipt{}, err
	}
	ctx, cancel := context.WithTimeout(context.WithValue(ctx, partitionKey{}, partition), l.c.TimeLimit)
	defer cancel()
	l.alone.RLock()
	receipt, err := l.outcomeOf(client.ProduceSync(ctx, rec).FirstErr())
	l.alone.RUnlock()
	if !errors.Is(err, connect.ErrBadData) && receipt.Outcome != retry.Never {
		return receipt, err
	}
	// Records of one partition go out together, and the brokers refuse them together: by
	// itself it shows whether it is this one that they mean.
	l.alone.Lock()
	defer l.alone.Unlock()
	again := &kgo.Record{Topic: rec.Topic, Key: rec.Key, Value: rec.Value, Headers: rec.Headers}
	return l.outcomeOf(client.ProduceSync(ctx, again).FirstErr())
}

// headersOf gives the properties and headers of a record as headers.
func headersOf(r *kgo.Record) []message.Header {
	out := []message.Header{
		{Name: headerTopic, Value: r.Topic}, {Name: headerPartition, Value: strconv.Itoa(int(r.Partition))},
		{Name: headerOffset, Value: strconv.FormatInt(r.Offset, 10)},
		{Name: headerTime, Value: r.Timestamp.UTC().Format("2006-01-02T15:04:05.000Z07:00")},
	}
	if r.Key != nil {
		key := string(r.Key)
		if !utf8.ValidString(key) || strings.ContainsAny(key, "\x00\r\n") {
			key = inBase64 + base64.StdEncoding.EncodeToString(r.Key)
		}
		out = append(out, message.Header{Name: headerKey, Value: key})
	}
	for _, h := range r.Headers {
		out = append(out, message.Header{Name: connect.HeaderText(h.Key), Value: connect.HeaderText(string(h.Value))})
	}
	return out
}
