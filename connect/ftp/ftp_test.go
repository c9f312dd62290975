package ftp

import (
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/connecttest"
	"readyferry/standin"
)

// stood makes a simulated server and gives it with its folder.
func stood(t *testing.T) (*standin.Set, connect.System, string) {
	t.Helper()
	set := standin.NewSet(time.Now, func() {})
	set.Folders = t.TempDir()
	if err := set.Define(standin.Definition{Name: "files", Kind: standin.KindFTP}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = set.Close() })
	dial := func(name string) (net.Conn, error) { return set.Dial(standin.KindFTP, name) }
	return set, New(dial), filepath.Join(set.Folders, "files")
}

func connection() *connect.Connection {
	return &connect.Connection{Name: "partner", Kind: Kind, Address: "stand-in://files", TimeLimit: 10 * time.Second}
}

func TestFTP(t *testing.T) {
	_, s, dir := stood(t)
	connecttest.Folders(t, connecttest.Open(t, s, connection()), dir, false)
}

func TestMisbehavingFTP(t *testing.T) {
	set, s, dir := stood(t)
	connecttest.MisbehavingFolders(t, s, connection(), dir, func(times, with int) {
		if err := set.Behave("files", standin.Behaviour{Refuse: times, RefuseWith: with}); err != nil {
			t.Fatal(err)
		}
	}, map[int]string{403: "never 550", 503: "never 550", 507: "again full", -1: "error: ", -2: "error: "})
}

// Servers that mean no good: see connecttest.Hostile.
func TestHostileServers(t *testing.T) {
	connecttest.Hostile(t, New(nil), connect.Connection{Name: "hostile", Kind: Kind},
		func(at string) string { return "ftp://" + at },
		`{"name":"x"}`, `{"settled":"1ms","every":"1s"}`, map[string]string{
			"silence": "", "no answer": "hello\r\n", "an endless line": "220 " + strings.Repeat("x", 4<<20),
			"endless lines": "220-x\r\n" + strings.Repeat("220-x\r\n", 1<<20), "busy": "421 busy\r\n",
			"everything at once": "220 x\r\n331 x\r\n230 x\r\n211 x\r\n200 x\r\n257 \"/\" x\r\n229 (|||1|)\r\n150 x\r\n226 x\r\n",
		})
}
