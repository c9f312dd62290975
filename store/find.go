package store

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"readyferry/core/find"
)

// A query becomes an expression for the index of words (match) and conditions for the rows. What is typed into it is
// a text to both, quoted or bound.

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
