package sql

import (
	"context"
	"crypto/tls"
	"database/sql"
	"fmt"
	"net"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	mssql "github.com/microsoft/go-mssqldb"
	"github.com/microsoft/go-mssqldb/msdsn"

	"readyferry/connect"
	"readyferry/connect/reach"
)

// The drivers of databases.
const (
	DriverSQLite     = "sqlite"
	DriverPostgreSQL = "postgresql"
	DriverMySQL      = "mysql"
	DriverSQLServer  = "sqlserver"
)

// servers are the databases that are reached over the network, by driver.
var servers = map[string]struct{ scheme, port, title string }{
	DriverPostgreSQL: {"postgresql", "5432", "PostgreSQL"},
	DriverMySQL:      {"mysql", "3306", "MySQL or MariaDB"},
	DriverSQLServer:  {"sqlserver", "1433", "SQL Server"},
}

// How a connection to a server is encrypted.
const (
	encryptedVerified = "verified"
	encryptedNever    = "never"
)

// database opens what a connection names. No server is asked yet.
func (p *places) database(c *connect.Connection) (*sql.DB, error) {
	if c.Text("/driver") == DriverSQLite {
		source, err := p.file(c)
		if err != nil {
			return nil, err
		}
		return sql.OpenDB(newGuarded(source, writes(c))), nil
	}
	u, err := url.Parse(c.Address)
	if err != nil {
		return nil, err
	}
	config, err := encryption(c, u.Hostname())
	if err != nil {
		return nil, err
	}
	user, secret := "", ""
	if c.SignIn.Kind == connect.SignInBasic && len(c.SignIn.Secrets) > 0 {
		user, secret = c.SignIn.User, c.SignIn.Secrets[0]
	}
	switch c.Text("/driver") {
	case DriverMySQL:
		return overMySQL(c, u, user, secret, config)
	case DriverSQLServer:
		return overSQLServer(c, u, user, secret, config), nil
	}
	return overPostgreSQL(c, u, user, secret, config)
}

// encryption gives the TLS of a connection; nil where none is asked for by name: then the
// driver's usual way is gone.
func encryption(c *connect.Connection, host string) (*tls.Config, error) {
	if c.Text("/encryption") != encryptedVerified {
		return nil, nil
	}
	return reach.Config(c, host)
}

func overPostgreSQL(c *connect.Connection, u *url.URL, user, secret string, config *tls.Config) (*sql.DB, error) {
	if user != "" {
		u.User = url.UserPassword(user, secret)
	}
	q := u.Query()
	if c.Text("/encryption") == encryptedNever {
		q.Set("sslmode", "disable")
	}
	u.RawQuery = q.Encode()
	parsed, err := pgx.ParseConfig(u.String())
	if err != nil {
		return nil, err
	}
	if config != nil {
		parsed.TLSConfig, parsed.Fallbacks = config, nil
	}
	parsed.DialFunc = dialer{c}.DialContext
	parsed.LookupFunc = func(_ context.Context, host string) ([]string, error) { return []string{host}, nil }
	return stdlib.OpenDB(*parsed), nil
}

func at(u *url.URL, driver string) string {
	port := u.Port()
	if port == "" {
		port = servers[driver].port
	}
	return net.JoinHostPort(u.Hostname(), port)
}

// overMySQL opens a database of MySQL or MariaDB. Times come as the texts that they are
// there, which compare as they stand; a row counts as concerned when it is found, whether
// or not its values were others.
func overMySQL(c *connect.Connection, u *url.URL, user, secret string, config *tls.Config) (*sql.DB, error) {
	m := mysql.NewConfig()
	m.User, m.Passwd, m.Net, m.Addr, m.DBName = user, secret, "tcp", at(u, DriverMySQL), strings.TrimPrefix(u.Path, "/")
	m.ClientFoundRows, m.Timeout = true, c.TimeLimit
	m.ReadTimeout, m.WriteTimeout = c.TimeLimit+time.Second, c.TimeLimit
	m.Logger = &mysql.NopLogger{}
	m.DialFunc = dialer{c}.DialContext
	switch {
	case config != nil:
		m.TLS = config
	case c.Text("/encryption") != encryptedNever:
		m.TLSConfig = "preferred"
	}
	connector, err := mysql.NewConnector(m)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}

func overSQLServer(c *connect.Connection, u *url.URL, user, secret string, config *tls.Config) *sql.DB {
	m := msdsn.Config{Host: u.Hostname(), Port: 1433, User: user, Password: secret,
		Database:    strings.TrimPrefix(u.Path, "/"),
		DialTimeout: c.TimeLimit, ConnTimeout: c.TimeLimit, AppName: "readyferry", Encryption: msdsn.EncryptionOff,
		Protocols: []string{"tcp"}, TrustServerCertificate: true}
	if n, err := strconv.ParseUint(u.Port(), 10, 16); err == nil {
		m.Port = n
	}
	switch {
	case config != nil:
		m.Encryption, m.TLSConfig, m.TrustServerCertificate = msdsn.EncryptionRequired, config, false
	case c.Text("/encryption") == encryptedNever:
		m.Encryption = msdsn.EncryptionDisabled
	default: // the server says whether all is encrypted; signing in always is
		m.TLSConfig = &tls.Config{ServerName: u.Hostname(), InsecureSkipVerify: true,
			MinVersion: tls.VersionTLS12} // as its title says
	}
	connector := mssql.NewConnectorConfig(m)
	connector.Dialer = dialer{c}
	return sql.OpenDB(connector)
}

// dialer reaches a server as a connection may, through its proxy where it has one.
type dialer struct{ c *connect.Connection }

// DialContext connects to a host and port by the name that the drivers were given.
func (d dialer) DialContext(ctx context.Context, _, at string) (net.Conn, error) {
	return reach.DialAt(ctx, d.c, at, false, nil)
}

// HostName tells the driver of SQL Server that it resolves no names.
func (d dialer) HostName() string { return d.c.Address }

// file gives the source of an SQLite file.
func (p *places) file(c *connect.Connection) (string, error) {
	path := strings.TrimPrefix(c.Address, "file://")
	if name, ok := strings.CutPrefix(c.Address, "stand-in://"); ok {
		if p.standIns == "" || name != filepath.Base(name) {
			return "", fmt.Errorf("%w: there is no stand-in %q here", connect.ErrCannotSend, name)
		}
		path = filepath.Join(p.standIns, name)
	}
	if same(path, p.own) {
		return "", fmt.Errorf("%w: that is the application's own file", connect.ErrCannotSend)
	}
	mode := "mode=ro&_query_only=true"
	if writes(c) {
		mode = "mode=rw&_txlock=immediate"
	}
	return "file:" + (&url.URL{Path: path}).EscapedPath() + "?_busy_timeout=5000&" + mode, nil
}
