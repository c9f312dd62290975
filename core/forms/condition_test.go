package forms

import (
	"encoding/json"
	"errors"
	"math/rand/v2"
	"testing"
)

func TestConditionsAreDrawnBothWays(t *testing.T) {
	for source, again := range map[string]string{
		`body.kind == "x"`: "", `body.n >= 5 && body.n < 10`: "", `!(body.kind == "x")`: "", `body.open`: "",
		`body.a == "x" || body.b == "y" && has(body.c)`:         `body.a == "x" || (body.b == "y" && has(body.c))`,
		`(body.a == "x" || body.b == "y") && !body.c`:           `(body.a == "x" || body.b == "y") && !(body.c)`,
		`hl7(body, "PV1-2") in ["I", "O"]`:                      "",
		`body.name.startsWith("O'") && body.name.contains("x")`: "",
		`body.a.matches("^x") || body.b.endsWith("y")`:          "",
		`body.a == body.b`:                                      "",
	} {
		if again == "" {
			again = source
		}
		c := ReadCondition(source)
		if c == nil {
			t.Errorf("%s cannot be drawn", source)
			continue
		}
		got, err := c.Write()
		if err != nil || got != again {
			t.Errorf("%s is written as %s %v, want %s", source, got, err, again)
		}
	}
	for _, source := range []string{`body.l.exists(x, x.n == 5)`, `body.n + 1 == 2 ? true : false`, `"x" == body.a`,
		`body.a in body.b`,
		`body.a ==`, `5`} {
		if c := ReadCondition(source); c != nil {
			t.Errorf("%s is drawn as %+v", source, c)
		}
	}
}

// What is put together at random is drawn again as it was.
func TestRandomConditions(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 15))
	var make func(depth int) *Condition
	make = func(depth int) *Condition {
		if depth > 0 && r.IntN(3) > 0 {
			c := &Condition{Join: []string{"and", "or"}[r.IntN(2)], Not: r.IntN(4) == 0}
			for range 2 + r.IntN(2) {
				one := make(depth - 1)
				for one.Join == c.Join && !one.Not { // that is one group
					one = make(depth - 1)
				}
				c.Items = append(c.Items, one)
			}
			return c
		}
		one := &Condition{Left: "body.a", Compare: comparisons[r.IntN(len(comparisons))].Name, Not: r.IntN(4) == 0}
		switch one.Compare {
		case "is there", "is yes":
		case "is one of":
			one.Values = []string{`"x"`, "7"}
		default:
			one.Right = `"y"`
		}
		return one
	}
	for range 2000 {
		c := make(4)
		text, err := c.Write()
		if err != nil {
			t.Fatal(err)
		}
		back := ReadCondition(text)
		a, _ := json.Marshal(c)
		b, _ := json.Marshal(back)
		if string(a) != string(b) {
			t.Fatalf("%s is drawn as\n%s, want\n%s", text, b, a)
		}
	}
}

func TestConditionsThatAreNotComplete(t *testing.T) {
	deep := &Condition{Left: "body.a", Compare: "is yes"}
	for range 30 {
		deep = &Condition{Join: "and", Items: []*Condition{deep}}
	}
	for _, c := range []*Condition{{}, {Join: "and"}, {Join: "xor", Items: []*Condition{{Left: "x", Compare: "is yes"}}},
		{Left: "body.a", Compare: "is"}, {Left: "body.a", Compare: "resembles", Right: "1"}, {Compare: "is yes"},
		{Left: "body.", Compare: "is yes"}, {Left: "body.a", Compare: "is one of"}, deep} {
		if text, err := c.Write(); err == nil && c.Compare != "is one of" || err != nil && !errors.Is(err, ErrCondition) {
			t.Errorf("%+v is written as %s %v", c, text, err)
		}
	}
}
