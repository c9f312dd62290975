package connect

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"readyferry/core/config"
	"readyferry/core/message"
)

// Configure gives what the place says, where values and secrets of connections come from
// it. It is to be called before anything is read.
func (r *Registry) Configure(c *config.Config) { r.config = c }

// filled puts the values of this place where a document names them.
func (r *Registry) filled(n *message.Node, found Found) *message.Node {
	var values config.Values
	if r.config != nil {
		values = r.config.Values
	}
	return values.Fill(n, func(pointer, name string) {
		repair := "there are none; values stand in the file that the application is started with: --config FILE"
		if all := values.Names(); len(all) > 0 {
			repair = "there is " + strings.Join(all[:min(8, len(all))], ", ")
		}
		found(pointer, "unknown-name", fmt.Sprintf("config has no %s here", name), repair)
	})
}

// standIns is how the hosts of a secret name what ships with the application.
const standIns = "stand-in"

// secretFrom finds what is wrong with the secret that a connection has from its place.
func (r *Registry) secretFrom(c *Connection, found Found) {
	if c.SecretFrom == "" {
		return
	}
	var s *config.Secret
	if r.config != nil {
		s = r.config.Secrets[c.SecretFrom]
	}
	if s == nil {
		found("/secret-from", "unknown-name", fmt.Sprintf("there is no secret %s at this place", c.SecretFrom),
			"name it under secrets in the file that the application is started with, or give a secret here")
		return
	}
	hosts := c.Hosts()
	if strings.HasPrefix(c.Address, standIns+"://") {
		hosts = append(hosts, standIns)
	}
	if i := slices.IndexFunc(hosts, func(h string) bool { return !s.Goes(h) }); i >= 0 {
		found("/secret-from", "secret-stays", fmt.Sprintf("the secret %s may not go to %s", c.SecretFrom, hosts[i]),
			"whoever keeps the file of the secrets says to which hosts each may go")
	}
}

// SecretOf reads the secret that a connection has from its place; "" where it has none of that kind.
func (r *Registry) SecretOf(c *Connection) (string, error) {
	if c.SecretFrom == "" {
		return "", nil
	}
	if r.config == nil || r.config.Secrets[c.SecretFrom] == nil {
		return "", fmt.Errorf("there is no secret %s at this place", c.SecretFrom)
	}
	s := r.config.Secrets[c.SecretFrom]
	text := os.Getenv(s.Env)
	if s.File != "" {
		b, err := os.ReadFile(s.File)
		if err != nil {
			return "", fmt.Errorf("the secret %s: %w", c.SecretFrom, err)
		}
		text = strings.TrimRight(string(b), "\r\n")
	}
	if text == "" {
		return "", fmt.Errorf("the secret %s is empty", c.SecretFrom)
	}
	return text, nil
}
