package api

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/flow"
	"readyferry/core/run"
	"readyferry/engine"
	"readyferry/engine/catalog"
	"readyferry/engine/design"
	"readyferry/engine/people"
	"readyferry/standin"
)

// Problem is an error as RFC 9457 has it.
type Problem struct {
	Type     string         `json:"type"`
	Title    string         `json:"title"`
	Status   int            `json:"status"`
	Detail   string         `json:"detail"`
	Findings []flow.Finding `json:"findings,omitempty"`
}

func problem(c *gin.Context, status int, title, detail string, findings []flow.Finding) {
	body, _ := json.Marshal(Problem{"about:blank", title, status, detail, findings})
	c.Data(status, "application/problem+json", body)
}

// fail answers an error of the engine or the store. It answers also where the call is given up: most often
// nobody listens any more, but a call that another member of a fleet has handed over is given up when this
// one stops, and what is not answered there would be a success.
func (s *Server) fail(c *gin.Context, err error) {
	switch {
	case errors.Is(err, context.Canceled) && c.Request.Context().Err() != nil:
		err = &run.RefusedError{
			Status: http.StatusServiceUnavailable,
			Title:  "The call was given up",
			Detail: "nobody knows whether it was done; send it again later",
		}
	case errors.Is(err, context.Canceled) || errors.Is(err, engine.ErrClosed):
		err = &run.RefusedError{
			Status: http.StatusServiceUnavailable,
			Title:  "The application stops",
			Detail: "it was not done; ask again after the next start",
		}
	}
	var refused *run.RefusedError
	var findings *design.FindingsError
	var unexpected *design.UnexpectedError
	var tooLarge *http.MaxBytesError
	var locked *people.LockedError
	switch {
	case errors.As(err, &refused):
		switch after := refused.RetrySeconds(); {
		case after > 0:
			c.Header("Retry-After", strconv.Itoa(after))
		case refused.Status == http.StatusServiceUnavailable:
			c.Header("Retry-After", "60")
		case refused.Status == http.StatusTooManyRequests:
			c.Header("Retry-After", "2")
		}
		if refused.Status == http.StatusUnauthorized {
			c.Header("WWW-Authenticate", "Key")
		}
		problem(c, refused.Status, refused.Title, refused.Detail, nil)
	case errors.As(err, &findings):
		problem(c, http.StatusUnprocessableEntity, upper(findings.What), findings.Error(), findings.Findings)
	case errors.Is(err, people.ErrNotSignedIn):
		c.Header("WWW-Authenticate", `Bearer realm="Ready Ferry"`)
		problem(c, http.StatusUnauthorized, "Nobody is signed in", "people sign in at "+s.reachedAt(c.Request).String()+
			"/sign-in; programs send a key as Authorization: Bearer key or as X-Api-Key, which an owner makes under Keys", nil)
	case errors.Is(err, people.ErrWrong):
		problem(c, http.StatusUnauthorized, "That did not work",
			"name or password is not right; who has forgotten it asks an "+
				"owner for a link", nil)
	case errors.As(err, &locked):
		c.Header("Retry-After", comeAgain(locked.Until, s.now()))
		problem(c, http.StatusTooManyRequests, "It was tried too often",
			"nobody is let in until "+locked.Until.UTC().Format(time.RFC3339)+"; an owner can unlock an account", nil)
	case errors.Is(err, people.ErrLink):
		problem(c, http.StatusGone, "The link is not good any more",
			"it was used, is too old, or another was made since; ask an "+
				"owner for a new one", nil)
	case errors.Is(err, people.ErrRule):
		problem(c, http.StatusUnprocessableEntity, "This cannot be done", strings.TrimPrefix(err.Error(),
			people.ErrRule.Error()+": "), nil)
	case errors.Is(err, errNotPermitted), errors.Is(err, errNoProof), errors.Is(err, errNoTLS):
		problem(c, http.StatusForbidden, "You may not do this", err.Error(), nil)
	case errors.Is(err, catalog.ErrNoKey):
		problem(c, http.StatusUnauthorized, "No key was given that is known here",
			"send one as Authorization: Bearer key, or as X-Api-Key; an owner makes keys under Keys", nil)
	case errors.Is(err, catalog.ErrNotPermitted):
		problem(c, http.StatusForbidden, "The key does not permit this", err.Error(), nil)
	case errors.Is(err, engine.ErrNotFound), errors.Is(err, standin.ErrNotFound):
		problem(c, http.StatusNotFound, "There is nothing here", "no such thing: "+c.Request.URL.Path, nil)
	case errors.Is(err, engine.ErrConflict):
		problem(
			c,
			http.StatusPreconditionFailed,
			"It has changed since it was read",
			"read it again and repeat the change: "+err.Error(),
			nil,
		)
	case errors.As(err, &unexpected):
		problem(c, http.StatusConflict, "Samples are not as expected", err.Error(), nil)
	case errors.Is(err, engine.ErrInUse):
		problem(c, http.StatusConflict, "It is still in use", err.Error(), nil)
	case errors.Is(err, errKept):
		problem(c, http.StatusConflict, "It is kept in a folder",
			"what runs here is kept in step with the folder "+s.kept.Folder()+"; change it there", nil)
	case errors.As(err, new(*catalog.AreaError)):
		problem(c, http.StatusUnprocessableEntity, "This cannot be done", err.Error(), nil)
	case errors.Is(err, engine.ErrDecision), errors.Is(err, design.ErrWord):
		problem(c, http.StatusUnprocessableEntity, "This cannot be done", err.Error(), nil)
	case errors.As(err, &tooLarge):
		problem(
			c,
			http.StatusRequestEntityTooLarge,
			"The body is too large",
			fmt.Sprintf("at most %d bytes are read here", tooLarge.Limit),
			nil,
		)
	case errors.Is(err, errSlow):
		c.Header("Connection", "close")
		problem(c, http.StatusRequestTimeout, "The body came too slowly", err.Error(), nil)
	case errors.Is(err, errBadRequest):
		problem(c, http.StatusBadRequest, "The request cannot be read", err.Error(), nil)
	default:
		s.failed(c, err)
	}
}

// failed answers what should not have happened: whoever runs the application finds in its log what
// it was, by a reference that whoever asked is given in its place.
func (s *Server) failed(c *gin.Context, why any) {
	reference := rand.Text()[:8]
	s.log.Error("a request failed", "path", c.Request.URL.Path, "reference", reference, "error", fmt.Sprint(why))
	problem(c, http.StatusInternalServerError, "The request failed",
		"this should not have happened; the log of the application says more, under the reference "+reference, nil)
}

var errBadRequest = errors.New("the request is not as expected")

func bad(format string, args ...any) error {
	return fmt.Errorf("%w: %w", errBadRequest, fmt.Errorf(format, args...))
}

func upper(s string) string { return strings.ToUpper(s[:1]) + s[1:] }
