package tcp

import (
	"bufio"
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/connecttest"
	"readyferry/core/retry"
	"readyferry/core/system"
	"readyferry/standin"
)

// The cases of MLLP and of acknowledgements are those of the shared corpus (HL7 v2.5.1,
// chapter 2 and appendix C, from memory there).
func TestBlocks(t *testing.T) {
	b, err := os.ReadFile("testdata/mllp.json")
	if err != nil {
		t.Fatal(err)
	}
	var all struct {
		Cases []struct {
			Name     string
			Hex      string `json:"bytes_hex"`
			Messages []string
		}
	}
	if err := json.Unmarshal(b, &all); err != nil || len(all.Cases) == 0 {
		t.Fatal(len(all.Cases), err)
	}
	for _, c := range all.Cases {
		raw, err := hex.DecodeString(c.Hex)
		if err != nil {
			t.Fatal(err)
		}
		r, got := bufio.NewReader(bytes.NewReader(raw)), []string(nil)
		for {
			one, err := readFrame(r, MLLP)
			if err != nil {
				if !errors.Is(err, io.EOF) {
					t.Errorf("%s: %v", c.Name, err)
				}
				break
			}
			got = append(got, string(one))
		}
		if c.Messages != nil && fmt.Sprintf("%q", got) != fmt.Sprintf("%q", c.Messages) {
			t.Errorf("%s: %q", c.Name, got)
		}
		if c.Messages == nil && len(got) != 2 { // our choice: both are messages
			t.Errorf("%s: %q", c.Name, got)
		}
	}
}

func TestFrames(t *testing.T) {
	for _, c := range []struct {
		framing, in string
		want        []string
		ends        error
	}{
		{Line, "a\r\nb\n\nc", []string{"a", "b", ""}, io.ErrUnexpectedEOF},
		{Line, "", nil, io.EOF},
		{Length, "\x00\x00\x00\x02ab\x00\x00\x00\x00\x00\x00\x00\x05x", []string{"ab", ""}, io.ErrUnexpectedEOF},
		{Length, "\xFF\xFF\xFF\xFFx", nil, errTooLarge},
		{Length, "\x00\x00", nil, io.ErrUnexpectedEOF},
		{MLLP, "noise\x0Ba\x1C\r\x0Bb\x1C\x0Bc", []string{"a", "b"}, io.ErrUnexpectedEOF},
		{MLLP, strings.Repeat("x", 2*mostBetween), nil, errNoFrame},
		{MLLP, "\x0B" + strings.Repeat("x", largest+2), nil, errTooLarge},
		{Line, strings.Repeat("x", largest+2), nil, errTooLarge},
	} {
		r, got := bufio.NewReader(strings.NewReader(c.in)), []string(nil)
		one, err := readFrame(r, c.framing)
		for ; err == nil; one, err = readFrame(r, c.framing) {
			got = append(got, string(one))
		}
		if fmt.Sprintf("%q", got) != fmt.Sprintf("%q", c.want) || !errors.Is(err, c.ends) {
			t.Errorf("%s %.20q: %q %v", c.framing, c.in, got, err)
		}
	}
	for framing, body := range map[string]string{MLLP: "a\x1Cb", Line: "a\nb"} {
		if _, err := frame(framing, []byte(body)); err == nil {
			t.Errorf("%s: %q can be sent", framing, body)
		}
	}
}

