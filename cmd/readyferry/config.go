package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"time"

	"github.com/spf13/pflag"

	"readyferry/connect"
	"readyferry/core/config"
	"readyferry/core/plan"
	"readyferry/engine"
)

// configured is what the place says where the application runs.
type configured struct{ files []string }

func (o *configured) flags(f *pflag.FlagSet) {
	f.StringSliceVar(&o.files, "config", nil, "file with the values that expressions name as config.…, and with where\n"+
		"secrets come from; as often as there are some, the later over the earlier")
}

// read reads the files.
func (o *configured) read() (*config.Config, error) {
	out := &config.Config{Values: config.Values{}, Secrets: map[string]*config.Secret{}}
	for _, file := range o.files {
		src, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		c, err := config.Read(src)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		out = out.Over(c)
	}
	return out, nil
}

// put lets readers of documents know what the place says; r or s may be nil.
func (o *configured) put(r *plan.Reader, s *connect.Registry) error {
	c, err := o.read()
	if err != nil {
		return err
	}
	if r != nil {
		r.Configure(c.Values)
	}
	if s != nil {
		s.Configure(c)
	}
	return nil
}

// secretsEach is how often it is looked whether secrets of the place are others.
const secretsEach = 10 * time.Second

// follow brings what is kept to what the place says, and looks after its secrets from then on.
func (o *configured) follow(ctx context.Context, e *engine.Engine, log *slog.Logger) error {
	done, left, err := e.Design.FollowConfig(ctx)
	for _, line := range done {
		log.Info("values of the place have changed", "so", line)
	}
	for _, line := range left {
		log.Warn("values of the place are not followed", "what", line)
	}
	if err != nil || len(o.files) == 0 {
		return err
	}
	go every(ctx, secretsEach, func() {
		if err := e.Catalog.FollowSecrets(); err != nil {
			log.Error("reading the secrets of the place", "error", err)
		}
	})
	return nil
}

// every does something every so often, until ctx ends.
func every(ctx context.Context, span time.Duration, do func()) {
	t := time.NewTicker(span)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
			do()
		}
	}
}
