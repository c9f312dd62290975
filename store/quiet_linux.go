package store

/*
extern int sqlite3_config(int, ...) __attribute__((weak));

// Counting memory is number 9 (SQLITE_CONFIG_MEMSTATUS, https://www.sqlite.org/c3ref/c_config_covering_index_scan.html).
static int without_counting(void) { return sqlite3_config ? sqlite3_config(9, 0) : 0; }
*/
import "C"

// SQLite counts how much memory all its connections have, under one lock that each of them takes for every piece. Nobody
// asks for the figure here, and it has to be said before the first database is opened. Where it cannot be said, the
// database counts, and all else is the same. The symbol is weak, as the library itself is linked in only at the end.
func init() { C.without_counting() }
