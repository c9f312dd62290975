package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"readyferry/engine/design"
)

// forCallers tells what whoever sends messages to a flow has to know.
func (s *Server) forCallers(c *gin.Context) error {
	out, err := s.engine.Design.ForCallers(c.Param("name"), c.Request.Host)
	if err != nil {
		return err
	}
	return reply(c, out)
}

// contractOut gives a flow as a contract that its callers can read with their own tools.
func (s *Server) contractOut(write func(f *design.ForCallers, base string) map[string]any, file string) handler {
	return func(c *gin.Context) error {
		f, err := s.engine.Design.ForCallers(c.Param("name"), c.Request.Host)
		if err != nil {
			return err
		}
		scheme := "http"
		if c.Request.TLS != nil || c.GetHeader("X-Forwarded-Proto") == "https" {
			scheme = "https"
		}
		c.Header("Content-Disposition", `attachment; filename="`+f.Flow+"."+file+`.json"`)
		c.IndentedJSON(http.StatusOK, write(f, scheme+"://"+c.Request.Host))
		return nil
	}
}