// What is framed is read as it was, and nothing makes a reader crash, or hold more than
// it may.
func FuzzFrames(f *testing.F) {
	f.Add([]byte("MSH|^~\\&|A\rPID|1\r"), byte(0))
	f.Add([]byte("\x0BMSH\x1C\r\x0B"), byte(1))
	f.Add([]byte("\x00\x00\x00\x01a"), byte(2))
	framings := []string{MLLP, Line, Length}
	f.Fuzz(func(t *testing.T, b []byte, n byte) {
		framing := framings[int(n)%3]
		r := bufio.NewReaderSize(bytes.NewReader(b), 16)
		for {
			if _, err := readFrame(r, framing); err != nil {
				break
			}
		}
		if h := headerOf(b); h != nil {
			if _, err := readAck(h.ack("AR", "no | ^ good", time.Unix(0, 0))); err != nil && h.sep != '^' {
				t.Logf("%v", err) // separators that stand for two things cannot be read back
			}
		}
		_, _ = readAck(b)
		out, err := frame(framing, b)
		if err != nil {
			return
		}
		got, err := readFrame(bufio.NewReaderSize(bytes.NewReader(out), 16), framing)
		if err != nil || !bytes.Equal(got, b) {
			t.Errorf("%q comes as %q, %v", b, got, err)
		}
	})
}

const admit = "MSH|^~\\&|SAPP|SFAC|RAPP|RFAC|20240101120000||ADT^A01^ADT_A01|CTRL1|P|2.5.1\rPID|1||1\r"

func TestAcknowledgements(t *testing.T) {
	now := time.Date(2026, 3, 17, 6, 0, 0, 0, time.UTC)
	h := headerOf([]byte(admit))
	got := strings.Split(string(h.ack("AA", "", now)), "\r")
	want := `MSH|^~\&|RAPP|RFAC|SAPP|SFAC|20260317060000+0000||ACK^A01^ACK|20260317060000000000|P|2.5.1`
	if len(got) != 3 || got[0] != want || got[1] != "MSA|AA|CTRL1" {
		t.Errorf("%q", got)
	}
	no := string(headerOf([]byte("MSH#*:!%#A")).ack("AR", "it # has * all : of !\nthem", now))
	if !strings.Contains(no, "MSA#AR#") || !strings.Contains(no,
		"ERR###207*Application internal error*HL70357#E####it !F! has !S! all !R! of !E! them") {
		t.Errorf("%q", no)
	}
	if text := string((*header)(nil).ack("AR", "no", now)); !strings.HasPrefix(text, `MSH|^~\&|`) ||
		!strings.Contains(text, "\rMSA|AR|\rERR|") {
		t.Errorf("%q", text)
	}
	for status, code := range map[int]string{200: "AA", 202: "AA", 422: "AE", 400: "AR", 500: "AE", 404: "AR",
		503: "AR", 429: "AR"} {
		if got := codeOf(status); got != code {
			t.Errorf("%d is %s", status, got)
		}
	}
}

func stood(t *testing.T) (*standin.Set, connect.System) {
	t.Helper()
	set := standin.NewSet(time.Now, func() {})
	if err := set.Define(standin.Definition{Name: "partner", Kind: standin.KindTCP}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = set.Close() })
	return set, New(func(name string) (net.Conn, error) { return set.Dial(standin.KindTCP, name) })
}

func partner(limit time.Duration) *connect.Connection {
	return &connect.Connection{Name: "partner", Kind: Kind, Address: "stand-in://partner", TimeLimit: limit}
}

