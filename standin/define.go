package standin

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// A name stands in addresses and connections.
var nameIs = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// token is what a header's name and a method may be made of (RFC 9110, 5.6.2).
var token = regexp.MustCompile("^[!#$%&'*+.^_`|~0-9A-Za-z-]+$")

const (
	maxRoutes = 200
	maxHas    = 100
)

// Check says what is wrong with a definition, or nil.
func (d *Definition) Check() error {
	switch {
	case !nameIs.MatchString(d.Name):
		return fmt.Errorf("the name %q must be made of small letters, digits and -, at most 63, such as shelf-printer", d.Name)
	case d.Kind != "" && speakers[d.Kind] == nil:
		return fmt.Errorf("kind must be %s, or left out for one over HTTP, not %q", strings.Join(Kinds, ", "), d.Kind)
	case len(d.Title) > 200 || len(d.Note) > 2000:
		return errors.New("title has at most 200 bytes, note at most 2000")
	case d.Status != 0 && !answers(d.Status):
		return fmt.Errorf("status must be between 200 and 599, not %d", d.Status)
	case d.Delay < 0 || d.Delay > maxDelay:
		return fmt.Errorf("delay must be between 0 and %d milliseconds, not %d", maxDelay, d.Delay)
	case len(d.Body) > maxBody:
		return fmt.Errorf("body has %d bytes; at most %d are kept", len(d.Body), maxBody)
	case len(d.Routes) > maxRoutes:
		return fmt.Errorf("there are %d routes; at most %d are kept", len(d.Routes), maxRoutes)
	}
	if len(d.Has) > maxHas || slices.ContainsFunc(d.Has, func(s string) bool { return len(s) > 1000 }) {
		return fmt.Errorf("has: at most %d lines of at most 1000 bytes are kept", maxHas)
	}
	for name, value := range d.Headers {
		if !token.MatchString(name) || strings.ContainsAny(value, "\r\n\x00") {
			return fmt.Errorf("headers: %q is no header (RFC 9110, 5.6.2), or its value has a line end", name)
		}
	}
	if d.Tokens != nil {
		if err := d.Tokens.check(); err != nil {
			return err
		}
	}
	if f := d.Falters; f != nil && (f.Every < 1 || !answers(f.Status)) {
		return fmt.Errorf("falters: every must be 1 or more and status between 200 and 599, not %d and %d", f.Every, f.Status)
	}
	for i, r := range d.Routes {
		switch {
		case !token.MatchString(r.Method):
			return fmt.Errorf("routes, number %d: method must be one such as GET, not %q", i+1, r.Method)
		case !strings.HasPrefix(r.Path, "/"):
			return fmt.Errorf("routes, number %d: path must begin with /, such as /members/{id}, not %q", i+1, r.Path)
		case r.Status != 0 && !answers(r.Status):
			return fmt.Errorf("routes, number %d: status must be between 200 and 599, not %d", i+1, r.Status)
		case len(r.Body) > maxBody:
			return fmt.Errorf("routes, number %d: body has %d bytes; at most %d are kept", i+1, len(r.Body), maxBody)
		}
	}
	return nil
}

// answers tells whether a status can be an answer.
func answers(code int) bool { return code >= 200 && code <= 599 }

// Remove takes a stand-in away with what it received, or gives ErrNotFound.
func (s *Set) Remove(name string) error {
	s.mu.Lock()
	sys, is := s.systems[name]
	delete(s.systems, name)
	s.mu.Unlock()
	if !is {
		return ErrNotFound
	}
	s.changed()
	if sys.speaker == nil {
		return nil
	}
	err := sys.speaker.close()
	if f, keeps := sys.speaker.(forgotten); keeps {
		err = errors.Join(err, f.forget())
	}
	return err
}
