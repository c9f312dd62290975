package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// execute gives the output and exit code of the program.
func execute(t *testing.T, file string, args ...string) (string, string, int) {
	t.Helper()
	cmd := exec.Command(file, args...)
	var out, errs strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	code := 0
	if exit, ok := err.(*exec.ExitError); ok {
		code = exit.ExitCode()
	} else if err != nil {
		t.Fatal(err)
	}
	return out.String(), errs.String(), code
}

func write(t *testing.T, name, text string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

func TestCommandLine(t *testing.T) {
	file := program(t)
	const flows = "../../demo/flows/"
	t.Run("check", func(t *testing.T) {
		if out, _, code := execute(t, file, "check", flows+"interloan-asks.yaml"); code != 0 ||
			!strings.Contains(out, "nothing to find fault with") {
			t.Errorf("%d %s", code, out)
		}
		bad := write(t, "bad.yaml", "readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nstep: []\n")
		out, _, code := execute(t, file, "check", bad, "--json")
		var found struct {
			Findings []struct {
				Line, Column int
				Code, Repair string
			}
		}
		if err := json.Unmarshal([]byte(out), &found); err != nil || code != 1 || found.Findings[1].Line != 4 ||
			found.Findings[1].Repair != "did you mean steps?" {
			t.Errorf("%d %s %v", code, out, err)
		}
		if _, errs, code := execute(t, file, "check", "no-such-file"); code != 2 || errs == "" {
			t.Errorf("%d %s", code, errs)
		}
	})
	t.Run("rehearse", func(t *testing.T) {
		message := write(
			t,
			"m.json",
			`{"request":"HR-1","patron":{"card":"LC 1234 567"},"item":"1-2","format":"ebook"}`,
		)
		reply := write(t, "r.json", `{"loan":"DL-1"}`)
		args := []string{
			"rehearse",
			flows + "hold-requests.yaml",
			"--message",
			message,
			"--header",
			"Request-Id: a",
			"--param",
			"portal=web",
			"--at",
			"2026-03-17T09:41:07Z",
			"--id",
			"019cf2b1-77a4-7c31-8000-0123456789ab",
		}
		first, _, code := execute(t, file, append(args, "--reply", "lend="+reply+";status=201")...)
		var r struct {
			State      string
			Answer     struct{ Status int }
			Trace      []struct{ Path, Outcome string }
			Deliveries []struct {
				Target  string
				Request struct{ URL, Text string }
			}
		}
		if err := json.Unmarshal([]byte(first), &r); err != nil || code != 0 {
			t.Fatalf("%d %v %s", code, err, first)
		}
		if r.State != "delivered" || r.Answer.Status != 202 || r.Trace[5].Outcome != "lent as DL-1" ||
			r.Trace[4].Path != "by-home.digital/lend" ||
			r.Deliveries[0].Request.URL != "/loans" ||
			!strings.Contains(r.Deliveries[0].Request.Text, `"asked":"2026-03-17"`) {
			t.Errorf("%+v", r)
		}
		out, _, _ := execute(t, file, append(args, "--reply", "lend=;status=404", "--no-bodies")...)
		if !strings.Contains(out, `"state": "dead letter"`) || strings.Contains(out, `"before"`) {
			t.Error(out)
		}
		if _, errs, code := execute(t, file, append(args, "--reply", "lend=;status=9000")...); code == 0 ||
			!strings.Contains(errs, "between 100 and 599") {
			t.Errorf("%d %s", code, errs)
		}
	})
	t.Run("eval", func(t *testing.T) {
		message := write(t, "m.json", `{"n":12345678901234567890,"p":0.10}`)
		for _, c := range []struct {
			expr, want string
			code       int
		}{
			{"1 + 2", "3", 0}, {"body.n", "12345678901234567890", 0}, {"body.p", "0.10", 0}, {"1.0 + 2.0", "3.0", 0},
			{"9223372036854775807", "9223372036854775807", 0}, {"18446744073709551615u", "18446744073709551615", 0},
			{`b"hi"`, `"aGk="`, 0}, {"0.0/0.0", `"NaN"`, 0}, {"(-1.0)/0.0", `"-Infinity"`, 0}, {`{"b": [1, null], "a": true}`,
				`{"a":true,"b":[1,null]}`, 0},
			{`headers["x-a"] + query.q`, `"onetwo"`, 0}, {"optional.none()", "null", 0},
			{"body.zz", "body.zz is missing: body has no zz; it has n, p", 1}, {"1.0 == 1", "true", 0}, {"nowhere || true",
				"true", 0}, {"nowhere || false", `there is no name or function "nowhere" here`, 1}, {`1 + "a"`,
				"line 1, column 3", 1}, {"1 +", "line 1, column", 1}, {"1 / 0", "division by zero", 1},
		} {
			out, errs, code := execute(
				t,
				file,
				"eval",
				c.expr,
				"--message",
				message,
				"--header",
				"X-A: one",
				"--query",
				"q=two",
			)
			if code != c.code || code == 0 && strings.TrimSpace(out) != c.want ||
				code != 0 && !strings.Contains(errs, c.want) {
				t.Errorf("%s: %d %s%s, want %s", c.expr, code, out, errs, c.want)
			}
		}
	})
	t.Run("tables", func(t *testing.T) {
		rows := write(t, "b.csv", "code,name\nMARL,Marlow Road\n")
		message := write(t, "m.json", `{"branch":"MARL"}`)
		doc := write(
			t,
			"f.json",
			`{"readyferry":"flow/1","name":"f","intake":{"kind":"webhook","path":"/f"},"steps":[{"id":"m","kind":"map",`+
				`"fields":[{"to":"/n","from":"lookup(\"branches\", body.branch).name"}]}]}`,
		)
		if out, errs, code := execute(t, file, "rehearse", doc, "--message", message, "--table", "branches="+
			rows); code != 0 ||
			!strings.Contains(out, `{\"n\":\"Marlow Road\"}`) {
			t.Errorf("%d %s%s", code, out, errs)
		}
		if _, errs, code := execute(t, file, "rehearse", doc, "--message", message); code != 1 ||
			!strings.Contains(errs, `there is no table "branches"`) {
			t.Errorf("%d %s", code, errs)
		}
		beside := filepath.Join(filepath.Dir(doc), "tables")
		if err := os.Mkdir(beside, 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(beside, "branches.csv"), []byte("code,name\nMARL,Beside\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		if out, errs, code := execute(t, file, "rehearse", doc, "--message", message); code != 0 ||
			!strings.Contains(out, "Beside") {
			t.Errorf("%d %s%s", code, out, errs)
		}
		if out, errs, code := execute(t, file, "eval", `lookup("branches", "MARL").name`, "--table", "branches="+
			rows); code != 0 ||
			out != "\"Marlow Road\"\n" {
			t.Errorf("%d %s%s", code, out, errs)
		}
		if _, errs, code := execute(t, file, "eval", "1", "--table", rows); code != 2 ||
			!strings.Contains(errs, "NAME=FILE.csv") {
			t.Errorf("%d %s", code, errs)
		}
	})
	t.Run("decode and encode", func(t *testing.T) {
		csv := write(t, "m.csv", "a;b\r\n1;\"x\r\ny\"\r\n")
		out, _, code := execute(t, file, "decode", "--format", "csv", "--header-row", "--delimiter", ";", csv)
		if code != 0 || out != `[{"a":"1","b":"x\r\ny"}]`+"\n" {
			t.Errorf("%d %s", code, out)
		}
		tree := write(t, "t.json", out)
		if out, _, code := execute(t, file, "encode", "--format", "csv", "--delimiter", ";", tree); code != 0 ||
			out != "a;b\r\n1;\"x\r\ny\"\r\n" {
			t.Errorf("%d %q", code, out)
		}
		if out, _, _ := execute(t, file, "encode", "--format", "csv", "--line-end", "lf", "--no-header-row",
			tree); out != "1,\"x\r\ny\"\n" {
			t.Errorf("%q", out)
		}
		xml := write(t, "m.xml", `<o id="1"><l>2</l><l>3</l></o>`)
		if out, _, code := execute(t, file, "decode", "--format", "xml", xml); code != 0 ||
			out != `{"o":{"@id":"1","l":["2","3"]}}`+"\n" {
			t.Errorf("%d %s", code, out)
		}
		if out, errs, code := execute(t, file, "eval", `xpath(body, "sum(//l)")`, "--format", "xml", "--message",
			xml); code != 0 ||
			out != "5.0\n" {
			t.Errorf("%d %s%s", code, out, errs)
		}
		hl7 := write(t, "m.hl7", "MSH|^~\\&|A\rPID|1||7^x\\T\\y\r")
		if out, errs, code := execute(t, file, "eval", `hl7(body, "PID-3.2")`, "--format", "hl7", "--message",
			hl7); code != 0 ||
			out != `"x&y"`+"\n" {
			t.Errorf("%d %s%s", code, out, errs)
		}
		if _, errs, code := execute(t, file, "decode", "--format", "xml", csv); code != 1 ||
			!strings.Contains(errs, "XML, line 1, column 1") {
			t.Errorf("%d %s", code, errs)
		}
		if _, errs, code := execute(t, file, "decode", "--format", "yaml", csv); code != 2 ||
			!strings.Contains(errs, "--format must be one of json, xml") {
			t.Errorf("%d %s", code, errs)
		}
		if _, errs, code := execute(t, file, "encode", "--format", "xml", write(t, "bad.json", `{"a b":1}`)); code != 1 ||
			!strings.Contains(errs, "cannot be the name of an element") {
			t.Errorf("%d %s", code, errs)
		}
	})
	t.Run("schedule", func(t *testing.T) {
		out, _, code := execute(
			t,
			file,
			"schedule",
			"--first",
			"1s",
			"--growth",
			"linear",
			"--spread",
			"full",
			"--tries",
			"4",
			"--seed",
			"x",
			"--json",
		)
		var rows []struct{ Try, Earliest, Planned, Latest int64 }
		if err := json.Unmarshal([]byte(out), &rows); err != nil || code != 0 || len(rows) != 4 {
			t.Fatalf("%d %s %v", code, out, err)
		}
		if last := rows[3]; last.Earliest != 0 || last.Latest != 6000 || last.Planned <= 0 || last.Planned >= 6000 {
			t.Errorf("%+v", rows)
		}
		if again, _, _ := execute(t, file, "schedule", "--first", "1s", "--growth", "linear", "--spread", "full", "--tries",
			"4", "--seed", "x", "--json"); again != out {
			t.Error("the same seed gives another schedule")
		}
		if _, errs, code := execute(t, file, "schedule", "--tries", "0"); code != 1 ||
			!strings.Contains(errs, "tries is 0") {
			t.Errorf("%d %s", code, errs)
		}
	})
}
