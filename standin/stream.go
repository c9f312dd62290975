package standin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// streamLog is a partitioned log within the process, which keeps its records in memory. It
// listens on loopback, because brokers of such a log tell their own addresses.
type streamLog struct {
	sys     *System
	now     func() time.Time
	changed func()
	cluster *kfake.Cluster
	client  *kgo.Client // through which a person appends

	mu     sync.Mutex
	topics map[string]int // partitions
	names  map[kadm.TopicID]string
}

// patienceOfLog is how long the log is asked for what it has, and told what a person says.
const patienceOfLog = 5 * time.Second

func newStream(sys *System, now func() time.Time, changed func()) (speaker, error) {
	cluster, err := kfake.NewCluster(kfake.NumBrokers(1), kfake.GroupMinSessionTimeout(time.Second))
	if err != nil {
		return nil, err
	}
	client, err := kgo.NewClient(kgo.SeedBrokers(cluster.ListenAddrs()...), kgo.ClientID(aPerson), kgo.ProducerLinger(0),
		kgo.ProducerBatchCompression(kgo.NoCompression()))
	if err != nil {
		cluster.Close()
		return nil, err
	}
	s := &streamLog{sys: sys, now: now, changed: changed, cluster: cluster, client: client, topics: map[string]int{},
		names: map[kadm.TopicID]string{}}
	cluster.ControlKey(int16(kmsg.Produce), s.produced)
	return s, nil
}

// aPerson is the client through which a person appends.
const aPerson = "a-person"

// serve hands what a client says on to the broker.
func (s *streamLog) serve(conn net.Conn) {
	defer func() { _ = conn.Close() }()
	to, err := net.DialTimeout("tcp", s.cluster.ListenAddrs()[0], patienceOfLog)
	if err != nil {
		return
	}
	defer func() { _ = to.Close() }()
	go func() { _, _ = io.Copy(to, conn); _ = to.Close() }()
	_, _ = io.Copy(conn, to)
}

func (s *streamLog) close() error {
	s.client.Close()
	s.cluster.Close()
	return nil
}

// shape makes the topics of a definition, a line for each with its partitions. One that
// is there keeps its records, and gets more partitions, never fewer.
func (s *streamLog) shape(d Definition) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), patienceOfLog)
	defer cancel()
	a := kadm.NewClient(s.client)
	for _, line := range d.Has {
		words, n := strings.Fields(line), 1
		if len(words) == 2 {
			n, _ = strconv.Atoi(words[1])
		}
		if len(words) == 0 || len(words) > 2 || n < 1 || n > 100 {
			return fmt.Errorf("%q is no topic; write its name and how many partitions it has, 1 to 100, such as loans 6", line)
		}
		had := s.topics[words[0]]
		var err error
		switch {
		case had == 0:
			var made kadm.CreateTopicResponse
			made, err = a.CreateTopic(ctx, int32(n), 1, nil, words[0])
			s.names[made.ID] = words[0]
		case n > had:
			_, err = a.UpdatePartitions(ctx, n, words[0])
		}
		if err != nil && !errors.Is(err, kerr.TopicAlreadyExists) {
			return fmt.Errorf("%q: %w", line, err)
		}
		s.topics[words[0]] = max(n, had)
	}
	return nil
}

// inside tells how many records each topic holds, and how many groups read.
func (s *streamLog) inside() []Inside {
	ctx, cancel := context.WithTimeout(context.Background(), patienceOfLog)
	defer cancel()
	a := kadm.NewClient(s.client)
	ends, err := a.ListEndOffsets(ctx)
	if err != nil {
		return []Inside{}
	}
	readers := map[string]int{}
	if groups, err := a.DescribeGroups(ctx); err == nil {
		for _, g := range groups.Sorted() {
			for topic := range g.AssignedPartitions() {
				readers[topic]++
			}
		}
	}
	out := []Inside{}
	for _, topic := range ends.Offsets().Sorted() {
		if len(out) == 0 || out[len(out)-1].Name != topic.Topic {
			out = append(out, Inside{Name: topic.Topic, Consumers: readers[topic.Topic]})
		}
		out[len(out)-1].Messages += topic.At
	}
	return out
}

