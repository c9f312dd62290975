// Package sftp is the system of folders that are reached by the SSH file transfer protocol.
// What files come to and how they are written stands in connect/folder; here is how the
// server is reached: it must show the key that the connection names, and a link there leads
// nowhere.
package sftp

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"

	client "github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"readyferry/connect"
	"readyferry/connect/folder"
	"readyferry/connect/reach"
	"readyferry/core/retry"
	"readyferry/core/system"
)

// Kind is the name of the system in documents.
const Kind = "sftp"

// signInKey is signing in by a private key; it is the secret.
const signInKey = "key"

var connectionSchema = `{"required": ["address"], "properties": {
	"address": {"type": "string", "title": "Address", "default": "sftp://", "description":
		"sftp://host:22/folder, or stand-in://name; without a folder it is the one that one is in after signing in",
		"examples": ["sftp://files.example.org/outgoing"]},
	` + reach.SignInProperty(connect.SignInNone, connect.SignInBasic, signInKey) + `,
	"host-key": {"type": "string", "title": "Key of the server", "maxLength": 10000, "description":
		"its fingerprint (SHA256:…) or its public key; the test shows the one that it has",
		"examples": ["SHA256:2Vx1j9N6tCqAQk3oEjQEm0lq7fVbHn5h8rJ0pW3uYxk"]},
	` + reach.ProxyProperty + `}}`

// New makes the system. standIn reaches a simulated server by its name; nil where there
// are none.
func New(standIn func(name string) (net.Conn, error)) connect.System {
	door := &reach.Door{Schemes: map[string]string{"sftp": "22"}, Path: true, StandIn: standIn}
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "SFTP", Summary: "Folders of another machine, reached by the SSH file transfer protocol.",
			Sentence: "write {name}[ into {folder}] at {to}",
			Intake:   system.Schema(folder.IntakeSchema), Deliver: system.Schema(folder.DeliverSchema),
		},
		Notes: append([]string{"The server must show the key that the connection names; without one the test shows what it has, to be " +
			"compared with what its owner says. A private key to sign in with has no passphrase: it is sealed here."},
			folder.Notes...),
		Outcomes: folder.Outcomes(
			connect.Meaning{Code: "4", Words: "the server says that it failed, and not why (SSH_FX_FAILURE)",
				Comes: string(retry.Again)},
			connect.Meaning{Code: "5 to 8", Words: "the server does not understand or cannot do it", Comes: string(retry.Never)},
		),
		Connection: system.Schema(connectionSchema),
		Check: func(c *connect.Connection, found connect.Found) {
			door.Check(c, found)
			if _, err := shown(c.Text("/host-key")); err != nil {
				found("/host-key", "wrong-value", err.Error(), "write it as SHA256:… or as ssh-ed25519 AAAA…")
			}
		},
		Says: folder.Says,
		Open: func(_ context.Context, c *connect.Connection) (connect.Link, error) {
			l := &folder.Link{C: c}
			l.Join = func(ctx context.Context, w *reach.Way) (folder.Tree, error) { return join(ctx, door, c, w) }
			return l, nil
		},
	}
}

// shown reads the key that a server must show, as its fingerprint; "" where none is named.
func shown(text string) (fingerprint string, err error) {
	text = strings.TrimSpace(text)
	if text == "" || strings.HasPrefix(text, "SHA256:") && !strings.ContainsAny(text, " \t\n") {
		return text, nil
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(text))
	if err != nil {
		return "", errors.New("it is neither a fingerprint nor a public key")
	}
	return ssh.FingerprintSHA256(key), nil
}

