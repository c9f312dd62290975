package api

import (
	"net/http"
	"net/url"

	"github.com/gin-gonic/gin"

	"readyferry/engine/design"
)

// forCallers tells what whoever sends messages to a flow has to know.
func (s *Server) forCallers(c *gin.Context) error {
	out, err := s.forThem(c)
	if err != nil {
		return err
	}
	return reply(c, out)
}

// contractOut gives a flow as a contract that its callers can read with their own tools.
func (s *Server) contractOut(write func(f *design.ForCallers, base string) map[string]any, file string) handler {
	return func(c *gin.Context) error {
		f, err := s.forThem(c)
		if err != nil {
			return err
		}
		c.Header("Content-Disposition", `attachment; filename="`+f.Flow+"."+file+`.json"`)
		c.IndentedJSON(http.StatusOK, write(f, f.Address))
		return nil
	}
}

func (s *Server) forThem(c *gin.Context) (*design.ForCallers, error) {
	at := s.callersAt(c.Request)
	f, err := s.engine.Design.ForCallers(c.Param("name"), at.Host)
	if f != nil {
		f.Address = at.String()
	}
	return f, err
}

// callersAt gives the address by which callers reach webhooks and queues.
func (s *Server) callersAt(r *http.Request) *url.URL {
	if s.door.Messages != nil {
		return s.door.Messages
	}
	return s.reachedAt(r)
}

// reachedAt gives the address by which people reach the application.
func (s *Server) reachedAt(r *http.Request) *url.URL {
	if s.door.Public != nil {
		return s.door.Public
	}
	scheme := "http"
	if s.secure(r) {
		scheme = "https"
	}
	return &url.URL{Scheme: scheme, Host: r.Host}
}
