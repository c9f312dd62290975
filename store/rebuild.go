package store

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/schema"

	"readyferry/store/body"
)

// Files up to the first release had times as texts, some of them with a zone, and
// bodies in the rows that used them. rebuild brings them into the present form:
// each table is made anew beside the old one, filled from it, and takes its place.

var (
	timeType = reflect.TypeFor[time.Time]()
	bodyType = reflect.TypeFor[body.Body]()
)

// instant gives the SQL for a time in microseconds, of one that stands as
// 2006-01-02 15:04:05.999999999-07:00 or already is a number.
func instant(column string) string {
	return strings.ReplaceAll(`CASE typeof(@) WHEN 'text' THEN CAST(strftime('%s', @) AS INTEGER) * 1000000 +
		CASE substr(@, 20, 1) WHEN '.' THEN CAST(substr(substr(@, 21, length(@) - 26) || '000000', 1, 6) AS INTEGER) ELSE 0 END
		ELSE @ END`, "@", column)
}

// rebuilt are the models with times or bodies.
func rebuilt() []any {
	return []any{
		&Flow{},
		&Version{},
		&Connection{},
		&Transaction{},
		&Message{},
		&Effect{},
		&Delivery{},
		&TimeLimit{},
		&Pace{},
		&Try{},
		&Letter{},
		&LetterEvent{},
		&QueueItem{},
		&PausedQueue{},
		&OnceKey{},
		&Group{},
		&Member{},
		&TopicMessage{},
		&Subscription{},
		&Sequence{},
		&Held{},
		&Clock{},
		&Load{},
		&Table{},
		&TableChange{},
	}
}

func rebuild(db *gorm.DB) error {
	inRows := !db.Migrator().HasTable(&keptBody{})
	if err := db.AutoMigrate(&keptBody{}, &bodyPiece{}); err != nil {
		return err
	}
	if err := execAll(db,
		"CREATE UNIQUE INDEX IF NOT EXISTS bodies_key ON bodies (key)",
		"CREATE UNIQUE INDEX IF NOT EXISTS body_pieces_key ON body_pieces (key, i)",
	); err != nil {
		return err
	}
	for _, model := range rebuilt() {
		if err := rebuildTable(db, model, inRows); err != nil {
			return fmt.Errorf("%T: %w", model, err)
		}
	}
	return nil
}

// part is an index or trigger of a table.
type part struct{ Type, Name, SQL string }

func rebuildTable(db *gorm.DB, model any, inRows bool) error {
	stmt := &gorm.Statement{DB: db}
	if err := stmt.Parse(model); err != nil {
		return err
	}
	name := stmt.Schema.Table
	var had []struct{ Name, Type string }
	if err := db.Raw("SELECT name, type FROM pragma_table_info(?)", name).Scan(&had).Error; err != nil {
		return err
	}
	exprs, into, old := columns(stmt.Schema, had)
	if !old && !(name == "messages" && inRows) { // a message has no time that would tell
		return nil
	}
	return anew(db, name, func() error { return copyTable(db, model, name, exprs, into) })
}

// anew makes a table anew with what make does, and gives it back its indexes and triggers.
func anew(db *gorm.DB, name string, make func() error) error {
	var parts []part
	if err := db.Raw("SELECT type, name, sql FROM sqlite_master WHERE tbl_name = ? AND type IN ('index', "+
		"'trigger') AND sql IS NOT NULL", name).Scan(&parts).Error; err != nil {
		return err
	}
	for _, p := range parts {
		if err := db.Exec("DROP " + p.Type + " " + p.Name).Error; err != nil {
			return err
		}
	}
	if err := make(); err != nil {
		return err
	}
	for _, p := range parts {
		if err := db.Exec(p.SQL).Error; err != nil {
			return err
		}
	}
	return nil
}

// copyTable copies a table into one of the present form.
func copyTable(db *gorm.DB, model any, name, exprs, into string) error {
	quoted, before := "`"+name+"`", "`"+name+"_before`"
	if err := db.Exec("ALTER TABLE " + quoted + " RENAME TO " + before).Error; err != nil {
		return err
	}
	if err := db.Migrator().CreateTable(model); err != nil {
		return err
	}
	if err := db.Exec(fmt.Sprintf("INSERT INTO %s (rowid, %s) SELECT rowid, %s FROM %s", quoted, into, exprs,
		before)).Error; err != nil {
		return err
	}
	if err := db.Exec("UPDATE sqlite_sequence SET seq = (SELECT max(seq) FROM sqlite_sequence WHERE name = ? OR "+
		"name = ?) WHERE name = ?", name, name+"_before", name).Error; err != nil {
		return err
	}
	if err := moveBodies(db, name, before); err != nil {
		return err
	}
	return db.Exec("DROP TABLE " + before).Error
}

