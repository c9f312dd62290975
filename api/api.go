// Package api serves the HTTP interface: webhooks, the interface that the
// browser and scripts use, stand-ins and the web application. It translates
// between HTTP and the engine and decides nothing.
//
// Every handler gives an error or answers; fail turns errors into problem documents
// (RFC 9457) in one place: what was not found is 404, what changed meanwhile 412,
// what is still in use 409, what cannot be decided so 422, what cannot be read 400.
// Reading goes through engine/watch, changing through engine/design, perform and
// the journal; the store is out of reach. openapi.yaml describes exactly the routes
// that there are, and every answer in the tests is held against it.
package api

import (
	"context"
	"io/fs"
	"log/slog"
	"net/http"
	"regexp"
	"strings"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/engine"
	"readyferry/engine/people"
	"readyferry/runner/hub"
	"readyferry/standin"
)

// Server answers requests.
type Server struct {
	engine     *engine.Engine
	standIns   *standin.Set
	web        fs.FS
	log        *slog.Logger
	loadDemo   func() error
	door       Door
	people     *people.People // nil: nobody signs in, and everybody may do everything
	passkeys   *people.Passkeys
	openID     *people.OpenID // nil: there is no issuer
	visiting   *demoVisitors  // nil: this is no demo
	kept       Kept           // nil: everything is changed here
	runners    *hub.Hub       // nil: there are none
	fleet      Fleet          // nil: it is one alone
	settle     func(context.Context)
	handOver   func(partition int, w http.ResponseWriter, r *http.Request)
	parameters parameters
	visitors   visitors
	refusals   refusals
	looks      looks
}

// Config is what a server needs.
type Config struct {
	Engine   *engine.Engine
	StandIns *standin.Set
	Web      fs.FS        // the built web application
	LoadDemo func() error // loads the demo's documents
	// People are who sign in; nil: nobody does, and everybody may do everything.
	People *people.People
	// OpenID is an issuer by whom people may sign in, too; nil: there is none.
	OpenID *people.OpenID
	// Demo lets visitors in who do not sign in, as one of these.
	Demo []access.Who
	// Kept is what is changed in a folder alone; nil: nothing is.
	Kept Kept
	// Fleet is the fleet that this is the leading member of; nil: it is one alone.
	Fleet Fleet
	// HandOver answers a call whose message belongs to another partition of the fleet; nil: there is one.
	HandOver func(partition int, w http.ResponseWriter, r *http.Request)
	// Settle waits until what was designed just now counts in all partitions; nil: there is one.
	Settle func(context.Context)
	// Runners are those beyond firewalls; nil: there are none.
	Runners *hub.Hub
	Door    Door
	Log     *slog.Logger
}

// New makes the handler of everything.
func New(c Config) http.Handler {
	if c.Door.Itself {
		return newServer(c).handler(partMessages)
	}
	return newServer(c).handler(partAll)
}

// Split makes two handlers: of what people and scripts use, and of what callers of flows
// and queues do, for an address of its own.
func Split(c Config) (application, messages http.Handler) {
	s := newServer(c)
	return s.handler(partApplication), s.handler(partMessages)
}

func newServer(c Config) *Server {
	s := &Server{
		engine:   c.Engine,
		standIns: c.StandIns,
		web:      c.Web,
		log:      c.Log,
		loadDemo: c.LoadDemo,
		door:     c.Door,
		people:   c.People,
		openID:   c.OpenID,
		kept:     c.Kept,
		runners:  c.Runners,
		handOver: c.HandOver,
		settle:   c.Settle,
		fleet:    c.Fleet,
	}
	if c.People != nil {
		s.passkeys = people.NewPasskeys(c.People)
	}
	if c.Demo != nil {
		s.visiting = &demoVisitors{c.Demo}
	}
	s.parameters = described()
	return s
}

