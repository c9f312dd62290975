package store

import (
	"time"

	"gorm.io/gorm"
)

// Asked is a draft that somebody would publish and for which a second person has to speak.
type Asked struct {
	Flow    string `gorm:"primaryKey"`
	Mark    string // of the draft with its files: what was asked for is what goes live
	By      string
	Person  bool // whoever asked is a person, not a program
	Note    string
	Despite string
	Share   int
	LiveAt  *time.Time `gorm:"serializer:micros;type:integer"`
	At      time.Time  `gorm:"serializer:micros;type:integer"`
}

// TableName implements GORM's Tabler.
func (Asked) TableName() string { return "asked" }

// asked makes the table, and notes who has saved connections and rules.
func asked(db *gorm.DB) error {
	if err := db.AutoMigrate(&Asked{}); err != nil {
		return err
	}
	return addColumns(db, []column{
		{&Connection{}, "By", "ALTER TABLE connections ADD COLUMN \"by\" text NOT NULL DEFAULT ''"},
		{&AlarmRule{}, "By", "ALTER TABLE alarm_rules ADD COLUMN \"by\" text NOT NULL DEFAULT ''"},
	})
}

// Asked gives what was asked for a flow; ErrNotFound where nothing was.
func (v View) Asked(flow string) (a Asked, err error) {
	return a, v.sql().Where("flow = ?", flow).Take(&a).Error
}

// AllAsked lists what waits for a second person, by the names of flows.
func (v View) AllAsked() (out []Asked, err error) {
	return out, v.sql().Order("flow").Find(&out).Error
}

// AskFor keeps what is asked for a flow, in place of what was.
func (tx *Tx) AskFor(a *Asked) error { return tx.sql().Save(a).Error }

// Unask takes back what was asked for a flow.
func (tx *Tx) Unask(flow string) error {
	return tx.sql().Where("flow = ?", flow).Delete(&Asked{}).Error
}
