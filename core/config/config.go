// Package config reads what differs between the places where the same flows run: values
// that expressions name as config.…, and where secrets come from that are not kept here.
//
//	readyferry: config/1
//	values:
//	  shelf: {address: https://shelf.example.org, per-second: 5}
//	secrets:
//	  shelf-token: {file: /run/secrets/shelf-token, for: [shelf.example.org]}
//	  printer: {env: PRINTER_PASSWORD, for: [printer.example.org]}
//
// It promises that a document is read as a whole or not at all, and that a secret goes
// nowhere but to the hosts that stand beside it.
package config

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/message"
)

// Head is what a document begins with.
const Head = "config/1"

// Values are texts, numbers, true and false by their names, which have dots where a value
// stands below another: shelf.address.
type Values map[string]*message.Node

// Names lists the names, sorted.
func (v Values) Names() []string { return slices.Sorted(maps.Keys(v)) }

// Secret is where a secret comes from: a file or a variable of the process.
type Secret struct {
	File, Env string
	For       []string // hosts that it may go to, in lower case
}

// Goes tells whether the secret may go to a host.
func (s *Secret) Goes(host string) bool { return slices.Contains(s.For, strings.ToLower(host)) }

// Config is what one place says.
type Config struct {
	Values  Values
	Secrets map[string]*Secret
}

var identifier = regexp.MustCompile(`^[a-zA-Z_][a-zA-Z0-9_-]{0,99}$`)

// mostValues bounds what expressions are compiled with.
const mostValues = 1000

// Read reads a document, YAML or JSON. The error is a flow.Finding or says which name is wrong.
func Read(src []byte) (*Config, error) {
	source, bad := flow.Parse(src)
	if bad != nil {
		return nil, bad
	}
	root := source.Root
	if root.Kind != message.Map || root.Get("readyferry") == nil || root.Get("readyferry").Text != Head {
		return nil, errors.New("it is no document of values; begin it with readyferry: " + Head)
	}
	c := &Config{Values: Values{}, Secrets: map[string]*Secret{}}
	for _, m := range root.Members {
		var err error
		switch m.Name {
		case "readyferry":
		case "values":
			err = c.values("", m.Value)
		case "secrets":
			err = c.secrets(m.Value)
		default:
			err = fmt.Errorf("the key %q is not known here; there are values and secrets", m.Name)
		}
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", source.Key("/"+m.Name).Line, err)
		}
	}
	if len(c.Values) > mostValues {
		return nil, fmt.Errorf("%d values are more than %d", len(c.Values), mostValues)
	}
	return c, nil
}

// values takes what stands below a name apart, down to texts, numbers, true and false.
func (c *Config) values(below string, n *message.Node) error {
	switch n.Kind {
	case message.Map:
		for _, m := range n.Members {
			if !identifier.MatchString(m.Name) || strings.Contains(m.Name, "-") {
				return fmt.Errorf("%q is no name of a value: letters, digits and _, so that expressions can name it", below+m.Name)
			}
			if err := c.values(below+m.Name+".", m.Value); err != nil {
				return err
			}
		}
		return nil
	case message.String, message.Number, message.Bool:
		if name := strings.TrimSuffix(below, "."); name != "" {
			c.Values[name] = n
			return nil
		}
	}
	return fmt.Errorf("%s is a %s; a value is a text, a number, true or false", strings.TrimSuffix("values."+below,
		"."), n.Kind)
}

func (c *Config) secrets(n *message.Node) error {
	for _, m := range n.Members {
		s := &Secret{}
		for _, k := range m.Value.Members {
			switch k.Name {
			case "file":
				s.File = k.Value.Text
			case "env":
				s.Env = k.Value.Text
			case "for":
				hosts := k.Value.Items
				if k.Value.Kind == message.String {
					hosts = []*message.Node{k.Value}
				}
				for _, h := range hosts {
					s.For = append(s.For, strings.ToLower(h.Text))
				}
			default:
				return fmt.Errorf("the secret %s: the key %q is not known; there are file, env and for", m.Name, k.Name)
			}
		}
		switch {
		case !identifier.MatchString(m.Name):
			return fmt.Errorf("%q is no name of a secret: letters, digits, - and _", m.Name)
		case (s.File == "") == (s.Env == ""):
			return fmt.Errorf("the secret %s comes from a file or from env, one of them", m.Name)
		case len(s.For) == 0 || slices.Contains(s.For, ""):
			return fmt.Errorf("the secret %s has to say to which hosts it may go: for: [shelf.example.org]", m.Name)
		}
		c.Secrets[m.Name] = s
	}
	return nil
}

// Over gives what holds where both say something: what the other says.
func (c *Config) Over(other *Config) *Config {
	out := &Config{Values: maps.Clone(c.Values), Secrets: maps.Clone(c.Secrets)}
	maps.Copy(out.Values, other.Values)
	maps.Copy(out.Secrets, other.Secrets)
	return out
}
