package systems

import (
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/connect"
)

// Every system that is reached over the network goes through the proxy that its connection
// names, and says so where the proxy refuses.
func TestEverySystemGoesThroughItsProxy(t *testing.T) {
	var mu sync.Mutex
	asked := map[string]bool{}
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		host, _, _ := net.SplitHostPort(r.Host)
		asked[host] = true
		http.Error(w, "not through here", http.StatusForbidden)
	}))
	defer proxy.Close()
	r := registry(t)
	for at, more := range reached("inside", nil) {
		kind, address, _ := strings.Cut(at, " ")
		host := hostIn(t, address)
		t.Run(host, func(t *testing.T) {
			c := connectionTo(t, r, kind, address, more+"\nproxy: "+proxy.URL)
			c.TimeLimit = 5 * time.Second
			link, err := r.Open(t.Context(), c)
			if err != nil {
				t.Fatal(err)
			}
			defer link.Close()
			report, err := link.Check(t.Context())
			if err != nil || report.OK || !strings.Contains(fmt.Sprint(report.Detail, report.Steps), "the proxy answers 403") {
				t.Errorf("%+v %v", report, err)
			}
			mu.Lock()
			defer mu.Unlock()
			if !asked[host] {
				t.Errorf("the proxy was asked for %v", asked)
			}
		})
	}
}

// reached are the systems that are reached over the network, by kind and address, with what
// their connections say besides; hosts begin with a word.
func reached(word string, more map[string]string) map[string]string {
	out := maps.Clone(more)
	if out == nil {
		out = map[string]string{}
	}
	for at, says := range map[string]string{
		"http http": "", "mqtt mqtt": "", "amqp amqp": "", "amqp1 amqp": "", "stream stream": "", "nats nats": "", "ftp ftp": "",
		"sftp sftp": "host-key: SHA256:x", "objects http": "/bucket", "mail smtp": "", "mail imap": "", "tcp tcp": ":2575",
		"sql postgresql": "driver: postgresql", "sql mysql": "driver: mysql", "sql sqlserver": "driver: sqlserver",
	} {
		kind, scheme, _ := strings.Cut(at, " ")
		end := ""
		switch {
		case kind == "sql":
			end = "/x"
		case strings.HasPrefix(says, "/"), strings.HasPrefix(says, ":"):
			end, says = says, ""
		}
		out[at+"://"+word+"-"+kind+"-"+scheme+".example.org"+end] = says
	}
	return out
}

func hostIn(t *testing.T, address string) string {
	t.Helper()
	u, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	return u.Hostname()
}

func connectionTo(t *testing.T, r *connect.Registry, kind, address, more string) *connect.Connection {
	t.Helper()
	d, findings := r.Read(fmt.Appendf(nil, "readyferry: connection/1\nname: c\nkind: %s\naddress: %s\n%s\n", kind, address, more))
	if d == nil || len(findings) > 0 {
		t.Fatal(findings)
	}
	return d.Connection
}
