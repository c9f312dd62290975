package bench

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// mllpAcks accepts what is said over MLLP, and acknowledges it at once.
func mllpAcks(b *testing.B, heard *atomic.Int64) string {
	b.Helper()
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { _ = door.Close() })
	go func() {
		for c, err := door.Accept(); err == nil; c, err = door.Accept() {
			go func() {
				r := bufio.NewReader(c)
				for {
					msg, err := r.ReadString('\x1C')
					if err != nil {
						return
					}
					_, _ = r.ReadByte()
					heard.Add(1)
					id := ""
					if fields := strings.Split(msg, "|"); len(fields) > 9 {
						id = fields[9]
					}
					_, _ = fmt.Fprintf(c, "\x0BMSH|^~\\&|a||b||1||ACK|1|P|2.5\rMSA|AA|%s\r\x1C\r", id)
				}
			}()
		}
	}()
	return door.Addr().String()
}

// mllpClient says messages on several connections, and hears each acknowledged.
type mllpClient struct {
	b    *testing.B
	at   string
	made atomic.Int64
	free sync.Pool
}

type mllpLine struct {
	net.Conn
	r *bufio.Reader
}

func (m *mllpClient) line() *mllpLine {
	if one, is := m.free.Get().(*mllpLine); is {
		return one
	}
	for {
		if conn, err := net.Dial("tcp", m.at); err == nil {
			return &mllpLine{conn, bufio.NewReader(conn)}
		}
		time.Sleep(20 * time.Millisecond) // until the flow listens
	}
}

func (m *mllpClient) say(n int) {
	each(n, func(int) {
		one := m.line()
		_, err := fmt.Fprintf(one, "\x0BMSH|^~\\&|W|E|D|L|20260317060000||ADT^A01|%d|P|2.5\r\x1C\r", m.made.Add(1))
		if err == nil {
			_, err = one.r.ReadString('\x1C')
		}
		if err == nil {
			_, err = io.ReadFull(one.r, make([]byte, 1))
		}
		if err != nil {
			m.b.Error(err)
			return
		}
		m.free.Put(one)
	})
}

// HL7 over MLLP, beside a partner that only acknowledges, and one that only sends.
func BenchmarkMLLP(b *testing.B) {
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	at := door.Addr().String()
	_ = door.Close()
	var heard atomic.Int64
	bare := mllpAcks(b, &heard)
	in, aside := &mllpClient{b: b, at: at}, &mllpClient{b: b, at: bare}
	measure(b, counterpart{connection: "kind: tcp\naddress: listen://" + at, target: "kind: tcp\naddress: tcp://" + bare,
		intake: "kind: tcp, format: hl7", deliver: "answer: acknowledged", put: in.say, putAside: aside.say,
		putOut: aside.say, heard: &heard})
}
