// Package systems lists the kinds of outside system that the application has: a
// line for each.
package systems

import (
	"net"

	"readyferry/connect"
	"readyferry/connect/amqp"
	"readyferry/connect/amqp1"
	"readyferry/connect/caller"
	"readyferry/connect/files"
	"readyferry/connect/ftp"
	"readyferry/connect/http"
	"readyferry/connect/mail"
	"readyferry/connect/mqtt"
	"readyferry/connect/nats"
	"readyferry/connect/objects"
	"readyferry/connect/sftp"
	"readyferry/connect/sql"
	"readyferry/connect/stream"
	"readyferry/connect/tcp"
	"readyferry/core/system"
)

// Surroundings are what systems need of the application.
type Surroundings struct {
	StandIns  string // base address of simulated systems over HTTP
	Databases string // folder of simulated databases
	Own       string // the application's own file, which no connection may open
	// Files are the folders that the operator names, which connections may reach; Folders
	// is the one of simulated folders.
	Files   []string
	Folders string
	// StandIn reaches a simulated system of a kind by its name; nil: there are none.
	StandIn func(kind, name string) (net.Conn, error)
}

// standIn gives how simulated systems of a kind are reached, nil where there are none.
func (s *Surroundings) standIn(kind string) func(name string) (net.Conn, error) {
	if s.StandIn == nil {
		return nil
	}
	return func(name string) (net.Conn, error) { return s.StandIn(kind, name) }
}

// All makes the registry, in the order in which people are offered systems. more
// are systems that only some programs have.
func All(s Surroundings, more ...connect.System) (*connect.Registry, error) {
	all := []connect.System{
		http.New(s.StandIns),
		sql.New(s.Databases, s.Own),
		mqtt.New(s.standIn(mqtt.Kind)),
		amqp.New(s.standIn(amqp.Kind)),
		stream.New(s.standIn(stream.Kind)),
		nats.New(s.standIn(nats.Kind)),
		amqp1.New(),
		files.New(s.Files, s.Folders),
		sftp.New(s.standIn(sftp.Kind)),
		ftp.New(s.standIn(ftp.Kind)),
		objects.New(s.standIn(objects.Kind)),
		mail.New(s.standIn(mail.Kind)),
		tcp.New(s.standIn(tcp.Kind)),
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