func TestDelivery(t *testing.T) {
	set, s := stood(t)
	for _, c := range []struct {
		with   int // status that the partner is told to answer with
		limit  time.Duration
		answer string
		want   string
	}{
		{200, 0, "acknowledged", "delivered AA"}, {422, 0, "acknowledged", "never AE"}, {503, 0, "acknowledged", "again AR"},
		{409, 0, "acknowledged", "error"}, {-1, 0, "acknowledged", "error"}, {-2, 300 * time.Millisecond, "acknowledged",
			"error"},
		{503, 0, "any", "delivered answered"}, {-2, 0, "none", "delivered sent"},
	} {
		b := standin.Behaviour{}
		if c.with != 200 {
			b = standin.Behaviour{Refuse: 1, RefuseWith: c.with}
		}
		if err := set.Behave("partner", b); err != nil {
			t.Fatal(err)
		}
		l := connecttest.Open(t, s, partner(max(c.limit, 10*time.Second*time.Duration(b2i(c.limit == 0)))))
		r, err := connecttest.Send(l, `{"answer":"`+c.answer+`"}`, "x", admit)
		got := string(r.Outcome) + " " + r.Code
		if err != nil {
			got = "error"
		}
		if got != c.want {
			t.Errorf("%+v: %s %v", c, got, err)
		}
	}
	_ = set.Behave("partner", standin.Behaviour{})
	l := connecttest.Open(t, s, partner(10*time.Second))
	if _, err := connecttest.Send(l, `{}`, "x", "a\x1Cb"); !errors.Is(err, connect.ErrBadData) {
		t.Error(err)
	}
	if r, err := connecttest.Send(l, "", "x", admit); err != nil || r.Outcome != retry.Delivered {
		t.Errorf("%+v %v", r, err)
	}
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

// 200 askers at once have each the answer that names their own message.
func TestManyAskAtOnce(t *testing.T) {
	_, s := stood(t)
	l := connecttest.Open(t, s, partner(time.Minute))
	var all sync.WaitGroup
	for n := range 200 {
		all.Go(func() {
			id := fmt.Sprint("Q", n)
			r, err := l.(connect.Asker).Ask(context.Background(), connecttest.Request(`{}`, id, strings.Replace(admit,
				"CTRL1", id, 1)))
			body, _ := r.Body()
			if err != nil || !strings.Contains(string(body), "MSA|AA|"+id+"\r") {
				t.Errorf("%s: %s %v", id, body, err)
			}
		})
	}
	all.Wait()
}

// A connection that the partner has closed meanwhile is found out before anything is sent.
func TestAConnectionThatWasClosed(t *testing.T) {
	set, s := stood(t)
	l := connecttest.Open(t, s, partner(10*time.Second))
	for range 3 {
		if r, err := connecttest.Send(l, "", "x", admit); err != nil || r.Outcome != retry.Delivered {
			t.Fatalf("%+v %v", r, err)
		}
		past := time.Now()
		_ = set.Behave("partner", standin.Behaviour{OutUntil: &past}) // it cuts its connections
		connecttest.Eventually(t, "the cut is heard of", func() bool {
			of := l.(*link)
			of.mu.Lock()
			defer of.mu.Unlock()
			return len(of.free[0].heard) == 1
		})
	}
	if v, _ := set.Get("partner"); v.Received != 3 {
		t.Errorf("%d received", v.Received)
	}
}

// receives begins to receive; says is what flows say to who waits.
func receives(t *testing.T, intake string, says func(connect.Arrival) (connect.Answer, error)) string {
	t.Helper()
	return receivesBy(t, &connect.Connection{Address: "listen://"}, intake, says)
}

// receivesBy receives by way of a connection, whose address gets a free port.
func receivesBy(t *testing.T, c *connect.Connection, intake string, says func(connect.Arrival) (connect.Answer, error)) string {
	t.Helper()
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := door.Addr().String()
	_ = door.Close()
	c.Name, c.Kind, c.TimeLimit = "in", Kind, 10*time.Second
	c.Address += at
	l := connecttest.Open(t, New(nil), c)
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	ready := make(chan bool, 1)
	ctx = connect.WithTelling(ctx, connect.Telling{Flow: "f", Ready: func() { ready <- true },
		Answered: func(_ context.Context, a connect.Arrival, stored func()) (connect.Answer, error) {
			said, err := says(a)
			if err == nil && said.Status < 300 {
				stored()
			}
			return said, err
		}})
	go func() { _ = l.(connect.Receiver).Receive(ctx, system.Schema(intake), nil, nil) }()
	<-ready
	return at
}

// dial sends messages and hears the answers.
func dial(t *testing.T, at string) (say func(msg string) string) {
	t.Helper()
	conn, err := net.Dial("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = conn.Close() })
	r := bufio.NewReader(conn)
	return func(msg string) string {
		t.Helper()
		if msg != "" {
			if _, err := io.WriteString(conn, "\x0B"+msg+"\x1C\r"); err != nil {
				return err.Error()
			}
		}
		_ = conn.SetReadDeadline(time.Now().Add(time.Minute))
		b, err := readFrame(r, MLLP)
		if err != nil {
			return "broke off"
		}
		return string(b)
	}
}

func TestReception(t *testing.T) {
	var got []connect.Arrival
	at := receives(t, `{}`, func(a connect.Arrival) (connect.Answer, error) {
		got = append(got, a)
		switch {
		case strings.Contains(string(a.Body), "|BAD|"):
			return connect.Answer{Status: 422, Body: []byte(`{"detail":"the field PID-3 | is missing"}`)}, nil
		case strings.Contains(string(a.Body), "|BUSY|"):
			return connect.Answer{Status: 503, Body: []byte(`{"title":"later"}`)}, nil
		case strings.Contains(string(a.Body), "|OWN|"):
			return connect.Answer{Status: 200, Body: []byte("MSH|^~\\&|own\rMSA|AA|OWN\r")}, nil
		case strings.Contains(string(a.Body), "|DIE|"):
			return connect.Answer{}, errors.New("the process dies")
		}
		return connect.Answer{Status: 202}, nil
	})
	say := dial(t, at)
	with := func(id, more string) string { return strings.Replace(admit, "CTRL1|P|2.5.1", id+"|P|2.5.1"+more, 1) }
	for _, c := range []struct{ msg, want string }{
		{with("1", ""), "MSA|AA|1\r"},
		{with("BAD", ""), "MSA|AE|BAD\rERR|||207^Application internal error^HL70357|E||||the field PID-3 \\F\\ is missing\r"},
		{with("BUSY", ""), "MSA|AR|BUSY\r"},
		{with("OWN", ""), "MSH|^~\\&|own\rMSA|AA|OWN\r"},
		{"PID|1", "MSA|AA|\r"}, // whether it can be read is the flow's affair
		{with("2", "|||AL|NE"), "MSA|CA|2\r"},
		{with("BAD", "|||AL|AL"), "MSA|CE|BAD\r"},
		{with("BUSY", "|||ER|NE"), "MSA|CR|BUSY\r"},
		{with("3", "|||NE|AL"), "MSA|AA|3\r"},
	} {
		if answer := say(c.msg); !strings.Contains(answer, c.want) {
			t.Errorf("%q is answered %q, not %q", c.msg, answer, c.want)
		}
	}
	if first := say(with("4", "|||AL|AL")); !strings.Contains(first, "MSA|CA|4") {
		t.Errorf("%q", first)
	}
	if second := say(""); !strings.Contains(second, "MSA|AA|4") {
		t.Errorf("%q", second)
	}
	if a := got[0]; a.ID != "SAPP|SFAC|20240101120000|1" || connecttest.Header(a,
		"content-type") != "application/hl7-v2" || connecttest.Header(a, HeaderFrom) == "" {
		t.Errorf("%+v", a)
	}
	if answer := say(with("DIE", "")); answer != "broke off" {
		t.Errorf("nobody knows whether it is stored, and it is answered %q", answer)
	}
}

// Listeners have limits: of connections, of bytes, and of time.
func TestListenersHaveLimits(t *testing.T) {
	at := receives(t, `{"connections":1,"idle":"1h"}`, func(connect.Arrival) (connect.Answer,
		error) {
		return connect.Answer{Status: 202}, nil
	})
	first := dial(t, at)
	if answer := first(admit); !strings.Contains(answer, "MSA|AA|CTRL1") {
		t.Fatal(answer)
	}
	if answer := dial(t, at)(admit); strings.Contains(answer, "MSA") {
		t.Errorf("a second connection is answered %q", answer)
	}
	if answer := first(strings.Repeat("x", largest+1)); strings.Contains(answer, "MSA") {
		t.Errorf("a message that is too large is answered %q", answer)
	}
	connecttest.Eventually(t, "there is room again", func() bool {
		return strings.Contains(dial(t, at)(admit),
			"MSA|AA|CTRL1")
	})
	short := receives(t, `{"idle":"50ms"}`, func(connect.Arrival) (connect.Answer,
		error) {
		return connect.Answer{Status: 202}, nil
	})
	if answer := dial(t, short)(""); answer != "broke off" {
		t.Errorf("who says nothing is answered %q", answer)
	}
}

// Lines are answered with what the flow says, when that is waited for.
func TestLines(t *testing.T) {
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go func() {
		for c, err := door.Accept(); err == nil; c, err = door.Accept() {
			go func() {
				r := bufio.NewReader(c)
				for line, err := r.ReadString('\n'); err == nil; line, err = r.ReadString('\n') {
					_, _ = io.WriteString(c, strings.ToUpper(line))
				}
			}()
		}
	}()
	t.Cleanup(func() { _ = door.Close() })
	l := connecttest.Open(t, New(nil), &connect.Connection{Name: "p", Kind: Kind,
		Address: "tcp://" + door.Addr().String(), TimeLimit: 10 * time.Second,
		Settings: connecttest.Settings(map[string]string{"framing": "line"})})
	r, err := l.(connect.Asker).Ask(context.Background(), connecttest.Request(`{}`, "1", "shelf 12"))
	if body, _ := r.Body(); err != nil || string(body) != "SHELF 12" {
		t.Errorf("%q %v", body, err)
	}
	if rep, err := l.Check(context.Background()); err != nil || !rep.OK || len(rep.Steps) != 1 {
		t.Errorf("%+v %v", rep, err)
	}
}

// The partner sends what a person lets it send, and hears the acknowledgement.
func TestThePartnerSends(t *testing.T) {
	set, s := stood(t)
	if err := set.Send("partner", standin.Message{Body: admit}); err == nil {
		t.Error("nobody takes it, and it is sent")
	}
	l := connecttest.Open(t, s, partner(10*time.Second))
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	ready := make(chan bool, 1)
	ctx = connect.WithTelling(ctx, connect.Telling{Flow: "f", Ready: func() { ready <- true },
		Answered: func(context.Context, connect.Arrival, func()) (connect.Answer,
			error) {
			return connect.Answer{Status: 202}, nil
		}})
	go func() { _ = l.(connect.Receiver).Receive(ctx, system.Schema(`{}`), nil, nil) }()
	<-ready
	if err := set.Send("partner", standin.Message{Body: strings.ReplaceAll(admit, "\r", "\n")}); err != nil {
		t.Fatal(err)
	}
	if v, _ := set.Get("partner"); len(v.Calls) != 1 || v.Calls[0].Path != "MSA|AA|CTRL1" {
		t.Errorf("%+v", v.Calls)
	}
}

func TestHostilePartners(t *testing.T) {
	for name, says := range map[string]string{
		"silence": "", "no frame": strings.Repeat("x", 1<<20), "an endless frame": "\x0B" + strings.Repeat("x",
			largest+(1<<20)),
		"no acknowledgement": "\x0Bhello\x1C\r", "another's": "\x0BMSH|^~\\&|a\rMSA|AA|other\r\x1C\r",
	} {
		c := connect.Connection{Name: "hostile", Kind: Kind, Address: "tcp://" + connecttest.Says(t, says),
			TimeLimit: 300 * time.Millisecond}
		if name == "an endless frame" {
			c.TimeLimit = time.Minute
		}
		if r, err := connecttest.Send(connecttest.Open(t, New(nil), &c), `{}`, "x", admit); err == nil &&
			r.Outcome == retry.Delivered {
			t.Errorf("%s: %+v", name, r)
		}
	}
}
