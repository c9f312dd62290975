package table

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/shopspring/decimal"

	"readyferry/core/message"
)

func text(s string) *message.Node { return message.NewString(s) }

func definition(t *testing.T, src string) *Definition {
	t.Helper()
	d, findings := Read([]byte(src))
	if d == nil {
		t.Fatal(findings)
	}
	return d
}

func find(t *testing.T, tb Table, k int, key []string, at string) string {
	t.Helper()
	p := Place{Key: EncodeKey(key)}
	if at != "" {
		p.Lo = SortKey(at)
	}
	row, err := tb.Find(k, p)
	if err != nil {
		t.Fatal(err)
	}
	if row == nil {
		return ""
	}
	return row.Value.Get("it").Text
}

func load(t *testing.T, d *Definition, file string) Table {
	t.Helper()
	f, err := ReadFile("", []byte(file))
	if err != nil {
		t.Fatal(err)
	}
	if err := f.Fit(d); err != nil {
		t.Fatal(err)
	}
	tb, err := InMemory(d, f.Rows)
	if err != nil {
		t.Fatal(err)
	}
	return tb
}

func TestCompositeKeys(t *testing.T) {
	d := definition(t, "readyferry: table/1\nname: runs\nkeys: [[branch, day]]\n")
	tb := load(t, d, "branch,day,it\nELMS,1,a\nELMS,11,b\nELMS1,1,c\n")
	for _, c := range []struct{ branch, day, want string }{{"ELMS", "1", "a"}, {"ELMS", "11", "b"}, {"ELMS1", "1", "c"},
		{"ELMS", "01", ""}, {"ELMS1", "11", ""}} {
		if got := find(t, tb, 0, []string{c.branch, c.day}, ""); got != c.want {
			t.Errorf("%s, %s: %q, want %q", c.branch, c.day, got, c.want)
		}
	}
}

func TestRanges(t *testing.T) {
	const rows = "zone,from,to,it\nA,0,9,low\nA,10,19.5,middle\nA,20,,high\nB,2026-01-01,2026-03-31,winter\nB,2026-04-01,2026-10-31,summer\n"
	for _, c := range []struct{ ends, zone, at, want string }{
		{"included", "A", "0", "low"}, {"included", "A", "9", "low"}, {"included", "A", "9.0", "low"}, {"included", "A",
			"9.5", ""},
		{"included", "A", "10", "middle"}, {"included", "A", "19.50", "middle"}, {"included", "A", "100", "high"},
		{"included", "A", "-1", ""},
		{"included", "B", "2026-03-31", "winter"}, {"included", "B", "2026-11-01", ""}, {"included", "C", "5", ""},
		{"excluded", "A", "9", ""}, {"excluded", "A", "8.99", "low"}, {"excluded", "A", "1e3", "high"},
	} {
		d := definition(
			t,
			"readyferry: table/1\nname: bands\nkeys: [[zone]]\nrange: {from: from, to: to, ends: "+c.ends+"}\n",
		)
		if got := find(t, load(t, d, rows), 0, []string{c.zone}, c.at); got != c.want {
			t.Errorf("%s ends, %s at %s: %q, want %q", c.ends, c.zone, c.at, got, c.want)
		}
	}
}

// Exact decimal comparison is the reference: shopspring/decimal's Cmp.
func TestSortKeysSortAsNumbers(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	var all []string
	for range 400 {
		all = append(all, fmt.Sprintf("%s%d.%0*d", []string{"", "-"}[r.IntN(2)], r.IntN(2000), 1+r.IntN(4), r.IntN(10)),
			fmt.Sprintf("%s%de%d", []string{"", "-"}[r.IntN(2)], r.IntN(100), r.IntN(9)-4))
	}
	for _, a := range all {
		b := all[r.IntN(len(all))]
		x, y := decimal.RequireFromString(a), decimal.RequireFromString(b)
		if got, want := strings.Compare(SortKey(a), SortKey(b)), x.Cmp(y); got != want {
			t.Fatalf("%s against %s: %d, want %d (%s, %s)", a, b, got, want, SortKey(a), SortKey(b))
		}
	}
	if SortKey("999999") > SortKey("abc") {
		t.Error("a text sorts before a number")
	}
}

