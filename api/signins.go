package api

import (
	"net/http"
	"net/url"

	"github.com/gin-gonic/gin"
)

// beginSignIn sends a person to the system of a connection, to sign in there.
func (s *Server) beginSignIn(c *gin.Context) error {
	back := *s.reachedAt(c.Request)
	back.Path = "/api/v1/sign-in"
	address, err := s.engine.Design.BeginSignIn(c.Request.Context(), c.Param("name"), back.String())
	if err != nil {
		return err
	}
	return reply(c, gin.H{"address": address})
}

// endSignIn is where that person's browser comes back to.
func (s *Server) endSignIn(c *gin.Context) error {
	name, err := s.engine.Design.EndSignIn(c.Request.Context(), c.Query("state"), c.Query("code"))
	if name == "" && err != nil {
		return err
	}
	said := "signed in"
	if err != nil {
		if said = err.Error(); c.Query("error") != "" {
			said = "not signed in: " + c.Query("error") + " " + c.Query("error_description")
		}
	}
	to := url.URL{Path: "/connections", RawQuery: url.Values{"open": {name}, "said": {said}}.Encode()}
	c.Redirect(http.StatusSeeOther, to.String())
	return nil
}
