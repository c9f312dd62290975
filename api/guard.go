package api

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"
)

// Door is how the interface is reached, and by whom.
type Door struct {
	// Loopback tells that only this machine can reach the server.
	Loopback bool
	// Public is the address by which people and callers reach it; nil: the one that it
	// listens at.
	Public *url.URL
	// Messages is the address by which callers reach webhooks and queues, where that is another.
	Messages *url.URL
	// Hosts are further names by which it may be called.
	Hosts []string
	// Proxies are those whose word about a caller's address and scheme is taken.
	Proxies []netip.Prefix
	// Open are those of healthz and metrics that answer without sign-in.
	Open []string
	// Itself tells that this is the address of the application's own calls: it serves webhooks
	// and stand-ins alone, over loopback.
	Itself bool
	// Secure tells that the listener speaks TLS itself.
	Secure bool
	// Members tells that the words in which members of a fleet speak to each other are said by them alone.
	Members bool
}

// The parts of the interface, which may listen at addresses of their own.
const (
	partAll         = "all"
	partApplication = "application" // everything but what callers and stand-ins use
	partMessages    = "messages"    // /in, /out and /healthz
)

// guard keeps foreign pages from using the interface through a browser: the name that it
// is called by must be one of its own (a page whose name was changed to this machine's
// address has another), and what changes something must come from its own pages, or from
// no page. It tells browsers to load nothing from elsewhere, and to take nothing that a
// message brought for a page of ours.
func (s *Server) guard(c *gin.Context) {
	path, h := c.Request.URL.Path, c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "same-origin")
	if s.door.Secure && s.door.Public != nil {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
	if why := s.foreign(c.Request, path); why != "" {
		problem(c, http.StatusForbidden, "This host name is not served", why, nil)
		c.Abort()
		return
	}
	if ofMessages(path) {
		c.Writer = &sealed{ResponseWriter: c.Writer}
		c.Next()
		return
	}
	h.Set("Content-Security-Policy", s.policy(c.Request))
	h.Set("X-Frame-Options", "DENY")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("Permissions-Policy", "camera=(), microphone=(), geolocation=(), payment=(), usb=()")
	if strings.HasPrefix(path, "/api/") {
		h.Set("Cache-Control", "no-store")
		c.Writer = &answered{ResponseWriter: c.Writer}
		if err := http.NewCrossOriginProtection().Check(c.Request); err != nil {
			problem(c, http.StatusForbidden, "A page of another site may not do this", err.Error(), nil)
			c.Abort()
			return
		}
	}
	c.Next()
}

// ofMessages tells of the addresses whose answers are made by flows and stand-ins.
func ofMessages(path string) bool {
	return strings.HasPrefix(path, "/in/") || strings.HasPrefix(path, "/out/") || strings.HasPrefix(path, "/stand-ins/")
}

// policy names the one place that scripts come from: the files that ship with the
// application, never what a flow answers on the same host.
func (s *Server) policy(r *http.Request) string {
	scripts := s.reachedBy(r) + "/assets/"
	return "default-src 'self'; script-src " + scripts + "; worker-src " + scripts +
		"; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'; object-src 'none'; " +
		"frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
}

// reachedBy gives scheme and host by which a request came.
func (s *Server) reachedBy(r *http.Request) string {
	if s.secure(r) {
		return "https://" + r.Host
	}
	return "http://" + r.Host
}

// secure tells whether a request came over TLS, to us or to a proxy that we trust.
func (s *Server) secure(r *http.Request) bool {
	return r.TLS != nil || r.Header.Get("X-Forwarded-Proto") == "https" && s.trusted(r.RemoteAddr) ||
		s.door.Public != nil && s.door.Public.Scheme == "https" && strings.EqualFold(r.Host, s.door.Public.Host)
}

func (s *Server) trusted(remote string) bool {
	a, err := netip.ParseAddrPort(remote)
	return err == nil && slices.ContainsFunc(s.door.Proxies,
		func(p netip.Prefix) bool { return p.Contains(a.Addr().Unmap()) })
}

