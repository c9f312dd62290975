package systems

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/core/outbound"
)

// outside is a network without one: names come to what the test says, and nobody is
// connected to; what was dialled is kept.
type outside struct {
	mu     sync.Mutex
	names  map[string]string
	dialed []string
}

func (o *outside) as() *connect.Outside {
	return &connect.Outside{
		Resolve: func(_ context.Context, host string) ([]netip.Addr, error) {
			o.mu.Lock()
			defer o.mu.Unlock()
			if o.names[host] == "" {
				return nil, errors.New("there is no such host")
			}
			return []netip.Addr{netip.MustParseAddr(o.names[host])}, nil
		},
		Connect: func(_ context.Context, _, at string) (net.Conn, error) {
			o.mu.Lock()
			defer o.mu.Unlock()
			o.dialed = append(o.dialed, at)
			return nil, errors.New("nobody is there")
		},
	}
}

// Whatever a system is: where the name of its host came to a public address when it was saved
// and comes to one inside now, nobody is dialled, and the test says why.
func TestANameThatLeadsIntoTheHouseIsNotFollowed(t *testing.T) {
	r := registry(t)
	for at, more := range map[string]string{
		"http http://host-http.example.org": "", "mqtt mqtt://host-mqtt.example.org": "",
		"sql postgresql://host-postgresql.example.org/x": "driver: postgresql",
		"sql mysql://host-mysql.example.org/x":           "driver: mysql",
		"sql sqlserver://host-sqlserver.example.org/x":   "driver: sqlserver",
		"amqp amqp://host-amqp.example.org":              "", "amqp1 amqp://host-amqp1.example.org": "",
		"stream stream://host-stream.example.org": "", "nats nats://host-nats.example.org": "",
		"sftp sftp://host-sftp.example.org": "host-key: SHA256:x", "ftp ftp://host-ftp.example.org": "",
		"objects http://host-objects.example.org/bucket": "", "mail smtp://host-mail.example.org": "",
		"mail imap://host-imap.example.org":   "",
		"tcp tcp://host-tcp.example.org:2575": "",
		"http http://host-proxy.example.org":  "proxy: http://door.example.org:3128",
	} {
		kind, address, _ := strings.Cut(at, " ")
		u, err := url.Parse(address)
		if err != nil {
			t.Fatal(err)
		}
		t.Run(u.Hostname(), func(t *testing.T) {
			d, findings := r.Read(fmt.Appendf(nil,
				"readyferry: connection/1\nname: c\nkind: %s\naddress: %s\n%s\n", kind, address, more))
			if d == nil || len(findings) > 0 {
				t.Fatal(findings)
			}
			c := d.Connection
			c.TimeLimit = 5 * time.Second
			for _, inside := range []string{"127.0.0.1", "10.0.0.9", "169.254.169.254", "::1", "fd00::9"} {
				o := &outside{names: map[string]string{u.Hostname(): "8.8.4.4", "door.example.org": "8.8.8.8"}}
				c.Outside = o.as()
				c.Named = c.Look(t.Context())
				o.names = map[string]string{u.Hostname(): inside, "door.example.org": inside}
				if len(o.dialed) > 0 {
					t.Fatalf("looking dials %v", o.dialed)
				}
				link, err := r.Open(t.Context(), c)
				if err == nil {
					var report connect.Report
					report, err = link.Check(t.Context())
					if said := fmt.Sprint(report, err); report.OK || !strings.Contains(said, "may not be reached") {
						t.Errorf("at %s the test says %s", inside, said)
					}
					_ = link.Close()
				} else if !errors.Is(err, outbound.ErrRefused) {
					t.Errorf("at %s it cannot be opened: %v", inside, err)
				}
				if len(o.dialed) > 0 {
					t.Errorf("at %s it dialled %v", inside, o.dialed)
				}
			}
		})
	}
}

// A name that came to an address inside when it was saved is reached there, and only there.
func TestANameInsideIsReachedWhereItWasFound(t *testing.T) {
	d, findings := registry(t).Read([]byte("readyferry: connection/1\nname: c\nkind: tcp\naddress: tcp://inside:2575\n"))
	if d == nil {
		t.Fatal(findings)
	}
	c := d.Connection
	o := &outside{names: map[string]string{"inside": "10.0.0.9"}}
	c.Outside = o.as()
	c.Named = c.Look(t.Context())
	_, err := c.Dial(t.Context(), "tcp", "inside:2575")
	if errors.Is(err, outbound.ErrRefused) || len(o.dialed) != 1 || o.dialed[0] != "10.0.0.9:2575" {
		t.Errorf("%v %v", err, o.dialed)
	}
	for _, at := range []string{"elsewhere:80", "10.0.0.10:80", "127.0.0.1:2575"} {
		if _, err := c.Dial(t.Context(), "tcp", at); err == nil || len(o.dialed) != 1 {
			t.Errorf("%s is reached: %v %v", at, err, o.dialed)
		}
	}
	list := outbound.List{"10.0.0.0/8"}
	c.Outside.List = func() outbound.List { return list }
	if _, err := c.Dial(t.Context(), "tcp", "10.0.0.10:80"); errors.Is(err, outbound.ErrRefused) || len(o.dialed) != 2 {
		t.Errorf("the list does not help: %v %v", err, o.dialed)
	}
}
