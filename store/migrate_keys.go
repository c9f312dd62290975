package store

import (
	"strings"

	"gorm.io/gorm"
)

// byKeyAlone makes a table one whose rows stand in the index of its key: they are small,
// each is written once, and an index beside them would be written with each.
func byKeyAlone(db *gorm.DB, table, key string) error {
	var text string
	err := db.Raw("SELECT sql FROM sqlite_master WHERE type = 'table' AND name = ?", table).Scan(&text).Error
	if err != nil || strings.HasSuffix(text, "WITHOUT ROWID") {
		return err
	}
	made := strings.Replace(text, "`"+table+"`", "`"+table+"_by_key`", 1)
	if made == text {
		made = strings.Replace(text, `"`+table+`"`, "`"+table+"_by_key`", 1)
	}
	return execAll(db,
		made+" WITHOUT ROWID",
		"INSERT INTO "+table+"_by_key SELECT * FROM "+table+" ORDER BY "+key,
		"DROP TABLE "+table,
		"ALTER TABLE "+table+"_by_key RENAME TO "+table,
	)
}
