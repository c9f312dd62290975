package api

import (
	"errors"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
)

// Kept tells what is kept in step with a folder and is changed there alone; nil: nothing is.
type Kept interface {
	// Folder names the folder.
	Folder() string
	// Keeps tells of a thing that stands there; of a flow always.
	Keeps(kind, name string) bool
}

// errKept is what a change of something gets that is kept in a folder.
var errKept = errors.New("it is kept in step with a folder")

// notHere refuses a change of what is kept in a folder. Secrets are given here all the same,
// and what changes nothing is let through.
func (s *Server) notHere(c *gin.Context, n need) error {
	if s.kept == nil || c.Request.Method == http.MethodGet ||
		!slices.Contains(n.rights, access.Design) && !slices.Contains(n.rights, access.Publish) {
		return nil
	}
	route := c.FullPath()
	for _, harmless := range []string{"/try", "/sign-in", "/guess", "/alarm-rule-tries"} {
		if strings.HasSuffix(route, harmless) {
			return nil
		}
	}
	kind, name := "", c.Param("name")
	if c.Request.Method == http.MethodPost && strings.HasSuffix(route, "/publish") && s.engine.Design.IsAsked(name) {
		return nil // the folder has asked for a second person
	}
	switch {
	case strings.HasPrefix(route, v1+"/flows/"), strings.HasPrefix(route, v1+"/transactions/"),
		strings.HasSuffix(route, "/import") &&
			name == "":
		kind = access.Flow
	case strings.HasPrefix(route, v1+"/connections/"):
		if c.Request.Method == http.MethodPut {
			return nil // the handler looks whether it is the secret alone
		}
		kind = access.Connection
	case strings.HasPrefix(route, v1+"/tables/"):
		kind = access.Table
	case strings.HasPrefix(route, v1+"/calendars/"):
		kind = "calendar"
	case strings.HasPrefix(route, v1+"/alarm-rules/"):
		kind = "alarm"
	}
	if kind == "" || !s.kept.Keeps(kind, name) {
		return nil
	}
	return errKept
}

// onlySecret refuses a connection that is kept in a folder and is to be another here.
func (s *Server) onlySecret(name string, document []byte) error {
	if s.kept == nil || !s.kept.Keeps(access.Connection, name) || s.engine.Design.SameButSecret(name, document) {
		return nil
	}
	return errKept
}
