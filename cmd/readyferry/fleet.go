package main

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"readyferry/fleet"
	"readyferry/store"
)

func fleetCommand() *cobra.Command {
	c := &cobra.Command{Use: "fleet", Short: "Let several instances be one application"}
	c.AddCommand(fleetInit(), fleetRotate(), fleetStatus(), fleetDrain(), fleetAdopt(), fleetRelease(), fleetAdd(),
		fleetRemove(),
		fleetDemo())
	return c
}

func fleetInit() *cobra.Command {
	var out string
	f := fleet.File{Form: "fleet/1", Replicas: 3}
	var members []string
	c := &cobra.Command{
		Use: "init", Short: "Make the folder of a fleet: a folder for each member with its file, its certificate and the keys",
		Long: "Give each member as NAME=HOST:PORT,HOST:PORT,ADDRESS: where the engines of the members speak with each other, where\n" +
			"members hand calls over, and the address at which people and callers reach it. Each member is given its own folder\n" +
			"alone; the key of the authority, in the folder itself, is needed for rotate and nothing else.",
		Example: "  readyferry fleet init --name larkfield --out larkfield \\\n" +
			"    --member a=10.0.0.1:8431,10.0.0.1:8432,https://a.ferry.example.org \\\n" +
			"    --member b=10.0.0.2:8431,10.0.0.2:8432,https://b.ferry.example.org \\\n" +
			"    --member c=10.0.0.3:8431,10.0.0.3:8432,https://c.ferry.example.org",
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			for _, text := range members {
				m, err := memberOf(text)
				if err != nil {
					return err
				}
				f.Members = append(f.Members, m)
			}
			if err := fleet.Init(out, &f, time.Now()); err != nil {
				return err
			}
			fmt.Printf("The fleet %s is in %s. Give each member its folder, and start it there:\n", f.Name, out)
			for _, m := range f.Members {
				fmt.Printf("  readyferry serve --fleet %s\n", filepath.Join(out, m.Name, "fleet.yaml"))
			}
			return nil
		},
	}
	c.Flags().StringVar(&out, "out", "fleet", "folder that is made")
	c.Flags().StringVar(&f.Name, "name", "ferry", "what the fleet is called: small letters, digits, hyphens")
	c.Flags().IntVar(&f.Replicas, "replicas", 3, "machines that keep the log: 1, 3 or 5")
	c.Flags().
		IntVar(&f.Partitions, "partitions", 1, "logs that the messages are in, each led by a member of its own: as many as there are\n"+
			"members, if the fleet is to be faster than one machine; it stays as it is for as long as there is a journal")
	c.Flags().StringArrayVar(&members, "member", nil, "a member; as often as there are some")
	return c
}

// memberOf reads a member as it is written on the command line.
func memberOf(text string) (fleet.Member, error) {
	name, rest, _ := strings.Cut(text, "=")
	parts := strings.Split(rest, ",")
	if len(parts) != 3 {
		return fleet.Member{}, fmt.Errorf(
			"--member is written as name=host:port,host:port,https://address, not %q",
			text,
		)
	}
	return fleet.Member{Name: name, Engine: parts[0], Door: parts[1], Address: parts[2]}, nil
}

func fleetAdd() *cobra.Command {
	var out, text string
	c := &cobra.Command{
		Use: "add", Short: "Make the folder of a further member, and name it in the files of the others",
		Long: "Give each member its folder anew and start it anew, one after the other; then start the new one. It takes a copy.",
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			m, err := memberOf(text)
			if err != nil {
				return err
			}
			return fleet.Add(out, m, time.Now())
		},
	}
	c.Flags().StringVar(&out, "out", "fleet", "folder that init made")
	c.Flags().StringVar(&text, "member", "", "the new member, as for init")
	return c
}

func fleetRemove() *cobra.Command {
	var out, file, member string
	c := &cobra.Command{
		Use: "remove", Short: "Take a member that is stopped and does not come back out of a fleet",
		Long: "The others forget it at once: it counts for no majority any more, and another one keeps the replica of the log that it\n" +
			"had, where there is one. Give each of them its folder anew then, and start it anew, one after the other.",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			f, err := fleet.Read(file)
			if err != nil {
				return err
			}
			if len(f.Members)-1 < f.Replicas {
				return fmt.Errorf(
					"the log is to be kept by %d machines, and %d would be left: add another member first",
					f.Replicas,
					len(f.Members)-1,
				)
			}
			if _, err := asked(c.Context(), file, http.MethodPost, fleet.RemovePath,
				url.Values{"member": {member}}); err != nil {
				return err
			}
			return fleet.Drop(out, member)
		},
	}
	c.Flags().StringVar(&out, "out", "fleet", "folder that init made")
	c.Flags().StringVar(&file, "fleet", "",
		"the file of the member that is asked, another one than that which is removed")
	c.Flags().StringVar(&member, "member", "", "the member that is removed")
	return c
}

