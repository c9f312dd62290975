package sftp

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/connecttest"
	"readyferry/standin"
)

// stood makes a simulated server and gives it with its folder.
func stood(t *testing.T) (*standin.Set, string) {
	t.Helper()
	set := standin.NewSet(time.Now, func() {})
	set.Folders = t.TempDir()
	if err := set.Define(standin.Definition{Name: "files", Kind: standin.KindSFTP}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = set.Close() })
	return set, filepath.Join(set.Folders, "files")
}

func connection(more string) *connect.Connection {
	return &connect.Connection{Name: "partner", Kind: Kind, Address: "stand-in://files" + more,
		TimeLimit: 10 * time.Second}
}

func TestSFTP(t *testing.T) {
	set, dir := stood(t)
	dial := func(name string) (net.Conn, error) { return set.Dial(standin.KindSFTP, name) }
	connecttest.Folders(t, connecttest.Open(t, New(dial), connection("")), dir, true)
}

func TestMisbehavingSFTP(t *testing.T) {
	set, dir := stood(t)
	dial := func(name string) (net.Conn, error) { return set.Dial(standin.KindSFTP, name) }
	connecttest.MisbehavingFolders(t, New(dial), connection(""), dir, func(times, with int) {
		if err := set.Behave("files", standin.Behaviour{Refuse: times, RefuseWith: with}); err != nil {
			t.Fatal(err)
		}
	}, map[int]string{403: "never denied", 503: "again 4", 507: "again 4", -1: "error: ", -2: "error: "})
}

// A server on a port is believed when it shows the key that the connection names.
func TestTheKeyOfTheServer(t *testing.T) {
	set, _ := stood(t)
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = door.Close() })
	go func() {
		for c, err := door.Accept(); err == nil; c, err = door.Accept() {
			to, err := set.Dial(standin.KindSFTP, "files")
			if err != nil {
				return
			}
			connecttest.Pipe(c, to)
		}
	}()
	check := func(key string) connect.Report {
		c := &connect.Connection{Name: "partner", Kind: Kind, Address: "sftp://" + door.Addr().String(),
			TimeLimit: 10 * time.Second,
			SignIn:    connect.SignIn{Kind: connect.SignInBasic, User: "larkfield", Secrets: []string{"x"}},
			Settings:  connecttest.Settings(map[string]string{"host-key": key})}
		r, err := connecttest.Open(t, New(nil), c).Check(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	r := check("")
	if r.OK || !strings.Contains(r.Detail, "SHA256:") || !strings.Contains(r.Detail, "names none") {
		t.Fatalf("%+v", r)
	}
	has := r.Detail[strings.Index(r.Detail, "SHA256:"):]
	has = has[:strings.Index(has, " ")]
	if r := check(has); !r.OK || len(r.Steps) < 4 {
		t.Errorf("%+v", r)
	}
	if r := check("SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"); r.OK || !strings.Contains(r.Detail,
		"names another") {
		t.Errorf("%+v", r)
	}
}

// The fingerprint of the key is what ssh-keygen of OpenSSH gives.
func TestWhatAKeyIs(t *testing.T) {
	pub, err := os.ReadFile("testdata/ssh_host_ed25519_key.pub")
	if err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]string{
		"": "", "SHA256:abc": "SHA256:abc", string(pub): "SHA256:JXBdkkpNF0pAtpzOTa+R/T85w1pv6Mk7LU4tCrq1yKQ", "x": "?",
		"SHA256:a b": "?",
	} {
		got, err := shown(text)
		if (err != nil) != (want == "?") || err == nil && got != want {
			t.Errorf("%.20q: %s %v", text, got, err)
		}
	}
}

// Servers that mean no good: see connecttest.Hostile.
func TestHostileServers(t *testing.T) {
	connecttest.Hostile(t, New(nil), connect.Connection{Name: "hostile", Kind: Kind,
		SignIn: connect.SignIn{Kind: connect.SignInNone}},
		func(at string) string { return "sftp://" + at }, `{"name":"x"}`, `{"settled":"1ms","every":"1s"}`, map[string]string{
			"silence": "", "no banner": "hello\r\n", "an endless line": strings.Repeat("x", 4<<20),
			"endless lines": strings.Repeat("x\r\n", 1<<20),
			"a huge packet": "SSH-2.0-x\r\n\xFF\xFF\xFF\xFF\x01\x02", "rubbish": "SSH-2.0-x\r\n" + strings.Repeat("\x00\x01",
				4096),
		})
}
