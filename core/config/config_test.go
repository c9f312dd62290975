package config

import (
	"strings"
	"testing"

	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
)

const example = `readyferry: config/1
values:
  shelf: {address: "https://shelf.example.org", per_second: 5, strict: true}
  price: 0.10
secrets:
  shelf-token: {file: /run/secrets/shelf-token, for: [Shelf.example.org]}
  printer: {env: PRINTER, for: printer.example.org}
`

func TestRead(t *testing.T) {
	c, err := Read([]byte(example))
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(c.Values.Names(), " "); got != "price shelf.address shelf.per_second shelf.strict" {
		t.Error(got)
	}
	if c.Values["price"].Text != "0.10" {
		t.Error("a number loses its digits:", c.Values["price"].Text)
	}
	s := c.Secrets["shelf-token"]
	if s == nil || s.File != "/run/secrets/shelf-token" || !s.Goes("SHELF.example.org") || s.Goes("example.org") {
		t.Errorf("%+v", s)
	}
	over, err := Read([]byte("readyferry: config/1\nvalues: {price: 2}\n"))
	if err != nil {
		t.Fatal(err)
	}
	both := c.Over(over)
	if both.Values["price"].Text != "2" || c.Values["price"].Text != "0.10" || len(both.Secrets) != 2 {
		t.Errorf("%v", both)
	}
}

func TestWhatCannotBeRead(t *testing.T) {
	for src, says := range map[string]string{
		"values: {a: 1}":                                                "begin it with readyferry: config/1",
		"readyferry: config/1\nvalue: {}":                               "line 2: the key \"value\"",
		"readyferry: config/1\nvalues: {a-b: 1}":                        `"a-b" is no name`,
		"readyferry: config/1\nvalues: {a: [1]}":                        "values.a is a list",
		"readyferry: config/1\nvalues: {a: null}":                       "values.a is a null",
		"readyferry: config/1\nvalues: 3":                               "values is a number",
		"readyferry: config/1\nsecrets: {a: {file: x}}":                 "to which hosts",
		"readyferry: config/1\nsecrets: {a: {file: x, env: Y, for: h}}": "one of them",
		"readyferry: config/1\nsecrets: {a: {vault: x, for: h}}":        `"vault" is not known`,
		"readyferry: config/1\nsecrets: {../a: {file: x, for: h}}":      "no name of a secret",
		"readyferry: config/1\nvalues: {a: 1":                           "line",
	} {
		if _, err := Read([]byte(src)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", src, err)
		}
	}
}

func TestFill(t *testing.T) {
	c, err := Read([]byte(example))
	if err != nil {
		t.Fatal(err)
	}
	source, bad := flow.Parse([]byte(`address: "${config.shelf.address}/v1"
limits: {per-second: "${ config.shelf.per_second }"}
list: ["${config.nothing}", "${config.price} and ${body.price}"]
`))
	if bad != nil {
		t.Fatal(bad)
	}
	var unknown []string
	out := c.Values.Fill(source.Root, func(pointer, name string) { unknown = append(unknown, pointer+" "+name) })
	if got, want := string(jsonfmt.Encode(out)), `{"address":"https://shelf.example.org/v1","limits":{"per-second":5},`+
		`"list":["${config.nothing}","0.10 and ${body.price}"]}`; got != want {
		t.Error(got)
	}
	if got := strings.Join(unknown, ","); got != "/list/0 nothing" {
		t.Error(got)
	}
	if !strings.Contains(string(jsonfmt.Encode(source.Root)), "${config.price}") {
		t.Error("what was given is changed")
	}
	if Named([]byte(`{"a":"${body.a}"}`)) || !Named([]byte(`{"a":"x${config.a}"}`)) {
		t.Error("whether a value is named")
	}
}
