package reach

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"golang.org/x/net/proxy"

	"readyferry/connect"
)

// ProxyProperty is the setting of connections that says through whom they are made, as JSON
// Schema. The name of the system is then resolved where the proxy is, so systems can be
// reached that this machine knows no address of.
const ProxyProperty = `"proxy": {"type": "string", "title": "Proxy", "pattern": "^(https?|socks5)://[^@/]+$", "maxLength": 300,
	"description": "http://host:port or socks5://host:port through which it is reached; none when empty",
	"examples": ["http://proxy.example.org:3128", "socks5://proxy.example.org:1080"]}`

// WayProperties are the settings of connections that say how a system is reached.
const WayProperties = TLSProperty + ", " + ProxyProperty

// proxyPorts are where proxies listen when their address names no port (common practice).
var proxyPorts = map[string]string{"http": "3128", "https": "443", "socks5": "1080"}

// mostOfProxy bounds the head of a proxy's answer.
const mostOfProxy = 64 << 10

// Proxied tells whether a connection is made through a proxy.
func Proxied(c *connect.Connection) bool { return c.Text("/proxy") != "" }

// through connects to a host and port by way of the proxy of a connection.
func through(ctx context.Context, c *connect.Connection, at string, w *Way) (net.Conn, error) {
	u, err := url.Parse(c.Text("/proxy"))
	if err != nil || proxyPorts[u.Scheme] == "" {
		return nil, &Error{"reading the address of the proxy", errors.New("it is none"),
			"write it as http://host:port or socks5://host:port"}
	}
	port := u.Port()
	if port == "" {
		port = proxyPorts[u.Scheme]
	}
	door := net.JoinHostPort(u.Hostname(), port)
	var conn net.Conn
	if u.Scheme == "socks5" {
		conn, err = bySOCKS(ctx, c, door, at)
	} else {
		conn, err = byConnect(ctx, c, u, door, at)
	}
	if err != nil {
		return nil, &Error{"reaching " + at + " through the proxy " + door, inWords(err),
			"look whether the proxy runs, and lets this host and port through"}
	}
	w.Did("the proxy %s lets %s through", door, at)
	return conn, nil
}

// bySOCKS asks a proxy by SOCKS 5 (RFC 1928), which is given the name, not an address.
func bySOCKS(ctx context.Context, c *connect.Connection, door, at string) (net.Conn, error) {
	socks, err := proxy.SOCKS5("tcp", door, nil, dialing{c})
	if err != nil {
		return nil, err
	}
	limited, cancel := context.WithTimeout(ctx, c.TimeLimit)
	defer cancel()
	return socks.(proxy.ContextDialer).DialContext(limited, "tcp", at)
}

// dialing reaches proxies on behalf of a connection.
type dialing struct{ c *connect.Connection }

// Dial implements proxy.Dialer.
func (d dialing) Dial(network, at string) (net.Conn, error) {
	return d.c.Dial(context.Background(), network, at)
}

// DialContext implements proxy.ContextDialer.
func (d dialing) DialContext(ctx context.Context, network, at string) (net.Conn, error) {
	return d.c.Dial(ctx, network, at)
}

// byConnect asks a proxy by CONNECT (RFC 9110, 9.3.6). Its answer is read byte by byte up to
// the empty line: what follows may be the system's greeting already.
func byConnect(ctx context.Context, c *connect.Connection, u *url.URL, door, at string) (net.Conn, error) {
	conn, err := c.Dial(ctx, "tcp", door)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	_ = conn.SetDeadline(time.Now().Add(c.TimeLimit))
	if u.Scheme == "https" {
		conn = tls.Client(conn, &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12})
	}
	if err := askConnect(conn, at); err != nil {
		stop()
		return nil, errors.Join(err, conn.Close())
	}
	_ = conn.SetDeadline(time.Time{})
	if !stop() {
		return nil, ctx.Err()
	}
	return conn, nil
}

func askConnect(conn net.Conn, at string) error {
	if _, err := fmt.Fprintf(conn, "CONNECT %s HTTP/1.1\r\nHost: %s\r\n\r\n", at, at); err != nil {
		return err
	}
	var head bytes.Buffer
	for one := make([]byte, 1); !bytes.HasSuffix(head.Bytes(), []byte("\r\n\r\n")); head.Write(one) {
		if head.Len() > mostOfProxy {
			return errors.New("the proxy answers with more than it should")
		}
		if _, err := io.ReadFull(conn, one); err != nil {
			return fmt.Errorf("the proxy broke off: %w", err)
		}
	}
	asked := &http.Request{Method: http.MethodConnect}
	answer, err := http.ReadResponse(bufio.NewReader(&head), asked)
	if err != nil {
		return errors.New("the proxy does not speak HTTP")
	}
	_ = answer.Body.Close()
	if answer.StatusCode/100 != 2 {
		return fmt.Errorf("the proxy answers %s", strings.TrimSpace(answer.Status))
	}
	return nil
}
