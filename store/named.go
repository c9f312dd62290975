package store

import "gorm.io/gorm"

// NamedBefore stands for the hosts of a connection that was saved before they were looked at.
const NamedBefore = "*"

// named permits connections that are there already whatever their hosts come to.
func named(db *gorm.DB) error {
	return addColumns(db, []column{
		{&Connection{}, "Named", "ALTER TABLE connections ADD COLUMN named blob NOT NULL DEFAULT x'2a'"},
	})
}
