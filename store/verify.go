package store

import (
	"context"
	"fmt"
	"strings"

	"readyferry/store/body"
)

// Check is something that must hold of a whole file, whatever has happened to it.
type Check struct {
	Name string // what is looked at, in words
	// broken selects what it does not hold of: which row, and what is wrong with it.
	broken string
}

// Broken is a row of which a check does not hold.
type Broken struct{ Which, What string }

// inWords gives the SQL for an id as people read it.
func inWords(column string) string {
	return fmt.Sprintf("lower(substr(hex(%[1]s),1,8)||'-'||substr(hex(%[1]s),9,4)||'-'||substr(hex(%[1]s),13,4)||'-'||"+
		"substr(hex(%[1]s),17,4)||'-'||substr(hex(%[1]s),21))", column)
}

func of(table, column, what, where string) string {
	return "SELECT '" + table + " '||" + inWords("t."+column) + " AS which, " + what + " AS what FROM " + table + " t WHERE " + where
}

// belongs finds rows that refer to a transaction which is not there.
func belongs(table, column string) Check {
	return Check{"each row of " + table + " belongs to a transaction", of(table, column, "'there is no such transaction'",
		"t."+column+" IS NOT NULL AND NOT EXISTS (SELECT 1 FROM transactions o WHERE o.id = t."+column+")")}
}

// refers finds bodies that are not kept.
func refers(table, id string) Check {
	return Check{"each body of " + table + " is kept", of(table, id, "'its body is not there'",
		"substr(t.body,1,1) = x'01' AND NOT EXISTS (SELECT 1 FROM bodies b WHERE b.key = substr(t.body,2,32))")}
}

// counted finds counts beside that are not what they count.
func counted(name, beside, source string) Check {
	return Check{name, "SELECT coalesce(a.k, b.k) AS which, 'it is counted as '||coalesce(a.n,0)||', and is '||coalesce(b.n,0) " +
		"AS what FROM (" + beside + ") a FULL JOIN (" + source + ") b ON a.k = b.k WHERE coalesce(a.n,0) <> coalesce(b.n,0)"}
}

const triesOf = "((taken IS NOT NULL) + (SELECT COUNT(*) FROM tries r WHERE r.delivery = t.id))"

const openDelivery = "EXISTS (SELECT 1 FROM deliveries d WHERE d.tx = t.id AND d.state <= 1)"

// referred counts the rows that refer to contents.
func referred() string {
	var all []string
	for _, table := range referrers {
		all = append(all, "SELECT substr(body,2,32) AS key FROM "+table+" WHERE substr(body,1,1) = x'01'")
	}
	return "SELECT lower(hex(key)) AS k, COUNT(*) AS n FROM (" + strings.Join(all, " UNION ALL ") + ") GROUP BY key"
}