// foreign says why a request came under a name that is not ours; "" where it is.
func (s *Server) foreign(r *http.Request, path string) string {
	name := hostname(r.Host)
	ip := net.ParseIP(name)
	switch {
	case s.door.Public != nil && strings.EqualFold(r.Host, s.door.Public.Host),
		slices.ContainsFunc(s.door.Hosts, func(h string) bool {
			return strings.EqualFold(h, name) || strings.EqualFold(h,
				r.Host)
		}):
		return ""
	case name == "localhost" || ip != nil && ip.IsLoopback():
		return ""
	case s.door.Loopback:
		return "the application listens on this machine only; call it as localhost or 127.0.0.1, or start it with " +
			"--public-url where a proxy stands before it"
	case ip != nil, ofMessages(path):
		return "" // nobody can give an address another meaning; callers may know us by any name
	}
	if own, err := os.Hostname(); err == nil && strings.EqualFold(own, name) {
		return ""
	}
	return fmt.Sprintf("it is not known as %q; start it with --public-url, or with --host for a further name", name)
}

// hostname takes the port and brackets off a host.
func hostname(host string) string {
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = host
	}
	return strings.TrimSuffix(strings.Trim(name, "[]"), ".")
}

// answered is an answer of the interface to programs: a browser that is led there keeps it as a
// file and shows no page, whatever stands in it.
type answered struct {
	gin.ResponseWriter
	named bool
}

func (w *answered) name() {
	h := w.Header()
	if w.named || h.Get("Content-Disposition") != "" {
		return
	}
	w.named = true
	if kind := h.Get("Content-Type"); strings.HasPrefix(kind, "application/json") || strings.HasPrefix(kind, "application/problem+json") {
		h.Set("Content-Disposition", `attachment; filename="api.json"`)
	}
}

// WriteHeaderNow implements gin.ResponseWriter.
func (w *answered) WriteHeaderNow() { w.name(); w.ResponseWriter.WriteHeaderNow() }

// Write implements io.Writer.
func (w *answered) Write(p []byte) (int, error) { w.name(); return w.ResponseWriter.Write(p) }

// WriteString implements io.StringWriter.
func (w *answered) WriteString(p string) (int, error) {
	w.name()
	return w.ResponseWriter.WriteString(p)
}

// Flush implements http.Flusher.
func (w *answered) Flush() { w.name(); w.ResponseWriter.Flush() }

// Unwrap lets http.ResponseController find what is below.
func (w *answered) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// sealed is the answer to a caller of a flow, a queue or a stand-in. It is made from
// messages, so a browser must never take it for a page of the application: it runs no
// script, belongs to no origin, and leaves nothing behind.
type sealed struct{ gin.ResponseWriter }

// ours are the headers that no flow decides, and what they are; "" for none at all.
var ours = map[string]string{
	"Content-Security-Policy": "sandbox; default-src 'none'; frame-ancestors 'none'",
	"X-Content-Type-Options":  "nosniff",
	// A flow's answer cannot take a person's session away or put another in its place, and
	// cannot bind the host for later.
	"Set-Cookie": "", "Clear-Site-Data": "", "Strict-Transport-Security": "", "Public-Key-Pins": "",
	"Service-Worker-Allowed": "", "Content-Security-Policy-Report-Only": "", "Refresh": "", "Sourcemap": "",
	"X-Sourcemap": "",
	"Nel":         "", "Report-To": "", "Reporting-Endpoints": "", "Alt-Svc": "", "Origin-Agent-Cluster": "",
}

func (w *sealed) seal() {
	if w.Written() {
		return
	}
	for name, value := range ours {
		if w.Header().Del(name); value != "" {
			w.Header().Set(name, value)
		}
	}
}

// WriteHeaderNow implements gin.ResponseWriter.
func (w *sealed) WriteHeaderNow() { w.seal(); w.ResponseWriter.WriteHeaderNow() }

// Write implements io.Writer.
func (w *sealed) Write(p []byte) (int, error) { w.seal(); return w.ResponseWriter.Write(p) }

// WriteString implements io.StringWriter.
func (w *sealed) WriteString(p string) (int, error) { w.seal(); return w.ResponseWriter.WriteString(p) }

// Flush implements http.Flusher.
func (w *sealed) Flush() { w.seal(); w.ResponseWriter.Flush() }

// Unwrap lets http.ResponseController find what is below.
func (w *sealed) Unwrap() http.ResponseWriter { return w.ResponseWriter }
