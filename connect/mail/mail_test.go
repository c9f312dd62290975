package mail

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/connecttest"
	"readyferry/core/retry"
	"readyferry/standin"
)

// stood makes a simulated mailbox in which only some are known, and a connection to it.
func stood(t *testing.T, known ...string) (*standin.Set, *connect.Connection, connect.System) {
	t.Helper()
	set := standin.NewSet(time.Now, func() {})
	if err := set.Define(standin.Definition{Name: "box", Kind: standin.KindMail, Has: known}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = set.Close() })
	return set, &connect.Connection{Name: "post", Kind: Kind, Address: "stand-in://box", TimeLimit: 10 * time.Second,
			Settings: connecttest.Settings(map[string]string{"from": "Larkfield <desk@larkfield.example>"})},
		New(func(name string) (net.Conn, error) { return set.Dial(standin.KindMail, name) })
}

// received gives what the mailbox has been sent, the oldest first.
func received(t *testing.T, set *standin.Set) []standin.Call {
	t.Helper()
	one, err := set.Get("box")
	if err != nil {
		t.Fatal(err)
	}
	calls := one.Calls
	for i, j := 0, len(calls)-1; i < j; i, j = i+1, j-1 {
		calls[i], calls[j] = calls[j], calls[i]
	}
	return calls
}

func TestAMailIsSent(t *testing.T) {
	set, c, system := stood(t)
	l := connecttest.Open(t, system, c)
	settings := `{"recipients":"Ottoline Quill <quill@mail.example>, tarn@mail.example","cc":"care@county.example",
		"bcc":"archive@larkfield.example","reply-to":"replies@larkfield.example","subject":"Überfällig: drei Bücher","body":"attachment",
		"attached-as":"items.json","text":"Dear reader,\n.\n","html":"<p>Dear reader</p>",
		"attachments":{"letter.pdf":"data:application/pdf;base64,JVBERi0=","note.txt":"bring them"}}`
	for range 2 { // a second try has the same Message-ID, and goes on with the same conversation
		r, err := connecttest.Send(l, settings, "dl-1", `{"n":1}`)
		if err != nil || r.Outcome != retry.Delivered || r.Code != "250" {
			t.Fatal(r, err)
		}
		if len(r.Headers) != 1 || r.Headers[0].Name != "mail-id" || !strings.HasSuffix(r.Headers[0].Value,
			"@larkfield.example") {
			t.Error(r.Headers)
		}
	}
	calls := received(t, set)
	if len(calls) != 2 || calls[0].Key != calls[1].Key || calls[0].Key == "" {
		t.Fatalf("%+v", calls)
	}
	if calls[0].Path != "quill@mail.example, tarn@mail.example, care@county.example, archive@larkfield.example" {
		t.Error(calls[0].Path)
	}
	for _, want := range []string{`"from":{"name":"Larkfield","address":"desk@larkfield.example"}`,
		`"to":[{"name":"Ottoline Quill","address":"quill@mail.example"},{"name":"","address":"tarn@mail.example"}]`,
		`"cc":[{"name":"","address":"care@county.example"}]`, `"replyTo":[{"name":"","address":"replies@larkfield.example"}]`,
		`"subject":"Überfällig: drei Bücher"`, `"text":"Dear reader,\n.\n"`, `"html":"<p>Dear reader</p>"`,
		`{"name":"items.json","type":"application/json","size":7,"text":"{\"n\":1}"}`,
		`{"name":"letter.pdf","type":"application/pdf","size":5,"base64":"JVBERi0="}`,
		`{"name":"note.txt","type":"text/plain","size":10,"text":"bring them"}`} {
		if !strings.Contains(calls[0].Body, want) {
			t.Errorf("%s\nhas no\n%s", calls[0].Body, want)
		}
	}
	if strings.Contains(calls[0].Body, "archive") {
		t.Error("who has a blind copy stands in the mail")
	}
}