// A search by the index finds the row that looking at every row finds.
func TestFindAgreesWithLookingAtEveryRow(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for round := range 200 {
		d := &Definition{
			Name:    "t",
			Columns: []string{"k", "from", "to"},
			Keys:    [][]string{{"k"}},
			Range:   &Range{"from", "to", round%2 == 1},
		}
		var rows []*message.Node
		for range 40 {
			lo := r.IntN(60)
			row := message.NewMap(
				message.Member{Name: "k", Value: text(fmt.Sprint(r.IntN(3)))},
				message.Member{Name: "from", Value: text(fmt.Sprint(lo))},
				message.Member{
					Name:  "to",
					Value: text(fmt.Sprint(lo + 1 + r.IntN(4))),
				},
				message.Member{Name: "it", Value: text(fmt.Sprint(len(rows)))},
			)
			if Check(d, append(slices.Clone(rows), row)) == nil {
				rows = append(rows, row)
			}
		}
		tb, err := InMemory(d, rows)
		if err != nil {
			t.Fatal(err)
		}
		for k := range 3 {
			for at := range 66 {
				want := ""
				for _, row := range rows {
					p, _ := d.Places(row)
					if p[0].Key == fmt.Sprint(k) && d.Covers(p[0], SortKey(fmt.Sprint(at))) {
						want += row.Get("it").Text
					}
				}
				if got := find(t, tb, 0, []string{fmt.Sprint(k)}, fmt.Sprint(at)); got != want {
					t.Fatalf("key %d at %d: %q, want %q", k, at, got, want)
				}
			}
		}
	}
}

func TestWhatATableRefuses(t *testing.T) {
	const head = "readyferry: table/1\nname: t\n"
	for _, c := range []struct{ definition, file, want string }{
		{head + "keys: [[a]]", "a,b\n1,x\n2,y\n1,z\n", `line 4: the key a "1" stands twice: in row 1, too`},
		{head + "keys: [[a]]", "a,b\n,x\n", "line 2: the column a of the key is empty"},
		{head + "keys: [[c]]", "a,b\n1,x\n", "the column c, which is part of the key, is not in the file"},
		{head + "keys: [[a], [b]]", "a,b\n1,x\n2,x\n", `the key b "x" stands twice`},
		{head + "keys: [[]]\nrange: {from: from, to: to}", "from,to,it\n0,10,a\n10,20,b\n",
			"line 3: its range overlaps that of row 1"},
		{head + "keys: [[a]]\nrange: {from: from, to: to}", "a,from,to\n1,9,3\n",
			"line 2: the range ends (3) before it begins (9)"},
		{head + "kind: cross-reference\nkeys: [[a], [b]]", "a,b\n1,\n", "line 2: the column b of the pair is empty"},
	} {
		f, err := ReadFile("csv", []byte(c.file))
		if err != nil {
			t.Fatal(err)
		}
		if err := f.Fit(definition(t, c.definition)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v\nwant %s", c.file, err, c.want)
		}
	}
	for src, want := range map[string]string{
		head + "keys: [[a]]\nkind: cross-reference":       "a cross-reference table pairs two keys",
		head + "keys: [[a, a]]":                           "stands twice in the key",
		head + "keys: [[a], [a]]":                         "stands twice",
		head + "keys: [[]]":                               "a key needs at least one column",
		head + "columns: [a, a]":                          `the column "a" stands twice`,
		head + "colums: [a]":                              "colums is not expected here",
		"readyferry: table/1\nname: t\nkind: spreadsheet": "kind",
	} {
		d, findings := Read([]byte(src))
		if d != nil || !strings.Contains(fmt.Sprint(findings), want) {
			t.Errorf("%s: %v\nwant %s", src, findings, want)
		}
	}
	for file, want := range map[string]string{
		"":                   "it is empty",
		`{"a": 1}`:           "is a map, not a list of rows",
		`[1]`:                "row 1 is a number, not a map",
		`[{"a": [1]}]`:       "the column a holds a list",
		"a,b\n1,2,3\n":       "line 2",
		`[{"a": 1}, {"a": }`: "line 1",
	} {
		kind := "json"
		if strings.HasPrefix(file, "a") {
			kind = "csv"
		}
		if _, err := ReadFile(kind, []byte(file)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v\nwant %s", file, err, want)
		}
	}
}

