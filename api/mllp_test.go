package api

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"
)

// freeTCP gives a port on which nobody listens.
func freeTCP(t *testing.T) string {
	t.Helper()
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = door.Close() }()
	return door.Addr().String()
}

// mllp says messages on one connection and hears the acknowledgements.
func mllp(t *testing.T, at string) func(msg string) string {
	t.Helper()
	var conn net.Conn
	for range 600 { // until the flow listens
		var err error
		if conn, err = net.Dial("tcp", at); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if conn == nil {
		t.Fatal("nobody listens")
	}
	t.Cleanup(func() { _ = conn.Close() })
	r := bufio.NewReader(conn)
	return func(msg string) string {
		t.Helper()
		if _, err := io.WriteString(conn, "\x0B"+msg+"\x1C\r"); err != nil {
			t.Fatal(err)
		}
		answer, err := r.ReadString('\x1C')
		if err != nil {
			t.Fatal(err)
		}
		_, _ = r.ReadByte()
		return strings.Trim(answer, "\x0B\x1C")
	}
}

// A partner sends over MLLP, and hears AA, AE or AR by what the flow decides; a message
// that comes again has the answer of the first one, and is inside once.
func TestAPartnerSendsOverMLLP(t *testing.T) {
	w := start(t)
	at := freeTCP(t)
	w.ok("PUT", "/api/v1/connections/ward", `{"readyferry":"connection/1","name":"ward","kind":"tcp","address":"listen://`+at+`"}`)
	w.live("orders", `{"readyferry":"flow/1","name":"orders","intake":{"kind":"tcp","of":"ward","answer":"finished","format":"hl7",
		"reference":"hl7(body, \"MSH-10\")"},"steps":[
		{"id":"named","kind":"filter","keep":"hl7(body, \"PID-5\") != \"\"","reason":"the name is missing"},
		{"id":"own","kind":"answer","status":200,"headers":{"content-type":"application/hl7-v2"},"when":"hl7(body, \"MSH-9.1\") == \"QRY\"",
			"text":"MSH|^~\\&|us|||\rMSA|AA|${hl7(body, \"MSH-10\")}\rQAK|1\r"},
		{"id":"n","kind":"note","text":"x"}]}`)
	say := mllp(t, at)
	message := func(kind, id, name string) string {
		return "MSH|^~\\&|WARD|EAST|DESK|LK|20260317060000||" + kind + "|" + id + "|P|2.5\rPID|1||77||" + name + "\r"
	}
	for _, c := range []struct{ msg, want string }{
		{message("ADT^A01", "1", "Dray^Maud"), "MSA|AA|1\r"},
		{message("ADT^A01", "1", "Dray^Maud"), "MSA|AA|1\r"},
		{message("ADT^A01", "2", ""), "MSA|AA|2\r"}, // turned away is accepted: there is nothing to do
		{message("QRY^Q01", "3", "Dray"), "MSH|^~\\&|us|||\rMSA|AA|3\rQAK|1"},
		{"MSH|^~\\&|WARD|EAST|DESK|LK|20260317060000||ADT^A01|L1|P|2.5||||||8859/1\rPID|1||77||M\xFCller\r", "|8859/1\rMSA|AA|L1"},
		{"nothing of the kind", "MSA|AR|\rERR|||207^"},
		{"MSH|^~\\&|WARD|EAST|||1||ADT|4|P|2.5\r\x0Bx|\r", "MSA|AR|4\rERR|||207^"},
	} {
		if answer := say(c.msg); !strings.Contains(answer, c.want) {
			t.Errorf("%q is answered %q, not %q", c.msg, answer, c.want)
		}
	}
	w.eventually("/api/v1/transactions?flow=orders&reference=1", `"state":"delivered"`)
	if list := string(w.ok("GET", "/api/v1/transactions?flow=orders&state=delivered", "")); strings.Count(list,
		`"reference":"1"`) != 1 {
		t.Error(list)
	}
	if list := string(w.ok("GET", "/api/v1/transactions?flow=orders&state=turned%20away", "")); !strings.Contains(list,
		"400") {
		t.Errorf("what cannot be read is not kept: %s", list)
	}
	if c := string(w.ok("GET", "/api/v1/connections/ward", "")); !strings.Contains(c, `"is":"works"`) {
		t.Error(c)
	}
	// Who sends many at once over many connections has each its own answer.
	done := make(chan error)
	for n := range 20 {
		go func() {
			say := mllp(t, at)
			for i := range 5 {
				id := fmt.Sprint("many-", n, "-", i)
				if answer := say(message("ADT^A01", id, "Dray")); !strings.Contains(answer, "MSA|AA|"+id+"\r") {
					done <- fmt.Errorf("%s is answered %q", id, answer)
					return
				}
			}
			done <- nil
		}()
	}
	for range 20 {
		if err := <-done; err != nil {
			t.Error(err)
		}
	}
	w.ok("POST", "/api/v1/flows/orders/pause", "")
	for range 1000 { // its receiver is told, and closes the door behind the last one
		open, err := net.Dial("tcp", at)
		if err != nil {
			return
		}
		_ = open.Close()
		time.Sleep(10 * time.Millisecond)
	}
	t.Error("a flow that is paused listens")
}
