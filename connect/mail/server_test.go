package mail

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"readyferry/connect"
	"readyferry/connect/connecttest"
)

// A server of Debian's packages is asked where READYFERRY_IMAP names one that lets everybody
// in with the password secret; make test-servers starts one.
func TestServer(t *testing.T) {
	address := os.Getenv("READYFERRY_IMAP")
	if address == "" {
		t.Skip("READYFERRY_IMAP names no server, so none is asked")
	}
	user := fmt.Sprint("reader-", time.Now().UnixNano())
	c := &connect.Connection{Name: "server", Kind: Kind, Address: address, TimeLimit: 10 * time.Second,
		SignIn:   connect.SignIn{Kind: connect.SignInBasic, User: user, Secrets: []string{"secret"}},
		Settings: connecttest.Settings(map[string]string{"starttls": "never"})}
	l := connecttest.Open(t, New(nil), c)
	direct, err := imapclient.DialInsecure(strings.TrimPrefix(address, "imap://"), nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = direct.Close() })
	if err := direct.Login(user, "secret").Wait(); err != nil {
		t.Fatal(err)
	}
	put := func(subject string) {
		raw := "From: a@a.example\r\nSubject: " + subject + "\r\nMessage-ID: <" + subject + "@a.example>\r\n\r\nhello\r\n"
		add := direct.Append("INBOX", int64(len(raw)), &imap.AppendOptions{Time: time.Now()})
		if _, err := add.Write([]byte(raw)); err != nil {
			t.Fatal(err)
		}
		if err := add.Close(); err != nil {
			t.Fatal(err)
		}
		if _, err := add.Wait(); err != nil {
			t.Fatal(err)
		}
	}
	if r, err := l.Check(context.Background()); err != nil || !r.OK {
		t.Fatalf("%+v %v", r, err)
	}
	put("one")
	put("two")
	in := connecttest.Receive(t, l, `{"take":"text","every":"30s"}`, nil, nil)
	in.Until(t, 2)
	put("three") // the server tells of it (IDLE)
	if got := in.Until(t, 3); connecttest.Header(got[2], "mail-subject") != "three" ||
		strings.TrimSpace(string(got[2].Body)) != "hello" {
		t.Errorf("%+v", got)
	}
	in.Stop()
	_, mark := in.Got()
	put("four")
	in = connecttest.Receive(t, l, `{}`, mark, nil)
	if got := in.Until(t, 1); connecttest.Header(got[0], "mail-subject") != "four" {
		t.Errorf("%+v", got)
	}
	in.Stop()
	in = connecttest.Receive(t, l, `{"then":"move","to":"Done"}`, nil, nil)
	in.Until(t, 4)
	names := []string{}
	connecttest.Eventually(t, "they are moved", func() bool {
		names, err = l.(connect.Lister).List(context.Background(), "folder")
		s := l.(connect.Inspector).Inspect(context.Background(), connect.Use{Flow: "f", Intake: true})
		return err == nil && strings.Contains(strings.Join(names, " "), "Done") && strings.Contains(s.Detail, "with 0 mails")
	})
	in.Stop()
	in = connecttest.Receive(t, l, `{"folder":"Done","then":"remove"}`, nil, nil)
	in.Until(t, 4)
	connecttest.Eventually(t, "they are removed", func() bool {
		s := l.(connect.Inspector).Inspect(context.Background(), connect.Use{Flow: "f", Intake: true,
			Settings: connecttest.Settings(map[string]string{"folder": "Done"})})
		return strings.Contains(s.Detail, "with 0 mails")
	})
	in.Stop()
}
