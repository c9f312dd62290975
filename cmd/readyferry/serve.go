package main

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"readyferry/api"
	"readyferry/connect"
	"readyferry/connect/systems"
	"readyferry/core/access"
	"readyferry/core/outbound"
	"readyferry/core/plan"
	"readyferry/demo"
	"readyferry/engine"
	"readyferry/engine/audit"
	"readyferry/engine/bundle"
	"readyferry/engine/journal"
	"readyferry/engine/people"
	"readyferry/fleet"
	"readyferry/runner/hub"
	"readyferry/standin"
	"readyferry/store"
	"readyferry/web"
	"readyferry/worker"
)

// filesAre says what --files is for.
const filesAre = "folder that connections of kind files may reach, with what lies below it; as often as there are some"

// alarmsEach is how often the rules of alarms are looked at.
const alarmsEach = 10 * time.Second

func serveCommand() *cobra.Command {
	var s serving
	c := &cobra.Command{
		Use: "serve", Short: "Run the application", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return s.serve(c.Context(), nil)
		},
	}
	s.flags(c.Flags(), "data")
	c.Flags().BoolVar(&s.open, "without-sign-in", false,
		"nobody signs in, and everybody may do everything: for trials on this machine,\n"+
			"which alone can reach it then")
	return c
}

// serving is how the application is run.
type serving struct {
	data  string
	files []string
	open  bool // nobody signs in
	demo  bool // visitors need not sign in
	// branch has a runner for the demo's branch Stowmere run beside it, as it would in the branch.
	branch    bool
	idle      time.Duration
	most      time.Duration
	fleetFile string // file that says which members there are; "": it is one alone
	audit     int    // days that its lines are kept; 0 for ever
	door
	openid
	telling
	configured
	kept kept
}

func (s *serving) flags(f *pflag.FlagSet, data string) {
	f.StringSliceVar(&s.files, "files", nil, filesAre)
	f.StringVar(&s.fleetFile, "fleet", "", "file that says which members a fleet has, and which one this is (readyferry fleet init)")
	f.StringVar(&s.data, "data", data, "folder for everything that is kept; made when absent")
	f.DurationVar(&s.idle, "session-idle", people.UsualIdle,
		"how long a person stays signed in without doing anything")
	f.DurationVar(&s.most, "session-longest", people.UsualLongest, "how long a person stays signed in at most")
	f.IntVar(&s.audit, "keep-audit", int(audit.UsualKeep/(24*time.Hour)),
		"days that lines of the audit are kept; 0 for ever")
	s.door.flags(f)
	s.openid.flags(f)
	s.telling.flags(f)
	s.configured.flags(f)
	s.kept.flags(f)
}

func demoCommand() *cobra.Command {
	var s serving
	var fresh, signIn bool
	var trickle time.Duration
	c := &cobra.Command{
		Use: "demo", Short: "Run the application with the demo of Larkfield Libraries", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			s.branch = true
			if s.demo = !signIn; signIn && s.issuer == "" {
				i, err := s.openid.standIn()
				if err != nil {
					return err
				}
				defer i.Close()
			}
			if fresh {
				if err := errors.Join(store.Forget(s.data), os.RemoveAll(branchFolder(s.data))); err != nil {
					return err
				}
			}
			return s.serve(
				c.Context(),
				func(ctx context.Context, address string, load func() error) error {
					if err := load(); err != nil {
						return err
					}
					if trickle > 0 {
						go demo.Trickle(ctx, address, trickle, standInDatabases(s.data))
					}
					return nil
				},
			)
		},
	}
	s.flags(c.Flags(), "demo-data")
	c.Flags().BoolVar(&fresh, "fresh", false, "forget what an earlier demo kept in the folder")
	c.Flags().BoolVar(&signIn, "with-sign-in", false,
		"people sign in as they do in earnest; without it whoever is at this machine is\n"+
			"let in, and nobody else can reach it")
	c.Flags().DurationVar(&trickle, "trickle", 2*time.Second, "about how often a made-up message comes; 0 for never")
	return c
}

// readied is what is done once the application answers at an address of this machine.
type readied func(ctx context.Context, address string, loadDemo func() error) error

