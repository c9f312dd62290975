package store

import "gorm.io/gorm"

// exactAnswers adds what mending wrong answers needs: versions keep their rules,
// tables hide what is being loaded, sources say since when they fail, and what is
// counted often is counted beside, so that no list grows slower with the backlog.
func exactAnswers(db *gorm.DB) error {
	if err := addColumns(db, []column{
		{&Version{}, "Rules", "ALTER TABLE versions ADD COLUMN rules integer NOT NULL DEFAULT 1"},
		{&Table{}, "Loading", `ALTER TABLE "tables" ADD COLUMN loading integer NOT NULL DEFAULT 0`},
		{&Table{}, "Dropped", `ALTER TABLE "tables" ADD COLUMN dropped numeric NOT NULL DEFAULT 0`},
		{&Clock{}, "FailsSince", "ALTER TABLE clocks ADD COLUMN fails_since integer"},
		{&Clock{}, "Staged", "ALTER TABLE clocks ADD COLUMN staged integer NOT NULL DEFAULT 0"},
		{&Transaction{}, "Lent", "ALTER TABLE transactions ADD COLUMN lent numeric NOT NULL DEFAULT 0"},
		{&PolledRow{}, "SeenAt", "ALTER TABLE polled_rows ADD COLUMN seen_at integer NOT NULL DEFAULT 0"},
		{&Clock{}, "Marks", "ALTER TABLE clocks ADD COLUMN marks blob"},
		{&LetterEvent{}, "Who", "ALTER TABLE letter_events ADD COLUMN who text NOT NULL DEFAULT ''"},
	}); err != nil {
		return err
	}
	if err := db.AutoMigrate(&tally{}, &StagedItem{}); err != nil {
		return err
	}
	const add = " ON CONFLICT (kind, key) DO UPDATE SET n = n + excluded.n"
	letters := func(row, by string) string {
		return "INSERT INTO tallies (kind, key, n) SELECT kind, key, n FROM (SELECT 'letters' AS kind, " + row +
			".cause AS key, " + by + " AS n UNION ALL SELECT 'all letters', '', " + by + ") WHERE " + row + ".state = 0" + add + ";"
	}
	groups := func(row, by string) string {
		return "INSERT INTO tallies (kind, key, n) SELECT kind, key, n FROM (SELECT 'groups' AS kind, " + row +
			".flow || ' ' || " + row + ".path AS key, " + by + " AS n UNION ALL SELECT 'all groups', '', " + by + ") WHERE " + row +
			".state = 0" + add + ";"
	}
	return execAll(
		db,
		// Where an earlier migration has made a table anew, its new columns stand there
		// already and hold nothing.
		"UPDATE versions SET rules = 1 WHERE rules IS NULL OR rules = 0",
		`UPDATE "tables" SET loading = COALESCE(loading, 0), dropped = COALESCE(dropped, 0)`,
		"UPDATE transactions SET lent = 0 WHERE lent IS NULL",
		"CREATE INDEX IF NOT EXISTS polled_rows_seen ON polled_rows (flow, seen_at)",
		"UPDATE clocks SET staged = 0 WHERE staged IS NULL",
		"UPDATE letter_events SET who = '' WHERE who IS NULL",
		"CREATE INDEX IF NOT EXISTS tallies_largest ON tallies (kind, n DESC)",
		"CREATE INDEX IF NOT EXISTS transactions_reference_state ON transactions (reference, state, id) WHERE reference <> '' AND parent IS NULL",
		"CREATE INDEX IF NOT EXISTS transactions_duplicates ON transactions (duplicate_of) WHERE duplicate_of IS NOT NULL AND caller_waits",
		"CREATE INDEX IF NOT EXISTS once_keys_tx ON once_keys (tx)",
		"DELETE FROM tallies",
		"INSERT INTO tallies (kind, key, n) SELECT 'letters', cause, COUNT(*) FROM letters WHERE state = 0 GROUP BY cause",
		"INSERT INTO tallies (kind, key, n) SELECT 'all letters', '', COUNT(*) FROM letters WHERE state = 0",
		"INSERT INTO tallies (kind, key, n) SELECT 'groups', flow || ' ' || path, COUNT(*) FROM groups WHERE state = 0 GROUP BY flow, path",
		"INSERT INTO tallies (kind, key, n) SELECT 'all groups', '', COUNT(*) FROM groups WHERE state = 0",
		"CREATE TRIGGER IF NOT EXISTS letters_came AFTER INSERT ON letters BEGIN "+letters("NEW", "1")+" END",
		"CREATE TRIGGER IF NOT EXISTS letters_changed AFTER UPDATE OF state, cause ON letters BEGIN "+letters(
			"OLD",
			"-1",
		)+
			letters(
				"NEW",
				"1",
			)+" END",
		"CREATE TRIGGER IF NOT EXISTS letters_gone AFTER DELETE ON letters BEGIN "+letters("OLD", "-1")+" END",
		"CREATE TRIGGER IF NOT EXISTS groups_came AFTER INSERT ON groups BEGIN "+groups("NEW", "1")+" END",
		"CREATE TRIGGER IF NOT EXISTS groups_changed AFTER UPDATE OF state ON groups WHEN OLD.state <> NEW.state BEGIN "+
			groups(
				"OLD",
				"-1",
			)+groups(
			"NEW",
			"1",
		)+" END",
		"CREATE TRIGGER IF NOT EXISTS groups_gone AFTER DELETE ON groups BEGIN "+groups("OLD", "-1")+" END",
	)
}
