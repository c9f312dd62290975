// Package systems lists the kinds of outside system that the application has: a
// line for each.
package systems

import (
	"net"

	"readyferry/connect"
	"readyferry/connect/caller"
	"readyferry/connect/http"
	"readyferry/connect/mqtt"
	"readyferry/connect/sql"
	"readyferry/core/system"
)

// Surroundings are what systems need of the application.
type Surroundings struct {
	StandIns  string // base address of simulated systems over HTTP
	Databases string // folder of simulated databases
	Own       string // the application's own file, which no connection may open
	// Broker reaches a simulated broker by its name; nil: there are none.
	Broker func(name string) (net.Conn, error)
}

// All makes the registry, in the order in which people are offered systems. more
// are systems that only some programs have.
func All(s Surroundings, more ...connect.System) (*connect.Registry, error) {
	all := []connect.System{
		http.New(s.StandIns),
		sql.New(s.Databases, s.Own),
		mqtt.New(s.Broker),
		caller.System(),
	}
	return connect.NewRegistry(append(append(all, tests()...), more...)...)
}

// Kinds gives what flows know of the systems, for programs that reach none.
func Kinds() (system.Kinds, error) {
	r, err := All(Surroundings{})
	if err != nil {
		return nil, err
	}
	return r.Kinds(), nil
}