// serve runs the application until it is told to stop. ready is called when it
// listens.
func (s *serving) serve(ctx context.Context, ready readied) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	engine.TuneMemory()
	log, err := s.logger(os.Stderr)
	if err != nil {
		return err
	}
	if s.fleetFile != "" {
		return s.serveInFleet(ctx, ready, log)
	}
	st, err := store.Open(s.data)
	if err != nil {
		return err
	}
	defer func() {
		if err := st.Close(); err != nil {
			log.Error("closing the store", "error", err)
		}
	}()
	in, err := s.enter(log)
	if err != nil {
		return err
	}
	defer in.Close()
	a, err := s.build(ctx, st, in, nil, nil, log)
	if err != nil {
		return err
	}
	defer a.close()
	failed := in.serve(handlersOf(a.Config), log)
	if err := a.ready(ctx, ready); err != nil {
		return err
	}
	if err := s.welcome(ctx, a.People, in.address); err != nil {
		return err
	}
	fmt.Printf("Ready Ferry is at %s\n", in.address)
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	a.Engine.Close() // who waits is told, and then nobody is cut off
	return in.shutdown(3 * time.Second)
}

// enter opens the door.
func (s *serving) enter(log *slog.Logger) (*entrance, error) {
	in, err := s.door.begin(s.data, log)
	if err != nil {
		return nil, err
	}
	if (s.open || s.demo) && (!in.Loopback || in.Public != nil) {
		return nil, errors.Join(errors.New("without sign-in it listens on this machine only: take --listen 127.0.0.1:8420, or let "+
			"people sign in (demo --with-sign-in)"), in.Close())
	}
	return in, nil
}

// application is what works over an open journal, with what its interface needs.
type application struct {
	api.Config
	s        *serving
	in       *entrance
	all      *connect.Registry
	reader   *plan.Reader
	atBranch string // the key of the demo's runner, for as long as this runs
	ends     []func()
}

// close ends it, the last thing that began first.
func (a *application) close() {
	for _, end := range slices.Backward(a.ends) {
		end()
	}
}

func (a *application) atEnd(do func()) { a.ends = append(a.ends, do) }

// build begins the work over a journal. ctx ends with it.
func (s *serving) build(ctx context.Context, st *store.Store, in *entrance, fl *fleet.Node, others journal.Others,
	log *slog.Logger) (_ *application, err error) {
	a := &application{s: s, in: in, atBranch: rand.Text()}
	defer func() {
		if err != nil {
			a.close()
		}
	}()
	var e *engine.Engine
	standIns := standin.NewSet(time.Now, func() {
		if e != nil { // not while they are defined
			e.Watch.Events.Publish(journal.EventStandIns)
		}
	})
	standIns.Folders = filepath.Join(standInDatabases(s.data), "files")
	a.atEnd(func() { _ = standIns.Close() })
	if err := a.documents(standIns); err != nil {
		return nil, err
	}
	runners := s.runners(ctx, &e, a, log)
	a.atEnd(runners.Close)
	var missing func() int
	var leastFree func() int64
	var part journal.Partition
	if fl != nil {
		missing, leastFree, part.Of = fl.Missing, fl.LeastFree, fl.File.Parts()
	}
	e, err = engine.New(engine.Config{Store: st, Reader: a.reader, Systems: a.all, Log: log, Alarms: alarmsEach,
		Missing: missing, LeastFree: leastFree, Partition: part, Others: others,
		Outside: &connect.Outside{}, Runners: runners})
	if err != nil {
		return nil, err
	}
	stopTraces, err := s.trace(ctx, e, st, log)
	if err != nil {
		return nil, err
	}
	a.atEnd(stopTraces)
	if err := errors.Join(e.Design.LoadStandIns(standIns), s.follow(ctx, e, log), s.kept.follow(ctx, e,
		log)); err != nil {
		return nil, err
	}
	if err := e.Start(); err != nil {
		return nil, err
	}
	a.atEnd(e.Stop)
	if s.audit > 0 {
		go s.keepAudit(ctx, e, log)
	}
	a.Config = api.Config{Engine: e, StandIns: standIns, Web: web.Files(), Door: in.Door, Log: log, Runners: runners,
		LoadDemo: func() error { return demo.Load(ctx, e, standIns, standInDatabases(s.data)) }}
	if fl != nil {
		a.Fleet = fl
	}
	if s.kept.dir != "" {
		a.Kept = &s.kept
	}
	if s.demo {
		a.Demo = demo.People()
	}
	if !s.open {
		a.People = people.New(people.Config{Store: st, Log: log, Now: e.Journal.Now, Idle: s.idle, Longest: s.most})
	}
	a.OpenID, err = s.openid.read()
	return a, err
}