// What a mailbox refuses for one is said, and the others have the mail, or nobody has.
func TestWhoIsRefused(t *testing.T) {
	set, c, system := stood(t, "quill@mail.example", "tarn@mail.example")
	l := connecttest.Open(t, system, c)
	for _, one := range []struct{ to, refused, outcome, words string }{
		{"quill@mail.example, nobody@mail.example, tarn@mail.example", "others", "never 550",
			"sent to quill@mail.example, tarn@mail.example; not to nobody@mail.example (550 there is no such mailbox here)"},
		{"quill@mail.example, nobody@mail.example", "nobody", "never 550", "sent to nobody: nobody@mail.example (550"},
		{"nobody@mail.example", "others", "never 550", "sent to nobody: nobody@mail.example (550"},
		{"quill@mail.example", "others", "delivered 250", ""},
	} {
		r, err := connecttest.Send(l, fmt.Sprintf(`{"recipients":%q,"subject":"s","refused":%q}`, one.to, one.refused),
			"x", "hello")
		if got := fmt.Sprint(r.Outcome, " ", r.Code); err != nil || got != one.outcome || !strings.Contains(r.Words,
			one.words) {
			t.Errorf("%+v: %s %q %v", one, got, r.Words, err)
		}
	}
	if calls := received(t, set); len(calls) != 2 {
		t.Errorf("%+v", calls)
	}
}

// What a mailbox does that does not work comes to what the help says.
func TestMisbehavingMailboxes(t *testing.T) {
	set, c, system := stood(t)
	short := *c
	short.TimeLimit = 300 * time.Millisecond
	for with, want := range map[int]string{403: "never 550", 413: "never 552", 422: "never 554", 429: "again 450",
		503: "again 451",
		507: "again 452", -1: "error", -2: "error"} {
		if err := set.Behave("box", standin.Behaviour{Refuse: 1, RefuseWith: with}); err != nil {
			t.Fatal(err)
		}
		one := c
		if with == -2 {
			one = &short
		}
		l := connecttest.Open(t, system, one)
		send := func() string {
			r, err := connecttest.Send(l, `{"recipients":"quill@mail.example","subject":"s"}`, "x", "hello")
			if err != nil {
				return "error"
			}
			return fmt.Sprint(r.Outcome, " ", r.Code)
		}
		if got := send(); got != want {
			t.Errorf("%d: %s, want %s", with, got, want)
		}
		if got := send(); got != "delivered 250" {
			t.Errorf("behind %d: %s", with, got)
		}
	}
	until := time.Now().Add(time.Hour)
	if err := set.Behave("box", standin.Behaviour{OutUntil: &until}); err != nil {
		t.Fatal(err)
	}
	l := connecttest.Open(t, system, c)
	if _, err := connecttest.Send(l, `{"recipients":"quill@mail.example","subject":"s"}`, "x", "hello"); err == nil {
		t.Error("it is out of order, and takes mails")
	}
}

// What no mail can say is a fault of the message.
func TestWhatIsNoMail(t *testing.T) {
	set, c, system := stood(t)
	l := connecttest.Open(t, system, c)
	for _, settings := range []string{
		`{"recipients":"","subject":"s"}`, `{"recipients":"nobody","subject":"s"}`,
		`{"recipients":"a@a.example","subject":"s\r\nBcc: x@x.example"}`,
		`{"recipients":"a@a.example\r\nRCPT TO:<x@x.example>","subject":"s"}`,
		`{"recipients":"\"a\r\nb\"@a.example","subject":"s"}`,
		`{"recipients":"a@a.example","subject":"s","from":"a@a.example, b@b.example"}`,
		`{"recipients":"a@a.example","subject":"s","attachments":{"x":"data:text/plain;base64"}}`,
		`{"recipients":"a@a.example","subject":"s","attachments":{"x":"data:text/plain;base64,$"}}`,
	} {
		if r, err := connecttest.Send(l, settings, "x", "hello"); !errors.Is(err, connect.ErrBadData) || !errors.Is(err,
			connect.ErrCannotSend) {
			t.Errorf("%s: %+v %v", settings, r, err)
		}
	}
	if calls := received(t, set); len(calls) != 0 {
		t.Errorf("%+v", calls)
	}
}

func put(t *testing.T, set *standin.Set, from, subject, text string) {
	t.Helper()
	if err := set.Send("box", standin.Message{Key: from, Topic: subject, Body: text,
		Headers: map[string]string{"X-Branch": "ELMS"}}); err != nil {
		t.Fatal(err)
	}
}

