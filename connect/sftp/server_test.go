package sftp

import (
	"net/url"
	"os"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/connecttest"
)

// A server of Debian's packages is asked where READYFERRY_SFTP names a folder of this
// machine that one serves, READYFERRY_SFTP_KEY a file with a private key that it lets in, and
// READYFERRY_SFTP_HOST the file with its own public key; make test-servers starts one.
func TestServer(t *testing.T) {
	address := os.Getenv("READYFERRY_SFTP")
	if address == "" {
		t.Skip("READYFERRY_SFTP names no server, so none is asked")
	}
	u, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	key, err := os.ReadFile(os.Getenv("READYFERRY_SFTP_KEY"))
	if err != nil {
		t.Fatal(err)
	}
	host, err := os.ReadFile(os.Getenv("READYFERRY_SFTP_HOST"))
	if err != nil {
		t.Fatal(err)
	}
	c := &connect.Connection{Name: "server", Kind: Kind, Address: address, TimeLimit: 10 * time.Second,
		SignIn:   connect.SignIn{Kind: signInKey, User: "root", Secrets: []string{string(key)}},
		Settings: connecttest.Settings(map[string]string{"host-key": string(host)})}
	connecttest.Folders(t, connecttest.Open(t, New(nil), c), u.Path, true)
}
