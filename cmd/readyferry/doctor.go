package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"readyferry/connect"
	"readyferry/connect/systems"
	"readyferry/core/access"
	"readyferry/core/outbound"
	"readyferry/core/plan"
	"readyferry/engine/catalog"
	"readyferry/store"
)

// ailment is something that is not as safe as it should be, with what to do about it.
type ailment struct {
	What   string `json:"what"`
	Repair string `json:"repair"`
}

func doctorCommand() *cobra.Command {
	var data string
	var asJSON bool
	var o configured
	c := &cobra.Command{
		Use: "doctor", Short: "Say what is not as safe as it should be, before one goes live",
		Long: "Looks at a data folder, also while the application is at work there, and says what is not as safe as it should be\n" +
			"and what to do about it. The exit code is 1 where there is something.",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			var all []ailment
			err := beside(c.Context(), data, "", access.Thing{}, func(ctx context.Context, s *store.Store) (err error) {
				all, err = examine(s, &o)
				return err
			})
			if err != nil {
				return err
			}
			if asJSON {
				if all == nil {
					all = []ailment{}
				}
				if err := json.NewEncoder(c.OutOrStdout()).Encode(all); err != nil {
					return err
				}
			} else {
				for _, a := range all {
					fmt.Fprintf(c.OutOrStdout(), "%s\n    %s\n", a.What, a.Repair)
				}
			}
			if len(all) > 0 {
				return &exitError{1, fmt.Errorf("%d things are not as they should be", len(all))}
			}
			if !asJSON {
				fmt.Fprintln(c.OutOrStdout(), "nothing to find fault with")
			}
			return nil
		},
	}
	c.Flags().StringVar(&data, "data", "data", "the data folder")
	o.flags(c.Flags())
	c.Flags().BoolVar(&asJSON, "json", false, "print it as JSON")
	return c
}

func examine(s *store.Store, o *configured) (out []ailment, err error) {
	found := func(repair, format string, args ...any) {
		out = append(out, ailment{fmt.Sprintf(format, args...), repair})
	}
	examineFolder(s.Dir, found)
	if err := errors.Join(examinePeople(s, found), examineKeys(s, found), examineDesign(s, o, found)); err != nil {
		return nil, err
	}
	if _, faults, err := s.VerifyAudit(1); err != nil {
		return nil, err
	} else if len(faults) > 0 {
		found("look at it with readyferry audit verify, and find out who can write to the file",
			"the audit is not as it was written")
	}
	return out, nil
}

type finding func(repair, format string, args ...any)

func examineFolder(dir string, found finding) {
	_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // what cannot be looked at cannot be read by others either
		}
		if info, err := d.Info(); err == nil && info.Mode().Perm()&0o077 != 0 && info.Mode().IsRegular() &&
			!strings.HasSuffix(path, ".crt") {
			found("chmod 600 "+path, "others on this machine may read %s", path)
		}
		return nil
	})
	if os.Geteuid() == 0 {
		found("run it as a user of its own; docs/operating.md has a unit that does", "it is run as root")
	}
}

func examinePeople(s *store.Store, found finding) error {
	all, err := peopleOf(s).List()
	if err != nil {
		return err
	}
	owners := 0
	for _, p := range all {
		if !p.Ended && slices.ContainsFunc(p.Grants, func(g access.Grant) bool { return g.Role == access.Owner }) {
			owners++
		}
		if !p.Ended && !p.Password && p.Passkeys == 0 && !p.OpenID {
			found("readyferry people reset "+p.Name+", or end it", "%s has never signed in", p.Name)
		}
	}
	switch {
	case len(all) == 0:
		found("start the application and follow the link that it prints", "nobody can sign in yet")
	case owners < 2:
		found("make somebody else one, too, so that nobody is locked out by an illness", "there is only one owner")
	}
	return nil
}

func examineKeys(s *store.Store, found finding) error {
	keys, err := catalog.KeysIn(s)
	if err != nil {
		return err
	}
	for _, k := range keys {
		if k.Until == nil {
			found("make another beside it with an end, change the program over, and end this one", "the key %s never ends",
				k.Name)
		}
		for _, r := range k.Rights {
			if slices.Contains(r.On, "*") && slices.Contains(r.May, access.MayManage) {
				found("name what the program works with", "the key %s may manage everything", k.Name)
			}
		}
	}
	return nil
}

// broad is how short a range of addresses is that is as good as none.
const broad = 8

func examineDesign(s *store.Store, o *configured, found finding) error {
	all, err := systems.All(systems.Surroundings{})
	if err != nil {
		return err
	}
	reader, err := plan.NewReader(all.Kinds()...)
	if err != nil {
		return err
	}
	if err := o.put(reader, all); err != nil {
		return err
	}
	known, err := catalog.New(s, reader, all, &connect.Outside{}, slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err != nil {
		return err
	}
	for _, f := range known.Flows() {
		if f.Live != nil && f.Live.Document.Intake.Kind == "webhook" && len(f.Live.Document.Intake.Callers) == 0 {
			found("name its callers, and publish it again", "anybody may call the webhook of %s", f.Name)
		}
	}
	for _, c := range known.Connections() {
		examineConnection(c, found)
	}
	for _, line := range known.Outbound() {
		if _, bits, is := strings.Cut(line, "/"); is {
			n := broad
			if _, err := fmt.Sscan(bits, &n); err == nil && n < broad {
				found("name the hosts that are meant", "the list of addresses outside permits %s", line)
			}
		}
	}
	return nil
}

func examineConnection(c *connect.Connection, found finding) {
	plain := strings.HasPrefix(c.Address, "http://") || strings.HasPrefix(c.Address, "mqtt://") ||
		strings.HasPrefix(c.Address, "amqp://") || strings.HasPrefix(c.Address, "ftp://") || strings.HasPrefix(c.Address,
		"nats://")
	inside := func(host string) bool {
		kinds := c.Named[host]
		return len(kinds) > 0 && !slices.Contains(kinds, outbound.Public) && !slices.Contains(kinds, outbound.Any) &&
			!slices.Contains(kinds, outbound.Private)
	}
	for _, host := range c.Hosts() {
		if plain && len(c.SignIn.Secrets) > 0 && !inside(host) {
			found("reach it over TLS", "the connection %s sends its secret to %s without TLS", c.Name, host)
		}
		if slices.Contains(c.Named[host], outbound.Any) {
			found("look at its address and save it once more",
				"the connection %s is from an earlier release: %s may be whatever it comes to",
				c.Name, host)
		}
	}
	for _, secret := range c.SignIn.Secrets {
		if len(secret) < 8 && secret != "" {
			found("give it a longer one", "a secret of the connection %s has fewer than 8 letters", c.Name)
		}
	}
}
