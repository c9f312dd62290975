package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"readyferry/connect/connecttest"
	"readyferry/standin"
)

// filesSource is a folder of this machine. Who lays a file down gives it its name when it
// is whole.
func filesSource(dir string) source {
	return source{address: "file://" + dir, intake: intakeOfFiles("files"), put: func(n int) error {
		part := filepath.Join(dir, fmt.Sprint(".", n))
		if err := os.WriteFile(part, fmt.Appendf(nil, `{"n":"%d"}`, n), 0o600); err != nil {
			return err
		}
		return os.Rename(part, filepath.Join(dir, fmt.Sprint(n, ".json")))
	}}
}

func intakeOfFiles(kind string) string {
	return fmt.Sprintf(`{"kind":%q,"of":%q,"names":"*.json","settled":"1ms","every":"1s","reference":"body.n"}`, kind,
		kind)
}

// served serves a stand-in at a port, outside of the program.
func served(t *testing.T, kind string) (at string, put func(n int) error) {
	t.Helper()
	set := standin.NewSet(time.Now, func() {})
	set.Folders = t.TempDir()
	if err := set.Define(standin.Definition{Name: "partner", Kind: kind}); err != nil {
		t.Fatal(err)
	}
	name := "partner"
	if kind == standin.KindMail {
		name += "+in" // the mailbox, not what sends
	}
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = door.Close(); _ = set.Close() })
	go func() {
		for c, err := door.Accept(); err == nil; c, err = door.Accept() {
			if to, err := set.Dial(kind, name); err == nil {
				go connecttest.Pipe(c, to)
			}
		}
	}()
	return door.Addr().String(), func(n int) error {
		if kind == standin.KindMail {
			return set.Send("partner", standin.Message{Topic: fmt.Sprint(n), Key: "quill@mail.example", Body: "x"})
		}
		return set.Send("partner", standin.Message{Topic: fmt.Sprint(n, ".json"), Body: fmt.Sprintf(`{"n":"%d"}`, n)})
	}
}

func sftpSource(t *testing.T) source {
	t.Helper()
	at, put := served(t, standin.KindSFTP)
	var key string
	c, err := ssh.Dial("tcp", at, &ssh.ClientConfig{HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
		key = ssh.FingerprintSHA256(k)
		return nil
	}})
	if err != nil {
		t.Fatal(err)
	}
	_ = c.Close()
	return source{address: "sftp://" + at, says: fmt.Sprintf(`,"host-key":%q`, key), intake: intakeOfFiles("sftp"),
		put: put}
}

func ftpSource(t *testing.T) source {
	t.Helper()
	at, put := served(t, standin.KindFTP)
	return source{address: "ftp://" + at, intake: intakeOfFiles("ftp"), put: put}
}

func objectsSource(t *testing.T) source {
	t.Helper()
	at, put := served(t, standin.KindObjects)
	return source{address: "http://" + at + "/partner", intake: intakeOfFiles("objects"), put: put}
}

// mailSource is a mailbox that mails come into.
func mailSource(t *testing.T) source {
	t.Helper()
	at, put := served(t, standin.KindMail)
	return source{address: "imap://" + at, says: `,"starttls":"never"`,
		intake: `{"kind":"mail","of":"mail","then":"move","every":"1s","reference":"body.subject"}`, put: put}
}

// mllpSource is a partner that says each message until it is acknowledged, and only then
// the next one.
func mllpSource(t *testing.T) source {
	t.Helper()
	at, waiting := freeAddress(t), make(chan int, 10_000)
	t.Cleanup(func() { close(waiting) })
	go func() {
		var conn net.Conn
		for n := range waiting {
			for say(&conn, at, n) != nil && t.Context().Err() == nil {
				time.Sleep(10 * time.Millisecond)
			}
		}
	}()
	return source{address: "listen://" + at,
		intake: `{"kind":"tcp","of":"tcp","format":"hl7","reference":"hl7(body, \"MSH-10\")"}`,
		put:    func(n int) error { waiting <- n; return nil }}
}

// say says a message and hears that it is accepted, on a connection that is made anew
// after each fault.
func say(conn *net.Conn, at string, n int) (err error) {
	if *conn == nil {
		if *conn, err = net.Dial("tcp", at); err != nil {
			return err
		}
	}
	defer func() {
		if err != nil {
			_ = (*conn).Close()
			*conn = nil
		}
	}()
	_, err = fmt.Fprintf(*conn, "\x0BMSH|^~\\&|WARD|EAST|DESK|LK|20260317060000||ADT^A01|%d|P|2.5\r\x1C\r", n)
	if err != nil {
		return err
	}
	var answer []byte
	for one := make([]byte, 1); err == nil && !strings.HasSuffix(string(answer), "\x1C\r"); answer = append(answer,
		one...) {
		_, err = io.ReadFull(*conn, one)
	}
	if err == nil && !strings.Contains(string(answer), fmt.Sprint("MSA|AA|", n)) {
		err = fmt.Errorf("%d is answered %q", n, answer)
	}
	return err
}

// What lies in folders, here and on other machines, and what partners say on a connection,
// is inside once as well.
func TestEachFileAndEachFrameIsInsideOnceWhenTheProcessIsKilled(t *testing.T) {
	dir := t.TempDir()
	killedWhileReceiving(t, map[string]source{"files": filesSource(dir), "sftp": sftpSource(t), "ftp": ftpSource(t),
		"tcp": mllpSource(t), "mail": mailSource(t), "objects": objectsSource(t)}, "--files", dir)
}
