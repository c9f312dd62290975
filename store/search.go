package store

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"gorm.io/gorm"

	"readyferry/core/find"
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
func (tx *Tx) Index(docs []SearchDoc, to int64, open, done []ID) error {
	db := tx.sql()
	for _, d := range docs {
		if err := errors.Join(
			db.Exec("DELETE FROM search_words WHERE rowid = ?", d.Seq).Error,
			db.Exec("INSERT INTO search_words (rowid, body, tags) VALUES (?, ?, ?)", d.Seq, d.Body, tagTokens(d.Tags)).Error,
			db.Exec("DELETE FROM search_refs WHERE rowid = ?", d.Seq).Error,
		); err != nil {
			return err
		}
		if !hasThree(d.Reference) {
			continue
		}
		if err := db.Exec("INSERT INTO search_refs (rowid, reference) VALUES (?, ?)", d.Seq, d.Reference).Error; err != nil {
			return err
		}
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

// Found is what a query finds.
type Found struct {
	Terms  []find.Term
	First  bool // only those with which a journey begins
	Filter      // flow, state, reference and times, where they are not among the terms
	Now    time.Time
	In     *time.Location
}

// ErrNoWords is what a search by words comes to in a build without the index.
var ErrNoWords = errors.New("this build cannot find by words: it was made without the build tag sqlite_fts5")

// Up to how many found transactions are counted: what the index alone tells of costs little, and
// what stands in rows has to be read.
const (
	countedTo     = 10_000
	countedToRows = 500
)

// FindBy lists the transactions that a query finds, the newest first.
func (v View) FindBy(f Found) ([]Transaction, error) {
	if v.parts != nil {
		return v.findTogether(f)
	}
	return v.findIn("", f, f.Limit)
}

// findIn finds in the file that a prefix of its tables names.
func (v View) findIn(file string, f Found, limit int) ([]Transaction, error) {
	q, err := v.finding(file, &f)
	if err != nil {
		return nil, err
	}
	var out []Transaction
	return out, v.sql().
		Raw("SELECT t.* "+q.sql+" ORDER BY w.rowid DESC LIMIT ?", append(q.args, limit)...).
		Scan(&out).
		Error
}

// outOfTurn is how many more than are asked for are read of each partition, since they stand in the order of
// their numbers there, and messages that came at the same moment may have theirs in another one.
const outOfTurn = 256

// findTogether finds in all partitions. Each has an index of its own.
func (v View) findTogether(f Found) (out []Transaction, err error) {
	for _, file := range v.parts.files() {
		some, err := v.findIn(file+".", f, f.Limit+outOfTurn)
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	slices.SortFunc(out, func(a, b Transaction) int { return bytes.Compare(b.ID[:], a.ID[:]) })
	return out[:min(len(out), f.Limit)], nil
}

// CountFound counts what a query finds, up to a limit that it tells.
func (v View) CountFound(f Found) (n int64, more bool, err error) {
	if v.parts == nil {
		return v.countIn("", f)
	}
	for _, file := range v.parts.files() {
		some, over, err := v.countIn(file+".", f)
		if err != nil {
			return 0, false, err
		}
		n, more = n+some, more || over
	}
	return n, more, nil
}

func (v View) countIn(file string, f Found) (n int64, more bool, err error) {
	f.After = nil
	q, err := v.finding(file, &f)
	if err != nil {
		return 0, false, err
	}
	from, most := q.sql, int64(countedToRows)
	if !q.rows {
		from, most = "FROM "+file+"search_words w "+q.where, countedTo
	}
	err = v.sql().
		Raw("SELECT COUNT(*) FROM (SELECT 1 "+from+" LIMIT ?)", append(q.args, most+1)...).
		Scan(&n).
		Error
	return min(n, most), n > most, err
}

type finding struct {
	sql, where string
	args       []any
	rows       bool // it asks for what only rows tell
}

// Plainly moves terms into the filter that stand for the same: what has no others needs no index.
func (f *Found) Plainly() {
	var rest []find.Term
	for _, t := range f.Terms {
		switch {
		case t.Not:
			rest = append(rest, t)
		case t.Key == "flow" && f.Flow == "":
			f.Flow = t.Value
		case t.Key == "state" && f.State == nil:
			state, known := ParseState(find.State(t.Value))
			if !known {
				rest = append(rest, t)
				continue
			}
			f.State = &state
		case (t.Key == "from" && f.From.IsZero()) || (t.Key == "to" && f.To.IsZero()):
			at, err := find.Moment(t.Value, f.Now, f.In)
			switch {
			case err != nil:
				rest = append(rest, t)
			case t.Key == "from":
				f.From = at
			default:
				f.To = at
			}
		default:
			rest = append(rest, t)
		}
	}
	f.Terms = rest
}

// finding writes the query: an expression for the index, and conditions for the rows. file stands before
// the names of tables.
func (v View) finding(file string, f *Found) (q finding, err error) {
	if !v.words {
		return q, ErrNoWords
	}
	m := match{must: []string{"tags:" + "xall"}}
	var rows []string
	var args []any
	where := func(sql string, values ...any) {
		rows, args = append(rows, sql), append(args, values...)
		q.rows = q.rows || !strings.HasPrefix(sql, "w.rowid")
	}
	refs := []find.Term{}
	if f.Reference != "" {
		refs = append(refs, find.Term{Value: f.Reference})
	}
	if f.Flow != "" {
		m.tag(false, "flow "+f.Flow)
	}
	if f.Of != nil {
		m.anyOf("flow ", f.Of)
	}
	if f.State != nil {
		where("t.state = ?", *f.State)
	}
	if f.First {
		m.tag(false, "first")
	}
	for _, t := range f.Terms {
		switch t.Key {
		case "":
			m.words("body", t)
		case "note":
			m.words("body", t)
		case "reference":
			refs = append(refs, t)
		case "state":
			state, _ := ParseState(find.State(t.Value))
			where(map[bool]string{false: "t.state = ?", true: "t.state <> ?"}[t.Not], state)
		case "from", "to":
			at, err := find.Moment(t.Value, f.Now, f.In)
			if err != nil {
				return q, err
			}
			if t.Key == "from" {
				f.From = at
			} else {
				f.To = at
			}
		case "tries", "took", "size":
			if err := byNumber(&m, t, where); err != nil {
				return q, err
			}
		default:
			m.tag(t.Not, t.Key+" "+strings.ToLower(t.Value))
		}
	}
	if !f.From.IsZero() {
		where("t.id >= ?", idAt(f.From))
		first, err := v.firstFrom(file, f.From)
		if err != nil {
			return q, err
		}
		where("w.rowid >= ?", first)
	}
	if !f.To.IsZero() {
		where("t.id < ?", idAt(f.To))
		first, err := v.firstFrom(file, f.To)
		if err != nil {
			return q, err
		}
		if first < math.MaxInt64-2*unordered {
			where("w.rowid <= ?", first+2*unordered)
		}
	}
	switch {
	case f.After == nil:
	case file == "":
		where("w.rowid < (SELECT message FROM transactions WHERE id = ?)", *f.After)
	default: // it may be in another partition
		where("t.id < ?", *f.After)
		first, err := v.firstFrom(file, f.After.time())
		if err != nil {
			return q, err
		}
		if first < math.MaxInt64-2*unordered {
			where("w.rowid <= ?", first+2*unordered)
		}
	}
	for _, r := range refs {
		ref := find.Folded(r.Value)
		in := map[bool]string{false: "IN", true: "NOT IN"}[r.Not]
		if len([]rune(ref)) >= 3 {
			where("w.rowid "+in+" (SELECT rowid FROM "+file+"search_refs WHERE search_refs MATCH ?)", quoteWord(ref))
		} else {
			where(map[bool]string{false: "", true: "NOT "}[r.Not]+"instr(replace(lower(t.reference), ' ', ''), ?) > 0", ref)
		}
	}
	q.where = "WHERE w.search_words MATCH ?"
	q.args = []any{m.String()}
	for _, r := range rows {
		q.where += " AND " + r
	}
	q.sql = "FROM " + file + "search_words w JOIN " + file + "messages m ON m.seq = w.rowid JOIN " + file +
		"transactions t ON t.id = m.tx " + q.where
	q.args = append(q.args, args...)
	return q, nil
}

// firstFrom gives a number from which on all messages of a time stand: those that came at
// the same moment need not have their numbers in order.
func (v View) firstFrom(file string, at time.Time) (int64, error) {
	var first []int64
	err := v.sql().
		Raw("SELECT message FROM "+file+"transactions WHERE id >= ? ORDER BY id LIMIT 1", idAt(at)).
		Scan(&first).
		Error
	if len(first) == 0 {
		return math.MaxInt64, err
	}
	return max(0, first[0]-unordered), err
}

// unordered is how far the numbers of messages may be from the order in which they came.
const unordered = 10_000

// byNumber adds a term about a number: its classes for the index, itself for the rows.
func byNumber(m *match, t find.Term, where func(sql string, values ...any)) error {
	var n float64
	column := "t.tries"
	switch t.Key {
	case "tries":
		i, err := strconv.Atoi(t.Value)
		if err != nil {
			return err
		}
		n = float64(i)
	case "took":
		d, err := find.Duration(t.Value)
		if err != nil {
			return err
		}
		n, column = float64(d.Microseconds()), "(t.finished_at - t.received_at)"
	case "size":
		b, err := find.Bytes(t.Value)
		if err != nil {
			return err
		}
		n, column = float64(b), sizeOf("m")
	}
	from, to, op := numberClass(n), numberClass(n), "="
	switch t.Op {
	case ">":
		to, op = classes-1, ">"
	case "<":
		from, op = 0, "<"
	}
	var any []string
	for c := from; c <= to; c++ {
		any = append(any, tagToken(fmt.Sprintf("%s %d", t.Key, c)))
	}
	if !t.Not {
		m.must = append(m.must, "tags:("+strings.Join(any, " OR ")+")")
	}
	not := map[bool]string{false: "", true: "NOT "}[t.Not]
	where(not+"("+column+" "+op+" ?)", int64(n))
	return nil
}

// match is an expression for the index.
type match struct{ must, not []string }

func (m *match) tag(not bool, tag string) { m.add(not, "tags:"+tagToken(tag)) }

// anyOf asks for one of some tags; where there are none to choose from it finds nothing.
func (m *match) anyOf(kind string, names []string) {
	tags := []string{tagToken(kind + "\x00")}
	for _, name := range names {
		tags = append(tags, tagToken(kind+name))
	}
	m.must = append(m.must, "tags:("+strings.Join(tags, " OR ")+")")
}

func (m *match) words(column string, t find.Term) {
	m.add(t.Not, column+":"+quoteWord(t.Value)+"*")
}

func (m *match) add(not bool, e string) {
	if not {
		m.not = append(m.not, e)
	} else {
		m.must = append(m.must, e)
	}
}

func (m *match) String() string {
	out := strings.Join(m.must, " AND ")
	for _, n := range m.not {
		out = "(" + out + ") NOT " + n
	}
	return out
}

// quoteWord writes a text as a string of the index's own language: nothing in it is anything
// but a letter of the text.
func quoteWord(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }
