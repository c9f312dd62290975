package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os/user"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"readyferry/core/access"
	"readyferry/engine/audit"
	"readyferry/engine/people"
	"readyferry/store"
)

// machine is somebody at the command line of the machine.
func machine() *access.Who {
	w := &access.Who{Kind: access.Machine, Name: "somebody"}
	if u, err := user.Current(); err == nil {
		w.Name = u.Username
	}
	return w
}

// beside works with what may be changed while the application is at work in a folder, and
// keeps in the audit that it was done.
func beside(ctx context.Context, data, what string, t access.Thing, do func(ctx context.Context,
	s *store.Store) error) (err error) {
	s, err := store.OpenBeside(data)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	if what == "" {
		return do(ctx, s)
	}
	a := audit.New(s, func() time.Time { return time.Now().UTC() })
	ctx, deed := a.Begin(ctx, machine(), what, t)
	if err := do(ctx, s); err != nil {
		return err
	}
	return a.End(ctx, deed, audit.Done)
}

func peopleOf(s *store.Store) *people.People {
	return people.New(people.Config{Store: s, Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
		Now: func() time.Time { return time.Now().UTC() }})
}

func peopleCommand() *cobra.Command {
	var data string
	c := &cobra.Command{
		Use: "people", Short: "See and change who may sign in",
		Long: "Sees and changes who may sign in, also while the application is at work in the folder. What is done stands in the\n" +
			"audit. Whoever has lost the way in gets a link by reset.",
	}
	c.PersistentFlags().StringVar(&data, "data", "data", "the data folder")
	c.AddCommand(peopleList(&data), peopleAdd(&data), peopleReset(&data))
	for _, one := range []struct {
		use, short string
		do         func(ctx context.Context, p *people.People, name string) error
	}{
		{"remove", "Take somebody away", func(ctx context.Context, p *people.People,
			name string) error {
			return p.Remove(ctx, name)
		}},
		{"unlock", "Let somebody try again who has failed too often",
			func(ctx context.Context, p *people.People, name string) error { return p.Unlock(ctx, name) }},
		{"sign-out", "End all sessions of somebody",
			func(ctx context.Context, p *people.People, name string) error { return p.End(ctx, name, "", "") }},
	} {
		c.AddCommand(&cobra.Command{Use: one.use + " NAME", Short: one.short, Args: cobra.ExactArgs(1),
			RunE: func(c *cobra.Command, args []string) error {
				return beside(c.Context(), data, "people "+one.use, access.Thing{Kind: "person", Name: args[0]},
					func(ctx context.Context, s *store.Store) error { return one.do(ctx, peopleOf(s), args[0]) })
			}})
	}
	return c
}

func peopleList(data *string) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{Use: "list", Short: "List them, with their roles", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return beside(c.Context(), *data, "", access.Thing{}, func(_ context.Context, s *store.Store) error {
				all, err := peopleOf(s).List()
				if err != nil {
					return err
				}
				if asJSON {
					return json.NewEncoder(c.OutOrStdout()).Encode(all)
				}
				w := tabwriter.NewWriter(c.OutOrStdout(), 0, 8, 2, ' ', 0)
				for _, one := range all {
					state := ""
					if one.Ended {
						state = "ended"
					} else if one.Locked != nil {
						state = "locked until " + one.Locked.UTC().Format(time.RFC3339)
					}
					fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", one.Name, one.Title, grantsText(one.Grants), state)
				}
				return w.Flush()
			})
		}}
	c.Flags().BoolVar(&asJSON, "json", false, "print them as JSON")
	return c
}

func grantsText(all []access.Grant) string {
	var out []string
	for _, g := range all {
		if g.Area == access.Everywhere {
			out = append(out, string(g.Role))
		} else {
			out = append(out, string(g.Role)+"@"+g.Area)
		}
	}
	return strings.Join(out, " ")
}

// grantOf reads role or role@area.
func grantOf(text string) (access.Grant, error) {
	role, area, in := strings.Cut(text, "@")
	if !in {
		area = access.Everywhere
	}
	g := access.Grant{Role: access.Role(role), Area: area}
	return g, g.Check()
}

func peopleAdd(data *string) *cobra.Command {
	var title string
	var roles []string
	var typed bool
	c := &cobra.Command{Use: "add NAME", Short: "Add somebody, or change the roles of somebody", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			var grants []access.Grant
			for _, text := range roles {
				g, err := grantOf(text)
				if err != nil {
					return err
				}
				grants = append(grants, g)
			}
			name := people.NameOf(args[0])
			return beside(c.Context(), *data, "people add", access.Thing{Kind: "person", Name: name},
				func(ctx context.Context, s *store.Store) error {
					p := peopleOf(s)
					if err := p.Save(ctx, name, title, grants, false); err != nil {
						return err
					}
					if !typed {
						return link(ctx, c, p, name)
					}
					text, err := bufio.NewReader(c.InOrStdin()).ReadString('\n')
					if err != nil && !errors.Is(err, io.EOF) {
						return err
					}
					secret, err := p.Invite(ctx, name)
					if err != nil {
						return err
					}
					_, err = p.Come(ctx, secret, name, title, strings.TrimRight(text, "\r\n"))
					return err
				})
		}}
	c.Flags().StringVar(&title, "title", "", "what others call them")
	c.Flags().StringSliceVar(&roles, "role", []string{"reader"},
		"role, or role@area: reader, operator, designer, publisher, owner, unmask")
	c.Flags().BoolVar(&typed, "password-stdin", false,
		"read a password from the standard input, in place of a link to choose one")
	return c
}

func link(ctx context.Context, c *cobra.Command, p *people.People, name string) error {
	secret, err := p.Invite(ctx, name)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.OutOrStdout(), "%s chooses a password within seven days, once, at the application's address followed by /welcome#%s\n", name, secret)
	return nil
}

func peopleReset(data *string) *cobra.Command {
	return &cobra.Command{Use: "reset NAME", Short: "Make a link by which somebody chooses a new password",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			name := people.NameOf(args[0])
			return beside(c.Context(), *data, "people reset", access.Thing{Kind: "person", Name: name},
				func(ctx context.Context, s *store.Store) error {
					p := peopleOf(s)
					if err := p.Unlock(ctx, name); err != nil {
						return fmt.Errorf("%s: %w", name, err)
					}
					return link(ctx, c, p, name)
				})
		}}
}
