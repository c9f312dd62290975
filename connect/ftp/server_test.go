package ftp

import (
	"net/url"
	"os"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/connecttest"
)

// A server of Debian's packages is asked where READYFERRY_FTP names a folder of this machine
// that one serves, which lets everybody in; make test-servers starts one.
func TestServer(t *testing.T) {
	address := os.Getenv("READYFERRY_FTP")
	if address == "" {
		t.Skip("READYFERRY_FTP names no server, so none is asked")
	}
	u, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	c := &connect.Connection{Name: "server", Kind: Kind, Address: address, TimeLimit: 10 * time.Second,
		SignIn: connect.SignIn{Kind: connect.SignInBasic, User: "root", Secrets: []string{"secret"}}}
	connecttest.Folders(t, connecttest.Open(t, New(nil), c), u.Path, false)
}
