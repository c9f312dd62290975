package systems

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
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
	for at, more := range reached("host", map[string]string{"http http://host-proxy.example.org": "proxy: http://door.example.org:3128"}) {
		kind, address, _ := strings.Cut(at, " ")
		host := hostIn(t, address)
		t.Run(host, func(t *testing.T) {
			c := connectionTo(t, r, kind, address, more)
			c.TimeLimit = 5 * time.Second
			for _, inside := range []string{"127.0.0.1", "10.0.0.9", "169.254.169.254", "::1", "fd00::9"} {
				o := &outside{names: map[string]string{host: "8.8.4.4", "door.example.org": "8.8.8.8"}}
				c.Outside = o.as()
				c.Named = c.Look(t.Context())
				o.names = map[string]string{host: inside, "door.example.org": inside}
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
	c := connectionTo(t, registry(t), "tcp", "tcp://inside:2575", "")
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
