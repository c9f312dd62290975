package main

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"readyferry/connect/systems"
	"readyferry/core/plan"
	"readyferry/runner/agent"
	"readyferry/runner/line"
	"readyferry/worker"
)

// runnerKey names the variable that gives a runner its key: what stands on the command line others
// of the machine see.
const runnerKey = "READYFERRY_RUNNER_KEY"

// running is how a runner is run.
type running struct {
	join, name, key, keyFile, ca, data string
	files                              []string
	telling
}

func runnerCommand() *cobra.Command {
	var r running
	c := &cobra.Command{
		Use:   "runner",
		Short: "Run beside systems that only a closed network reaches, on behalf of an application elsewhere",
		Long: "It connects outward to the application and needs no open port. Connections that say at: and its name are opened\n" +
			"here; what they receive is kept here until it is stored there.",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return r.run(c.Context()) },
	}
	f := c.Flags()
	f.StringVar(&r.join, "join", "", "address of the application, such as https://ferry.example.org; several of the\n"+
		"members of a fleet, with commas between, so that it is one of them as long as one is there")
	f.StringVar(&r.name, "name", "", "what connections call this runner: small letters, digits, hyphens")
	f.StringVar(&r.keyFile, "key-file", "",
		"file with a key that has the right run on runner:NAME; or give it in "+runnerKey)
	f.StringVar(&r.key, "key", "", "the key itself, for trials: others on this machine can see it")
	f.StringVar(&r.ca, "ca", "", "file with the certificates (PEM) that the application's may be signed by, and no others;\n"+
		"without it the machine's own authorities")
	f.StringVar(&r.data, "data", "runner-data", "folder for what is kept; made when absent")
	f.StringSliceVar(&r.files, "files", nil, filesAre)
	r.telling.flags(f)
	return c
}

// secret gives the key, from wherever it was given.
func (r *running) secret() (string, error) {
	switch {
	case r.key != "":
		return r.key, nil
	case r.keyFile != "":
		b, err := os.ReadFile(r.keyFile)
		return strings.TrimSpace(string(b)), err
	case os.Getenv(runnerKey) != "":
		return os.Getenv(runnerKey), nil
	}
	return "", fmt.Errorf("a runner needs a key: an owner makes one under Keys, with the right run on runner:%s; give it by --key-file "+
		"or %s", r.name, runnerKey)
}

func (r *running) joining() (j line.Joining, err error) {
	if err := line.CheckName(r.name); err != nil {
		return j, fmt.Errorf("--name: %w", err)
	}
	j.Name, j.Dir = r.name, r.data
	if j.Key, err = r.secret(); err != nil {
		return j, err
	}
	for i, text := range strings.Split(r.join, ",") {
		at, err := url.Parse(strings.TrimSpace(text))
		if err != nil || at.Host == "" {
			return j, fmt.Errorf("--join is the address of the application, such as https://ferry.example.org, not %q", text)
		}
		host := at.Hostname()
		if at.Scheme == "http" && host != "localhost" && host != "127.0.0.1" && host != "::1" {
			return j, errors.New("--join begins with https://: without TLS others could read the key; http:// is for this machine alone")
		}
		if i == 0 {
			j.Address = at
		} else {
			j.Others = append(j.Others, at)
		}
	}
	if r.ca == "" {
		return j, nil
	}
	b, err := os.ReadFile(r.ca)
	if err != nil {
		return j, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(b) {
		return j, fmt.Errorf("%s holds no certificate in PEM", r.ca)
	}
	j.TLS = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	return j, nil
}

func (r *running) run(ctx context.Context) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	j, err := r.joining()
	if err != nil {
		return err
	}
	if j.Log, err = r.logger(os.Stderr); err != nil {
		return err
	}
	if err := os.MkdirAll(r.data, 0o700); err != nil {
		return err
	}
	return workFor(ctx, j, systems.Surroundings{Files: r.files}, func() {
		fmt.Printf("The runner %s is at work for %s\n", r.name, j.Address.Host)
	})
}

// workFor is at work as a runner until ctx ends; begun is called when it is.
func workFor(ctx context.Context, j line.Joining, around systems.Surroundings, begun func()) error {
	all, err := systems.All(around)
	if err != nil {
		return err
	}
	scripts, err := worker.New("")
	if err != nil {
		return err
	}
	defer func() { _ = scripts.Close() }()
	reader, err := plan.NewReaderWith(scripts, all.Kinds()...)
	if err != nil {
		return err
	}
	a, err := agent.Start(ctx, agent.Config{Joining: j, Systems: all, Reader: reader, Version: versionText()})
	if err != nil {
		return err
	}
	defer a.Close()
	begun()
	was := false
	every(ctx, time.Second, func() {
		if is, why := a.Linked(); is != was {
			was = is
			j.Log.Info("the line", "up", is, "why", why)
		}
	})
	<-ctx.Done()
	return nil
}
