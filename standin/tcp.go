package standin

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"
)

// tcpPartner speaks HL7 in MLLP: it acknowledges what it receives as it is told to, and
// sends what a person lets it send to who receives from it.
type tcpPartner struct {
	sys     *System
	now     func() time.Time
	changed func()

	mu     sync.Mutex
	takers []*taker
}

// taker is a connection on which somebody takes what the partner sends.
type taker struct {
	net.Conn
	r *bufio.Reader
}

func newTCP(sys *System, now func() time.Time, changed func()) (speaker, error) {
	return &tcpPartner{sys: sys, now: now, changed: changed}, nil
}

// The bytes around a message.
const (
	blockStart = "\x0B"
	blockEnd   = "\x1C\r"
	mostBlock  = 16 << 20
)

// block reads a message.
func block(r *bufio.Reader) (string, error) {
	if _, err := r.ReadString(blockStart[0]); err != nil {
		return "", err
	}
	var out strings.Builder
	for out.Len() < mostBlock {
		b, err := r.ReadByte()
		if err != nil {
			return "", err
		}
		if b == blockEnd[0] {
			return out.String(), nil
		}
		out.WriteByte(b)
	}
	return "", errors.New("the message is too large")
}

// fieldOf gives MSH-n of a message.
func fieldOf(msg string, n int) string {
	head, _, _ := strings.Cut(msg, "\r")
	if len(head) < 4 {
		return ""
	}
	if fields := strings.Split(head, head[3:4]); n-1 < len(fields) {
		return fields[n-1]
	}
	return ""
}

// serve implements speaker.
func (p *tcpPartner) serve(conn net.Conn) {
	defer func() { _ = conn.Close() }()
	r := bufio.NewReader(conn)
	for {
		msg, err := block(r)
		if err != nil {
			return
		}
		status, _, body, delay := p.sys.decide(p.now(), "MLLP", fieldOf(msg, 9))
		call := Call{At: p.now(), Method: "MLLP", Path: fieldOf(msg, 9), Body: strings.ToValidUTF8(msg, "\uFFFD"),
			Key:    fieldOf(msg, 10),
			Status: max(status, 0), Headers: map[string]string{"MSH-10": fieldOf(msg, 10)}}
		p.sys.note(call)
		p.changed()
		time.Sleep(delay)
		switch status {
		case never:
			continue
		case 0:
			return
		}
		if !strings.HasPrefix(body, "MSH") {
			body = p.acknowledges(msg, status)
		}
		if _, err := io.WriteString(conn, blockStart+body+blockEnd); err != nil {
			return
		}
	}
}

// acknowledges makes the acknowledgement that means what a status over HTTP does; 409 names
// another message.
func (p *tcpPartner) acknowledges(msg string, status int) string {
	code, of := "AR", fieldOf(msg, 10)
	switch {
	case status < 300:
		code = "AA"
	case status == 409:
		code, of = "AA", "another"
	case status < 500:
		code = "AE"
	}
	out := fmt.Sprintf("MSH|^~\\&|%s|%s|%s|%s|%s||ACK|%s|P|2.5.1\rMSA|%s|%s\r", fieldOf(msg, 5), fieldOf(msg, 6),
		fieldOf(msg, 3), fieldOf(msg, 4),
		p.now().UTC().Format("20060102150405"), p.now().UTC().Format("150405.000000"), code, of)
	if code != "AA" {
		out += "ERR|||207^Application internal error^HL70357|E||||refused by the stand-in\r"
	}
	return out
}

// serveInward keeps a connection on which somebody takes what is sent, until it ends.
func (p *tcpPartner) serveInward(conn net.Conn) {
	t := &taker{conn, bufio.NewReader(conn)}
	p.mu.Lock()
	p.takers = append(p.takers, t)
	p.mu.Unlock()
}

// patienceOfPartner is how long the partner waits for an acknowledgement.
const patienceOfPartner = 30 * time.Second

// send implements speaker: the message goes to whoever takes from the partner; what is
// answered stands among what it has received.
func (p *tcpPartner) send(m Message) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	msg := strings.ReplaceAll(strings.ReplaceAll(strings.TrimRight(m.Body, "\r\n"), "\r\n", "\r"), "\n", "\r") + "\r"
	for len(p.takers) > 0 {
		t := p.takers[len(p.takers)-1]
		_ = t.SetDeadline(p.now().Add(patienceOfPartner))
		_, err := io.WriteString(t, blockStart+msg+blockEnd)
		answer := ""
		if err == nil {
			answer, err = block(t.r)
		}
		if err == nil {
			p.sys.note(Call{At: p.now(), Method: "ANSWER", Path: said(answer), Body: answer, Status: 200,
				Headers: map[string]string{}})
			return nil
		}
		_ = t.Close()
		p.takers = p.takers[:len(p.takers)-1]
	}
	return errors.New("nobody takes messages from it; publish a flow that receives from a connection to it")
}

// said gives what an acknowledgement says: its code and whom it names, and behind a dash
// what was at fault (ERR-8).
func said(answer string) string {
	out, why := "no acknowledgement", ""
	for _, line := range strings.Split(answer, "\r") {
		switch fields := strings.Split(line, "|"); fields[0] {
		case "MSA":
			out = line
		case "ERR":
			if len(fields) > 8 {
				why = " – " + fields[8]
			}
		}
	}
	return out + why
}

// close implements speaker.
func (p *tcpPartner) close() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, t := range p.takers {
		_ = t.Close()
	}
	p.takers = nil
	return nil
}
