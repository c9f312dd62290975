package bench

import (
	"fmt"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"
	"github.com/emersion/go-smtp"

	"readyferry/connect/connecttest"
	"readyferry/standin"
)

// ported serves a stand-in at a port: what it sends to, and with +in what is read.
func ported(b *testing.B, set *standin.Set, kind, name string) string {
	b.Helper()
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { _ = door.Close() })
	go func() {
		for c, err := door.Accept(); err == nil; c, err = door.Accept() {
			if to, err := set.Dial(kind, name); err == nil {
				go connecttest.Pipe(c, to)
			}
		}
	}()
	return door.Addr().String()
}

// Mails of a mailbox, beside a bare client of the same library that only reads and marks
// them, and one that only sends, both on one connection.
func BenchmarkMail(b *testing.B) {
	set := standin.NewSet(time.Now, func() {})
	b.Cleanup(func() { _ = set.Close() })
	for _, name := range []string{"box", "aside"} {
		if err := set.Define(standin.Definition{Name: name, Kind: standin.KindMail}); err != nil {
			b.Fatal(err)
		}
	}
	put := func(name string, n int) {
		for i := range n {
			if err := set.Send(name, standin.Message{Key: "a@a.example", Topic: fmt.Sprint(i), Body: "x"}); err != nil {
				b.Fatal(err)
			}
		}
	}
	conn, err := set.Dial(standin.KindMail, "aside+in")
	if err != nil {
		b.Fatal(err)
	}
	reader := imapclient.New(conn, nil)
	if err := reader.Login("x", "x").Wait(); err != nil {
		b.Fatal(err)
	}
	if _, err := reader.Select("INBOX", nil).Wait(); err != nil {
		b.Fatal(err)
	}
	var heard atomic.Int64
	whole := &imap.FetchItemBodySection{Peek: true}
	aside := func(n int) {
		put("aside", n)
		if err := reader.Noop().Wait(); err != nil {
			b.Fatal(err)
		}
		found, err := reader.UIDSearch(&imap.SearchCriteria{NotFlag: []imap.Flag{imap.FlagSeen}}, nil).Wait()
		if err != nil {
			b.Fatal(err)
		}
		for _, uid := range found.AllUIDs() {
			if _, err := reader.Fetch(imap.UIDSetNum(uid), &imap.FetchOptions{UID: true,
				BodySection: []*imap.FetchItemBodySection{whole}}).Collect(); err != nil {
				b.Fatal(err)
			}
			heard.Add(1)
		}
		if err := reader.Store(imap.UIDSetNum(found.AllUIDs()...), &imap.StoreFlags{Op: imap.StoreFlagsAdd, Silent: true,
			Flags: []imap.Flag{imap.FlagSeen}}, nil).Close(); err != nil {
			b.Fatal(err)
		}
	}
	out, err := set.Dial(standin.KindMail, "box")
	if err != nil {
		b.Fatal(err)
	}
	sender := smtp.NewClient(out)
	measure(b, counterpart{connection: "kind: mail\nstarttls: never\naddress: imap://" + ported(b, set,
		standin.KindMail, "box+in"),
		target: "kind: mail\nstarttls: never\nfrom: a@a.example\naddress: smtp://" + ported(b, set, standin.KindMail, "box"),
		intake: "kind: mail, every: 1s", deliver: "recipients: b@b.example, subject: s", put: func(n int) {
			put("box",
				n)
		}, putAside: aside,
		putOut: func(n int) {
			for range n {
				if err := sender.SendMail("a@a.example", []string{"b@b.example"},
					strings.NewReader("Subject: s\r\n\r\nx\r\n")); err != nil {
					b.Fatal(err)
				}
			}
		}, heard: &heard})
}
