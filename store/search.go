package store

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"gorm.io/gorm"
)

// What transactions can be found by stands in two indexes of the database's own (FTS5), which
// are filled behind the commit: the words and the tags of each, and its reference in threes of
// letters, so that any part of it is found. They hold no text, only where it stands; a row's
// number in them is that of the message that the transaction received.

// SearchDoc is what a transaction is found by.
type SearchDoc struct {
	Seq       int64  // of the message that it received
	Reference string // folded
	Body      string // words: reason, notes, marked headers and fields
	Tags      []string
}

// searching makes the indexes, where the database of this build has them.
func searching(db *gorm.DB) (words bool, err error) {
	if err := db.Raw("SELECT COUNT(*) > 0 FROM pragma_compile_options WHERE compile_options = 'ENABLE_FTS5'").
		Scan(&words).Error; err != nil || !words {
		return false, err
	}
	return true, execAll(db,
		"CREATE VIRTUAL TABLE IF NOT EXISTS search_words USING fts5(body, tags, content='', contentless_delete=1, "+
			"tokenize='unicode61 remove_diacritics 2')",
		"CREATE VIRTUAL TABLE IF NOT EXISTS search_refs USING fts5(reference, content='', contentless_delete=1, "+
			"tokenize='trigram')",
		"CREATE TABLE IF NOT EXISTS search_later (tx blob PRIMARY KEY) WITHOUT ROWID",
	)
}

// Words tells whether transactions can be found by words: whether this build's database has
// the index for it (the build tag sqlite_fts5).
func (v View) Words() bool { return v.words }

const searchedSetting = "searched"

// Searched gives the number of the last message that the index knows of.
func (v View) Searched() (int64, error) {
	var row setting
	err := v.sql().Where("key = ?", searchedSetting).Take(&row).Error
	if errors.Is(err, ErrNotFound) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(row.Value, 10, 64)
}

// Unsearched lists transactions whose messages are newer than a number, by that number. Parts
// are among them: they are in no list.
func (v View) Unsearched(after int64, limit int) ([]Transaction, error) {
	var out []Transaction
	return out, v.sql().Raw("SELECT t.* FROM messages m JOIN transactions t ON t.id = m.tx AND t.message = m.seq "+
		"WHERE m.seq > ? ORDER BY m.seq LIMIT ?", after, limit).Scan(&out).Error
}

// SearchedLater lists transactions that have come to their end, or have changed there, since
// they were indexed.
func (v View) SearchedLater(limit int) ([]Transaction, error) {
	var out []Transaction
	return out, v.sql().
		Raw("SELECT t.* FROM search_later l JOIN transactions t ON t.id = l.tx LIMIT ?", limit).
		Scan(&out).
		Error
}

// Index notes what transactions are found by, in place of what it knew. to is the number of
// the last message that is known then, 0 where that does not change; open are those that were
// not at their end when they were read, done those that had been listed to be looked at again.
// A message behind to is left for its turn.
func (tx *Tx) Index(docs []SearchDoc, to int64, open, done []ID) error {
	db := tx.sql()
	known, end := tx.prepared.searched, max(to, tx.prepared.searched)
	for i := range docs {
		d := &docs[i]
		if d.Seq > end {
			continue
		}
		// Nothing is known of one that comes for the first time, and to look costs as much as to note it.
		if err := tx.index(db, d, d.Seq <= known); err != nil {
			return err
		}
		known = max(known, d.Seq)
	}
	for _, id := range done {
		if err := db.Exec("DELETE FROM search_later WHERE tx = ?", id).Error; err != nil {
			return err
		}
	}
	// Those that end from now on are noted by the writer, since it knows up to where the index
	// goes; those that have ended between being read and now it could not note.
	for _, id := range open {
		if err := db.Exec("INSERT OR IGNORE INTO search_later (tx) SELECT id FROM transactions WHERE id = ? AND state >= ?",
			id, Delivered).Error; err != nil {
			return err
		}
	}
	if to == 0 {
		return nil
	}
	tx.prepared.searched = to // too far where this fails: then some are looked at once more
	return db.Exec(
		"INSERT INTO settings (key, value) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value",
		searchedSetting,
		strconv.FormatInt(to, 10),
	).Error
}

func (tx *Tx) index(db *gorm.DB, d *SearchDoc, known bool) error {
	if known {
		if err := errors.Join(
			db.Exec("DELETE FROM search_words WHERE rowid = ?", d.Seq).Error,
			db.Exec("DELETE FROM search_refs WHERE rowid = ?", d.Seq).Error,
		); err != nil {
			return err
		}
	}
	err := db.Exec("INSERT INTO search_words (rowid, body, tags) VALUES (?, ?, ?)", d.Seq, d.Body, tagTokens(d.Tags)).Error
	if err != nil || !hasThree(d.Reference) {
		return err
	}
	return db.Exec("INSERT INTO search_refs (rowid, reference) VALUES (?, ?)", d.Seq, d.Reference).Error
}

// hasThree tells whether a reference has three letters, and thus anything to be found by. One that has
// not stays out of the index: the database counts a row of no words in the memory of its connection
// alone until a row with words comes, and writes the count then, so that a copy that was made in between
// would not be the same.
func hasThree(reference string) bool {
	reference, _, _ = strings.Cut(reference, "\x00") // no word goes on behind it
	return utf8.RuneCountInString(reference) >= 3
}

// indexed notes that a transaction in the index has come to its end, or has changed there.
const indexed = "INSERT OR IGNORE INTO search_later (tx) VALUES (?)"

// LookAgain lets a transaction be indexed anew.
func (tx *Tx) LookAgain(id ID) error {
	if !tx.words {
		return nil
	}
	return tx.sql().Exec(indexed, id).Error
}

// tagTokens gives tags as they stand in the index: each is one token, whatever its letters.
func tagTokens(tags []string) string {
	slices.Sort(tags)
	tags = slices.Compact(tags)
	out := make([]string, 0, len(tags)+1)
	for _, t := range tags {
		out = append(out, tagToken(t))
	}
	return strings.Join(append(out, "xall"), " ")
}

func tagToken(tag string) string {
	sum := sha256.Sum256([]byte(tag))
	return "x" + hex.EncodeToString(sum[:7])
}

// Numbers are found by their class: classes grow by a fourth, and what is asked for exactly
// is looked at in the rows.
const classes = 200

// NumberTag gives the tag of a number.
func NumberTag(of string, n float64) string { return fmt.Sprintf("%s %d", of, numberClass(n)) }

func numberClass(n float64) int {
	if n < 1 {
		return 0
	}
	return min(classes-1, 1+int(math.Log(n)/math.Log(1.25)))
}
