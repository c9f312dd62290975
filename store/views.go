package store

import "gorm.io/gorm"

// SavedView is a list of transactions that somebody has given a name.
type SavedView struct {
	Name  string `gorm:"primaryKey"`
	Query string // of the address, as the page writes it
	By    string
}

func savedViews(db *gorm.DB) error { return db.AutoMigrate(&SavedView{}) }

// SavedViews lists the saved views by name.
func (v View) SavedViews() ([]SavedView, error) {
	var out []SavedView
	return out, v.sql().Order("name").Limit(1000).Find(&out).Error
}

// SaveView keeps a view, in place of one of the same name.
func (tx *Tx) SaveView(view *SavedView) error { return tx.sql().Save(view).Error }

// DropView removes one.
func (tx *Tx) DropView(name string) error {
	return tx.sql().Where("name = ?", name).Delete(&SavedView{}).Error
}
