package store

import (
	"strconv"
	"strings"
)

// In a fleet with several partitions a flow whose messages meet each other is at home in one of them, which keeps all
// that it has. It is a setting of the design, which the partitions take over.

// homeSetting begins the keys of the settings that say where flows are at home; they stand before homesEnd.
const homeSetting, homesEnd = "home ", "home!"

// Homes gives the partitions in which flows are at home: of one, or of all for "". Those that are not named are at home
// in the first.
func (v View) Homes(flow string) (map[string]int, error) {
	q := v.sql().Where("key >= ? AND key < ?", homeSetting, homesEnd)
	if flow != "" {
		q = v.sql().Where("key = ?", homeSetting+flow)
	}
	var rows []setting
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := map[string]int{}
	for _, r := range rows {
		part, err := strconv.Atoi(r.Value)
		if err != nil {
			return nil, err
		}
		out[strings.TrimPrefix(r.Key, homeSetting)] = part
	}
	return out, nil
}

// SetHome sets in which partition a flow is at home.
func (tx *Tx) SetHome(flow string, part int) error {
	if part == 0 {
		return tx.sql().Where("key = ?", homeSetting+flow).Delete(&setting{}).Error
	}
	return tx.SetSetting(homeSetting+flow, strconv.Itoa(part))
}

// Remembered is what a flow remembers of messages for those to come.
type Remembered struct {
	Groups, Turns, Once int64 // open groups, keys of turns, values that came once
}

// rememberedCounted is up to how many are counted of each.
const rememberedCounted = 1000

// Remembered counts what a flow remembers, up to so many of each.
func (v View) Remembered(flow string) (r Remembered, err error) {
	const some = "SELECT COUNT(*) FROM (SELECT 1 FROM "
	for from, into := range map[string]*int64{
		"groups WHERE flow = ? AND state = 0": &r.Groups, "sequences WHERE flow = ?": &r.Turns, "once_keys WHERE flow = ?": &r.Once,
	} {
		if err := v.sql().Raw(some+from+" LIMIT ?)", flow, rememberedCounted).Scan(into).Error; err != nil {
			return r, err
		}
	}
	return r, nil
}
