package sql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"readyferry/connect"
)

// AffectedHeader is the header of an answer that says how many rows the statement
// inserted, updated or deleted; a statement that only reads has none.
const AffectedHeader = "Affected-Rows"

// changes tells of a statement whether it changes rows, and whether it gives rows
// back. It reads the words outside of parentheses, texts and comments; what they mean
// there is the same in SQL:2016 and in every database that is reached here.
func changes(text string) (changing, returning bool) {
	for _, word := range words(text) {
		switch word {
		case "INSERT", "UPDATE", "DELETE", "MERGE", "REPLACE":
			changing = true
		case "SELECT", "VALUES":
			if !changing { // INSERT INTO … SELECT begins with the other
				return false, true
			}
		case "RETURNING":
			returning = true
		}
	}
	return changing, returning
}

// words lists the words of a statement outside of parentheses, texts, quoted names
// and comments, in capitals.
func words(text string) (out []string) {
	depth := 0
	for i := 0; i < len(text); {
		switch c := text[i]; {
		case c == '\'' || c == '"' || c == '`':
			i = past(text, i+1, string(c))
		case strings.HasPrefix(text[i:], "--"):
			i = past(text, i, "\n")
		case strings.HasPrefix(text[i:], "/*"):
			i = past(text, i, "*/")
		case c == '(':
			depth++
			i++
		case c == ')':
			depth--
			i++
		case letter(c):
			end := i + 1
			for end < len(text) && (letter(text[end]) || text[end] >= '0' && text[end] <= '9') {
				end++
			}
			if depth == 0 {
				out = append(out, strings.ToUpper(text[i:end]))
			}
			i = end
		default:
			i++
		}
	}
	return out
}

func letter(c byte) bool { return c == '_' || c|0x20 >= 'a' && c|0x20 <= 'z' || c >= 0x80 }

// past gives the place behind the next mark.
func past(text string, from int, mark string) int {
	if n := strings.Index(text[from:], mark); n >= 0 {
		return from + n + len(mark)
	}
	return len(text)
}

// change makes a statement that gives no rows, and counts what it changed.
func change(ctx context.Context, tx *sql.Tx, driver, text string, args []any) (int64, error) {
	if driver != DriverSQLite {
		done, err := tx.ExecContext(ctx, text, args...)
		if err != nil {
			return 0, err
		}
		return done.RowsAffected()
	}
	// Exec of the driver of SQLite would run what stands behind a semicolon, too.
	rows, err := tx.QueryContext(ctx, text, args...)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	if rows.Next() || rows.NextResultSet() {
		return 0, errMoreThanOne
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return 0, err
	}
	var n int64
	return n, tx.QueryRowContext(ctx, "SELECT changes()").Scan(&n)
}

var errMoreThanOne = fmt.Errorf("%w: it is more than one statement", connect.ErrCannotSend)

// asksAlone tells of a statement whether it begins as a question does and writes into no
// table of its own (SELECT … INTO); for databases in whose transactions that only read more
// than reading can be done.
func asksAlone(text string) bool {
	all := words(text)
	return len(all) > 0 && slices.Contains([]string{"SELECT", "WITH", "SHOW", "VALUES"}, all[0]) && !slices.Contains(all, "INTO") &&
		!slices.Contains(all, "EXEC") && !slices.Contains(all, "EXECUTE")
}

var errReadOnly = errors.New("the connection allows reading alone")
