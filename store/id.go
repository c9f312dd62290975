package store

import (
	"database/sql/driver"
	"fmt"

	"github.com/google/uuid"
)

// ID is a UUID kept as 16 bytes. Version 7 sorts by time.
type ID [16]byte

// NewID gives a new id of version 7 (RFC 9562, 5.7).
func NewID() ID {
	return ID(uuid.Must(uuid.NewV7()))
}

// ParseID reads the usual text form.
func ParseID(s string) (ID, error) {
	u, err := uuid.Parse(s)
	if err != nil || len(s) != 36 {
		return ID{}, fmt.Errorf("%q is no id", s)
	}
	return ID(u), nil
}

// String gives the usual text form.
func (id ID) String() string { return uuid.UUID(id).String() }

// MarshalText implements encoding.TextMarshaler.
func (id ID) MarshalText() ([]byte, error) { return []byte(id.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (id *ID) UnmarshalText(text []byte) (err error) {
	*id, err = ParseID(string(text))
	return err
}

// Value implements driver.Valuer.
func (id ID) Value() (driver.Value, error) { return id[:], nil }

// Scan implements sql.Scanner.
func (id *ID) Scan(v any) error {
	b, ok := v.([]byte)
	if !ok || len(b) != 16 {
		return fmt.Errorf("an id has 16 bytes, not %T", v)
	}
	copy(id[:], b)
	return nil
}

// GormDataType implements schema.GormDataTypeInterface.
func (ID) GormDataType() string { return "blob" }