func TestMailsAreTaken(t *testing.T) {
	set, c, system := stood(t)
	l := connecttest.Open(t, system, c)
	put(t, set, "Ottoline Quill <quill@mail.example>", "Re: Overdue", "I have lost it.")
	in := connecttest.Receive(t, l, `{}`, nil, nil)
	got := in.Until(t, 1)
	for name, want := range map[string]string{"content-type": "application/json", "mail-from": "quill@mail.example",
		"mail-subject": "Re: Overdue", "mail-folder": "INBOX", "x-branch": "ELMS", "mail-to": "box@stand-in.example"} {
		if is := connecttest.Header(got[0], name); is != want {
			t.Errorf("%s is %q", name, is)
		}
	}
	var body struct{ Subject, Text string }
	if err := json.Unmarshal(got[0].Body, &body); err != nil || body.Subject != "Re: Overdue" ||
		strings.TrimSpace(body.Text) != "I have lost it." {
		t.Errorf("%s", got[0].Body)
	}
	put(t, set, "tarn@mail.example", "second", "it tells at once")
	in.Until(t, 2)
	in.Stop()
	_, mark := in.Got()
	put(t, set, "tarn@mail.example", "third", "while nobody was there")
	again := connecttest.Receive(t, l, `{}`, mark, nil)
	if got := again.Until(t, 1); connecttest.Header(got[0], "mail-subject") != "third" {
		t.Errorf("%+v", got)
	}
	again.Stop()
	fresh := connecttest.Receive(t, l, `{"begin":"new"}`, nil, nil).Ready(t)
	put(t, set, "tarn@mail.example", "fourth", "new")
	if got := fresh.Until(t, 1); connecttest.Header(got[0], "mail-subject") != "fourth" {
		t.Errorf("%+v", got)
	}
	fresh.Stop()
}

// A mail that was stored and not marked, because the process died between, comes again
// under the same id; one is moved or removed behind the commit.
func TestMailsComeAgainUnderTheirID(t *testing.T) {
	set, c, system := stood(t)
	l := connecttest.Open(t, system, c)
	died := errors.New("the process dies")
	put(t, set, "quill@mail.example", "again", "stored")
	in := connecttest.Receive(t, l, `{"take":"text","then":"move"}`, nil, died)
	first := in.Until(t, 1)
	if err := <-in.Failed; !errors.Is(err, died) {
		t.Fatal(err)
	}
	in = connecttest.Receive(t, l, `{"take":"text","then":"move"}`, nil, nil)
	second := in.Until(t, len(first))
	if second[0].ID != first[0].ID || first[0].ID == "" {
		t.Errorf("%q, and again %q", first[0].ID, second[0].ID)
	}
	connecttest.Eventually(t, "they are moved", func() bool {
		one, err := set.Get("box")
		return err == nil && len(one.Inside) == 2 && one.Inside[0].Name == "Done" && one.Inside[0].Messages > 0 &&
			one.Inside[1].Messages == 0
	})
	in.Stop()
	put(t, set, "quill@mail.example", "gone", "x")
	in = connecttest.Receive(t, l, `{"take":"text","then":"remove"}`, nil, nil)
	in.Until(t, 1)
	connecttest.Eventually(t, "it is removed", func() bool {
		one, err := set.Get("box")
		return err == nil && one.Inside[1].Messages == 0
	})
	in.Stop()
}

// Each attachment may be a message; a mail that has none, or is none, is kept as one that
// nobody can work on.
func TestAttachmentsAreTaken(t *testing.T) {
	set, c, system := stood(t)
	l := connecttest.Open(t, system, c)
	raw := func(s string) {
		if err := set.Send("box", standin.Message{Body: strings.ReplaceAll(s, "\n", "\r\n")}); err != nil {
			t.Fatal(err)
		}
	}
	raw("From: a@a.example\nSubject: two\nMessage-ID: <two@a.example>\nContent-Type: multipart/mixed; boundary=m\n\n--m\n\nhello\n" +
		"--m\nContent-Type: text/csv\nContent-Disposition: attachment; filename=a.csv\n\nn\n1\n--m\n" +
		"Content-Type: application/pdf; name=b.pdf\nContent-Transfer-Encoding: base64\n\nJVBERi0=\n--m--\n")
	raw("From: a@a.example\nSubject: none\n\nhello\n")
	in := connecttest.Receive(t, l, `{"take":"attachments"}`, nil, nil)
	got := in.Until(t, 3)
	if string(got[0].Body) != "n\r\n1" || connecttest.Header(got[0], "file-name") != "a.csv" ||
		connecttest.Header(got[0], "content-type") != "text/csv" || string(got[1].Body) != "%PDF-" ||
		connecttest.Header(got[1], "file-name") != "b.pdf" || got[0].ID == got[1].ID {
		t.Errorf("%+v", got)
	}
	if got[2].Refused != "the mail has no attachment" || !strings.Contains(string(got[2].Body), "hello") {
		t.Errorf("%+v", got[2])
	}
	in.Stop()
}

