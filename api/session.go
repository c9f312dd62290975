package api

import (
	"errors"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/engine/people"
)

func (s *Server) now() time.Time { return time.Now().UTC() }

// cookie names the cookie that holds a session. Over TLS the browser itself holds it to this
// host (RFC 6265bis, 4.1.3.2); over loopback the port does, as two applications may run here.
func (s *Server) cookie(r *http.Request) string {
	if s.secure(r) {
		return "__Host-readyferry"
	}
	_, port, _ := strings.Cut(r.Host[strings.LastIndex(r.Host, "]")+1:], ":")
	return "readyferry-" + port
}

// session gives the session that a browser presents; "" for none.
func (s *Server) session(c *gin.Context) string {
	k, err := c.Request.Cookie(s.cookie(c.Request))
	if err != nil {
		return ""
	}
	return k.Value
}

// setSession gives a browser its session, or takes it away.
func (s *Server) setSession(c *gin.Context, token string) {
	k := &http.Cookie{Name: s.cookie(c.Request), Value: token, Path: "/", HttpOnly: true, Secure: s.secure(c.Request),
		SameSite: http.SameSiteStrictMode}
	if token == "" {
		k.MaxAge = -1
	}
	http.SetCookie(c.Writer, k)
}

// mayType refuses passwords over a line that others can read: without TLS they are taken on
// this machine alone.
func (s *Server) mayType(c *gin.Context) error {
	host := hostname(c.Request.Host)
	if s.secure(c.Request) || s.door.Loopback && (host == "localhost" || host == "127.0.0.1" || host == "::1") {
		return nil
	}
	return errNoTLS
}

var errNoTLS = errors.New("passwords are taken over TLS only: call the application by https, or on its own machine as localhost; it " +
	"is started with --tls-cert and --tls-key, or --public-url where a proxy speaks TLS for it")

type whoView struct {
	Name    string              `json:"name"`
	Title   string              `json:"title"`
	Kind    access.Kind         `json:"kind"`
	Grants  []access.Grant      `json:"grants"`
	Rights  []access.Right      `json:"rights"`     // held for something
	All     []access.Right      `json:"everywhere"` // held for everything
	Keys    []access.KeyRight   `json:"keyRights"`
	Areas   map[string][]string `json:"areas"` // by right; * for everywhere
	Session string              `json:"session"`
	Changed *time.Time          `json:"changed"` // the way to sign in, since the time before
}

func viewWho(w *access.Who) *whoView {
	if w == nil {
		return nil
	}
	v := &whoView{Name: w.Name, Title: w.Title, Kind: w.Kind, Grants: w.Grants, Keys: w.Rights,
		Rights: []access.Right{},
		All:    []access.Right{}, Areas: map[string][]string{}, Session: w.Session}
	if !w.Changed.IsZero() {
		v.Changed = &w.Changed
	}
	if v.Grants == nil {
		v.Grants = []access.Grant{}
	}
	if v.Keys == nil {
		v.Keys = []access.KeyRight{}
	}
	for _, r := range access.Rights() {
		if w.Anywhere(r) {
			v.Rights = append(v.Rights, r)
			v.Areas[string(r)] = w.Areas(r)
		}
		if w.Everywhere(r) {
			v.All = append(v.All, r)
		}
	}
	return v
}

// whoAmI says who is signed in, and what a browser has to do where nobody is.
func (s *Server) whoAmI(c *gin.Context) error {
	type view struct {
		Who *whoView `json:"who"`
		// Needs is what has to be done first: nothing, sign-in, or first-owner.
		Needs  string     `json:"needs"`
		Demo   []*whoView `json:"demo"`   // as whom a visitor of the demo may look at it
		Folder string     `json:"folder"` // that flows are kept in step with; "" for none
		OpenID string     `json:"openId"` // what the issuer is called; "" for none
		Fleet  string     `json:"fleet"`  // that this is the leading member of; "" for none
	}
	out := view{Needs: "nothing", Demo: []*whoView{}}
	if s.kept != nil {
		out.Folder = s.kept.Folder()
	}
	if s.fleet != nil {
		out.Fleet = s.fleet.Name()
	}
	w, err := s.whoIs(c)
	switch {
	case errors.Is(err, people.ErrNotSignedIn):
		out.Needs = "sign-in"
		none, err := s.people.None()
		if err != nil {
			return err
		}
		if none {
			out.Needs = "first-owner"
		}
	case err != nil && !errors.Is(err, errNoProof):
		return err
	}
	out.Who = viewWho(w)
	if s.openID != nil {
		out.OpenID = hostname(strings.TrimPrefix(strings.TrimPrefix(s.openID.Issuer, "https://"), "http://"))
		out.OpenID, _, _ = strings.Cut(out.OpenID, "/")
	}
	if s.visiting != nil {
		for i := range s.visiting.as {
			out.Demo = append(out.Demo, viewWho(&s.visiting.as[i]))
		}
	}
	return reply(c, out)
}

// address gives the address that a call is from, without its port.
func (s *Server) address(c *gin.Context) string {
	from := s.from(c)
	if host, _, err := net.SplitHostPort(from); err == nil {
		return host
	}
	return from
}

func (s *Server) arrival(c *gin.Context) people.Arrival {
	return people.Arrival{From: s.address(c), Agent: c.Request.UserAgent()}
}

