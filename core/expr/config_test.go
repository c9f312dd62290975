package expr

import (
	"strings"
	"testing"

	"readyferry/core/message"
)

func TestConfig(t *testing.T) {
	plain, err := New()
	if err != nil {
		t.Fatal(err)
	}
	env, err := plain.WithConfig(map[string]*message.Node{
		"shelf.address": message.NewString("https://shelf"), "most": message.NewNumber("5"), "strict": message.NewBool(true),
		"price": message.NewNumber("0.10"),
	})
	if err != nil {
		t.Fatal(err)
	}
	scope := &Scope{Body: message.NewMap(message.Member{Name: "n", Value: message.NewNumber("7")})}
	for source, want := range map[string]string{
		`config.shelf.address + "/v1"`:                 "https://shelf/v1",
		`body.n > config.most`:                         "true",
		`config.strict ? config.most : 1`:              "5",
		`[1, 2].map(x, x * config.most)[1]`:            "10",
		`decimal(string(config.price)) * decimal("3")`: "0.3",
	} {
		p, err := env.Compile(source)
		if err != nil {
			t.Errorf("%s: %v", source, err)
			continue
		}
		if n, err := p.Eval(scope); err != nil || n.Text != want {
			t.Errorf("%s gives %v, %v", source, n, err)
		}
	}
	read := env.Config()
	if len(read) != 4 || read["most"].Text != "5" {
		t.Errorf("read: %v", read)
	}
	for source, says := range map[string]string{
		`config.mots + 1`:     "did you mean config.most?",
		"1 +\n config.absent": "line 2, column 8: config has no absent here; there is config.most, config.price",
		`config.most + "x"`:   "whole number and a text",
	} {
		if _, err := env.Compile(source); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", source, err)
		}
	}
	if _, err := plain.Compile("config.most"); err == nil || !strings.Contains(err.Error(), "--config FILE") {
		t.Errorf("without values: %v", err)
	}
	inner, err := env.With("item")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := inner.Compile("item == config.most"); err != nil {
		t.Error(err)
	}
}
