package design

import (
	"testing"

	jsonfmt "readyferry/core/format/json"
)

// A group is told by what it alone has, never by what others have as well, or some of it has not.
func TestWhatAGroupHasInCommon(t *testing.T) {
	for _, c := range []struct {
		group, rest []string
		want        string
	}{
		{[]string{`{"f":"audio","n":1}`, `{"f":"audio","n":2}`}, []string{`{"f":"book","n":1}`},
			"f is audio in all of them, in none of the rest"},
		{[]string{`{"f":"audio"}`, `{"f":"audio"}`}, []string{`{"f":"audio"}`}, ""},
		{[]string{`{"f":"audio"}`, `{"f":"book"}`}, []string{`{"f":"film"}`}, ""},
		{[]string{`{"f":"audio"}`}, []string{`{"f":"book"}`}, ""}, // one is no group
		{[]string{`{"a":[{"x":1},{"x":2}]}`, `{"a":[{"x":1}]}`}, []string{`{"a":[{"x":3}]}`},
			"a[].x is 1 in all of them, in none of the rest"},
	} {
		all, one := newCommon(), &trafficGroup{shared: map[string]int{}}
		values := func(src string) []string {
			d, err := jsonfmt.Decode([]byte(src))
			if err != nil {
				t.Fatal(err)
			}
			return valuesOf(d.Root)
		}
		for _, src := range c.group {
			v := values(src)
			all.add(v)
			one.share(v)
		}
		for _, src := range c.rest {
			all.add(values(src))
		}
		if got := all.of(one.shared, one.Count); got != c.want {
			t.Errorf("%v beside %v: %q, want %q", c.group, c.rest, got, c.want)
		}
	}
}