// documents makes what reads documents of flows and connections.
func (a *application) documents(standIns *standin.Set) (err error) {
	s := a.s
	a.all, err = systems.All(systems.Surroundings{
		StandIns:  a.in.inside + "/stand-ins",
		Databases: standInDatabases(s.data),
		Own:       filepath.Join(s.data, store.File),
		StandIn:   standIns.Dial,
		Files:     s.files,
		Folders:   standIns.Folders,
	})
	if err != nil {
		return err
	}
	scripts, err := worker.New("")
	if err != nil {
		return err
	}
	a.atEnd(func() { _ = scripts.Close() })
	if a.reader, err = plan.NewReaderWith(scripts, a.all.Kinds()...); err != nil {
		return err
	}
	return s.configured.put(a.reader, a.all)
}

// runners makes the application's side of its runners.
func (s *serving) runners(ctx context.Context, e **engine.Engine, a *application, log *slog.Logger) *hub.Hub {
	return hub.New(hub.Config{
		Here: a.all, Log: log,
		Permits: func(runner, key string) error {
			if s.branch && runner == demo.Runner && subtle.ConstantTimeCompare([]byte(key), []byte(a.atBranch)) == 1 {
				return nil
			}
			_, err := (*e).Catalog.Permits(ctx, key, access.MayRun, access.Runner+":"+runner, time.Now())
			return err
		},
		List:  func() outbound.List { return (*e).Catalog.Outbound() },
		Flows: func(runner string) (*bundle.Across, error) { return (*e).Bundle.Across(runner) },
		Wants: func(runner, connection string) bool {
			c := (*e).Catalog.Connection(connection)
			return c != nil && c.At == runner
		},
		Renewed: func(runner, connection, secret string) { renewedAt(*e, runner, connection, secret) },
	})
}

// ready does what is to be done once the application answers.
func (a *application) ready(ctx context.Context, ready readied) error {
	if ready != nil {
		if err := ready(ctx, a.in.inside, a.LoadDemo); err != nil {
			return err
		}
	}
	if !a.s.branch {
		return nil
	}
	stop, err := a.startBranch()
	if err == nil {
		a.atEnd(stop)
	}
	return err
}

// renewedAt keeps a secret that the system of a connection gave at a runner, if it is reached there.
func renewedAt(e *engine.Engine, runner, connection, secret string) {
	if c := e.Catalog.Connection(connection); c != nil && c.At == runner && c.Renewed != nil {
		c.Renewed(secret)
	}
}

// keepAudit lets old lines of the audit go, once a day.
func (s *serving) keepAudit(ctx context.Context, e *engine.Engine, log *slog.Logger) {
	keep := func() {
		if err := e.Audit.Keep(ctx, machine(), time.Duration(s.audit)*24*time.Hour); err != nil {
			log.Error("letting lines of the audit go", "error", err)
		}
	}
	keep()
	every(ctx, 24*time.Hour, keep)
}

// welcome says how the first owner comes in, while there is nobody.
func (s *serving) welcome(ctx context.Context, p *people.People, address string) error {
	if p == nil || s.demo {
		return nil
	}
	secret, err := p.First(ctx)
	if err == nil && secret != "" {
		fmt.Printf("Nobody can sign in yet. The first owner comes in by this link, once: %s/welcome#%s\n", address,
			secret)
	}
	return err
}

// standInDatabases is the folder of the databases that ship with the application.
func standInDatabases(data string) string { return filepath.Join(data, "stand-ins") }
