package store

import (
	"context"
	"strings"

	"gorm.io/gorm"

	"readyferry/store/body"
)

// Contents are kept once, however many rows refer to them, and go with the last of these.
// Who inserts a row counts its reference; where a row changes or goes, triggers do.

// referrers are the tables whose rows refer to contents.
var referrers = []string{"messages", "deliveries", "tries", "effects"}

// What a row refers to, and whether it refers to a content; % stands for the row.
const (
	keyIn = "substr(%.body,2,32)"
	isRef = "substr(%.body,1,1) = x'01'"
)

// bodied are rows with a content.
type bodied interface{ content() *body.Body }

func (t *Try) content() *body.Body    { return &t.Body }
func (e *Effect) content() *body.Body { return &e.Body }

// refer notes that a row which was inserted refers to a content.
func (w *work) refer(b *body.Body) {
	if k := b.Kept(); k != nil {
		w.refs[k.Key]++
	}
}

// insertNew inserts rows of which some may be there already. Those that refer to a
// content go one by one: only who comes to stand in the file refers to it.
func insertNew[T any, P interface {
	*T
	bodied
}](p *prepared, r *row[T], all []*T, refer func(*body.Body)) error {
	plain := all[:0:0]
	for _, t := range all {
		if P(t).content().Kept() == nil {
			plain = append(plain, t)
			continue
		}
		stmt, err := p.of(r.insertOf(1))
		if err != nil {
			return err
		}
		p.args = r.values(p.args[:0], t)
		done, err := stmt.ExecContext(context.Background(), p.args...)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil {
			return err
		} else if n > 0 {
			refer(P(t).content())
		}
	}
	return insert(p, r, plain)
}

const addRefs = "UPDATE bodies SET refs = coalesce(refs, 0) + ? WHERE key = ?"

func (w *work) writeRefs(p *prepared) error {
	for key, n := range w.refs {
		p.args = append(p.args[:0], n, key[:])
		if err := p.exec(addRefs, p.args); err != nil {
			return err
		}
	}
	clear(w.refs)
	return nil
}

// SweepBodies removes contents that nothing refers to any more, until so many rows have
// gone; more tells that there are others.
func (tx *Tx) SweepBodies(limit int) (more bool, err error) {
	var loose []keptBody
	err = tx.sql().Select("n", "key", "pieces", "stands").Where("refs = 0").Order("n").Limit(limit).Find(&loose).Error
	if err != nil {
		return false, err
	}
	for i := range loose {
		// A large one goes at once: what is half there must not be found by who brings it anew.
		if limit -= 1 + loose[i].Pieces; limit < 0 && i > 0 {
			return true, nil
		}
		if loose[i].Pieces > 0 {
			stands := loose[i].Stands
			if stands == nil {
				stands = loose[i].Key
			}
			if err := tx.prepared.exec("DELETE FROM body_pieces WHERE key=?", []any{stands}); err != nil {
				return false, err
			}
		}
		if err := tx.prepared.exec("DELETE FROM bodies WHERE n=?", []any{loose[i].N}); err != nil {
			return false, err
		}
		delete(tx.batch.known, body.Key(loose[i].Key))
	}
	return limit <= 0, nil
}

// countReferences brings a file into the form in which contents know who refers to them.
func countReferences(db *gorm.DB) error {
	statements := []string{}
	var all []string
	for _, table := range referrers {
		in := func(row string) *strings.Replacer { return strings.NewReplacer("%", row) }
		all = append(all, "SELECT "+in(table).Replace(keyIn)+" AS key FROM "+table+" WHERE "+in(table).Replace(isRef))
		less := "UPDATE bodies SET refs = refs - 1 WHERE key = " + in("OLD").Replace(keyIn) + "; "
		trigger, changed := "CREATE TRIGGER IF NOT EXISTS "+table, " WHEN OLD.body IS NOT NEW.body AND "
		statements = append(statements,
			trigger+"_body_gone AFTER DELETE ON "+table+" WHEN "+in("OLD").Replace(isRef)+" BEGIN "+less+"END",
			trigger+"_body_left AFTER UPDATE OF body ON "+table+changed+in("OLD").Replace(isRef)+" BEGIN "+less+"END",
			trigger+"_body_other AFTER UPDATE OF body ON "+table+changed+in("NEW").Replace(isRef)+" BEGIN UPDATE bodies SET refs = coalesce(refs, 0) + 1 WHERE key = "+
				in("NEW").Replace(keyIn)+"; END")
	}
	return execAll(db, append(statements,
		"CREATE TABLE body_refs AS SELECT key, COUNT(*) AS n FROM ("+strings.Join(all, " UNION ALL ")+") GROUP BY key",
		"CREATE INDEX body_refs_key ON body_refs (key)",
		"UPDATE bodies SET refs = coalesce((SELECT n FROM body_refs r WHERE r.key = bodies.key), 0)",
		"DROP TABLE body_refs",
		"CREATE INDEX IF NOT EXISTS bodies_loose ON bodies (n) WHERE refs = 0")...)
}
