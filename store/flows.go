package store

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Flow is a flow with its draft.
type Flow struct {
	Name     string `gorm:"primaryKey"`
	Title    string
	Draft    string // the document as it was written
	Revision int64  // grows with every change of the draft or its files
	Live     int    // version in use, 0 when never published
	Paused   bool
	// Trial is the version that takes one message in TrialOf since TrialAt, by the hash of its
	// order value; 0 for none. The rest goes through the live one.
	Trial   int
	TrialOf int
	TrialAt *time.Time `gorm:"serializer:micros;type:integer"`
	// Planned is the version that goes live at PlannedAt; 0 for none.
	Planned   int
	PlannedAt *time.Time `gorm:"serializer:micros;type:integer"`
	Edits     int        // changes of the draft since the live version
	KeepsAll  bool       // an earlier release made it: where it does not say how long, it keeps what has ended
	UpdatedAt time.Time  `gorm:"serializer:micros;type:integer;autoCreateTime:false;autoUpdateTime:false"`
}

// FlowFile is a file of a flow's draft: a schema, say.
type FlowFile struct {
	Flow string `gorm:"primaryKey"`
	Name string `gorm:"primaryKey"`
	Body []byte
}

// Version is a published document, never changed.
type Version struct {
	Flow        string `gorm:"primaryKey"`
	N           int    `gorm:"primaryKey;autoIncrement:false"`
	Document    string
	Files       []byte    // JSON: name → text
	Rules       int       // flow.Rules that it was published under
	PublishedAt time.Time `gorm:"serializer:micros;type:integer"`
	By          string    // who did it, as they said
	Note        string    // for those who come after
	Despite     string    // why it went live though samples were not as expected; "" where they were
}

// VersionEvent is a line of what became of the versions of a flow.
type VersionEvent struct {
	N       int64 `gorm:"primaryKey;autoIncrement"`
	Flow    string
	Version int
	At      time.Time `gorm:"serializer:micros;type:integer"`
	By      string    // who did it, as they said
	What    string    // live, planned, share, cancelled
	Note    string
}

// Sample is a message kept with a flow. Document is its JSON.
type Sample struct {
	Flow     string `gorm:"primaryKey"`
	Name     string `gorm:"primaryKey"`
	Position int
	Document []byte
}

// Connection is an outside system. Document holds no secret; Sealed does.
type Connection struct {
	Name      string `gorm:"primaryKey"`
	Kind      string
	Document  []byte // JSON
	Sealed    []byte // JSON: name → secret, sealed
	Named     []byte // JSON: host → kinds of address that it had when it was saved; "*" of one from before
	Revision  int64
	UpdatedAt time.Time `gorm:"serializer:micros;type:integer;autoCreateTime:false;autoUpdateTime:false"`
	By        string    // who saved it last; "" where it was not noted
}

// StandIn is the definition of a simulated outside system, as JSON.
type StandIn struct {
	Name     string `gorm:"primaryKey"`
	Document []byte
}

// Flows lists all flows by title.
func (v View) Flows() ([]Flow, error) {
	var out []Flow
	err := v.sql().Order("name").Find(&out).Error
	slices.SortStableFunc(out, func(a, b Flow) int { // SQLite knows the case of ASCII alone
		return strings.Compare(strings.ToLower(a.Title), strings.ToLower(b.Title))
	})
	return out, err
}

// Flow gives a flow by name, or ErrNotFound.
func (v View) Flow(name string) (Flow, error) {
	var f Flow
	return f, v.sql().Where("name = ?", name).Take(&f).Error
}

// SaveFlow creates or replaces a flow.
func (tx *Tx) SaveFlow(f *Flow) error { return tx.sql().Save(f).Error }

// DeleteFlow removes a flow with its draft and samples. Its versions stay: what
// it has done is in the journal, and can be looked at only with them.
func (tx *Tx) DeleteFlow(name string) error {
	for _, m := range []any{&FlowFile{}, &Sample{}, &Asked{}} {
		if err := tx.sql().Where("flow = ?", name).Delete(m).Error; err != nil {
			return err
		}
	}
	if err := tx.SetHome(name, 0); err != nil {
		return err
	}
	return tx.sql().Where("name = ?", name).Delete(&Flow{}).Error
}

// Files gives the files of a flow's draft.
func (v View) Files(flow string) (map[string][]byte, error) {
	var rows []FlowFile
	if err := v.sql().Where("flow = ?", flow).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := map[string][]byte{}
	for _, r := range rows {
		out[r.Name] = r.Body
	}
	return out, nil
}

// SaveFile creates or replaces a file of a draft; a nil body removes it,
// ErrNotFound when it is not there.
func (tx *Tx) SaveFile(flow, name string, body []byte) error {
	if body == nil {
		done := tx.sql().Where("flow = ? AND name = ?", flow, name).Delete(&FlowFile{})
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrNotFound
		}
		return done.Error
	}
	return tx.sql().Save(&FlowFile{flow, name, body}).Error
}

// Version gives a published version, or ErrNotFound.
func (v View) Version(flow string, n int) (Version, error) {
	var out Version
	return out, v.sql().Where("flow = ? AND n = ?", flow, n).Take(&out).Error
}

// Versions lists the versions of a flow, the newest first, without documents.
func (v View) Versions(flow string) ([]Version, error) {
	var out []Version
	return out, v.sql().Select("flow, n, published_at, `by`, note, despite").Where("flow = ?", flow).
		Order("n DESC").Find(&out).Error
}

