package access

import (
	"slices"
	"testing"
)

// The table of design: what each role may, and nothing else.
func TestRoles(t *testing.T) {
	want := map[Role][]Right{
		Reader: {See}, Operator: {See, Samples, Bodies, Test, Operate}, Designer: {See, Samples, Test, Design},
		Publisher: {See, Test, Publish}, Owner: {See, Own}, Unmasker: {See, Unmask},
	}
	for _, role := range Roles() {
		w := &Who{Grants: []Grant{{role, "circulation"}}}
		for _, r := range Rights() {
			may := slices.Contains(want[role], r)
			if got := w.May(r, Thing{Flow, "holds", "circulation"}); got != may {
				t.Errorf("%s may %s: %v", role, r, got)
			}
			if w.May(r, Thing{Flow, "holds", "interloan"}) || w.May(r, Thing{Flow, "holds", ""}) || w.Everywhere(r) {
				t.Errorf("%s may %s outside of the area", role, r)
			}
			if w.Anywhere(r) != may {
				t.Errorf("%s anywhere: %v", r, !may)
			}
		}
	}
	all := &Who{Grants: All()}
	for _, r := range Rights() {
		if !all.May(r, Thing{Table, "t", ""}) || !all.May(r, Thing{Table, "t", "x"}) || !all.Everywhere(r) {
			t.Errorf("all may not %s", r)
		}
	}
	var nobody *Who
	if nobody.May(See, Thing{}) || nobody.Everywhere(See) || nobody.Anywhere(See) || nobody.Areas(See) != nil {
		t.Error("nobody may see")
	}
}

func TestKeysOnThings(t *testing.T) {
	w := &Who{Kind: Key, Rights: []KeyRight{
		{May: []string{MayRead}, On: []string{"flow:holds", "queue:slips-*", "area:interloan"}},
		{May: []string{MayManage}, On: []string{"table:copies"}},
		{May: []string{MaySend, MayTake}, On: []string{"*"}},
	}}
	for _, c := range []struct {
		r   Right
		t   Thing
		may bool
	}{
		{Bodies, Thing{Flow, "holds", ""}, true}, {Bodies, Thing{Flow, "holds-2", ""}, false},
		{See, Thing{Queue, "slips-marl", "x"}, true}, {See, Thing{Topic, "slips-marl", ""}, false},
		{See, Thing{Connection, "c", "interloan"}, true}, {Operate, Thing{Connection, "c", "interloan"}, false},
		{Publish, Thing{Table, "copies", ""}, true}, {Bodies, Thing{Table, "copies", ""}, false},
		{Own, Thing{Table, "copies", ""}, false}, {See, Thing{Flow, "interloan", ""}, false},
	} {
		if got := w.May(c.r, c.t); got != c.may {
			t.Errorf("%s on %v: %v", c.r, c.t, got)
		}
	}
	if w.Everywhere(See) {
		t.Error("sending everywhere is no seeing")
	}
	for _, bad := range []KeyRight{{}, {[]string{"see"}, []string{"*"}}, {[]string{MayRead}, []string{"flow"}},
		{[]string{MayRead}, []string{"person:x"}}, {[]string{MayRead}, []string{"flow:"}}} {
		if bad.Check() == nil {
			t.Errorf("%v passes", bad)
		}
	}
}

func TestGrantsAreChecked(t *testing.T) {
	for _, bad := range []Grant{{"king", "*"}, {Reader, ""}, {Owner, "circulation"}, {Reader, "Big Area"}, {Reader,
		"-x"}} {
		if bad.Check() == nil {
			t.Errorf("%v passes", bad)
		}
	}
	for _, good := range []Grant{{Owner, "*"}, {Reader, "circulation"}, {Unmasker, "*"}} {
		if err := good.Check(); err != nil {
			t.Error(err)
		}
	}
}