func fleetRotate() *cobra.Command {
	var dir string
	var finish bool
	c := &cobra.Command{
		Use: "rotate", Short: "Make the certificates of a fleet anew",
		Long: "Members trust the old authority and the new one behind it: give each member its folder, one after the other; they read\n" +
			"their files anew by themselves. When all have them, --finish has the old authority trusted no more: give the folders once more.",
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return fleet.Rotate(dir, finish, time.Now())
		},
	}
	c.Flags().StringVar(&dir, "out", "fleet", "folder that init made")
	c.Flags().BoolVar(&finish, "finish", false, "the old authority is trusted no more")
	return c
}

// asked asks a member through its door, as another member does.
func asked(ctx context.Context, file, method, path string, form url.Values) ([]byte, error) {
	f, err := fleet.Read(file)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, method, "https://"+f.Self().Door+path+"?"+form.Encode(), nil)
	if err != nil {
		return nil, err
	}
	res, err := fleet.Client(f).Do(req)
	if err != nil {
		return nil, fmt.Errorf("the member %s does not answer: %w", f.This, err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err == nil && res.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s", res.Status, b)
	}
	return b, err
}

func fleetStatus() *cobra.Command {
	var file string
	var asJSON bool
	c := &cobra.Command{
		Use: "status", Short: "Say how the members of a fleet are", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			b, err := asked(c.Context(), file, http.MethodGet, fleet.StatusPath, nil)
			if err != nil {
				return err
			}
			if asJSON {
				_, err := os.Stdout.Write(b)
				return err
			}
			var s fleet.Status
			if err := json.Unmarshal(b, &s); err != nil {
				return err
			}
			w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
			fmt.Fprintln(w, "member\tstate\tbehind\tlog\tversion\taddress\t")
			for _, m := range s.Members {
				state := m.State
				switch {
				case !m.There:
					state = "away"
				case m.Drained:
					state += ", drained"
				}
				keeps := map[bool]string{true: "current", false: "behind"}[m.Current]
				if !m.Keeps {
					keeps = "keeps none"
				}
				fmt.Fprintf(
					w,
					"%s\t%s\t%d\t%s\t%s\t%s\t%s\n",
					m.Name,
					state,
					m.Behind,
					keeps,
					m.Version,
					m.Address,
					m.Trouble,
				)
			}
			if err := w.Flush(); err != nil {
				return err
			}
			return partitionsOf(os.Stdout, &s)
		},
	}
	c.Flags().StringVar(&file, "fleet", "", "the file of the member that is asked")
	c.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	return c
}

// partitionsOf prints who works on which partition; the error tells of one that nobody does.
func partitionsOf(to io.Writer, s *fleet.Status) error {
	if len(s.Partitions) > 1 {
		fmt.Fprintln(to)
	}
	w := tabwriter.NewWriter(to, 0, 0, 2, ' ', 0)
	var errs []error
	for i, p := range s.Partitions {
		if i == 0 && len(s.Partitions) > 1 {
			fmt.Fprintln(w, "partition\tleads\tbehind\tlog\t")
		}
		if p.Leader == "" {
			errs = append(errs, fmt.Errorf("no member leads partition %d", p.Number))
		}
		log := "cannot be asked"
		if p.Log != nil {
			log = fmt.Sprintf("%d of %d current", p.Log.Current, p.Log.Replicas)
		}
		if len(s.Partitions) > 1 {
			fmt.Fprintf(w, "%d\t%s\t%d\t%s\t\n", p.Number, p.Leader, p.Behind, log)
		}
	}
	return errors.Join(append(errs, w.Flush())...)
}

func fleetDrain() *cobra.Command {
	var file, member string
	var undo bool
	c := &cobra.Command{
		Use: "drain", Short: "Have a member lead no more, so that it can be stopped without anybody waiting", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			_, err := asked(c.Context(), file, http.MethodPost, fleet.DrainPath, url.Values{"member": {member},
				"drained": {fmt.Sprint(!undo)}})
			return err
		},
	}
	c.Flags().StringVar(&file, "fleet", "", "the file of the member that is asked")
	c.Flags().StringVar(&member, "member", "", "the member that is to lead no more")
	c.Flags().BoolVar(&undo, "undo", false, "it may again")
	return c
}

func fleetAdopt() *cobra.Command {
	var data, dir string
	c := &cobra.Command{
		Use: "adopt", Short: "Make the journal of one instance the one that a fleet begins with",
		Long: "The instance must be stopped. Start the members then, this folder with one of them and empty ones with the others; they\n" +
			"take a copy. What was open goes on.",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := fleet.Adopt(dir, data); err != nil {
				return err
			}
			return store.Adopt(c.Context(), data, rand.Text())
		},
	}
	c.Flags().StringVar(&data, "data", "data", "folder of the instance")
	c.Flags().StringVar(&dir, "out", "fleet",
		"folder that init made: its members are given the instance's key to secrets")
	return c
}

func fleetRelease() *cobra.Command {
	var data string
	c := &cobra.Command{
		Use: "release", Short: "Make the journal of a member one of its own again",
		Long: "Stop all members first, the one whose copy is furthest last (readyferry fleet status). Its folder is that of one instance then; what its other\n" +
			"partitions have comes together in it.",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			others, err := store.PartDirs(data)
			if err != nil {
				return err
			}
			return store.Release(c.Context(), data, others...)
		},
	}
	c.Flags().StringVar(&data, "data", "data", "folder of the member")
	return c
}