// AddVersion stores a new version and gives it the next number.
func (tx *Tx) AddVersion(v *Version) error {
	var last int
	if err := tx.sql().Model(&Version{}).Where("flow = ?",
		v.Flow).Select("COALESCE(MAX(n), 0)").Scan(&last).Error; err != nil {
		return err
	}
	v.N = last + 1
	return tx.sql().Create(v).Error
}

// AddVersionEvent notes what became of a version.
func (tx *Tx) AddVersionEvent(e *VersionEvent) error { return tx.sql().Create(e).Error }

// VersionEvents lists what became of the versions of a flow, the latest first.
func (v View) VersionEvents(flow string, limit int) ([]VersionEvent, error) {
	var out []VersionEvent
	return out, v.sql().Where("flow = ?", flow).Order("n DESC").Limit(limit).Find(&out).Error
}

// PlannedVersions lists the flows of which a version waits for its time, the next first.
func (v View) PlannedVersions() ([]Flow, error) {
	var out []Flow
	return out, v.sql().Where("planned > 0").Order("planned_at").Find(&out).Error
}

// SharedCount is how many messages of a version are in a state.
type SharedCount struct {
	Version int
	State   State
	N       int64
}

// VersionCounts counts the messages of a flow that came since a time, by version and state,
// of at most so many of the latest.
func (v View) VersionCounts(flow string, since time.Time, most int) ([]SharedCount, error) {
	f := Filter{Flow: flow, From: since, Limit: 500}
	counts := map[[2]int]int64{}
	for seen := 0; seen < most; {
		some, err := v.Transactions(f)
		if err != nil {
			return nil, err
		}
		for i := range some {
			counts[[2]int{some[i].Version, int(some[i].State)}]++
		}
		if seen += len(some); len(some) < f.Limit {
			break
		}
		f.After = &some[len(some)-1].ID
	}
	out := make([]SharedCount, 0, len(counts))
	for k, n := range counts {
		out = append(out, SharedCount{k[0], State(k[1]), n})
	}
	slices.SortFunc(out, func(a, b SharedCount) int {
		return cmp.Or(a.Version-b.Version, int(a.State)-int(b.State))
	})
	return out, nil
}

// Samples lists the samples of a flow in their order.
func (v View) Samples(flow string) ([]Sample, error) {
	var out []Sample
	return out, v.sql().Where("flow = ?", flow).Order("position, name").Find(&out).Error
}

// Sample gives a sample by name, or ErrNotFound.
func (v View) Sample(flow, name string) (Sample, error) {
	var out Sample
	return out, v.sql().Where("flow = ? AND name = ?", flow, name).Take(&out).Error
}

// SaveSample creates or replaces a sample; a new one goes to the end.
func (tx *Tx) SaveSample(sample *Sample) error {
	var old Sample
	err := tx.sql().Where("flow = ? AND name = ?", sample.Flow, sample.Name).Take(&old).Error
	switch {
	case err == nil:
		sample.Position = old.Position
	case errors.Is(err, ErrNotFound):
		var n int64
		if err := tx.sql().Model(&Sample{}).Where("flow = ?",
			sample.Flow).Select("COALESCE(MAX(position), 0) + 1").Scan(&n).Error; err != nil {
			return err
		}
		sample.Position = int(n)
	default:
		return err
	}
	return tx.sql().Save(sample).Error
}

// FreeSampleName gives the name, or the name with a number behind it when it
// is taken.
func (v View) FreeSampleName(flow, name string) (string, error) {
	for free, n := name, 2; ; free, n = fmt.Sprintf("%s (%d)", name, n), n+1 {
		err := v.sql().Where("flow = ? AND name = ?", flow, free).Take(&Sample{}).Error
		if errors.Is(err, ErrNotFound) {
			return free, nil
		}
		if err != nil {
			return "", err
		}
	}
}

// CountSamples tells how many samples a flow has.
func (v View) CountSamples(flow string) (n int64, err error) {
	return n, v.sql().Model(&Sample{}).Where("flow = ?", flow).Count(&n).Error
}

// DeleteSample removes a sample, or gives ErrNotFound.
func (tx *Tx) DeleteSample(flow, name string) error {
	return deleted(tx.sql().Where("flow = ? AND name = ?", flow, name).Delete(&Sample{}))
}

// Connections lists all connections by name.
func (v View) Connections() ([]Connection, error) {
	var out []Connection
	return out, v.sql().Order("name").Find(&out).Error
}

// Connection gives a connection by name, or ErrNotFound.
func (v View) Connection(name string) (Connection, error) {
	var c Connection
	return c, v.sql().Where("name = ?", name).Take(&c).Error
}

// SaveConnection creates or replaces a connection.
func (tx *Tx) SaveConnection(c *Connection) error { return tx.sql().Save(c).Error }

// DeleteConnection removes a connection, or gives ErrNotFound.
func (tx *Tx) DeleteConnection(name string) error {
	return deleted(tx.sql().Where("name = ?", name).Delete(&Connection{}))
}

// StandIns lists the definitions of simulated systems.
func (v View) StandIns() ([]StandIn, error) {
	var out []StandIn
	return out, v.sql().Order("name").Find(&out).Error
}

// SaveStandIn creates or replaces a definition.
func (tx *Tx) SaveStandIn(d *StandIn) error {
	return tx.sql().Clauses(clause.OnConflict{UpdateAll: true}).Create(d).Error
}

// DeleteStandIn removes a definition, or gives ErrNotFound.
func (tx *Tx) DeleteStandIn(name string) error {
	return deleted(tx.sql().Where("name = ?", name).Delete(&StandIn{}))
}

func deleted(q *gorm.DB) error {
	if q.Error == nil && q.RowsAffected == 0 {
		return ErrNotFound
	}
	return q.Error
}