// Checks are what must hold of a file.
func Checks() []Check {
	states := "'it is '||CASE t.state WHEN 0 THEN 'under way' WHEN 1 THEN 'waiting' WHEN 2 THEN 'delivered' WHEN 3 THEN " +
		"'turned away' ELSE 'a dead letter' END||' and '||"
	return []Check{
		{"what has not ended waits for something", of("transactions", "id", states+"'waits for nothing'",
			"state <= 1 AND NOT to_walk AND gathered = 0 AND NOT "+openDelivery+" AND NOT EXISTS (SELECT 1 FROM splits s "+
				"WHERE s.tx = t.id AND (s.next < s.total OR s.under_way + s.waiting + s.dead > 0))")},
		{"what waits at a step waits for something that exists", of("transactions", "id", states+"'nothing will wake it at '||gather_place",
			"state <= 1 AND gathered > 0 AND NOT EXISTS (SELECT 1 FROM time_limits l WHERE l.tx = t.id AND l.waits) AND NOT EXISTS "+
				"(SELECT 1 FROM members m WHERE m.tx = t.id AND NOT m.gone) AND NOT EXISTS (SELECT 1 FROM helds h WHERE h.tx = t.id)")},
		{"what has ended does nothing any more", of("transactions", "id", states+"'has open deliveries'",
			"state IN (2, 3) AND "+openDelivery)},
		{"what has ended says when", of("transactions", "id", states+"'says not when'", "state IN (2, 3) AND finished_at IS NULL")},
		{"a dead letter can be decided about", of("transactions", "id", states+"'has no open letter'",
			"state = 4 AND NOT EXISTS (SELECT 1 FROM letters l WHERE l.tx = t.id AND l.state = 0) AND NOT EXISTS "+
				"(SELECT 1 FROM transactions p WHERE p.parent = t.id AND p.state = 4)")},
		{"an open letter is of a dead transaction", of("letters", "id", "'its transaction is none'",
			"state = 0 AND NOT EXISTS (SELECT 1 FROM transactions o WHERE o.id = t.tx AND o.state = 4)")},
		{"each transaction has its message", of("transactions", "id", "'its message is not there'",
			"NOT EXISTS (SELECT 1 FROM messages m WHERE m.seq = t.message AND m.tx = t.id AND m.n = 0)")},
		{"a part has its whole", of("transactions", "id", "'its whole is not there'",
			"parent IS NOT NULL AND NOT EXISTS (SELECT 1 FROM transactions o WHERE o.id = t.parent)")},
		belongs("messages", "tx"), belongs("deliveries", "tx"), belongs("effects", "tx"), belongs("letters", "tx"),
		belongs("members", "tx"), belongs("helds", "tx"), belongs("time_limits", "tx"), belongs("asks", "tx"),
		belongs("topic_takens", "tx"),
		{"each try is of a delivery", of("tries", "delivery", "'there is no such delivery'",
			"t.delivery NOT IN (SELECT id FROM deliveries)")},
		{"each delivery has an id of its own", of("deliveries", "id", "'another one has it, too'",
			"id IN (SELECT id FROM deliveries GROUP BY id HAVING COUNT(*) > 1)")},
		{"each message is the only one of its number", of("messages", "tx", "'another transaction has it, or another number'",
			"n = 0 AND NOT EXISTS (SELECT 1 FROM transactions o WHERE o.id = t.tx AND o.message = t.seq)")},
		{"a delivery counts its tries", of("deliveries", "id", "'it counts '||total||' tries, and has '||"+triesOf,
			"total <> "+triesOf)},
		{"what is due says when", of("deliveries", "id", "'it waits for no time'", "state = 0 AND next_at IS NULL")},
		{"what is delivered was taken", of("deliveries", "id", "'no try of it was delivered'",
			"state = 2 AND taken IS NULL AND NOT EXISTS (SELECT 1 FROM tries r WHERE r.delivery = t.id AND r.outcome = 'delivered')")},
		{"one of each order value is tried at a time", of("deliveries", "id", "'another one of its value is tried, too'",
			"state = 0 AND order_value <> '' AND EXISTS (SELECT 1 FROM deliveries e WHERE e.target = t.target AND "+
				"e.order_value = t.order_value AND e.order_value <> '' AND e.state = 0 AND e.state <= 1 AND e.seq <> t.seq)")},
		{"what waits for its turn has one ahead", of("deliveries", "id", "'nothing is ahead of it'",
			"state = 1 AND NOT EXISTS (SELECT 1 FROM deliveries e WHERE e.target = t.target AND "+
				"e.order_value = t.order_value AND e.order_value <> '' AND e.state = 0 AND e.state <= 1)")},
		{"a delivery that is given up has its letter", of("deliveries", "id", "'there is no letter of it'",
			"state = 3 AND NOT soft AND NOT EXISTS (SELECT 1 FROM letters l WHERE l.tx = t.tx AND l.path = t.path)")},
		{"a message of a queue that is worked on knows by whom", "SELECT 'message '||n||' of the queue '||queue AS which, " +
			"'who works on it is at an end, or on another one' AS what FROM queue_items t WHERE taken_by IS NOT NULL AND NOT EXISTS " +
			"(SELECT 1 FROM transactions o WHERE o.id = t.taken_by AND (o.queue_item = t.n OR o.state = 4)) AND NOT EXISTS " +
			"(SELECT 1 FROM leases l WHERE l.id = t.taken_by)"},
		{"who works on a message of a queue has it", of("transactions", "id", "'the message '||queue_item||' is not its own'",
			"queue_item <> 0 AND NOT EXISTS (SELECT 1 FROM queue_items q WHERE q.n = t.queue_item AND q.taken_by = t.id)")},
		counted("transactions are counted by flow and state",
			"SELECT flow||' '||state AS k, n FROM counts WHERE minute = 0 AND n <> 0",
			"SELECT flow||' '||state AS k, COUNT(*) AS n FROM transactions WHERE parent IS NULL GROUP BY flow, state"),
		counted("transactions are counted by minute",
			"SELECT minute||' '||flow||' '||state AS k, n FROM counts WHERE minute > 0 AND n <> 0",
			"SELECT (received_at / 60000000)||' '||flow||' '||state AS k, COUNT(*) AS n FROM transactions WHERE parent IS NULL "+
				"GROUP BY received_at / 60000000, flow, state"),
		counted("transactions are counted by hour",
			"SELECT (-minute)||' '||flow||' '||state AS k, n FROM counts WHERE minute < 0 AND n <> 0",
			"SELECT (received_at / 3600000000)||' '||flow||' '||state AS k, COUNT(*) AS n FROM transactions WHERE parent IS NULL "+
				"GROUP BY received_at / 3600000000, flow, state"),
		counted("messages of queues are counted",
			"SELECT queue||' free' AS k, free AS n FROM queue_sizes UNION ALL SELECT queue||' taken', taken FROM queue_sizes",
			"SELECT queue||' free' AS k, SUM(taken_by IS NULL) AS n FROM queue_items GROUP BY queue UNION ALL "+
				"SELECT queue||' taken', SUM(taken_by IS NOT NULL) FROM queue_items GROUP BY queue"),
		counted("open dead letters are counted",
			"SELECT key AS k, n FROM tallies WHERE kind = 'letters' UNION ALL SELECT 'all', n FROM tallies WHERE kind = 'all letters'",
			"SELECT cause AS k, COUNT(*) AS n FROM letters WHERE state = 0 GROUP BY cause UNION ALL "+
				"SELECT 'all', COUNT(*) FROM letters WHERE state = 0"),
		counted("places that were given back are counted",
			"SELECT key AS k, n FROM tallies WHERE kind = 'lent'",
			"SELECT flow AS k, COUNT(*) AS n FROM transactions WHERE lent GROUP BY flow"),
		counted("parts are counted by state",
			"SELECT hex(tx)||path||' '||s.i AS k, CASE s.i WHEN 0 THEN under_way WHEN 1 THEN waiting WHEN 2 THEN delivered "+
				"WHEN 3 THEN turned_away ELSE dead END AS n FROM splits, (SELECT 0 AS i UNION ALL SELECT 1 UNION ALL SELECT 2 UNION ALL "+
				"SELECT 3 UNION ALL SELECT 4) s",
			"SELECT hex(parent)||split_path||' '||state AS k, COUNT(*) AS n FROM transactions WHERE parent IS NOT NULL "+
				"GROUP BY parent, split_path, state"),
		counted("parts that have begun are there",
			"SELECT hex(tx)||path AS k, next AS n FROM splits",
			"SELECT hex(parent)||split_path AS k, COUNT(*) AS n FROM transactions WHERE parent IS NOT NULL GROUP BY parent, split_path"),
		counted("bytes of messages are counted by flow",
			"SELECT key AS k, n FROM tallies WHERE kind = '"+bytesTally+"'", bytesByFlow),
		counted("what refers to a content is counted",
			"SELECT lower(hex(key)) AS k, refs AS n FROM bodies", referred()),
		{"each piece is of a content", "SELECT 'piece '||n AS which, 'no content has it' AS what FROM body_pieces t " +
			"WHERE NOT EXISTS (SELECT 1 FROM bodies b WHERE b.key = t.key AND b.stands IS NULL) AND t.key NOT IN " +
			"(SELECT stands FROM bodies WHERE stands IS NOT NULL UNION SELECT name FROM staged_bodies)"},
		refers("messages", "tx"), refers("deliveries", "id"), refers("effects", "tx"), refers("tries", "delivery"),
	}
}