func (s *Server) handler(part string) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	s.trust(r)
	r.HandleMethodNotAllowed = true
	r.UseRawPath, r.UnescapePathValues = true, true
	r.Use(s.recover, s.guard, s.bodies)
	for _, route := range s.routes() {
		if inPart(part, route.path) {
			r.Handle(route.method, route.path, s.answer(route))
		}
	}
	if inPart(part, "/in/") {
		r.Any("/in/*path", s.intake)
	}
	if part != partApplication && s.ownStandIns() {
		r.Any("/stand-ins/:name", s.standInCall)
		r.Any("/stand-ins/:name/*path", s.standInCall)
	}
	r.NoRoute(s.elsewhere(part))
	r.NoMethod(func(c *gin.Context) {
		problem(
			c,
			http.StatusMethodNotAllowed,
			"This address does not take "+c.Request.Method,
			"see /api/openapi.json for what it takes",
			nil,
		)
	})
	return compressed(r)
}

// inPart tells whether a path is served by a part.
func inPart(part, path string) bool {
	switch {
	case part == partAll, path == "/healthz":
		return true
	case strings.HasPrefix(path, "/in/"), strings.HasPrefix(path, "/out/"):
		return part == partMessages
	}
	return part == partApplication
}

// ownStandIns tells whether the simulated systems answer at the address of the interface:
// they are for this machine alone.
func (s *Server) ownStandIns() bool { return s.door.Loopback && s.door.Public == nil }

// trust has the word of named proxies taken, and of nobody else, about where a call is from.
func (s *Server) trust(r *gin.Engine) {
	var named []string
	for _, p := range s.door.Proxies {
		named = append(named, p.String())
	}
	if err := r.SetTrustedProxies(named); err != nil {
		panic(err) // they were read as prefixes
	}
}

// elsewhere answers what no route takes: a page of the application where those are served.
func (s *Server) elsewhere(part string) gin.HandlerFunc {
	if part != partMessages {
		return func(c *gin.Context) {
			if ofMessages(c.Request.URL.Path) {
				problem(c, http.StatusNotFound, "There is nothing here", "webhooks and queues have another address here", nil)
				return
			}
			s.page(c)
		}
	}
	return func(c *gin.Context) {
		problem(c, http.StatusNotFound, "There is nothing here",
			"callers find webhooks below /in and queues below /out here; the "+
				"application itself has another address", nil)
	}
}

// designed are the addresses at which something is changed that all partitions of a fleet work by.
var designed = regexp.MustCompile(`^` + v1 + `/(flows/:name(/publish|/pause|/resume|/live|/revoke)?|connections/:name|tables/.*|calendars/:name|` +
	`keys/:name|targets/:name/(hold|release)|outbound|import|demo)$`)

// designs tells whether a route changes what all partitions work by.
func (r *route) designs() bool { return r.method != http.MethodGet && designed.MatchString(r.path) }

type route struct {
	method, path string
	handle       handler
	need         need
}

// A handler answers one request, or says why not; the error becomes a problem
// document in one place, fail.
type handler func(c *gin.Context) error

func (s *Server) answer(r route) gin.HandlerFunc {
	return func(c *gin.Context) {
		err := s.permit(c, r.need)
		if err == nil {
			err = s.parameters.known(c)
		}
		if err == nil {
			v := s.veil(c)
			if err = s.looked(c, r); err == nil {
				err = s.written(c, r)
			}
			if err == nil && s.settle != nil && r.designs() {
				s.settle(c.Request.Context())
			}
			if err != nil {
				s.refused(c, err)
				s.fail(c, err)
				err = nil
			}
			err = v.end()
		}
		if err != nil {
			s.refused(c, err)
			s.fail(c, err)
		}
	}
}

// reply answers with a value as JSON.
func reply(c *gin.Context, v any) error {
	c.JSON(http.StatusOK, v)
	return nil
}

// done answers that there is nothing more to say.
func done(c *gin.Context) error {
	c.Status(http.StatusNoContent)
	return nil
}

// recover turns a panic into a problem document and a line in the log.
func (s *Server) recover(c *gin.Context) {
	defer func() {
		switch r := recover(); {
		case r == nil:
		case r == http.ErrAbortHandler:
			panic(r)
		default:
			s.failed(c, r)
		}
	}()
	c.Next()
}
