package api

import (
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/url"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/engine/people"
)

// stateCookie holds the state of a sign-in at an OpenID issuer while somebody is there. It is
// sent along when they come back from another site, as the session never is.
const stateCookie = "readyferry-openid"

// openOpenID sends a browser to the issuer.
func (s *Server) openOpenID(c *gin.Context) error {
	if s.openID == nil || s.people == nil {
		return bad("nobody signs in by an OpenID issuer here")
	}
	if err := s.mayType(c); err != nil {
		return err
	}
	back := *s.reachedAt(c.Request)
	back.Path = "/api/v1/openid/back"
	to, state, err := s.openID.Begin(c.Request.Context(), back.String(), s.now())
	if err != nil {
		return err
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: stateCookie, Value: state, Path: "/api/v1/openid", MaxAge: 600,
		HttpOnly: true,
		Secure:   s.secure(c.Request), SameSite: http.SameSiteLaxMode})
	c.Redirect(http.StatusSeeOther, to)
	return nil
}

// openIDBack is where the browser comes back to.
func (s *Server) openIDBack(c *gin.Context) error {
	if s.openID == nil || s.people == nil {
		return bad("nobody signs in by an OpenID issuer here")
	}
	held, _ := c.Cookie(stateCookie)
	http.SetCookie(c.Writer, &http.Cookie{Name: stateCookie, Path: "/api/v1/openid", MaxAge: -1})
	if no := c.Query("error"); no != "" {
		c.Redirect(http.StatusSeeOther, "/sign-in?"+url.Values{"said": {"the issuer says: " + clip(no, 200)}}.Encode())
		return nil
	}
	token, w, err := s.people.ByOpenID(c.Request.Context(), s.openID, c.Query("state"), held, c.Query("code"),
		s.arrival(c), s.session(c))
	name := ""
	if w != nil {
		name = w.Name
	}
	s.jot(c, "openIDBack", name, err)
	if err != nil {
		c.Redirect(http.StatusSeeOther, "/sign-in?"+url.Values{"said": {clip(err.Error(), 300)}}.Encode())
		return nil
	}
	s.setSession(c, token)
	c.Redirect(http.StatusSeeOther, "/flows")
	return nil
}

// rp gives the host and origin that a passkey is bound to.
func (s *Server) rp(c *gin.Context) (host, origin string) {
	u := s.reachedAt(c.Request)
	return u.Hostname(), u.String()
}

// beginPasskey asks a browser for whatever passkey it has for this host.
func (s *Server) beginPasskey(c *gin.Context) error {
	if err := s.signable(c); err != nil {
		return err
	}
	host, origin := s.rp(c)
	options, id, err := s.passkeys.SignIn(host, origin)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"id": id, "options": options.Response})
}

// byPasskey lets somebody in whose device has answered.
func (s *Server) byPasskey(c *gin.Context) error {
	if err := s.signable(c); err != nil {
		return err
	}
	var in struct {
		ID     string          `json:"id"`
		Answer json.RawMessage `json:"answer"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	host, origin := s.rp(c)
	token, w, err := s.passkeys.SignedIn(c.Request.Context(), in.ID, in.Answer, host, origin, s.arrival(c), s.session(c))
	name := ""
	if w != nil {
		name = w.Name
	}
	s.jot(c, "byPasskey", name, err)
	if err != nil {
		return err
	}
	s.setSession(c, token)
	return reply(c, viewWho(w))
}

// ownKeys gives the passkeys, and whose they are: who is signed in, where that is a person.
func (s *Server) ownKeys(c *gin.Context) (*people.Passkeys, string, error) {
	if w := who(c); s.passkeys != nil && w.Kind == access.Person {
		return s.passkeys, w.Name, nil
	}
	return nil, "", bad("only a person who is signed in has passkeys")
}

func (s *Server) listPasskeys(c *gin.Context) error {
	k, name, err := s.ownKeys(c)
	if err != nil {
		return reply(c, []people.Passkey{}) // a key or a visitor has none
	}
	out, err := k.List(name)
	if err != nil {
		return err
	}
	return reply(c, out)
}

// makePasskey asks a browser to make one.
func (s *Server) makePasskey(c *gin.Context) error {
	k, name, err := s.ownKeys(c)
	if err != nil {
		return err
	}
	host, origin := s.rp(c)
	options, id, err := k.Register(name, host, origin)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"id": id, "options": options.Response})
}

// keepPasskey keeps what the device has made.
func (s *Server) keepPasskey(c *gin.Context) error {
	k, name, err := s.ownKeys(c)
	if err != nil {
		return err
	}
	var in struct {
		ID     string          `json:"id"`
		Title  string          `json:"title"`
		Answer json.RawMessage `json:"answer"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	host, origin := s.rp(c)
	if err := k.Registered(c.Request.Context(), name, in.ID, in.Title, in.Answer, host, origin); err != nil {
		return err
	}
	return done(c)
}

func (s *Server) dropPasskey(c *gin.Context) error {
	k, name, err := s.ownKeys(c)
	if err != nil {
		return err
	}
	id, err := base64.StdEncoding.DecodeString(c.Param("id"))
	if err != nil {
		return bad("the id of a passkey is its base64: %w", err)
	}
	if err := k.Drop(c.Request.Context(), name, id); err != nil {
		return err
	}
	return done(c)
}
