package store

import (
	"errors"
	"fmt"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"
)

// migrate brings the file to the present form. Migrations are only ever added,
// and none drops what a person put there.
func migrate(db *gorm.DB) error {
	options := *gormigrate.DefaultOptions
	options.UseTransaction = true // all of them or none: cut off anywhere, the file is as it was
	return gormigrate.New(db, &options, []*gormigrate.Migration{
		{ID: "0001 first", Migrate: func(db *gorm.DB) error {
			if err := db.AutoMigrate(&Flow{}, &FlowFile{}, &Version{}, &Sample{}, &Connection{}, &StandIn{},
				&Transaction{}, &Message{}, &Effect{}, &Delivery{}, &Try{}, &Letter{}, &LetterEvent{},
				&QueueItem{}, &OnceKey{}, &count{}, &setting{}); err != nil {
				return err
			}
			return execAll(
				db,
				"CREATE INDEX transactions_flow ON transactions (flow, id)",
				"CREATE INDEX transactions_state ON transactions (state, id)",
				"CREATE INDEX transactions_flow_state ON transactions (flow, state, id)",
				"CREATE INDEX transactions_reference ON transactions (reference, id) WHERE reference <> ''",
				"CREATE UNIQUE INDEX deliveries_id ON deliveries (id)",
				"CREATE INDEX deliveries_tx ON deliveries (tx)",
				"CREATE INDEX deliveries_due ON deliveries (target, next_at) WHERE state = 0",
				"CREATE INDEX deliveries_line ON deliveries (target, order_value, seq) WHERE state <= 1 AND order_value <> ''",
				"CREATE INDEX letters_open ON letters (cause, id) WHERE state = 0",
				"CREATE INDEX letters_tx ON letters (tx)",
				"CREATE INDEX letter_events_letter ON letter_events (letter, n)",
				"CREATE INDEX queue_items_free ON queue_items (queue, n) WHERE taken_by IS NULL",
				"CREATE INDEX queue_items_taken ON queue_items (queue, n) WHERE taken_by IS NOT NULL",
				"CREATE INDEX once_keys_until ON once_keys (until)",
				"INSERT INTO settings (key, value) VALUES ('check', '')",
			)
		}},
		{ID: "0002 queues with priority, expiry and a pause", Migrate: func(db *gorm.DB) error {
			if err := addColumns(db, []column{
				{&Transaction{}, "Unbegun", "ALTER TABLE transactions ADD COLUMN unbegun numeric NOT NULL DEFAULT 0"},
				{&QueueItem{}, "Priority", "ALTER TABLE queue_items ADD COLUMN priority integer NOT NULL DEFAULT 4"},
				{&QueueItem{}, "ExpiresAt", "ALTER TABLE queue_items ADD COLUMN expires_at datetime"},
			}); err != nil {
				return err
			}
			if err := db.AutoMigrate(&PausedQueue{}); err != nil {
				return err
			}
			return execAll(
				db,
				"DROP INDEX queue_items_free",
				"CREATE INDEX queue_items_free ON queue_items (queue, priority DESC, n) WHERE taken_by IS NULL",
				"CREATE INDEX queue_items_expiry ON queue_items (queue, expires_at) WHERE taken_by IS NULL AND expires_at IS NOT NULL",
				"CREATE INDEX queue_items_serving ON queue_items (queue, priority DESC, n)",
			)
		}},
		{ID: "0003 topics, and queues that know their size", Migrate: func(db *gorm.DB) error {
			if err := addColumns(db, []column{{&Transaction{}, "FromTopic", "ALTER TABLE transactions ADD COLUMN " +
				"from_topic numeric NOT NULL DEFAULT 0"}}); err != nil {
				return err
			}
			if err := db.AutoMigrate(&Topic{}, &TopicMessage{}, &Subscription{}, &TopicTaken{}, &QueueSize{},
				&QueueSettings{}); err != nil {
				return err
			}
			const count = " ON CONFLICT (queue) DO UPDATE SET free = free + excluded.free, taken = taken + excluded.taken"
			return execAll(db,
				"CREATE INDEX topic_messages_time ON topic_messages (topic, put_at)",
				"CREATE INDEX topic_takens_reader ON topic_takens (topic, subscription, flow)",
				`INSERT INTO queue_sizes (queue, free, taken)
					SELECT queue, SUM(taken_by IS NULL), SUM(taken_by IS NOT NULL) FROM queue_items GROUP BY queue`,
				`CREATE TRIGGER queue_items_put AFTER INSERT ON queue_items BEGIN
					INSERT INTO queue_sizes (queue, free, taken) VALUES (NEW.queue, NEW.taken_by IS NULL, NEW.taken_by IS NOT NULL)`+
					count+`; END`,
				`CREATE TRIGGER queue_items_gone AFTER DELETE ON queue_items BEGIN
					INSERT INTO queue_sizes (queue, free, taken) VALUES (OLD.queue, -(OLD.taken_by IS NULL), -(OLD.taken_by IS NOT NULL))`+
					count+`; END`,
				`CREATE TRIGGER queue_items_moved AFTER UPDATE OF queue, taken_by ON queue_items BEGIN
					INSERT INTO queue_sizes (queue, free, taken) VALUES (OLD.queue, -(OLD.taken_by IS NULL), -(OLD.taken_by IS NOT NULL))`+count+`;
					INSERT INTO queue_sizes (queue, free, taken) VALUES (NEW.queue, NEW.taken_by IS NULL, NEW.taken_by IS NOT NULL)`+
					count+`; END`,
			)
		}},
		{ID: "0004 parts of a transaction", Migrate: func(db *gorm.DB) error {
			if err := addColumns(db, []column{
				{&Transaction{}, "Parent", "ALTER TABLE transactions ADD COLUMN parent blob"},
				{&Transaction{}, "SplitPath", "ALTER TABLE transactions ADD COLUMN split_path text NOT NULL DEFAULT ''"},
				{&Transaction{}, "PartIndex", "ALTER TABLE transactions ADD COLUMN part_index integer NOT NULL DEFAULT 0"},
				{&Transaction{}, "Parts", "ALTER TABLE transactions ADD COLUMN parts integer NOT NULL DEFAULT 0"},
				{&Transaction{}, "Own", "ALTER TABLE transactions ADD COLUMN own blob"},
				{&Transaction{}, "Aside", "ALTER TABLE transactions ADD COLUMN aside numeric NOT NULL DEFAULT 0"},
			}); err != nil {
				return err
			}
			if err := db.AutoMigrate(&Split{}); err != nil {
				return err
			}
			return execAll(
				db,
				"CREATE INDEX splits_open ON splits (tx, path) WHERE "+beginnable,
				"CREATE INDEX transactions_parts ON transactions (parent, id) WHERE parent IS NOT NULL",
				"CREATE INDEX transactions_part_states ON transactions (parent, state, id) WHERE parent IS NOT NULL",
				// The lists are of whole transactions.
				"CREATE INDEX transactions_whole ON transactions (id) WHERE parent IS NULL",
				"DROP INDEX transactions_flow",
				"DROP INDEX transactions_state",
				"DROP INDEX transactions_flow_state",
				"DROP INDEX transactions_reference",
				"CREATE INDEX transactions_flow ON transactions (flow, id) WHERE parent IS NULL",
				"CREATE INDEX transactions_state ON transactions (state, id) WHERE parent IS NULL",
				"CREATE INDEX transactions_flow_state ON transactions (flow, state, id) WHERE parent IS NULL",
				"CREATE INDEX transactions_reference ON transactions (reference, id) WHERE reference <> '' AND parent IS NULL",
			)
		}},
		{ID: "0005 groups and turns", Migrate: func(db *gorm.DB) error {
			if err := addColumns(db, []column{
				{&Transaction{}, "FromGroup", "ALTER TABLE transactions ADD COLUMN from_group numeric NOT NULL DEFAULT 0"},
				{&Transaction{}, "Gathered", "ALTER TABLE transactions ADD COLUMN gathered integer NOT NULL DEFAULT 0"},
				{&Transaction{}, "GatherPlace", "ALTER TABLE transactions ADD COLUMN gather_place text NOT NULL DEFAULT ''"},
				{&Transaction{}, "GatherText", "ALTER TABLE transactions ADD COLUMN gather_text text NOT NULL DEFAULT ''"},
				{&Split{}, "Gathers", "ALTER TABLE splits ADD COLUMN gathers numeric NOT NULL DEFAULT 0"},
				{&Split{}, "Gathered", "ALTER TABLE splits ADD COLUMN gathered integer NOT NULL DEFAULT 0"},
			}); err != nil {
				return err
			}
			if err := db.AutoMigrate(&Group{}, &Member{}, &Sequence{}, &Held{}); err != nil {
				return err
			}
			return execAll(db,
				"CREATE UNIQUE INDEX groups_open ON groups (flow, path, scope, key) WHERE state = 0",
				"CREATE INDEX groups_list ON groups (id) WHERE state = 0",
				"CREATE INDEX groups_due ON groups (close_at) WHERE state = 0 AND close_at IS NOT NULL",
				"CREATE INDEX groups_scope ON groups (scope) WHERE state = 0 AND scope <> ''",
				"CREATE INDEX groups_leaving ON groups (id) WHERE state = 1",
				"CREATE INDEX groups_late ON groups (flow, path, scope, key, closed_at) WHERE state > 0",
				"CREATE INDEX members_tx ON members (tx)",
				"CREATE INDEX members_waiting ON members (group_id, n) WHERE NOT gone",
				"CREATE UNIQUE INDEX members_unique ON members (group_id, unique_key) WHERE unique_key IS NOT NULL",
				"CREATE INDEX helds_line ON helds (flow, path, key, number, n)",
				"CREATE INDEX helds_due ON helds (until)",
				"CREATE INDEX helds_tx ON helds (tx)",
			)
		}},
		{ID: "0006 scatters", Migrate: func(db *gorm.DB) error {
			if err := addColumns(db, []column{{&Delivery{}, "Soft",
				"ALTER TABLE deliveries ADD COLUMN soft numeric NOT NULL DEFAULT 0"}}); err != nil {
				return err
			}
			if err := db.AutoMigrate(&TimeLimit{}); err != nil {
				return err
			}
			return db.Exec("CREATE INDEX time_limits_due ON time_limits (at)").Error
		}},
		{ID: "0007 tables", Migrate: func(db *gorm.DB) error {
			if err := db.AutoMigrate(&Table{}, &TableRow{}, &TableKey{}, &TableChange{}); err != nil {
				return err
			}
			return execAll(db,
				`CREATE INDEX table_rows_standing ON table_rows ("table", pos)`,
				`CREATE INDEX table_rows_from ON table_rows ("table", "from")`,
				`CREATE INDEX table_rows_to ON table_rows ("table", "to") WHERE "to" > 0`,
				`CREATE INDEX table_keys_find ON table_keys ("table", k, key, lo)`,
				`CREATE INDEX table_keys_to ON table_keys ("table", "to") WHERE "to" > 0`,
			)
		}},
		{ID: "0008 steps for dead letters", Migrate: func(db *gorm.DB) error {
			if err := addColumns(db, []column{{&Transaction{}, "OfLetter",
				"ALTER TABLE transactions ADD COLUMN of_letter blob"}}); err != nil {
				return err
			}
			return db.Exec(
				"CREATE INDEX transactions_of_letter ON transactions (of_letter) WHERE of_letter IS NOT NULL",
			).Error
		}},
		{ID: "0009 messages that are held, and paces", Migrate: func(db *gorm.DB) error {
			if err := addColumns(db, []column{
				{&TimeLimit{}, "Watched", "ALTER TABLE time_limits ADD COLUMN watched text NOT NULL DEFAULT ''"},
				{&Transaction{}, "OwnWaits", "ALTER TABLE transactions ADD COLUMN own_waits integer NOT NULL DEFAULT 0"},
				{&Transaction{}, "Idle", "ALTER TABLE transactions ADD COLUMN idle numeric NOT NULL DEFAULT 0"},
				{&TimeLimit{}, "Waits", "ALTER TABLE time_limits ADD COLUMN waits numeric NOT NULL DEFAULT 0"},
			}); err != nil {
				return err
			}
			if err := db.AutoMigrate(&Pace{}); err != nil {
				return err
			}
			return execAll(db,
				"CREATE INDEX time_limits_watched ON time_limits (watched, tx, path) WHERE watched <> ''",
				"CREATE INDEX paces_until ON paces (until)",
			)
		}},
		{ID: "0010 questions by queues, and flows that call others", Migrate: func(db *gorm.DB) error {
			if err := addColumns(db, []column{
				{&Transaction{}, "Caller", "ALTER TABLE transactions ADD COLUMN caller blob"},
				{&Transaction{}, "CallerPath", "ALTER TABLE transactions ADD COLUMN caller_path text NOT NULL DEFAULT ''"},
				{&Transaction{}, "CallerWaits", "ALTER TABLE transactions ADD COLUMN caller_waits numeric NOT NULL DEFAULT 0"},
				{&Transaction{}, "Depth", "ALTER TABLE transactions ADD COLUMN depth integer NOT NULL DEFAULT 0"},
			}); err != nil {
				return err
			}
			if err := db.AutoMigrate(&Ask{}); err != nil {
				return err
			}
			return execAll(db,
				"CREATE INDEX transactions_caller ON transactions (caller) WHERE caller IS NOT NULL",
				"CREATE INDEX asks_tx ON asks (tx)",
			)
		}},
		{ID: "0011 schedules and polls", Migrate: func(db *gorm.DB) error {
			return db.AutoMigrate(&Clock{}, &PolledRow{})
		}},
		{ID: "0012 bulk loads", Migrate: func(db *gorm.DB) error {
			if err := db.AutoMigrate(&Load{}); err != nil {
				return err
			}
			return db.Exec("CREATE INDEX loads_flow ON loads (flow, id)").Error
		}},
		{ID: "0013 walks outside of the writer", Migrate: func(db *gorm.DB) error {
			if err := addColumns(db, []column{
				{&Transaction{}, "Revision", "ALTER TABLE transactions ADD COLUMN revision integer NOT NULL DEFAULT 0"},
				{&Transaction{}, "ToWalk", "ALTER TABLE transactions ADD COLUMN to_walk numeric NOT NULL DEFAULT 0"},
			}); err != nil {
				return err
			}
			return execAll(db,
				"CREATE INDEX IF NOT EXISTS transactions_to_walk ON transactions (flow, id) WHERE to_walk",
				"CREATE INDEX IF NOT EXISTS groups_closing ON groups (id) WHERE state = 3",
			)
		}},
		{ID: "0014 times in microseconds, and bodies kept once", Migrate: func(db *gorm.DB) error {
			old, err := hasTexts(db)
			if err != nil {
				return err
			}
			if err := rebuild(db); err != nil {
				return err
			}
			if old {
				if err := moveTimes(db); err != nil {
					return err
				}
			}
			return nil
		}},
		{ID: "0015 exact answers", Migrate: exactAnswers},
		{ID: "0016 leases, and keys for programs", Migrate: func(db *gorm.DB) error {
			return db.AutoMigrate(&Lease{}, &Lapse{}, &Key{})
		}},
		{ID: "0017 loads that begin by themselves", Migrate: func(db *gorm.DB) error {
			if err := addColumns(db, []column{
				{&Load{}, "Cron", "ALTER TABLE loads ADD COLUMN cron text NOT NULL DEFAULT ''"},
				{&Load{}, "Zone", "ALTER TABLE loads ADD COLUMN zone text NOT NULL DEFAULT ''"},
				{&Load{}, "NextAt", "ALTER TABLE loads ADD COLUMN next_at integer"},
			}); err != nil {
				return err
			}
			return db.Exec("CREATE INDEX IF NOT EXISTS loads_due ON loads (next_at) WHERE next_at IS NOT NULL").Error
		}},
		{ID: "0018 what an answer brought", Migrate: func(db *gorm.DB) error {
			return addColumns(db, []column{
				{&Clock{}, "Brought", "ALTER TABLE clocks ADD COLUMN brought integer NOT NULL DEFAULT 0"},
			})
		}},
		{ID: "0019 tries and effects by their keys alone", Migrate: func(db *gorm.DB) error {
			return errors.Join(byKeyAlone(db, "tries", "delivery, n"), byKeyAlone(db, "effects", "tx, path"))
		}},
		{
			ID: "0020 what has ended does not stay for ever, and flows wait beside each other",
			Migrate: func(db *gorm.DB) error {
				if err := addColumns(db, []column{
					{&Flow{}, "KeepsAll", "ALTER TABLE flows ADD COLUMN keeps_all numeric NOT NULL DEFAULT 0"},
					{&Table{}, "KeepsAll", "ALTER TABLE tables ADD COLUMN keeps_all numeric NOT NULL DEFAULT 0"},
					{&Key{}, "PerSecond", "ALTER TABLE keys ADD COLUMN per_second integer NOT NULL DEFAULT 0"},
					{&Key{}, "Bytes", "ALTER TABLE keys ADD COLUMN bytes integer NOT NULL DEFAULT 0"},
					{&keptBody{}, "Refs", "ALTER TABLE bodies ADD COLUMN refs integer"},
					{&keptBody{}, "Stands", "ALTER TABLE bodies ADD COLUMN stands blob"},
				}); err != nil {
					return err
				}
				return errors.Join(db.AutoMigrate(&stagedBody{}), countReferences(db), execAll(db,
					// A flow with much that waits does not stand before the others.
					"DROP INDEX IF EXISTS deliveries_due",
					"DROP INDEX IF EXISTS transactions_flow",
					"DROP INDEX IF EXISTS transactions_state",
					"CREATE INDEX deliveries_due ON deliveries (target, flow, next_at) WHERE state = 0",
					"UPDATE flows SET keeps_all = 1", "UPDATE tables SET keeps_all = 1", countBytes))
			},
		},
		{ID: "0021 messages and deliveries are found through their transactions", Migrate: fewerIndexes},
		{ID: "0022 versions say why", Migrate: func(db *gorm.DB) error {
			return addColumns(db, []column{
				{&Version{}, "By", "ALTER TABLE versions ADD COLUMN by text NOT NULL DEFAULT ''"},
				{&Version{}, "Note", "ALTER TABLE versions ADD COLUMN note text NOT NULL DEFAULT ''"},
				{&Version{}, "Despite", "ALTER TABLE versions ADD COLUMN despite text NOT NULL DEFAULT ''"},
			})
		}},
		{ID: "0023 versions for a share, and at a time", Migrate: versionsOnTrial},
		{ID: "0024 repairs of many dead letters", Migrate: repairs},
		{ID: "0025 journeys", Migrate: journeys},
		{ID: "0026 targets that are held", Migrate: holds},
		{ID: "0027 saved views", Migrate: savedViews},
		{ID: "0028 alarms and calendars", Migrate: alarms},
		{ID: "0029 counts by hour", Migrate: hourly},
		{ID: "0030 hosts that connections may reach", Migrate: named},
		{ID: "0031 people, sessions and the audit", Migrate: people},
		{ID: "0032 drafts that wait for a second person, and who saved what", Migrate: asked},
		{ID: "0033 files of loads, where several machines have the journal", Migrate: func(db *gorm.DB) error {
			return execAll(db, "CREATE TABLE IF NOT EXISTS load_pieces (load blob NOT NULL, i integer NOT NULL, data blob NOT NULL, "+
				"PRIMARY KEY (load, i)) WITHOUT ROWID")
		}},
		// Nothing is another, but for what releases before this one do not know: where flows are at home.
		{ID: lastMigration, Migrate: func(*gorm.DB) error { return nil }},
	}).Migrate()
}