// columns tells how the columns of the old form fill those of the present one;
// old is false for a table that is in the present form.
func columns(s *schema.Schema, had []struct{ Name, Type string }) (exprs, into string, old bool) {
	var from, to []string
	for _, c := range had {
		f := s.FieldsByDBName[c.Name]
		if f == nil {
			continue
		}
		quoted := "`" + c.Name + "`"
		expr := quoted
		switch {
		case f.IndirectFieldType == timeType && !strings.EqualFold(c.Type, "integer"):
			expr, old = instant(quoted), true
		case f.IndirectFieldType == bodyType:
			expr = "X'00'" // filled by moveBodies
		}
		from, to = append(from, expr), append(to, quoted)
	}
	return strings.Join(from, ", "), strings.Join(to, ", "), old
}

// moveBodies puts the contents of old rows where they belong now.
func moveBodies(db *gorm.DB, name, before string) error {
	columns := map[string]string{"messages": "body, NULL AS doc", "tries": "body, NULL AS doc",
		"effects": "NULL AS body, result AS doc", "deliveries": "NULL AS body, request AS doc"}[name]
	if columns == "" {
		return nil
	}
	doc := map[string]string{"effects": "result", "deliveries": "request"}[name]
	last := int64(-1 << 62)
	for {
		var rows []struct {
			R         int64
			Body, Doc []byte
		}
		if err := db.Raw("SELECT rowid AS r, "+columns+" FROM "+before+" WHERE rowid > ? ORDER BY rowid LIMIT 500",
			last).Scan(&rows).Error; err != nil ||
			len(rows) == 0 {
			return err
		}
		for _, r := range rows {
			last = r.R
			content := r.Body
			if doc != "" {
				var err error
				if r.Doc, content, err = withoutBody(r.Doc); err != nil {
					return err
				}
			}
			b := body.Of(content).Packed()
			if k := b.Kept(); k != nil {
				if err := keepBody(db, k); err != nil {
					return err
				}
			}
			set := map[string]any{"body": b}
			if doc != "" {
				set[doc] = r.Doc
			}
			if err := db.Table(name).Where("rowid = ?", r.R).UpdateColumns(set).Error; err != nil {
				return err
			}
		}
	}
}

// withoutBody takes the member body, in base64, out of a JSON document.
func withoutBody(doc []byte) (rest, content []byte, err error) {
	members := map[string]json.RawMessage{}
	if err := json.Unmarshal(doc, &members); err != nil {
		return nil, nil, err
	}
	if err := json.Unmarshal(orNull(members["body"]), &content); err != nil {
		return nil, nil, err
	}
	delete(members, "body")
	rest, err = json.Marshal(members)
	return rest, content, err
}

func orNull(b json.RawMessage) []byte {
	if b == nil {
		return []byte("null")
	}
	return b
}

// moveTimes brings the times within documents into microseconds: when a whole
// ended by itself, and the times of paces, which were milliseconds.
func moveTimes(db *gorm.DB) error {
	var wholes []struct{ ID, Own []byte }
	if err := db.Raw("SELECT id, own FROM transactions WHERE own IS NOT NULL").Scan(&wholes).Error; err != nil {
		return err
	}
	for _, w := range wholes {
		members := map[string]json.RawMessage{}
		if err := json.Unmarshal(w.Own, &members); err != nil {
			return err
		}
		var at *time.Time
		if err := json.Unmarshal(orNull(members["finishedAt"]), &at); err != nil || at == nil {
			continue
		}
		members["finishedAt"] = fmt.Appendf(nil, "%d", micros(*at))
		own, err := json.Marshal(members)
		if err != nil {
			return err
		}
		if err := db.Exec("UPDATE transactions SET own = ? WHERE id = ?", own, w.ID).Error; err != nil {
			return err
		}
	}
	for _, column := range []string{"plan", "went"} {
		// A list of whole numbers: each gets three zeros behind it.
		if err := db.Exec("UPDATE paces SET " + column + " = CAST(replace(replace(CAST(" + column +
			" AS TEXT), ',', '000,'), ']', '000]') " +
			"AS BLOB) WHERE length(" + column + ") > 2").Error; err != nil {
			return err
		}
	}
	return nil
}