// join reaches the server, looks at its key, signs in, and finds the folder.
func join(ctx context.Context, door *reach.Door, c *connect.Connection, w *reach.Way) (folder.Tree, error) {
	plain, err := door.Dial(ctx, c, w)
	if err != nil {
		return nil, err
	}
	conn := folder.Meter(plain, c.TimeLimit)
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	u, err := url.Parse(c.Address)
	if err != nil {
		return nil, err
	}
	config, err := signIn(c, u.Scheme == reach.StandInScheme, w)
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	_ = conn.SetReadDeadline(time.Now().Add(c.TimeLimit))
	sshConn, channels, requests, err := ssh.NewClientConn(conn, u.Host, config)
	if err != nil {
		_ = conn.Close()
		var key *reach.Error
		if errors.As(err, &key) {
			return nil, key
		}
		return nil, &reach.Error{Step: "signing in", Err: inWords(err),
			Repair: "look at the user, the password or key, and what the server permits them"}
	}
	w.Did("signed in as %s", config.User)
	of := ssh.NewClient(sshConn, channels, requests)
	_ = conn.SetReadDeadline(time.Now().Add(c.TimeLimit))
	files, err := client.NewClient(of)
	if err != nil {
		return nil, &reach.Error{Step: "asking for files", Err: errors.Join(inWords(err), of.Close()),
			Repair: "look whether the server has SFTP for this user"}
	}
	t := &tree{conn: conn, ssh: of, files: files, folders: map[string]bool{"": true}}
	t.base, err = files.RealPath("." + u.Path)
	if strings.HasPrefix(u.Path, "/") && len(u.Path) > 1 {
		t.base, err = files.RealPath(u.Path)
	}
	_ = conn.SetReadDeadline(time.Time{})
	if err != nil {
		return nil, &reach.Error{Step: "finding the folder " + u.Path, Err: errors.Join(inWords(err), t.Close()),
			Repair: "look at the folder in the address"}
	}
	return t, nil
}

// signIn says who we are, and whom we believe. Simulated servers are within this process,
// so nobody can stand between.
func signIn(c *connect.Connection, standIn bool, w *reach.Way) (*ssh.ClientConfig, error) {
	config := &ssh.ClientConfig{User: c.SignIn.User, Timeout: c.TimeLimit}
	if config.User == "" {
		config.User = "readyferry"
	}
	secret := ""
	if len(c.SignIn.Secrets) > 0 {
		secret = c.SignIn.Secrets[0]
	}
	switch c.SignIn.Kind {
	case connect.SignInBasic:
		config.Auth = []ssh.AuthMethod{ssh.Password(secret), ssh.KeyboardInteractive(
			func(_, _ string, questions []string, _ []bool) ([]string, error) {
				answers := make([]string, len(questions))
				for i := range answers {
					answers[i] = secret
				}
				return answers, nil
			})}
	case signInKey:
		key, err := ssh.ParsePrivateKey(reach.Lines(secret))
		if err != nil {
			return nil, &reach.Error{Step: "reading the private key",
				Err:    errors.New("it is no private key, or has a passphrase"),
				Repair: "write it as PEM, from -----BEGIN … PRIVATE KEY----- on, without a passphrase"}
		}
		config.Auth = []ssh.AuthMethod{ssh.PublicKeys(key)}
	}
	must, err := shown(c.Text("/host-key"))
	if err != nil {
		return nil, err
	}
	config.HostKeyCallback = func(_ string, _ net.Addr, key ssh.PublicKey) error {
		has := ssh.FingerprintSHA256(key)
		switch {
		case standIn:
			return nil
		case must == "":
			return &reach.Error{Step: "looking at the key of the server",
				Err:    fmt.Errorf("it has %s (%s), and the connection names none", has, key.Type()),
				Repair: "compare it with what the owner of the server says; when it is the same, write it under host-key"}
		case must != has:
			return &reach.Error{Step: "looking at the key of the server",
				Err:    fmt.Errorf("it has %s (%s), and the connection names another", has, key.Type()),
				Repair: "ask the owner of the server whether the key was changed; until then somebody else may answer for it"}
		}
		w.Did("the server shows the key that the connection names (%s)", key.Type())
		return nil
	}
	return config, nil
}

// inWords says what went wrong without the words of the library around it.
func inWords(err error) error {
	text := strings.TrimPrefix(err.Error(), "ssh: handshake failed: ")
	switch {
	case strings.Contains(text, "unable to authenticate"):
		return errors.New("the server does not know the user, or takes another way to sign in")
	case strings.Contains(text, "i/o timeout"):
		return errors.New("nobody answered in time, or in the way of this protocol")
	case strings.Contains(text, "EOF"):
		return errors.New("the server broke off")
	}
	return errors.New(text)
}