// lastMigration is the one behind which a file has the form of this release.
const lastMigration = "0034 flows that are at home in a partition of their own"

// isPresent gives an error for a file that is of another release.
func isPresent(db *gorm.DB) error {
	var last string
	if err := db.Raw("SELECT id FROM migrations ORDER BY id DESC LIMIT 1").Scan(&last).Error; err != nil {
		return err
	}
	switch {
	case last < lastMigration:
		return fmt.Errorf("it was written by an earlier release (%s); start the application on it once", last)
	case last > lastMigration:
		return fmt.Errorf("it was written by a later release (%s)", last)
	}
	return nil
}

// hasTexts tells of a file whose times are texts.
func hasTexts(db *gorm.DB) (bool, error) {
	var kind string
	err := db.Raw("SELECT type FROM pragma_table_info('transactions') WHERE name = 'received_at'").Scan(&kind).Error
	return kind != "integer", err
}

// column is a column that a migration adds. It comes with a default, so that no
// row of a large file is rewritten.
type column struct {
	of        any
	name, sql string
}

// addColumns adds those columns that a file made by a newer model has not already.
func addColumns(db *gorm.DB, columns []column) error {
	for _, c := range columns {
		if db.Migrator().HasColumn(c.of, c.name) {
			continue
		}
		if err := db.Exec(c.sql).Error; err != nil {
			return err
		}
	}
	return nil
}

func execAll(db *gorm.DB, statements ...string) error {
	for _, sql := range statements {
		if err := db.Exec(sql).Error; err != nil {
			return err
		}
	}
	return nil
}

type setting struct {
	Key   string `gorm:"primaryKey"`
	Value string
}

// TableName implements schema.Tabler.
func (setting) TableName() string { return "settings" }

// Setting gives what a setting of the application is; "" where it was never set.
func (v View) Setting(key string) (string, error) {
	var s setting
	err := v.sql().Where("key = ?", key).Take(&s).Error
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return s.Value, err
}

// SetSetting sets one.
func (tx *Tx) SetSetting(key, value string) error { return tx.sql().Save(&setting{key, value}).Error }
