// Package fleet lets several instances be one application: they have one journal, as a log that a
// majority of them keeps, and a copy of the file at each.
//
// One of the members leads: its engine works, and each of its commits is in the log before it is in its
// file (store.Log). The others follow the log, each with a copy that is at most some seconds behind, and
// hand what they are called over to the one that leads. When that is gone another one takes over: it
// writes into the log that it does, brings its copy to that place, and its engine goes on where the
// other stood. So what holds of a journal and a start after a crash holds of a fleet.
//
// It promises: what a caller was told is accepted is on the disks of a majority; a member that is cut
// off from the majority can write nothing, whatever it takes itself for, since the log takes a record
// behind the last one alone; nothing is lost while a majority of the disks is there.
//
// The log is a stream of JetStream (nats-server, as a library in every member), with Raft beneath.
package fleet

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"

	"github.com/goccy/go-yaml"

	"readyferry/store"
)

// File says which members a fleet has. Each member has one of its own, in a folder with its certificate
// and the keys of the fleet.
type File struct {
	Form     string `yaml:"readyferry"` // fleet/1
	Name     string `yaml:"name"`
	This     string `yaml:"this"` // the member whose file it is
	Replicas int    `yaml:"replicas"`
	// Partitions is how many logs the messages are in, each led by a member of its own; 0 is 1. It stays as it is
	// for as long as there is a journal.
	Partitions int      `yaml:"partitions,omitempty"`
	Members    []Member `yaml:"members"`

	dir string
}

// Member is an instance of a fleet.
type Member struct {
	Name    string `yaml:"name"    json:"name"`
	Engine  string `yaml:"engine"  json:"engine"`  // host:port between the engines of the members
	Door    string `yaml:"door"    json:"door"`    // host:port at which members hand calls over to each other
	Address string `yaml:"address" json:"address"` // at which people and callers reach it
}

const fileForm = "fleet/1"

// The files beside a member's fleet file.
const (
	fleetFile = "fleet.yaml"
	caFile    = "ca.pem"   // authorities that the members' certificates are signed by; more while they are changed
	certFile  = "cert.pem" // of this member
	keyFile   = "key.pem"
	sealFile  = "seal.key" // the key to secrets in the journal
)

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// Read reads a member's file.
func Read(file string) (*File, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	f := &File{dir: filepath.Dir(file)}
	if err := yaml.UnmarshalWithOptions(b, f, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if err := f.Check(); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if f.Self() == nil {
		return nil, fmt.Errorf("%s: this: names %q, which is no member", file, f.This)
	}
	return f, nil
}

// Check says what is wrong with a file, or nil.
func (f *File) Check() error {
	switch {
	case f.Form != fileForm:
		return fmt.Errorf("it begins with readyferry: %s, not %q", fileForm, f.Form)
	case !nameForm.MatchString(f.Name):
		return fmt.Errorf("name: %q is no name: small letters, digits and hyphens", f.Name)
	case len(f.Members) < 1 || len(f.Members) > 25:
		return errors.New("members: a fleet has 1 to 25")
	case f.Replicas != 1 && f.Replicas != 3 && f.Replicas != 5:
		return fmt.Errorf("replicas: 1, 3 or 5, not %d", f.Replicas)
	case f.Partitions < 0 || f.Partitions > store.MostPartitions:
		return fmt.Errorf("partitions: 1 to %d, not %d", store.MostPartitions, f.Partitions)
	case f.Replicas > len(f.Members):
		return fmt.Errorf("replicas: %d machines are to keep the log, and there are %d members", f.Replicas,
			len(f.Members))
	}
	seen := map[string]bool{}
	for i := range f.Members {
		m := &f.Members[i]
		if !nameForm.MatchString(m.Name) || seen[m.Name] {
			return fmt.Errorf("members: %q is no name, or two have it", m.Name)
		}
		for _, at := range []string{m.Engine, m.Door} {
			if _, _, err := net.SplitHostPort(at); err != nil || seen[at] {
				return fmt.Errorf("members: %s: %q is no host:port, or two have it", m.Name, at)
			}
			seen[at] = true
		}
		if u, err := url.Parse(m.Address); err != nil || u.Host == "" {
			return fmt.Errorf("members: %s: address: %q is none, such as https://ferry.example.org", m.Name, m.Address)
		}
		seen[m.Name] = true
	}
	return nil
}

// Parts gives how many partitions there are.
func (f *File) Parts() int { return max(1, f.Partitions) }

// Self gives the member whose file it is.
func (f *File) Self() *Member { return f.Member(f.This) }

// Member gives a member by name, or nil.
func (f *File) Member(name string) *Member {
	if i := slices.IndexFunc(f.Members, func(m Member) bool { return m.Name == name }); i >= 0 {
		return &f.Members[i]
	}
	return nil
}

// majority is how many members must see each other.
func (f *File) majority() int { return f.Replicas/2 + 1 }

func (f *File) beside(name string) string { return filepath.Join(f.dir, name) }

// SealKey gives the key to secrets that all members have.
func (f *File) SealKey() ([]byte, error) { return os.ReadFile(f.beside(sealFile)) }