func TestPeopleAreTold(t *testing.T) {
	set, c, system := stood(t, "Replies")
	l := connecttest.Open(t, system, c)
	put(t, set, "a@a.example", "one", "x")
	put(t, set, "a@a.example", "two", "y")
	ctx := context.Background()
	r, err := l.Check(ctx)
	if err != nil || !r.OK || !strings.Contains(fmt.Sprint(r.Steps), "the mailbox has 2 folders") {
		t.Errorf("%+v %v", r, err)
	}
	if names, err := l.(connect.Lister).List(ctx, "folder"); err != nil || fmt.Sprint(names) != "[INBOX Replies]" {
		t.Error(names, err)
	}
	if a, err := l.(connect.Peeker).Peek(ctx, connecttest.Settings(map[string]string{"take": "text"})); err != nil ||
		strings.TrimSpace(string(a.Body)) != "y" {
		t.Errorf("%+v %v", a, err)
	}
	for folder, want := range map[string]string{"INBOX": "the folder INBOX is there, with 2 mails",
		"Nowhere": "the server answers NO"} {
		s := l.(connect.Inspector).Inspect(ctx, connect.Use{Flow: "f", Intake: true,
			Settings: connecttest.Settings(map[string]string{"folder": folder})})
		if s.OK != (folder == "INBOX") || !strings.Contains(s.Detail, want) {
			t.Errorf("%+v", s)
		}
	}
}

// A server in whose conversation TLS is missing is told nothing.
func TestNothingIsSaidWithoutTLS(t *testing.T) {
	for scheme, greeting := range map[string]string{"smtp": "220 hello\r\n250-hello\r\n250 AUTH PLAIN\r\n",
		"imap": "* OK hello\r\n"} {
		c := &connect.Connection{Name: "post", Kind: Kind, Address: scheme + "://" + connecttest.Says(t, greeting),
			TimeLimit: 500 * time.Millisecond, SignIn: connect.SignIn{Kind: connect.SignInBasic, User: "u",
				Secrets: []string{"p"}},
			Settings: connecttest.Settings(map[string]string{"from": "a@a.example"})}
		r, err := connecttest.Open(t, New(nil), c).Check(context.Background())
		if err != nil || r.OK || len(r.Steps) == 0 {
			t.Errorf("%s: %+v %v", scheme, r, err)
		}
	}
}

// Servers that mean no good: see connecttest.Hostile.
func TestHostileServers(t *testing.T) {
	for scheme, says := range map[string]map[string]string{
		"smtp": {"silence": "", "no greeting": "hello\r\n", "an endless line": strings.Repeat("x", 4<<20),
			"an endless answer": strings.Repeat("220-x\r\n", 1<<20), "a number too large": "99999999999 x\r\n"},
		"imap": {"silence": "", "no greeting": "hello\r\n", "an endless line": strings.Repeat("x", 4<<20),
			"endless lines":      "* OK x\r\n" + strings.Repeat("* 1 EXISTS\r\n", 1<<20),
			"a huge literal":     "* OK x\r\n* 1 FETCH (BODY[] {99999999999}\r\n",
			"deep lists":         "* OK x\r\n* LIST " + strings.Repeat("(", 1<<20),
			"an answer unasked":  "* OK x\r\nT1 OK done\r\nT1 OK done\r\nT2 OK done\r\n",
			"a wrong literal":    "* OK x\r\n* 1 FETCH (BODY[] {-1}\r\n)\r\n",
			"a literal in words": "* OK {5}\r\nhello\r\n"},
	} {
		t.Run(scheme, func(t *testing.T) {
			c := connect.Connection{Name: "hostile", Kind: Kind, SignIn: connect.SignIn{Kind: connect.SignInNone},
				Settings: connecttest.Settings(map[string]string{"from": "a@a.example", "starttls": "never"})}
			connecttest.Hostile(t, New(nil), c, func(at string) string { return scheme + "://" + at },
				`{"recipients":"a@a.example","subject":"s"}`, `{}`, says)
		})
	}
}
