package api

import (
	"strings"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/engine/people"
)

// some gives the people, where there are any.
func (s *Server) some() (*people.People, error) {
	if s.people == nil {
		return nil, bad("nobody signs in here")
	}
	return s.people, nil
}

// listPeople lists the people.
func (s *Server) listPeople(c *gin.Context) error {
	if s.people == nil {
		return reply(c, []people.Someone{})
	}
	out, err := s.people.List()
	if err != nil {
		return err
	}
	return reply(c, out)
}

// putPerson creates or changes somebody.
func (s *Server) putPerson(c *gin.Context) error {
	p, err := s.some()
	if err != nil {
		return err
	}
	var in struct {
		Title  string         `json:"title"`
		Grants []access.Grant `json:"grants"`
		Ended  bool           `json:"ended"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if err := p.Save(c.Request.Context(), c.Param("name"), in.Title, in.Grants, in.Ended); err != nil {
		return err
	}
	return done(c)
}

// dropPerson takes somebody away.
func (s *Server) dropPerson(c *gin.Context) error {
	p, err := s.some()
	if err == nil {
		err = p.Remove(c.Request.Context(), c.Param("name"))
	}
	if err != nil {
		return err
	}
	return done(c)
}

// invite makes a link by which somebody chooses a password; it is shown once.
func (s *Server) invite(c *gin.Context) error {
	p, err := s.some()
	if err != nil {
		return err
	}
	secret, err := p.Invite(c.Request.Context(), c.Param("name"))
	if err != nil {
		return err
	}
	return reply(c, gin.H{"link": s.reachedAt(c.Request).String() + "/welcome#" + secret})
}

// unlock lets somebody try again.
func (s *Server) unlock(c *gin.Context) error {
	p, err := s.some()
	if err == nil {
		err = p.Unlock(c.Request.Context(), c.Param("name"))
	}
	if err != nil {
		return err
	}
	return done(c)
}

// signOutPerson ends all sessions of somebody.
func (s *Server) signOutPerson(c *gin.Context) error {
	p, err := s.some()
	if err == nil {
		err = p.End(c.Request.Context(), c.Param("name"), "", "")
	}
	if err != nil {
		return err
	}
	return done(c)
}

// outbound gives the addresses outside that an owner permits, and what connections name.
func (s *Server) outbound(c *gin.Context) error {
	list := s.engine.Catalog.Outbound()
	type host struct {
		Connection string   `json:"connection"`
		Host       string   `json:"host"`
		Kinds      []string `json:"kinds"` // of address that it had when it was saved; * for any
	}
	hosts := []host{}
	for _, conn := range s.engine.Catalog.Connections() {
		for _, name := range conn.Hosts() {
			kinds := []string{}
			for _, k := range conn.Named[name] {
				kinds = append(kinds, string(k))
			}
			hosts = append(hosts, host{conn.Name, name, kinds})
		}
	}
	if list == nil {
		list = []string{}
	}
	return reply(c, gin.H{"list": list, "hosts": hosts})
}

// putOutbound replaces the list.
func (s *Server) putOutbound(c *gin.Context) error {
	var in struct {
		List []string `json:"list"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	for i := range in.List {
		in.List[i] = strings.TrimSpace(in.List[i])
	}
	if err := s.engine.Catalog.SetOutbound(c.Request.Context(), in.List); err != nil {
		return bad("%w", err)
	}
	return done(c)
}

// personNamed gives somebody as others see them; nil where there is nobody.
func (s *Server) personNamed(name string) any {
	if s.people == nil {
		return nil
	}
	all, err := s.people.List()
	if err != nil {
		return nil
	}
	for i := range all {
		if all[i].Name == name {
			return all[i]
		}
	}
	return nil
}