// Holds gives up to limit rows of which a check does not hold.
func (v View) Holds(ctx context.Context, c Check, limit int) ([]Broken, error) {
	var out []Broken
	err := v.sql().WithContext(ctx).Raw("SELECT which, what FROM ("+c.broken+") LIMIT ?", limit).Scan(&out).Error
	if err != nil {
		return nil, fmt.Errorf("%s: %w", c.Name, err)
	}
	return out, nil
}

// Sound has SQLite look whether the pages of the file are what they should be.
func (v View) Sound(ctx context.Context) ([]Broken, error) {
	var said []string
	if err := v.sql().WithContext(ctx).Raw("PRAGMA integrity_check(20)").Scan(&said).Error; err != nil {
		return nil, err
	}
	var out []Broken
	for _, s := range said {
		if s != "ok" {
			out = append(out, Broken{"the file", s})
		}
	}
	return out, nil
}

// EachBody looks at the kept contents: whether each is the one whose key it has.
func (v View) EachBody(ctx context.Context, broken func(Broken)) error {
	for last := int64(0); ; {
		var rows []keptBody
		if err := v.sql().WithContext(ctx).Where("n > ?", last).Order("n").Limit(200).Find(&rows).Error; err != nil {
			return err
		}
		if len(rows) == 0 {
			return nil
		}
		for i := range rows {
			last = rows[i].N
			b := body.Referring(body.Key(rows[i].Key), rows[i].Size)
			if err := v.Fill(&b); err != nil {
				broken(Broken{fmt.Sprintf("the content %x", rows[i].Key), err.Error()})
			}
		}
	}
}

// Tried lists deliveries that wait for another try, with the last one that they had.
type Tried struct {
	Delivery
	LastAt, LastTook int64 // microseconds
}

// Retried lists some of them behind a sequence number.
func (v View) Retried(after int64, limit int) ([]Tried, error) {
	var out []Tried
	err := v.sql().Raw(`SELECT d.*, t.at AS last_at, t.took AS last_took FROM deliveries d JOIN tries t ON t.delivery = d.id
		AND t.n = (SELECT MAX(n) FROM tries WHERE delivery = d.id AND outcome NOT IN (?, ?))
		WHERE d.state = 0 AND d.tries > 0 AND d.seq > ? ORDER BY d.seq LIMIT ?`, Late, Unknown, after, limit).Scan(&out).Error
	return out, err
}