// signIn lets somebody in by name and password.
func (s *Server) signIn(c *gin.Context) error {
	if err := s.signable(c); err != nil {
		return err
	}
	var in struct {
		Name     string `json:"name"`
		Password string `json:"password"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	token, w, err := s.people.SignIn(c.Request.Context(), in.Name, in.Password, s.arrival(c), s.session(c))
	s.jot(c, "signIn", people.NameOf(in.Name), err)
	if err != nil {
		return err
	}
	s.setSession(c, token)
	return reply(c, viewWho(w))
}

// signable tells whether anybody can sign in here, and whether this request may.
func (s *Server) signable(c *gin.Context) error {
	if s.people == nil {
		return bad("nobody signs in here")
	}
	return s.mayType(c)
}

// signOut ends the session of the browser.
func (s *Server) signOut(c *gin.Context) error {
	if s.people != nil {
		if err := s.people.SignOut(c.Request.Context(), s.session(c)); err != nil {
			return err
		}
	}
	s.setSession(c, "")
	c.Header("Clear-Site-Data", `"cache"`)
	return done(c)
}

// comeIn uses a link by which somebody chooses a password.
func (s *Server) comeIn(c *gin.Context) error {
	if err := s.signable(c); err != nil {
		return err
	}
	var in struct {
		Link     string `json:"link"`
		Name     string `json:"name"`
		Title    string `json:"title"`
		Password string `json:"password"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	w, err := s.people.Come(c.Request.Context(), in.Link, in.Name, in.Title, in.Password)
	if err != nil {
		s.jot(c, "comeIn", people.NameOf(in.Name), err)
		return err
	}
	s.jot(c, "comeIn", w.Name, nil)
	token, w, err := s.people.Enter(c.Request.Context(), w.Name, s.arrival(c), s.session(c))
	if err != nil {
		return err
	}
	s.setSession(c, token)
	return reply(c, viewWho(w))
}

// invited tells for whom a link is good.
func (s *Server) invited(c *gin.Context) error {
	var in struct {
		Link string `json:"link"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if s.people == nil {
		return people.ErrLink
	}
	name, err := s.people.Invited(in.Link)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"name": name})
}

// passwordStrength says how good a new password would be, to whoever may choose one: who is
// signed in, or has a link.
func (s *Server) passwordStrength(c *gin.Context) error {
	var in struct {
		Link     string `json:"link"`
		Name     string `json:"name"`
		Title    string `json:"title"`
		Password string `json:"password"`
	}
	if err := s.mayType(c); err != nil {
		return err
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if s.people == nil {
		return people.ErrLink
	}
	if w, err := s.whoIs(c); err == nil && w.Kind == access.Person && in.Link == "" {
		in.Name, in.Title = w.Name, w.Title
	} else if name, err := s.people.Invited(in.Link); err != nil {
		return err
	} else if name != "" {
		in.Name = name
	}
	of1, wrong, err := s.people.Strength(c.Request.Context(), in.Password, in.Name, in.Title)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"strength": of1, "wrong": wrong})
}

// changePassword sets another password for who is signed in.
func (s *Server) changePassword(c *gin.Context) error {
	if err := s.signable(c); err != nil {
		return err
	}
	var in struct {
		Old string `json:"old"`
		New string `json:"new"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	w := who(c)
	if w.Kind != access.Person {
		return bad("only a person who is signed in has a password")
	}
	if err := s.people.Change(c.Request.Context(), w.Name, in.Old, in.New, w.Session); err != nil {
		return err
	}
	token, _, err := s.people.Enter(c.Request.Context(), w.Name, s.arrival(c), s.session(c))
	if err != nil {
		return err
	}
	s.setSession(c, token)
	return done(c)
}

// sessions lists where who calls is signed in.
func (s *Server) sessions(c *gin.Context) error {
	out := []people.Open{}
	if w := who(c); w.Kind == access.Person {
		var err error
		if out, err = s.people.Sessions(w.Name); err != nil {
			return err
		}
	}
	return reply(c, out)
}

// endSession ends one of one's own sessions, or with all of them but this one.
func (s *Server) endSession(c *gin.Context) error {
	w := who(c)
	if w.Kind != access.Person {
		return bad("only a person who is signed in has sessions")
	}
	which := c.Param("id")
	if which == "others" {
		which = ""
	}
	if err := s.people.End(c.Request.Context(), w.Name, which, w.Session); err != nil {
		return err
	}
	return done(c)
}

// demoVisitors are those as whom a demo may be looked at.
type demoVisitors struct{ as []access.Who }

// demoCookie says as whom.
const demoCookie = "readyferry-as"

// visitor gives as whom a browser looks at the demo; the first where it does not say.
func (d *demoVisitors) visitor(c *gin.Context, from string) *access.Who {
	out := d.as[0]
	if k, err := c.Request.Cookie(demoCookie); err == nil {
		if i := slices.IndexFunc(d.as, func(w access.Who) bool { return w.Name == k.Value }); i >= 0 {
			out = d.as[i]
		}
	}
	out.From = from
	return &out
}

// lookAs lets a visitor of the demo look at it as somebody else.
func (s *Server) lookAs(c *gin.Context) error {
	var in struct {
		Name string `json:"name"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if !slices.ContainsFunc(s.visiting.as, func(w access.Who) bool { return w.Name == in.Name }) {
		return bad("there is nobody named %q in the demo", in.Name)
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: demoCookie, Value: in.Name, Path: "/", HttpOnly: true,
		SameSite: http.SameSiteStrictMode})
	return done(c)
}

// comeAgain says in how many seconds it may be tried again.
func comeAgain(until, now time.Time) string {
	return strconv.Itoa(max(1, int(until.Sub(now)/time.Second)+1))
}
