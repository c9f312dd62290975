package systems

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"
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
	for at, more := range map[string]string{
		"http http://inside-http.example.org": "", "mqtt mqtt://inside-mqtt.example.org": "",
		"sql postgresql://inside-postgresql.example.org/x": "driver: postgresql",
		"sql mysql://inside-mysql.example.org/x":           "driver: mysql",
		"sql sqlserver://inside-sqlserver.example.org/x":   "driver: sqlserver",
		"amqp amqp://inside-amqp.example.org":              "", "amqp1 amqp://inside-amqp1.example.org": "",
		"stream stream://inside-stream.example.org": "", "nats nats://inside-nats.example.org": "",
		"sftp sftp://inside-sftp.example.org": "host-key: SHA256:x", "ftp ftp://inside-ftp.example.org": "",
		"objects http://inside-objects.example.org/bucket": "", "mail smtp://inside-smtp.example.org": "",
		"mail imap://inside-imap.example.org":   "",
		"tcp tcp://inside-tcp.example.org:2575": "",
	} {
		kind, address, _ := strings.Cut(at, " ")
		u, err := url.Parse(address)
		if err != nil {
			t.Fatal(err)
		}
		t.Run(u.Hostname(), func(t *testing.T) {
			d, findings := r.Read(fmt.Appendf(nil,
				"readyferry: connection/1\nname: c\nkind: %s\naddress: %s\nproxy: %s\n%s\n", kind, address, proxy.URL, more))
			if d == nil || len(findings) > 0 {
				t.Fatal(findings)
			}
			d.Connection.TimeLimit = 5 * time.Second
			link, err := r.Open(t.Context(), d.Connection)
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
			if !asked[u.Hostname()] {
				t.Errorf("the proxy was asked for %v", asked)
			}
		})
	}
}
