package reach

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"readyferry/connect/connecttest"
	jsonfmt "readyferry/core/format/json"

	"readyferry/connect"
)

// greeter is a system that speaks first, then repeats what it hears.
func greeter(t *testing.T) string {
	t.Helper()
	return connecttest.Serve(t, func(conn net.Conn) {
		defer conn.Close()
		_, _ = io.WriteString(conn, "good day\n")
		_, _ = io.Copy(conn, conn)
	})
}

// connectProxy lets CONNECT through to one place, whatever name is asked for.
func connectProxy(t *testing.T, to string, asked chan<- string) string {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked <- r.Method + " " + r.Host
		if strings.HasPrefix(r.Host, "forbidden") {
			http.Error(w, "not through here", http.StatusForbidden)
			return
		}
		there, err := net.Dial("tcp", to)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		here, _, err := w.(http.Hijacker).Hijack()
		if err != nil {
			t.Error(err)
			return
		}
		_, _ = io.WriteString(here, "HTTP/1.1 200 Connection established\r\n\r\n")
		connecttest.Pipe(here, there)
	}))
	t.Cleanup(s.Close)
	return "http://" + strings.TrimPrefix(s.URL, "http://")
}

// socksProxy is as much of RFC 1928 as a client without sign-in needs.
func socksProxy(t *testing.T, to string, asked chan<- string) string {
	t.Helper()
	return "socks5://" + connecttest.Serve(t, func(conn net.Conn) { serveSOCKS(conn, to, asked) })
}

func serveSOCKS(conn net.Conn, to string, asked chan<- string) {
	r := bufio.NewReader(conn)
	head := make([]byte, 2)
	_, _ = io.ReadFull(r, head)
	_, _ = r.Discard(int(head[1]))
	_, _ = conn.Write([]byte{5, 0})
	head = make([]byte, 5)
	_, _ = io.ReadFull(r, head)
	name := make([]byte, int(head[4])+2)
	_, _ = io.ReadFull(r, name)
	host, port := string(name[:head[4]]), int(name[head[4]])<<8|int(name[head[4]+1])
	asked <- fmt.Sprintf("%d %s:%d", head[3], host, port)
	if strings.HasPrefix(host, "forbidden") {
		_, _ = conn.Write([]byte{5, 2, 0, 1, 0, 0, 0, 0, 0, 0})
		_ = conn.Close()
		return
	}
	there, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	_, _ = conn.Write([]byte{5, 0, 0, 1, 0, 0, 0, 0, 0, 0})
	connecttest.Pipe(conn, there)
}

func behind(t *testing.T, proxy string) *connect.Connection {
	t.Helper()
	settings, err := jsonfmt.Decode([]byte(`{"proxy": "` + proxy + `"}`))
	if err != nil {
		t.Fatal(err)
	}
	return &connect.Connection{Address: "tcp://inside.example.org:7", Settings: settings.Root, TimeLimit: 10 * time.Second}
}

func TestASystemIsReachedThroughAProxyThatKnowsItsName(t *testing.T) {
	at := greeter(t)
	for _, kind := range []struct {
		make  func(*testing.T, string, chan<- string) string
		asked string
	}{{connectProxy, "CONNECT inside.example.org:7"}, {socksProxy, "3 inside.example.org:7"}} {
		asked := make(chan string, 1)
		proxy := kind.make(t, at, asked)
		var w Way
		conn, err := DialAt(context.Background(), behind(t, proxy), "inside.example.org:7", false, &w)
		if err != nil {
			t.Fatalf("%s: %v", proxy, err)
		}
		if got := <-asked; got != kind.asked {
			t.Errorf("the proxy was asked for %q, not %q", got, kind.asked)
		}
		_, _ = io.WriteString(conn, "hello\n")
		r := bufio.NewReader(conn)
		first, _ := r.ReadString('\n')
		second, _ := r.ReadString('\n')
		if first != "good day\n" || second != "hello\n" {
			t.Errorf("through %s came %q and %q", proxy, first, second)
		}
		_ = conn.Close()
		if len(w.Steps) != 1 || !w.Steps[0].OK || !strings.Contains(w.Steps[0].Detail, "lets inside.example.org:7 through") {
			t.Errorf("the steps are %+v", w.Steps)
		}
	}
}

func TestAProxyThatRefusesIsNamed(t *testing.T) {
	deaf, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	_ = deaf.Close()
	for name, proxy := range map[string]string{
		"403":       connectProxy(t, "", make(chan string, 1)),
		"rule":      socksProxy(t, "", make(chan string, 1)),
		"refused":   "http://" + deaf.Addr().String(),
		"speak":     "http://" + greeter(t),
		"it is non": "http://%zz",
	} {
		c := behind(t, proxy)
		c.TimeLimit = 2 * time.Second
		conn, err := DialAt(context.Background(), c, "forbidden.example.org:7", false, nil)
		if err == nil {
			_ = conn.Close()
			t.Errorf("%s: it let us through", name)
			continue
		}
		var step *Error
		if !errors.As(err, &step) || !strings.Contains(step.Step, "proxy") || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: it says %v", name, err)
		}
	}
}
