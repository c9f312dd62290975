package standin

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// natsBroker is a real broker within the process, whose streams are kept in memory. What
// clients publish is looked at on its way in, and answered as the stand-in is told to.
type natsBroker struct {
	sys     *System
	now     func() time.Time
	changed func()
	server  *server.Server
	folder  string
	client  *nats.Conn // through which a person publishes
	js      jetstream.JetStream
}

func newNATS(sys *System, now func() time.Time, changed func()) (speaker, error) {
	folder, err := os.MkdirTemp("", "readyferry-nats-")
	if err != nil {
		return nil, err
	}
	s, err := server.NewServer(&server.Options{DontListen: true, JetStream: true, StoreDir: folder, NoSigs: true,
		NoLog:              true,
		JetStreamMaxMemory: 256 << 20, JetStreamMaxStore: 1 << 20, MaxPayload: 8 << 20})
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(folder))
	}
	s.Start()
	b := &natsBroker{sys: sys, now: now, changed: changed, server: s, folder: folder}
	if !s.ReadyForConnections(patienceOfLog) {
		return nil, errors.Join(errors.New("the broker does not begin"), b.close())
	}
	if b.client, err = nats.Connect("", nats.InProcessServer(s)); err != nil {
		return nil, errors.Join(err, b.close())
	}
	if b.js, err = jetstream.New(b.client); err != nil {
		return nil, errors.Join(err, b.close())
	}
	return b, nil
}

func (b *natsBroker) close() error {
	if b.client != nil {
		b.client.Close()
	}
	b.server.Shutdown()
	return os.RemoveAll(b.folder)
}

// shape makes the streams of a definition, a line for each with its subjects.
func (b *natsBroker) shape(d Definition) error {
	ctx, cancel := context.WithTimeout(context.Background(), patienceOfLog)
	defer cancel()
	for _, line := range d.Has {
		words := strings.Fields(line)
		if len(words) < 2 {
			return fmt.Errorf("%q is no stream; write its name and its subjects, such as RETURNS desk.returns.>", line)
		}
		_, err := b.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{Name: words[0], Subjects: words[1:],
			Storage: jetstream.MemoryStorage,
			MaxMsgs: 10_000})
		if err != nil {
			return fmt.Errorf("%q: %w", line, err)
		}
	}
	return nil
}

func (b *natsBroker) inside() []Inside {
	ctx, cancel := context.WithTimeout(context.Background(), patienceOfLog)
	defer cancel()
	out := []Inside{}
	streams := b.js.ListStreams(ctx)
	for s := range streams.Info() {
		out = append(out, Inside{Name: s.Config.Name, Messages: int64(s.State.Msgs), Consumers: s.State.Consumers})
	}
	return out
}

// send implements speaker.
func (b *natsBroker) send(m Message) error {
	if m.Topic == "" || strings.ContainsAny(m.Topic, " *>\r\n") {
		return fmt.Errorf("%q is no subject", m.Topic)
	}
	msg := nats.NewMsg(m.Topic)
	msg.Data = []byte(m.Body)
	for name, v := range m.Headers {
		msg.Header.Set(name, v)
	}
	ctx, cancel := context.WithTimeout(context.Background(), patienceOfLog)
	defer cancel()
	if _, err := b.js.StreamNameBySubject(ctx, m.Topic); err != nil {
		return b.client.PublishMsg(msg) // to who listens
	}
	_, err := b.js.PublishMsg(ctx, msg)
	return err
}

// serve hands what a client says on to the broker, but for messages: those are looked at.
func (b *natsBroker) serve(conn net.Conn) {
	defer func() { _ = conn.Close() }()
	to, err := b.server.InProcessConn()
	if err != nil {
		return
	}
	defer func() { _ = to.Close() }()
	go func() { _, _ = io.Copy(conn, to); _ = conn.Close() }()
	r := bufio.NewReaderSize(conn, 64<<10)
	for {
		line, err := r.ReadSlice('\n')
		if err != nil {
			return
		}
		p, is, err := readPub(line, r)
		if err != nil {
			return
		}
		if is {
			if line, err = b.published(p, conn); err != nil {
				return
			}
		}
		if _, err := to.Write(line); err != nil {
			return
		}
	}
}

// pub is a message that a client publishes, as it stands in the protocol.
type pub struct {
	raw            []byte // the line with what follows it
	subject, reply string
	headers        map[string]string
	body           []byte
}

// mostPub bounds a message, in bytes.
const mostPub = 8<<20 + 64<<10

// readPub reads a message behind its line; is tells whether the line begins one.
func readPub(line []byte, r io.Reader) (p pub, is bool, err error) {
	words := strings.Fields(string(line))
	if len(words) == 0 {
		return p, false, nil
	}
	verb, head := strings.ToUpper(words[0]), 0
	switch {
	case verb == "PUB" && (len(words) == 3 || len(words) == 4):
	case verb == "HPUB" && (len(words) == 4 || len(words) == 5):
		if head, err = strconv.Atoi(words[len(words)-2]); err != nil {
			return p, false, err
		}
	default:
		return p, false, nil
	}
	size, err := strconv.Atoi(words[len(words)-1])
	if err != nil || size < 0 || size > mostPub || head < 0 || head > size {
		return p, false, errors.New("the size cannot be right")
	}
	p.subject = words[1]
	if with := len(words) - map[string]int{"PUB": 3, "HPUB": 4}[verb]; with == 1 {
		p.reply = words[2]
	}
	p.raw = append(p.raw, line...)
	rest := make([]byte, size+2)
	if _, err := io.ReadFull(r, rest); err != nil {
		return p, false, err
	}
	p.raw = append(p.raw, rest...)
	p.body, p.headers = rest[head:size], map[string]string{}
	for _, one := range bytes.Split(rest[:head], []byte("\r\n")) {
		if name, value, is := strings.Cut(string(one), ":"); is {
			p.headers[name] = strings.TrimSpace(value)
		}
	}
	return p, true, nil
}

// published notes a message and gives what the broker gets to see of it, nothing where it
// is refused. An error breaks the connection off.
func (b *natsBroker) published(p pub, conn io.Writer) ([]byte, error) {
	if strings.HasPrefix(p.subject, "$") || strings.HasPrefix(p.subject, "_INBOX.") {
		return p.raw, nil // the protocol's own
	}
	status, _, _, delay := b.sys.decide(b.now(), "PUBLISH", p.subject)
	b.sys.note(Call{At: b.now(), Method: "PUBLISH", Path: p.subject, Status: max(status, 0), Key: p.headers[nats.MsgIdHdr],
		Headers: p.headers, Body: strings.ToValidUTF8(string(p.body), "\uFFFD")})
	b.changed()
	if delay > 0 {
		time.Sleep(delay)
	}
	switch {
	case status == never:
		return nil, nil
	case status == 0:
		return nil, io.ErrUnexpectedEOF
	case status < 300:
		return p.raw, nil
	case status == 401, status == 403:
		_, err := fmt.Fprintf(conn, "-ERR 'Permissions Violation for Publish to %q'\r\n", p.subject)
		return nil, err
	}
	code := map[int]int{413: 10054, 404: 10059, 422: 10122, 507: 10047}[status]
	if code == 0 {
		code = 10077
	}
	text, _ := json.Marshal(map[string]any{"type": "io.nats.jetstream.api.v1.pub_ack_response", "error": map[string]any{
		"code": status, "err_code": code, "description": "refused by the stand-in",
	}})
	return nil, b.client.Publish(p.reply, text)
}
