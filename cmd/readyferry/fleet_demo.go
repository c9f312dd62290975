package main

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"readyferry/fleet"
)

// fleetDemo runs a fleet of three on this machine, each member a process of its own, with the demo.
func fleetDemo() *cobra.Command {
	var data string
	var fresh bool
	var first int
	c := &cobra.Command{
		Use: "demo", Short: "Run a fleet of three on this machine with the demo of Larkfield Libraries", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(c.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			if fresh {
				if err := os.RemoveAll(data); err != nil {
					return err
				}
			}
			return runFleetDemo(ctx, data, first)
		},
	}
	c.Flags().StringVar(&data, "data", "fleet-demo", "folder for everything that is kept")
	c.Flags().BoolVar(&fresh, "fresh", false, "forget what an earlier demo kept in the folder")
	c.Flags().IntVar(&first, "port", 8421, "port of the first member; the others have the next ones")
	return c
}

func runFleetDemo(ctx context.Context, data string, first int) error {
	names := []string{"alder", "birch", "cedar"}
	file := func(name string) string { return filepath.Join(data, name, "fleet.yaml") }
	if _, err := os.Stat(file(names[0])); err != nil {
		f := &fleet.File{Form: "fleet/1", Name: "larkfield", Replicas: len(names), Partitions: len(names)}
		at, err := freePorts(2 * len(names)) // all at once, so that none is given twice
		if err != nil {
			return err
		}
		for i, name := range names {
			f.Members = append(f.Members, fleet.Member{Name: name, Engine: at[2*i], Door: at[2*i+1],
				Address: "http://127.0.0.1:" + strconv.Itoa(first+i)})
		}
		if err := fleet.Init(data, f, time.Now()); err != nil {
			return err
		}
	}
	own, err := os.Executable()
	if err != nil {
		return err
	}
	ended := make(chan error, len(names))
	for _, name := range names {
		f, err := fleet.Read(file(name))
		if err != nil {
			return err
		}
		cmd := exec.CommandContext(ctx, own, "demo", "--fleet", file(name), "--data", filepath.Join(data, name, "data"),
			"--listen", f.Self().Address[len("http://"):])
		cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
		cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
		cmd.WaitDelay = 20 * time.Second
		if err := cmd.Start(); err != nil {
			return err
		}
		fmt.Printf("The member %s is process %d: kill it, and see what the others do\n", name, cmd.Process.Pid)
		go func() {
			if err := cmd.Wait(); ctx.Err() == nil {
				fmt.Printf("The member %s has ended: %v\n", name, err)
			}
			ended <- nil
		}()
	}
	for range names {
		err = errors.Join(err, <-ended)
	}
	return err
}

// freePorts finds addresses on this machine that nobody listens at. They are below those that a system gives to
// connections outward (32768 and more, or 49152 by RFC 6335), so that none is taken by one before it is listened at.
func freePorts(n int) (out []string, err error) {
	for tries := 0; len(out) < n; tries++ {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", 10_000+rand.IntN(20_000)))
		if err != nil && tries > 1000 {
			return nil, err
		}
		if err != nil {
			continue
		}
		defer l.Close()
		out = append(out, l.Addr().String())
	}
	return out, nil
}
