package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"time"

	"readyferry/api"
	"readyferry/fleet"
	"readyferry/store"
)

// partHeader says at which listener of a member a call came; members say it to each other, and what a
// caller says of it is thrown away.
const partHeader = "Readyferry-Part"

// serveInFleet runs the application as a member of a fleet: it answers whatever it is called for, by
// itself while it leads, else by the member that does.
func (s *serving) serveInFleet(ctx context.Context, ready readied, log *slog.Logger) error {
	f, err := fleet.Read(s.fleetFile)
	if err != nil {
		return err
	}
	if s.kept.dir != "" {
		return errors.New("--flows and --fleet: the folder would have to be at every member; publish into the fleet instead")
	}
	if cert, key := f.Public(); s.cert == "" && !s.selfMade {
		s.cert, s.key = cert, key
	}
	in, err := s.enter(log)
	if err != nil {
		return err
	}
	defer in.Close()
	for _, m := range f.Members {
		if u, err := url.Parse(m.Address); err == nil {
			in.Hosts = append(in.Hosts, u.Hostname())
		}
	}
	var node *fleet.Node
	var door *fleet.Door
	started := make(chan struct{})
	node, err = fleet.Start(ctx, fleet.Config{File: f, Dir: s.data, Version: versionText(), Log: log,
		Lead: func(part int, st *store.Store) (http.Handler, func(bool), error) {
			<-started
			m := &member{serving: s, in: in, node: node, door: door, log: log}
			if part > 0 {
				return m.leadPart(ctx, part, st)
			}
			return m.lead(ctx, st, ready)
		}})
	if err != nil {
		return err
	}
	door, err = node.OpenDoor()
	close(started)
	if err != nil {
		node.Close()
		return err
	}
	defer door.Close() // behind the work, which calls of other members wait for
	defer node.Close()
	handlers := map[string]http.Handler{}
	for part := range in.listeners {
		handlers[part] = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			r.Header.Set(partHeader, part)
			for _, name := range fleet.Said {
				r.Header.Del(name)
			}
			if !believed(r, in.Proxies) {
				for _, name := range []string{"X-Forwarded-For", "X-Forwarded-Proto", "X-Forwarded-Host", "Forwarded"} {
					r.Header.Del(name)
				}
			}
			door.ServeHTTP(w, r)
		})
	}
	failed := in.serve(handlers, log)
	fmt.Printf("Ready Ferry is at %s, as the member %s of the fleet %s\n", in.address, f.This, f.Name)
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	node.End() // who waits is told, and then nobody is cut off
	return in.shutdown(3 * time.Second)
}

// believed tells whether who calls is a proxy whose word about the caller counts.
func believed(r *http.Request, proxies []netip.Prefix) bool {
	at, err := netip.ParseAddrPort(r.RemoteAddr)
	return err == nil && slices.ContainsFunc(proxies,
		func(p netip.Prefix) bool { return p.Contains(at.Addr().Unmap()) })
}

// everywhere are all addresses: what comes through the door of a fleet comes from a member.
var everywhere = []netip.Prefix{netip.MustParsePrefix("0.0.0.0/0"), netip.MustParsePrefix("::/0")}

// member is the application as a member of a fleet.
type member struct {
	*serving
	in   *entrance
	node *fleet.Node
	door *fleet.Door
	log  *slog.Logger
}

// lead works over the journal while this member leads: over that of the first partition, which has the design,
// the interface, and all in which messages meet.
func (m *member) lead(ctx context.Context, st *store.Store, ready readied) (http.Handler, func(bool), error) {
	ctx, end := context.WithCancel(context.WithoutCancel(ctx))
	apart, err := m.together(ctx, st)
	if err != nil {
		end()
		return nil, nil, err
	}
	a, err := m.build(ctx, st, m.in, m.node, m.others(), m.log)
	if err != nil {
		end()
		apart()
		return nil, nil, err
	}
	a.ends = slices.Insert(a.ends, 0, apart) // behind all that reads by it
	if m.node.File.Parts() > 1 {
		a.HandOver, a.Settle = m.handOver, func(ctx context.Context) { m.settle(ctx, a.Engine) }
		go a.Engine.FollowOthers(ctx)
	}
	begun := make(chan struct{})
	go func() { // it is answered only when it is known that this member leads
		defer close(begun)
		if err := errors.Join(a.ready(ctx, ready), m.welcome(ctx, a.People, m.in.address)); err != nil && ctx.Err() == nil {
			m.log.Error("what is done when the application answers", "error", err)
		}
	}()
	stop := func(lost bool) {
		a.Engine.Close()
		end()
		<-begun
		if lost {
			a.Engine.Abandon()
		}
		a.close()
	}
	return handlerOf(a.Config), stop, nil
}

// handlerOf answers what comes from callers at this member, and what other members hand over.
func handlerOf(c api.Config) http.Handler {
	c.Door.Members = true // what others say in a member's words was taken away at the entrance
	own := handlersOf(c)
	through := c
	through.Door.Proxies, through.Door.Secure = everywhere, false
	far := handlersOf(through)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		said := saidOf(r)
		all := own
		if said.Get(fleet.ForwardedBy) != "" {
			all = far
			r.TLS = nil // the way between members says nothing of that to the caller
		}
		h := all[said.Get(partHeader)]
		if h == nil {
			h = all[forAll]
		}
		h.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), saidKey{}, said)))
	})
}
