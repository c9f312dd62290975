package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"
)

// What every message writes goes through statements that are prepared once, many rows
// at a time. GORM owns the tables and everything that is read; a test compares what
// stands here with what it makes of the models.

// row says how the values of a model stand in their table.
type row[T any] struct {
	table   string
	columns []string
	plain   []string // what stands for each column; nil: a value for each
	or      string   // what an insert does that finds its key: "" fails, " OR IGNORE" leaves it
	values  func(into []any, t *T) []any
}

// atOnce are how many rows one statement inserts; each is prepared when it is needed first.
var atOnce = [...]int{64, 16, 4, 1}

// prepared are the statements of the writer's connection.
type prepared struct {
	conn    *sql.Conn
	all     map[string]*sql.Stmt
	inserts map[inserting]*sql.Stmt
	args    []any // of the statement that is run now

	searched int64 // the last message that the index of words knows of; only the writer looks at it
}

// inserting names a statement that inserts so many rows.
type inserting struct {
	row any // *row[T]
	n   int
}

func (p *prepared) exec(query string, args []any) error {
	stmt, err := p.of(query)
	if err == nil {
		_, err = stmt.ExecContext(context.Background(), args...)
	}
	return err
}

func (p *prepared) of(query string) (stmt *sql.Stmt, err error) {
	if stmt = p.all[query]; stmt != nil {
		return stmt, nil
	}
	if stmt, err = p.conn.PrepareContext(context.Background(), query); err != nil {
		return nil, fmt.Errorf("preparing %q: %w", query, err)
	}
	p.all[query] = stmt
	return stmt, nil
}

// insert writes rows of one table.
func insert[T any](p *prepared, r *row[T], all []*T) error {
	for len(all) > 0 {
		n := 1
		for _, n = range atOnce {
			if n <= len(all) {
				break
			}
		}
		p.args = p.args[:0]
		for _, t := range all[:n] {
			p.args = r.values(p.args, t)
		}
		stmt := p.inserts[inserting{r, n}]
		if stmt == nil {
			var err error
			if stmt, err = p.of(r.insertOf(n)); err != nil {
				return err
			}
			p.inserts[inserting{r, n}] = stmt
		}
		if _, err := stmt.ExecContext(context.Background(), p.args...); err != nil {
			return err
		}
		all = all[n:]
	}
	return nil
}

func (r *row[T]) insertOf(n int) string {
	one := "(" + strings.TrimSuffix(strings.Repeat("?,", len(r.columns)), ",") + ")"
	if r.plain != nil {
		one = "(" + strings.Join(r.plain, ",") + ")"
	}
	return "INSERT" + r.or + " INTO " + r.table + " (`" + strings.Join(r.columns, "`,`") + "`) VALUES " +
		strings.TrimSuffix(strings.Repeat(one+",", n), ",")
}

// updateOf gives the statement that sets columns of the row with a key.
func updateOf(table, key string, columns ...string) string {
	return "UPDATE " + table + " SET " + strings.Join(columns, "=?,") + "=? WHERE " + key
}

func at(t *time.Time) any {
	if t == nil {
		return nil
	}
	return micros(*t)
}

func idOf(id *ID) any {
	if id == nil {
		return nil
	}
	return id[:]
}

var transactionRow = row[Transaction]{
	table: "transactions",
	columns: []string{"id", "message", "flow", "version", "state", "reason", "reference", "order_value", "place", "place_text",
		"tries", "received_at", "finished_at", "next_try_at", "queue_item", "from_topic", "unbegun", "parent", "split_path",
		"part_index", "parts", "own", "from_group", "of_letter", "caller", "caller_path", "caller_waits", "depth", "gathered",
		"gather_place", "gather_text", "own_waits", "idle", "aside", "duplicate_of", "revision", "to_walk", "lent",
		"origin", "journey", "keys_of"},
	values: func(into []any, t *Transaction) []any {
		return append(into, t.ID[:], t.Message, t.Flow, t.Version, int64(t.State), t.Reason, t.Reference, t.OrderValue,
			t.Place, t.PlaceText, t.Tries, micros(t.ReceivedAt), at(t.FinishedAt), at(t.NextTryAt), t.QueueItem, t.FromTopic, t.Unbegun,
			idOf(t.Parent), t.SplitPath, t.PartIndex, t.Parts, t.Own, t.FromGroup, idOf(t.OfLetter), idOf(t.Caller),
			t.CallerPath, t.CallerWaits, t.Depth, t.Gathered, t.GatherPlace, t.GatherText, t.OwnWaits, t.Idle, t.Aside,
			idOf(t.DuplicateOf), t.Revision, t.ToWalk, t.Lent, idOf(t.Origin), idOf(t.Journey), idOf(t.KeysOf))
	},
}