// send implements speaker.
func (s *streamLog) send(m Message) error {
	s.mu.Lock()
	n := s.topics[m.Topic]
	s.mu.Unlock()
	if n == 0 {
		return fmt.Errorf("there is no topic %q", m.Topic)
	}
	r := &kgo.Record{Topic: m.Topic, Value: []byte(m.Body)}
	if m.Key != "" {
		r.Key = []byte(m.Key)
	}
	for name, v := range m.Headers {
		r.Headers = append(r.Headers, kgo.RecordHeader{Key: name, Value: []byte(v)})
	}
	ctx, cancel := context.WithTimeout(context.Background(), patienceOfLog)
	defer cancel()
	return s.client.ProduceSync(ctx, r).FirstErr()
}

// produced looks at what is appended, and answers as the stand-in is told to.
func (s *streamLog) produced(r kmsg.Request) (kmsg.Response, error, bool) {
	s.cluster.KeepControl()
	req := r.(*kmsg.ProduceRequest)
	records := s.recordsOf(req)
	if len(records) == 0 || s.byPerson(records) {
		return nil, nil, false
	}
	status, delay := 200, time.Duration(0)
	for _, one := range records {
		path := one.Topic
		status, _, _, delay = s.sys.decide(s.now(), "APPEND", path)
		call := Call{At: s.now(), Method: "APPEND", Path: path, Status: max(status, 0), Headers: map[string]string{},
			Body: strings.ToValidUTF8(string(one.Value), "\uFFFD")}
		if one.Key != nil {
			call.Path += " key " + strings.ToValidUTF8(string(one.Key), "\uFFFD")
		}
		for _, h := range one.Headers {
			if call.Headers[h.Key] = strings.ToValidUTF8(string(h.Value), "\uFFFD"); strings.EqualFold(h.Key,
				"Idempotency-Key") {
				call.Key = string(h.Value)
			}
		}
		s.sys.note(call)
	}
	s.changed()
	if delay > 0 {
		s.cluster.SleepControl(func() { time.Sleep(delay) })
	}
	switch {
	case status == never:
		s.cluster.SleepControl(func() { time.Sleep(maxDelay * time.Millisecond) })
		return nil, errors.New("silent"), true
	case status == 0:
		return nil, errors.New("cut"), true
	case status < 300:
		return nil, nil, false
	}
	return refusedBy(req, errorOf(status)), nil, true
}

// recordsOf reads the records of a request.
func (s *streamLog) recordsOf(req *kmsg.ProduceRequest) (out []*kgo.Record) {
	for _, topic := range req.Topics {
		name := topic.Topic
		if name == "" {
			s.mu.Lock()
			name = s.names[topic.TopicID]
			s.mu.Unlock()
		}
		for _, p := range topic.Partitions {
			as := kmsg.NewFetchResponseTopicPartition()
			as.Partition, as.RecordBatches = p.Partition, p.Records
			read, _ := kgo.ProcessFetchPartition(kgo.ProcessFetchPartitionOpts{Topic: name, Partition: p.Partition}, &as,
				kgo.DefaultDecompressor(), nil)
			out = append(out, read.Records...)
		}
	}
	return out
}

// byPerson tells whether a person has these appended from the page of the stand-in: what
// the log's own client sends goes in as it is.
func (s *streamLog) byPerson(records []*kgo.Record) bool {
	for _, h := range records[0].Headers {
		if strings.EqualFold(h.Key, "Idempotency-Key") {
			return false
		}
	}
	return true
}

// errorOf gives the error that means what a status over HTTP does.
func errorOf(status int) *kerr.Error {
	switch {
	case status == 401, status == 403:
		return kerr.TopicAuthorizationFailed
	case status == 404:
		return kerr.UnknownTopicOrPartition
	case status == 413:
		return kerr.MessageTooLarge
	case status == 429:
		return kerr.ThrottlingQuotaExceeded
	case status < 500:
		return kerr.InvalidRecord
	case status == 507:
		return kerr.KafkaStorageError
	}
	return kerr.NotEnoughReplicas
}

func refusedBy(req *kmsg.ProduceRequest, why *kerr.Error) kmsg.Response {
	res := req.ResponseKind().(*kmsg.ProduceResponse)
	for _, topic := range req.Topics {
		rt := kmsg.NewProduceResponseTopic()
		rt.Topic, rt.TopicID = topic.Topic, topic.TopicID
		for _, p := range topic.Partitions {
			rp := kmsg.NewProduceResponseTopicPartition()
			rp.Partition, rp.ErrorCode = p.Partition, why.Code
			rt.Partitions = append(rt.Partitions, rp)
		}
		res.Topics = append(res.Topics, rt)
	}
	return res
}
