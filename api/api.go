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
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"readyferry/engine"
	"readyferry/engine/design"
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
	parameters parameters
	visitors   visitors
}

// Config is what a server needs.
type Config struct {
	Engine   *engine.Engine
	StandIns *standin.Set
	Web      fs.FS        // the built web application
	LoadDemo func() error // loads the demo's documents
	Door     Door
	Log      *slog.Logger
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
	}
	var err error
	if s.parameters, err = readParameters(openAPIText); err != nil {
		panic(err) // it ships with the program, and a test reads it
	}
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
			r.Handle(route.method, route.path, s.answer(route.handle))
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
		return s.page
	}
	return func(c *gin.Context) {
		problem(c, http.StatusNotFound, "There is nothing here", "callers find webhooks below /in and queues below /out here; the "+
			"application itself has another address", nil)
	}
}

type route struct {
	method, path string
	handle       handler
}

// A handler answers one request, or says why not; the error becomes a problem
// document in one place, fail.
type handler func(c *gin.Context) error

func (s *Server) answer(h handler) gin.HandlerFunc {
	return func(c *gin.Context) {
		err := s.parameters.known(c)
		if err == nil {
			err = h(c)
		}
		if err != nil {
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

// routes lists the interface; openapi.yaml describes exactly these.
func (s *Server) routes() []route {
	const v1 = "/api/v1"
	return []route{
		{"GET", "/healthz", s.health},
		{"GET", "/metrics", s.metrics()},
		{"GET", "/api/openapi.json", s.openAPI},
		{"GET", v1 + "/events", s.events},
		{"GET", v1 + "/reference", s.reference},
		{"GET", v1 + "/flow-schema", s.flowSchema},
		{"GET", v1 + "/schedule", s.schedule},
		{"POST", v1 + "/demo", s.demo},
		{"POST", v1 + "/eval", s.gated(s.eval)},
		{"POST", v1 + "/contracts", s.gated(s.contract)},
		{"POST", v1 + "/words", s.gated(s.words)},
		{"POST", v1 + "/forms", s.gated(s.forms)},
		{"POST", v1 + "/conditions", s.gated(s.condition)},

		{"GET", v1 + "/flows", s.flows},
		{"GET", v1 + "/flows/:name", s.flow},
		{"PUT", v1 + "/flows/:name", s.putFlow},
		{"DELETE", v1 + "/flows/:name", s.deleteFlow},
		{"POST", v1 + "/flows/:name/check", s.gated(s.checkFlow)},
		{"POST", v1 + "/flows/:name/publish", s.publish},
		{"POST", v1 + "/flows/:name/pause", s.pause(true)},
		{"POST", v1 + "/flows/:name/resume", s.pause(false)},
		{"POST", v1 + "/flows/:name/rehearse", s.gated(s.rehearse)},
		{"POST", v1 + "/flows/:name/follow", s.gated(s.follow)},
		{"POST", v1 + "/flows/:name/here", s.here},
		{"POST", v1 + "/flows/:name/analyse", s.gated(s.analyse)},
		{"POST", v1 + "/flows/:name/touched", s.gated(s.touched)},
		{"POST", v1 + "/flows/:name/reach", s.gated(s.reach)},
		{"POST", v1 + "/flows/:name/try", s.gated(s.tryForReal)},
		{"POST", v1 + "/flows/:name/make-up", s.gated(s.makeUp)},
		{"POST", v1 + "/flows/:name/comparisons", s.gated(s.compare)},
		{"GET", v1 + "/flows/:name/comparisons/:id", s.comparison},
		{"DELETE", v1 + "/flows/:name/comparisons/:id", s.stopComparison},
		{"GET", v1 + "/flows/:name/comparisons/:id/messages", s.compared},
		{"GET", v1 + "/flows/:name/comparisons/:id/messages/:transaction", s.sides},
		{"POST", v1 + "/flows/:name/infer", s.gated(s.infer)},
		{"POST", v1 + "/flows/:name/lines", s.gated(s.targetLines)},
		{"GET", v1 + "/flows/:name/clock", s.clock},
		{"POST", v1 + "/flows/:name/run", s.runNow},
		{"PUT", v1 + "/flows/:name/mark", s.putMark},
		{"GET", v1 + "/flows/:name/for-callers", s.forCallers},
		{"GET", v1 + "/flows/:name/openapi", s.contractOut((*design.ForCallers).OpenAPI, "openapi")},
		{"GET", v1 + "/flows/:name/asyncapi", s.contractOut((*design.ForCallers).AsyncAPI, "asyncapi")},
		{"POST", v1 + "/flows/:name/live", s.goLive},
		{"POST", v1 + "/flows/:name/revoke", s.revoke},
		{"GET", v1 + "/flows/:name/shared-out", s.sharedOut},
		{"GET", v1 + "/flows/:name/version-events", s.versionEvents},
		{"GET", v1 + "/flows/:name/versions", s.versions},
		{"GET", v1 + "/flows/:name/versions/:n", s.version},
		{"GET", v1 + "/flows/:name/files", s.files},
		{"GET", v1 + "/flows/:name/files/*file", s.file},
		{"PUT", v1 + "/flows/:name/files/*file", s.putFile},
		{"DELETE", v1 + "/flows/:name/files/*file", s.deleteFile},
		{"GET", v1 + "/flows/:name/samples", s.samples},
		{"POST", v1 + "/flows/:name/take-sample", s.takeSample},
		{"GET", v1 + "/flows/:name/samples/:sample", s.sample},
		{"POST", v1 + "/flows/:name/samples/:sample/send", s.sendSample},
		{"PUT", v1 + "/flows/:name/samples/:sample", s.putSample},
		{"DELETE", v1 + "/flows/:name/samples/:sample", s.deleteSample},

		{"GET", v1 + "/flows/:name/drill-facts", s.drillFacts},
		{"POST", v1 + "/drills", s.gated(s.drill)},

		{"GET", v1 + "/counts", s.counts},
		{"GET", v1 + "/troubles", s.troubles},
		{"GET", v1 + "/room", s.room},
		{"PUT", v1 + "/room", s.putRoom},
		{"GET", v1 + "/refused-callers", s.refusedCallers},
		{"GET", v1 + "/transactions", s.transactions},
		{"GET", v1 + "/transaction-filters", s.filters},
		{"GET", v1 + "/transaction-export", s.exportTransactions},
		{"GET", v1 + "/log", s.logLines},
		{"GET", v1 + "/alarms", s.alarms},
		{"PUT", v1 + "/alarms/:id/taken", s.takeAlarm},
		{"DELETE", v1 + "/alarms/:id/taken", s.leaveAlarm},
		{"GET", v1 + "/alarm-kinds", s.alarmKinds},
		{"GET", v1 + "/alarm-rules", s.alarmRules},
		{"PUT", v1 + "/alarm-rules/:name", s.putAlarmRule},
		{"DELETE", v1 + "/alarm-rules/:name", s.deleteAlarmRule},
		{"POST", v1 + "/alarm-rule-tries", s.gated(s.tryAlarmRule)},
		{"GET", v1 + "/alarm-notices", s.alarmNotices},
		{"GET", v1 + "/calendars", s.calendars},
		{"PUT", v1 + "/calendars/:name", s.putCalendar},
		{"DELETE", v1 + "/calendars/:name", s.deleteCalendar},
		{"POST", v1 + "/calendar-previews", s.gated(s.previewCalendar)},
		{"GET", v1 + "/views", s.views},
		{"PUT", v1 + "/views/:name", s.putView},
		{"DELETE", v1 + "/views/:name", s.deleteView},
		{"GET", v1 + "/transactions/:id", s.transaction},
		{"GET", v1 + "/transactions/:id/rehearsal", s.transactionRehearsal},
		{"GET", v1 + "/transactions/:id/messages", s.transactionMessages},
		{"POST", v1 + "/transactions/:id/sample", s.keepSample},
		{"GET", v1 + "/transactions/:id/journey", s.journey},
		{"GET", v1 + "/transactions/:id/like", s.like},
		{"GET", v1 + "/transactions/:id/beside/:other", s.beside},
		{"POST", v1 + "/deliveries/:id/try", s.tryNow},

		{"GET", v1 + "/dead-letters", s.deadLetters},
		{"GET", v1 + "/dead-letters/causes", s.causes},
		{"GET", v1 + "/dead-letters/:id", s.deadLetter},
		{"POST", v1 + "/dead-letters/resend", s.gated(s.resend)},
		{"POST", v1 + "/dead-letters/discard", s.discard},
		{"POST", v1 + "/dead-letters/restore", s.restore},
		{"POST", v1 + "/dead-letters/note", s.note},
		{"POST", v1 + "/dead-letters/assign", s.assign},
		{"POST", v1 + "/repair-previews", s.gated(s.previewRepair)},
		{"GET", v1 + "/repair-previews/:id", s.repairPreview},
		{"DELETE", v1 + "/repair-previews/:id", s.stopRepairPreview},
		{"GET", v1 + "/repair-previews/:id/letters", s.repairPreviewLetters},
		{"GET", v1 + "/repairs", s.repairs},
		{"POST", v1 + "/repairs", s.gated(s.beginRepair)},
		{"GET", v1 + "/repairs/:id", s.repair},
		{"GET", v1 + "/repairs/:id/items", s.repairItems},
		{"POST", v1 + "/repairs/:id/stop", s.setRepair("stop")},
		{"POST", v1 + "/repairs/:id/resume", s.setRepair("resume")},

		{"GET", v1 + "/queues", s.queues},
		{"GET", v1 + "/queues/:name/messages", s.peek},
		{"POST", v1 + "/queues/:name/pause", s.pauseQueue},
		{"POST", v1 + "/queues/:name/resume", s.resumeQueue},
		{"POST", v1 + "/queues/:name/move", s.moveMessages},
		{"POST", v1 + "/queues/:name/purge", s.purgeMessages},
		{"PUT", v1 + "/queues/:name", s.putQueue},

		{"POST", "/out/queues/:name", s.outPut},
		{"GET", "/out/queues/:name/messages", s.outLook},
		{"POST", "/out/queues/:name/take", s.outTake},
		{"POST", "/out/queues/:name/leases/:lease/done", s.outDone},
		{"POST", "/out/queues/:name/leases/:lease/back", s.outBack},
		{"POST", "/out/queues/:name/pause", s.outPause},
		{"POST", "/out/queues/:name/resume", s.outResume},
		{"POST", "/out/topics/:name", s.outPublish},
		{"GET", "/out/topics/:name/events", s.outEvents},
		{"POST", "/out/topics/:name/take", s.outTakeTopic},
		{"POST", "/out/topics/:name/leases/:lease/done", s.outDoneTopic},
		{"POST", "/out/topics/:name/leases/:lease/back", s.outBackTopic},
		{"GET", v1 + "/keys", s.keys},
		{"PUT", v1 + "/keys/:name", s.makeKey},
		{"DELETE", v1 + "/keys/:name", s.dropKey},

		{"GET", v1 + "/topics", s.topics},
		{"PUT", v1 + "/topics/:name", s.putTopic},
		{"GET", v1 + "/topics/:name/messages", s.topicMessages},
		{"POST", v1 + "/topics/:name/subscriptions/:subscription/rewind", s.rewind},
		{"DELETE", v1 + "/topics/:name/subscriptions/:subscription", s.unsubscribe},

		{"GET", v1 + "/times", s.times},
		{"GET", v1 + "/loads", s.loads},
		{"POST", v1 + "/loads", s.addLoad},
		{"GET", v1 + "/loads/:id", s.load},
		{"POST", v1 + "/loads/:id/start", s.setLoad("start")},
		{"POST", v1 + "/loads/:id/pause", s.setLoad("pause")},
		{"POST", v1 + "/loads/:id/resume", s.setLoad("resume")},
		{"POST", v1 + "/loads/:id/stop", s.setLoad("stop")},

		{"GET", v1 + "/groups", s.groups},
		{"GET", v1 + "/groups/:id/members", s.groupMembers},
		{"POST", v1 + "/groups/:id/close", s.closeGroup},
		{"GET", v1 + "/turns", s.lines},
		{"POST", v1 + "/turns/skip", s.skipGap},

		{"GET", v1 + "/systems", s.systems},
		{"GET", v1 + "/connections", s.connections},
		{"GET", v1 + "/connections/:name", s.connection},
		{"PUT", v1 + "/connections/:name", s.putConnection},
		{"DELETE", v1 + "/connections/:name", s.deleteConnection},
		{"POST", v1 + "/connections/:name/test", s.testConnection},
		{"GET", v1 + "/connections/:name/sources", s.sources},
		{"GET", v1 + "/targets", s.targets},
		{"GET", v1 + "/targets/:name", s.target},
		{"GET", v1 + "/targets/:name/waits", s.targetWaits},
		{"POST", v1 + "/targets/:name/hold", s.holdTarget},
		{"POST", v1 + "/targets/:name/release", s.releaseTarget},
		{"POST", v1 + "/targets/:name/skip-wait", s.skipWait},
		{"POST", v1 + "/targets/:name/give-up", s.giveUp},
		{"GET", v1 + "/connections/:name/offers", s.offers},
		{"GET", v1 + "/connections/:name/tables/:table", s.describe},
		{"POST", v1 + "/connections/:name/query", s.writeQuery},
		{"POST", v1 + "/connections/:name/sign-in", s.beginSignIn},
		{"GET", v1 + "/sign-in", s.endSignIn},

		{"GET", v1 + "/tables", s.tables},
		{"GET", v1 + "/tables/:name", s.table},
		{"PUT", v1 + "/tables/:name", s.putTable},
		{"DELETE", v1 + "/tables/:name", s.deleteTable},
		{"POST", v1 + "/tables/:name/guess", s.guessTable},
		{"POST", v1 + "/tables/:name/import", s.importTable},
		{"GET", v1 + "/tables/:name/export", s.exportTable},
		{"GET", v1 + "/tables/:name/rows", s.tableRows},
		{"POST", v1 + "/tables/:name/edit", s.editTable},
		{"GET", v1 + "/tables/:name/versions", s.tableVersions},
		{"GET", v1 + "/tables/:name/versions/:n", s.tableVersion},
		{"POST", v1 + "/tables/:name/versions/:n/restore", s.restoreTable},

		{"GET", v1 + "/stand-ins", s.standInList},
		{"GET", v1 + "/stand-ins/:name", s.standIn},
		{"PUT", v1 + "/stand-ins/:name", s.putStandIn},
		{"DELETE", v1 + "/stand-ins/:name", s.deleteStandIn},
		{"PUT", v1 + "/stand-ins/:name/behaviour", s.behave},
		{"POST", v1 + "/stand-ins/:name/send", s.sendFrom},
		{"DELETE", v1 + "/stand-ins/:name/calls", s.forget},
	}
}

// recover turns a panic into a problem document and a line in the log.
func (s *Server) recover(c *gin.Context) {
	defer func() {
		switch r := recover(); {
		case r == nil:
		case r == http.ErrAbortHandler:
			panic(r)
		default:
			s.log.Error("a request failed", "path", c.Request.URL.Path, "panic", fmt.Sprint(r))
			problem(
				c,
				http.StatusInternalServerError,
				"The request failed",
				"this is a fault of the application; its log says more",
				nil,
			)
		}
	}()
	c.Next()
}
