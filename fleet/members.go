package fleet

import (
	"crypto/ecdsa"
	"crypto/tls"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/goccy/go-yaml"
)

// Add makes the folder of a further member, and names it in the files of the others. Each of them is to be
// given its folder, and started anew.
func Add(dir string, m Member, now time.Time) error {
	return change(dir, func(f *File) error {
		f.Members = append(f.Members, m)
		return nil
	}, func(files []string) error {
		first := filepath.Dir(files[0])
		own := filepath.Join(dir, m.Name)
		if err := os.MkdirAll(own, 0o700); err != nil {
			return err
		}
		for _, name := range []string{fleetFile, sealFile, caFile} {
			b, err := os.ReadFile(filepath.Join(first, name))
			if err == nil && name == fleetFile {
				b, err = as(b, m.Name)
			}
			if err == nil {
				err = put(own, name, b)
			}
			if err != nil {
				return err
			}
		}
		ca, err := readAuthority(dir)
		if err != nil {
			return err
		}
		return ca.issueAll(own, &m, now)
	})
}

// as gives the file of one member as that of another.
func as(b []byte, member string) ([]byte, error) {
	var f File
	if err := yaml.Unmarshal(b, &f); err != nil {
		return nil, err
	}
	f.This = member
	return yaml.Marshal(&f)
}

// Drop takes a member out of the files of the others, and its folder away.
func Drop(dir, member string) error {
	if !nameForm.MatchString(member) {
		return fmt.Errorf("%q is no name of a member", member)
	}
	return change(dir, func(f *File) error {
		if f.Member(member) == nil {
			return fmt.Errorf("%q is no member", member)
		}
		f.Members = slices.DeleteFunc(f.Members, func(m Member) bool { return m.Name == member })
		return nil
	}, func([]string) error { return os.RemoveAll(filepath.Join(dir, member)) })
}

// change changes the files of all members alike, or none of them.
func change(dir string, do func(f *File) error, also func(files []string) error) error {
	files, err := filepath.Glob(filepath.Join(dir, "*", fleetFile))
	if err != nil || len(files) == 0 {
		return errors.Join(err, fmt.Errorf("there is no fleet in %s", dir))
	}
	texts := map[string][]byte{}
	for _, file := range files {
		f, err := Read(file)
		if err == nil {
			err = do(f)
		}
		if err == nil {
			err = f.Check()
		}
		if err == nil {
			texts[file], err = yaml.Marshal(f)
		}
		if err != nil {
			return err
		}
	}
	for file, text := range texts {
		if err := put(filepath.Dir(file), fleetFile, text); err != nil {
			return err
		}
	}
	return also(files)
}

// readAuthority reads the authority of a fleet with its key.
func readAuthority(dir string) (*authority, error) {
	pair, err := tls.LoadX509KeyPair(filepath.Join(dir, authorityCert), filepath.Join(dir, authorityKey))
	if err != nil {
		return nil, fmt.Errorf("the authority of the fleet: %w", err)
	}
	key, is := pair.PrivateKey.(*ecdsa.PrivateKey)
	if !is {
		return nil, errors.New("the key of the authority is of another kind")
	}
	return &authority{cert: pair.Leaf, key: key}, nil
}
