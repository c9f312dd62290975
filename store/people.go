package store

import (
	"encoding/base64"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// Person is somebody who signs in.
type Person struct {
	Name     string `gorm:"primaryKey"` // by which they sign in: small letters
	Title    string // as others call them
	Password string // sealed (see SealPassword); "" for none
	Grants   []byte // JSON: roles, each with its area
	// Subject is who they are at an OpenID issuer, as issuer and subject; "" for nobody.
	Subject   string
	Ended     bool       // they sign in no more
	Failures  int        // in a row
	CreatedAt time.Time  `gorm:"serializer:micros;type:integer;autoCreateTime:false"`
	ChangedAt time.Time  `gorm:"serializer:micros;type:integer"` // when the way to sign in was last set
	SeenAt    *time.Time `gorm:"serializer:micros;type:integer"`
	LockedTo  *time.Time `gorm:"serializer:micros;type:integer"`
}

// Session is a person who is signed in, at one browser.
type Session struct {
	Token string `gorm:"primaryKey"` // hashed
	ID    string // by which people speak of it
	// Person is who; "" for somebody who has only begun to sign in.
	Person    string
	Data      []byte    // as the keeper of sessions has it
	Source    string    // the address it was begun from
	Agent     string    // what the browser calls itself
	CreatedAt time.Time `gorm:"serializer:micros;type:integer;autoCreateTime:false"`
	SeenAt    time.Time `gorm:"serializer:micros;type:integer"`
	Until     time.Time `gorm:"serializer:micros;type:integer"`
}

// Invitation lets somebody choose how to sign in, once.
type Invitation struct {
	Hash   []byte    `gorm:"primaryKey"`
	Person string    // "" for the first owner, who chooses a name, too
	Until  time.Time `gorm:"serializer:micros;type:integer"`
}

// Passkey is a credential of WebAuthn that a person has registered.
type Passkey struct {
	ID         []byte `gorm:"primaryKey"`
	Person     string
	Title      string     // as the person calls it
	Credential []byte     // JSON, as the library has it
	CreatedAt  time.Time  `gorm:"serializer:micros;type:integer;autoCreateTime:false"`
	UsedAt     *time.Time `gorm:"serializer:micros;type:integer"`
}

func people(db *gorm.DB) error {
	if err := db.AutoMigrate(&Person{}, &Session{}, &Invitation{}, &Passkey{}, &AuditLine{}); err != nil {
		return err
	}
	return execAll(db,
		"CREATE UNIQUE INDEX IF NOT EXISTS people_subject ON people (subject) WHERE subject <> ''",
		"CREATE UNIQUE INDEX IF NOT EXISTS sessions_id ON sessions (id)",
		"CREATE INDEX IF NOT EXISTS sessions_person ON sessions (person)",
		"CREATE INDEX IF NOT EXISTS passkeys_person ON passkeys (person)",
		"CREATE INDEX IF NOT EXISTS audit_lines_at ON audit_lines (at)",
	)
}

// SealPassword gives what is kept of a password as it stands in a person's row: sealed, so that
// whoever has the file alone has nothing that guesses could be tried on.
func (s *Store) SealPassword(person, kept string) (string, error) {
	sealed, err := s.Seal(passwordOf+person, []byte(kept))
	return base64.StdEncoding.EncodeToString(sealed), err
}

// UnsealPassword is the reverse of SealPassword; "" stays "".
func (s *Store) UnsealPassword(p *Person) (kept string, err error) {
	if p.Password == "" {
		return "", nil
	}
	sealed, err := base64.StdEncoding.DecodeString(p.Password)
	if err != nil {
		return "", fmt.Errorf("what is kept of the password of %s: %w", p.Name, err)
	}
	plain, err := s.Unseal(passwordOf+p.Name, sealed)
	return string(plain), err
}

const passwordOf = "password of "

// sealPasswords seals what an earlier release kept as it was: the text form of argon2id, which
// begins with a dollar sign.
func (s *Store) sealPasswords() error {
	var open []Person
	if err := s.write.Where("password LIKE '$%'").Find(&open).Error; err != nil {
		return err
	}
	for i := range open {
		sealed, err := s.SealPassword(open[i].Name, open[i].Password)
		if err == nil {
			err = s.write.Model(&Person{}).Where("name = ?", open[i].Name).Update("password", sealed).Error
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// sealPeopleAnew seals the passwords of all people with another key.
func (s *Store) sealPeopleAnew(tx *Tx, with *Store) (sealed int, err error) {
	all, err := tx.People()
	for i := range all {
		p := &all[i]
		if p.Password == "" {
			continue
		}
		kept, err := s.UnsealPassword(p)
		if err == nil {
			p.Password, err = with.SealPassword(p.Name, kept)
		}
		if err = errors.Join(err, tx.SavePerson(p)); err != nil {
			return sealed, err
		}
		sealed++
	}
	return sealed, err
}

// People lists the people by name.
func (v View) People() ([]Person, error) {
	var out []Person
	return out, v.sql().Order("name").Find(&out).Error
}

// Person gives somebody by name, or ErrNotFound.
func (v View) Person(name string) (Person, error) {
	var p Person
	return p, v.sql().Where("name = ?", name).Take(&p).Error
}

// PersonOf gives who is somebody at an OpenID issuer, or ErrNotFound.
func (v View) PersonOf(subject string) (Person, error) {
	var p Person
	return p, v.sql().Where("subject = ? AND subject <> ''", subject).Take(&p).Error
}

// SavePerson creates or replaces one.
func (tx *Tx) SavePerson(p *Person) error { return tx.sql().Save(p).Error }

// DropPerson removes one, with sessions, invitations and passkeys, or gives ErrNotFound.
func (tx *Tx) DropPerson(name string) error {
	for _, of := range []any{&Session{}, &Invitation{}, &Passkey{}} {
		if err := tx.sql().Where("person = ?", name).Delete(of).Error; err != nil {
			return err
		}
	}
	return deleted(tx.sql().Where("name = ?", name).Delete(&Person{}))
}

// Session gives a session by its hashed token, or ErrNotFound.
func (v View) Session(token string) (Session, error) {
	var s Session
	return s, v.sql().Where("token = ?", token).Take(&s).Error
}

// Sessions lists the sessions of a person, the latest first.
func (v View) Sessions(person string) ([]Session, error) {
	var out []Session
	return out, v.sql().Where("person = ?", person).Order("seen_at DESC").Limit(1000).Find(&out).Error
}

// SaveSession creates or replaces one.
func (tx *Tx) SaveSession(s *Session) error { return tx.sql().Save(s).Error }

// DropSession removes a session by its hashed token; it need not be there.
func (tx *Tx) DropSession(token string) error {
	return tx.sql().Where("token = ?", token).Delete(&Session{}).Error
}

// EndSession ends a session of a person by its id, or gives ErrNotFound.
func (tx *Tx) EndSession(person, id string) error {
	return deleted(tx.sql().Where("person = ? AND id = ?", person, id).Delete(&Session{}))
}

// EndSessions ends all sessions of a person but one, by its id.
func (tx *Tx) EndSessions(person, but string) error {
	return tx.sql().Where("person = ? AND id <> ?", person, but).Delete(&Session{}).Error
}

// DropEndedSessions removes what is over, so that it does not pile up.
func (tx *Tx) DropEndedSessions(now time.Time) error {
	return errors.Join(
		tx.sql().Where("until < ?", micros(now)).Delete(&Session{}).Error,
		tx.sql().Where("until < ?", micros(now)).Delete(&Invitation{}).Error,
	)
}

// SaveInvitation keeps one, in place of earlier ones of the same person.
func (tx *Tx) SaveInvitation(i *Invitation) error {
	if err := tx.sql().Where("person = ?", i.Person).Delete(&Invitation{}).Error; err != nil {
		return err
	}
	return tx.sql().Create(i).Error
}

// Invitation gives one by its hash, or ErrNotFound.
func (v View) Invitation(hash []byte) (Invitation, error) {
	var i Invitation
	return i, v.sql().Where("hash = ?", hash).Take(&i).Error
}

// DropInvitation removes one, or gives ErrNotFound: of two who come with it one is late.
func (tx *Tx) DropInvitation(hash []byte) error {
	return deleted(tx.sql().Where("hash = ?", hash).Delete(&Invitation{}))
}

// Passkeys lists those of a person; "" for everybody's.
func (v View) Passkeys(person string) ([]Passkey, error) {
	var out []Passkey
	q := v.sql().Order("created_at")
	if person != "" {
		q = q.Where("person = ?", person)
	}
	return out, q.Find(&out).Error
}

// SavePasskey creates or replaces one.
func (tx *Tx) SavePasskey(p *Passkey) error { return tx.sql().Save(p).Error }

// DropPasskey removes one of a person, or gives ErrNotFound.
func (tx *Tx) DropPasskey(person string, id []byte) error {
	return deleted(tx.sql().Where("person = ? AND id = ?", person, id).Delete(&Passkey{}))
}