// plainTransaction is a message that has just come in and stands alone: most of its
// columns are as nothing has happened to them yet, and need not be handed over.
var plainTransaction = row[Transaction]{
	table:   "transactions",
	columns: transactionRow.columns,
	plain: []string{"?", "?", "?", "?", "?", "?", "?", "?", "?", "?", "?", "?", "?", "NULL", "0", "0", "0", "NULL", "''", "0", "0",
		"NULL", "0", "NULL", "NULL", "''", "0", "0", "0", "''", "''", "0", "0", "0", "NULL", "?", "?", "0", "NULL", "?", "NULL"},
	values: func(into []any, t *Transaction) []any {
		return append(into, t.ID[:], t.Message, t.Flow, t.Version, int64(t.State), t.Reason, t.Reference, t.OrderValue,
			t.Place, t.PlaceText, t.Tries, micros(t.ReceivedAt), at(t.FinishedAt), t.Revision, t.ToWalk, idOf(t.Journey))
	},
}

// isPlain tells whether plainTransaction writes all of it.
func isPlain(t *Transaction) bool {
	return t.NextTryAt == nil && t.QueueItem == 0 && !t.FromTopic && !t.Unbegun && t.Parent == nil && t.SplitPath == "" &&
		t.PartIndex == 0 && t.Parts == 0 && t.Own == nil && !t.FromGroup && t.OfLetter == nil && t.Caller == nil &&
		t.CallerPath == "" && !t.CallerWaits && t.Depth == 0 && t.Gathered == 0 && t.GatherPlace == "" && t.GatherText == "" &&
		t.OwnWaits == 0 && !t.Idle && !t.Aside && t.DuplicateOf == nil && !t.Lent && t.Origin == nil && t.KeysOf == nil
}

var (
	// saveTransaction writes all of a transaction but its id.
	saveTransaction = updateOf("transactions", "id=?", transactionRow.columns[1:]...)
	// moveTransaction writes what most moves change; most indexes have nothing of it.
	moveTransaction = updateOf("transactions", "id=?", "state", "reason", "place", "place_text", "tries", "finished_at",
		"next_try_at", "revision", "to_walk")
	// reviseTransaction writes what changes while it is in the same state.
	reviseTransaction = updateOf("transactions", "id=?", "tries", "next_try_at", "revision", "to_walk")
)

var messageRow = row[Message]{
	table:   "messages",
	columns: []string{"seq", "tx", "n", "headers", "params", "query", "body", "source", "warnings", "answer"},
	values: func(into []any, m *Message) []any {
		return append(into, m.Seq, m.Tx[:], m.N, m.Headers, m.Params, m.Query, m.Body.Reference(), m.Source, m.Warnings, m.Answer)
	},
}

const answerMessage = "UPDATE messages SET answer=? WHERE seq=(SELECT message FROM transactions WHERE id=?)"

var deliveryRow = row[Delivery]{
	table: "deliveries",
	columns: []string{"seq", "id", "tx", "flow", "path", "step", "target", "order_value", "state", "request", "body", "plan",
		"round", "tries", "total", "first_at", "next_at", "next_why", "created_at", "soft", "taken"},
	values: func(into []any, d *Delivery) []any {
		return append(into, d.Seq, d.ID[:], d.Tx[:], d.Flow, d.Path, d.Step, d.Target, d.OrderValue, int64(d.State), d.Request,
			d.Body.Reference(), d.Plan, d.Round, d.Tries, d.Total, at(d.FirstAt), at(d.NextAt), d.NextWhy, micros(d.CreatedAt),
			d.Soft, d.Taken)
	},
}

