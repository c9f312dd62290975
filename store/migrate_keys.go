package store

import (
	"errors"
	"strings"

	"gorm.io/gorm"
)

// Each index costs a page with each commit, and most of what a commit writes are such pages.
// So a message and a delivery are found through their transaction, and a row that is short
// stands in the index of its key.

// fewerIndexes gives a file that form.
func fewerIndexes(db *gorm.DB) error {
	if err := addColumns(db, []column{
		{&Transaction{}, "Message", "ALTER TABLE transactions ADD COLUMN message integer NOT NULL DEFAULT 0"},
		{&Delivery{}, "Taken", "ALTER TABLE deliveries ADD COLUMN taken blob"},
	}); err != nil {
		return err
	}
	if err := errors.Join(numbered(db), execAll(db,
		"CREATE INDEX IF NOT EXISTS messages_repairs ON messages (tx, n) WHERE n > 0",
		"CREATE TABLE first_messages AS SELECT tx, seq FROM messages WHERE n = 0",
		"CREATE INDEX first_messages_tx ON first_messages (tx)",
		"UPDATE transactions SET message = COALESCE((SELECT seq FROM first_messages f WHERE f.tx = transactions.id), 0)",
		"DROP TABLE first_messages",
		"DROP INDEX IF EXISTS transactions_whole",
		"DROP INDEX IF EXISTS deliveries_id",
		"DROP INDEX IF EXISTS tallies_largest",
		"CREATE INDEX tallies_largest ON tallies (n DESC) WHERE kind = 'letters'",
	)); err != nil {
		return err
	}
	return anew(db, "transactions", func() error { return byKeyAlone(db, "transactions", "id") })
}

// numbered gives messages their numbers: those of their rows.
func numbered(db *gorm.DB) error {
	if db.Migrator().HasColumn(&Message{}, "Seq") {
		return nil
	}
	return anew(db, "messages", func() error {
		if err := db.Exec("ALTER TABLE messages RENAME TO messages_before").Error; err != nil {
			return err
		}
		if err := db.Migrator().CreateTable(&Message{}); err != nil {
			return err
		}
		const columns = "tx, n, headers, params, query, body, source, warnings, answer"
		return execAll(db,
			"INSERT INTO messages (seq, "+columns+") SELECT rowid, "+columns+" FROM messages_before ORDER BY rowid",
			"DROP TABLE messages_before",
		)
	})
}

// byKeyAlone makes a table one whose rows stand in the index of its key: they are small,
// each is written once, and an index beside them would be written with each.
func byKeyAlone(db *gorm.DB, table, key string) error {
	var text string
	err := db.Raw("SELECT sql FROM sqlite_master WHERE type = 'table' AND name = ?", table).Scan(&text).Error
	if err != nil || strings.HasSuffix(text, "WITHOUT ROWID") {
		return err
	}
	made := strings.Replace(text, "`"+table+"`", "`"+table+"_by_key`", 1)
	if made == text {
		made = strings.Replace(text, `"`+table+`"`, "`"+table+"_by_key`", 1)
	}
	return execAll(db,
		made+" WITHOUT ROWID",
		"INSERT INTO "+table+"_by_key SELECT * FROM "+table+" ORDER BY "+key,
		"DROP TABLE "+table,
		"ALTER TABLE "+table+"_by_key RENAME TO "+table,
	)
}

// versionsOnTrial lets a version take a share of messages, or wait for its time, and keeps
// what became of versions. Each that was published before went live then.
func versionsOnTrial(db *gorm.DB) error {
	err := addColumns(db, []column{
		{&Flow{}, "Trial", "ALTER TABLE flows ADD COLUMN trial integer NOT NULL DEFAULT 0"},
		{&Flow{}, "TrialOf", "ALTER TABLE flows ADD COLUMN trial_of integer NOT NULL DEFAULT 0"},
		{&Flow{}, "TrialAt", "ALTER TABLE flows ADD COLUMN trial_at integer"},
		{&Flow{}, "Planned", "ALTER TABLE flows ADD COLUMN planned integer NOT NULL DEFAULT 0"},
		{&Flow{}, "PlannedAt", "ALTER TABLE flows ADD COLUMN planned_at integer"},
	})
	if err != nil {
		return err
	}
	if err := db.AutoMigrate(&VersionEvent{}); err != nil {
		return err
	}
	return execAll(db, "CREATE INDEX IF NOT EXISTS version_events_by_flow ON version_events (flow, n)",
		"INSERT INTO version_events (flow, version, at, `by`, what, note) "+
			"SELECT flow, n, published_at, `by`, 'live', note FROM versions ORDER BY published_at, n")
}
