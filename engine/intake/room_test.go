package intake

import (
	"testing"
	"time"

	"readyferry/store"
)

// Messages are taken again when there is clearly more room, not at once.
func TestRoomIsJudgedWithSomePlay(t *testing.T) {
	at, gb := time.Now(), int64(1<<30)
	large := func(journal int64) store.Room { return store.Room{Free: 50 * gb, Disk: 100 * gb, Journal: journal} }
	free := func(n int64) *int64 { return &n }
	for name, c := range map[string]struct {
		is     store.Room
		limits RoomLimits
		was    bool
		short  bool
	}{
		"much is free":                     {store.Room{Free: 50 * gb, Disk: 100 * gb}, RoomLimits{}, false, false},
		"less than a gigabyte":             {store.Room{Free: gb - 1, Disk: 100 * gb}, RoomLimits{}, false, true},
		"a twentieth of a small disk":      {store.Room{Free: gb / 10, Disk: gb}, RoomLimits{}, false, false},
		"less than that":                   {store.Room{Free: gb / 21, Disk: gb}, RoomLimits{}, false, true},
		"a little more, and it was short":  {store.Room{Free: gb + 1, Disk: 100 * gb}, RoomLimits{}, true, true},
		"a tenth more, and it was short":   {store.Room{Free: gb + gb/9, Disk: 100 * gb}, RoomLimits{}, true, false},
		"a limit of its own":               {store.Room{Free: 2 * gb, Disk: 100 * gb}, RoomLimits{MinFree: free(3 * gb)}, false, true},
		"no limit":                         {store.Room{Free: 1, Disk: 100 * gb}, RoomLimits{MinFree: free(0)}, false, false},
		"a large journal":                  {large(gb), RoomLimits{MaxJournal: gb - 1}, false, true},
		"a little less, and it was short":  {large(gb - 2), RoomLimits{MaxJournal: gb}, true, true},
		"much less, and it was short":      {large(gb / 2), RoomLimits{MaxJournal: gb}, true, false},
		"a tiny limit, and it was short":   {large(gb), RoomLimits{MaxJournal: 1}, true, true},
		"no limit of it, and it was short": {large(gb), RoomLimits{}, true, false},
	} {
		was := Room{}
		if c.was {
			was.Since = &at
		}
		if now := judge(c.is, c.limits, was, at); now.Short() != c.short {
			t.Errorf("%s: short is %v (%s)", name, now.Short(), now.Why)
		}
	}
}