func TestFilesRoundTrip(t *testing.T) {
	for format, src := range map[string]string{
		"csv":  "code,name\r\nMARL,\"Marlow, Road\"\r\n007,\"said \"\"so\"\"\"\r\n",
		"json": "[\n  {\n    \"code\": \"MARL\",\n    \"n\": 0.10,\n    \"on\": true,\n    \"none\": null\n  }\n]\n",
	} {
		f, err := ReadFile(format, []byte(src))
		if err != nil {
			t.Fatal(err)
		}
		out, err := WriteFile(format, f.Columns, f.Rows)
		if err != nil || string(out) != src {
			t.Errorf("%s: %q, %v", format, out, err)
		}
	}
	d := definition(
		t,
		"readyferry: table/1\nname: pairs\ntitle: Pairs\nkind: cross-reference\ncolumns: [a, b]\nkeys: [[a], [b]]\n",
	)
	if again := define(d.Tree()); fmt.Sprint(*again) != fmt.Sprint(*d) {
		t.Errorf("%+v", again)
	}
}

func TestATableOfWhichOnlyAFileIsKnown(t *testing.T) {
	if _, err := FromFile("slots", "", []byte("day,hour,it\n1,9,a\n2,9,b\n1,10,c\n")); err == nil ||
		!strings.Contains(err.Error(), "stands twice") {
		t.Fatalf("%v", err)
	}
	tb, err := FromFile("slots", "", []byte("it,hour,day\na,9,1\nb,9,2\nc,10,1\n"))
	if err != nil {
		t.Fatal(err)
	}
	keyed, k, err := Keyed(tb, []string{"day", "hour"})
	if err != nil {
		t.Fatal(err)
	}
	if got := find(t, keyed, k, []string{"2", "9"}, ""); got != "b" {
		t.Error(got)
	}
	if _, _, err := Keyed(tb, []string{"week"}); err == nil || !strings.Contains(err.Error(), "no column week") {
		t.Error(err)
	}
}

// The rule is common practice for cross-references: each key of one system
// stands for exactly one key of the other.
func TestPairs(t *testing.T) {
	d := definition(t, "readyferry: table/1\nname: pairs\nkind: cross-reference\nkeys: [[card], [member]]\n")
	row := func(card, member, note string) *message.Node {
		n := message.NewMap(
			message.Member{Name: "card", Value: text(card)},
			message.Member{Name: "member", Value: text(member)},
		)
		if note != "" {
			n = n.With("note", text(note))
		}
		return n
	}
	under, err := InMemory(d, []*message.Node{row("1", "a", ""), row("2", "b", "")})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		card, member, note, conflict, said, fails string
		a, b                                      string // members that cards 1 and 2 have afterwards
	}{
		{"3", "c", "", "error", "paired", "", "a", "b"},
		{"1", "a", "", "error", "paired already", "", "a", "b"},
		{"1", "a", "n", "error", "changed", "", "a", "b"},
		{"1", "c", "", "error", "", `card "1" = member "a"`, "a", "b"},
		{"1", "b", "", "error", "", `card "1" = member "a" and card "2" = member "b"`, "a", "b"},
		{"1", "b", "", "keep", "kept the old one", "", "a", "b"},
		{"1", "b", "", "replace", "replaced", "", "b", ""},
		{"9", "b", "", "replace", "replaced", "", "a", ""},
	} {
		s := &Scratch{Under: Memory{"pairs": under}}
		tb, _ := s.Table("pairs")
		p, err := Pair(tb, row(c.card, c.member, c.note), c.conflict)
		if c.fails != "" {
			if err == nil || !strings.Contains(err.Error(), c.fails) {
				t.Errorf("%+v: %v", c, err)
			}
			continue
		}
		if err != nil || p.Said != c.said {
			t.Errorf("%+v: %q, %v", c, p.Said, err)
		}
		s.Write("pairs", tb, p)
		tb, _ = s.Table("pairs")
		for card, want := range map[string]string{"1": c.a, "2": c.b, c.card: p.Row.Get("member").Text} {
			got := ""
			if r, _ := tb.Find(0, Place{Key: card}); r != nil {
				got = r.Value.Get("member").Text
			}
			if got != want {
				t.Errorf("%+v: card %s has %q, want %q", c, card, got, want)
			}
		}
	}
}