var (
	saveDelivery = updateOf("deliveries", "seq=?", deliveryRow.columns[1:]...)
	moveDelivery = updateOf("deliveries", "seq=?", "state", "tries", "total", "first_at", "next_at", "next_why",
		"taken")
)

var tryRow = row[Try]{
	table:   "tries",
	or:      " OR IGNORE",
	columns: []string{"delivery", "n", "round", "at", "took", "outcome", "status", "detail", "headers", "body"},
	values: func(into []any, t *Try) []any {
		return append(into, t.Delivery[:], t.N, t.Round, micros(t.At), t.Took, t.Outcome, t.Status, t.Detail, t.Headers,
			t.Body.Reference())
	},
}

var effectRow = row[Effect]{
	table:   "effects",
	or:      " OR IGNORE",
	columns: []string{"tx", "path", "result", "body", "at"},
	values: func(into []any, e *Effect) []any {
		return append(into, e.Tx[:], e.Path, e.Result, e.Body.Reference(), micros(e.At))
	},
}

var itemRow = row[QueueItem]{
	table: "queue_items",
	columns: []string{"n", "queue", "from", "path", "headers", "body", "reference", "put_at", "taken_by", "priority",
		"expires_at", "journey"},
	values: func(into []any, q *QueueItem) []any {
		return append(into, q.N, q.Queue, q.From[:], q.Path, q.Headers, q.Body, q.Reference, micros(q.PutAt), idOf(q.TakenBy),
			q.Priority, at(q.ExpiresAt), idOf(q.Journey))
	},
}

var topicRow = row[Topic]{
	table:   "topics",
	columns: []string{"name", "first", "next", "bytes", "unheard", "keep_for", "keep_bytes", "drop_unread"},
	values: func(into []any, t *Topic) []any {
		return append(into, t.Name, t.First, t.Next, t.Bytes, t.Unheard, int64(t.KeepFor), t.KeepBytes, t.DropUnread)
	},
}

// growTopic notes what has come to the end of a topic, or begins it.
var growTopic = topicRow.insertOf(1) + " ON CONFLICT (name) DO UPDATE SET next = excluded.next, bytes = excluded.bytes, " +
	"unheard = excluded.unheard"

var topicMessageRow = row[TopicMessage]{
	table:   "topic_messages",
	columns: []string{"topic", "n", "from", "path", "headers", "body", "reference", "put_at", "journey"},
	values: func(into []any, m *TopicMessage) []any {
		return append(into, m.Topic, m.N, m.From[:], m.Path, m.Headers, m.Body, m.Reference, micros(m.PutAt), idOf(m.Journey))
	},
}

var topicTakenRow = row[TopicTaken]{
	table:   "topic_takens",
	columns: []string{"tx", "topic", "subscription", "flow", "n"},
	values: func(into []any, t *TopicTaken) []any {
		return append(into, t.Tx[:], t.Topic, t.Subscription, t.Flow, t.N)
	},
}

const finishTopic = "DELETE FROM topic_takens WHERE tx=?"

const (
	takeItem   = "UPDATE queue_items SET taken_by=? WHERE n=?"
	finishItem = "DELETE FROM queue_items WHERE n=?"
)

var bodyRow = row[keptBody]{
	table:   "bodies",
	or:      " OR IGNORE",
	columns: []string{"key", "size", "codec", "pieces", "data"},
	values: func(into []any, b *keptBody) []any {
		return append(into, b.Key, b.Size, int64(b.Codec), b.Pieces, b.Data)
	},
}

var countRow = row[count]{
	table:   "counts",
	columns: []string{"minute", "flow", "state", "n"},
	values: func(into []any, c *count) []any {
		return append(into, c.Minute, c.Flow, int64(c.State), c.N)
	},
}

// addCount adds to a count, or begins it.
var addCount = countRow.insertOf(1) + " ON CONFLICT (minute, flow, state) DO UPDATE SET n = n + excluded.n"

// close ends the statements and gives the connection back.
func (p *prepared) close() error {
	var errs []error
	for _, stmt := range p.all {
		errs = append(errs, stmt.Close())
	}
	if err := p.conn.Close(); !errors.Is(err, sql.ErrConnDone) { // closing twice is no fault
		errs = append(errs, err)
	}
	p.all = nil
	return errors.Join(errs...)
}
