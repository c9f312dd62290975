package api

import (
	"encoding/json"
	"strings"
	"testing"
	"time"
)

const openDaily = `BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Larkfield//EN\r\nBEGIN:VEVENT\r\nUID:a\r\nDTSTAMP:20260101T000000Z\r\n` +
	`DTSTART:20260105T000000\r\nDURATION:P1D\r\nRRULE:FREQ=DAILY\r\nSUMMARY:open\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n`

func TestAnAlarmIsSeenTakenAndTold(t *testing.T) {
	w := start(t)
	w.furnish()
	w.ok("PUT", "/api/v1/stand-ins/desk", `{"title":"Desk","status":202,"body":"ok"}`)
	w.ok("PUT", "/api/v1/connections/to-desk",
		`{"readyferry":"connection/1","name":"to-desk","kind":"http","address":"stand-in://desk"}`)
	w.ok(
		"PUT",
		"/api/v1/flows/alarmed",
		"readyferry: flow/1\nname: alarmed\nintake: {kind: webhook, path: /alarmed}\nsteps: []\n",
		"Content-Type: application/yaml",
	)
	w.ok("POST", "/api/v1/flows/alarmed/publish", `{}`)
	rule := `{"title":"Much comes","watch":"received","of":"alarmed","limit":1,"urgent":true,
		"tell":[{"connection":"to-desk","path":"/told"}]}`
	w.ok("PUT", "/api/v1/alarm-rules/much", rule)
	for range 2 {
		if a := w.call("POST", "/in/alarmed", `{}`, "Content-Type: application/json"); a.status != 202 {
			t.Fatalf("%d %s", a.status, a.body)
		}
	}
	if err := w.engine.Alarm.Look(); err != nil {
		t.Fatal(err)
	}
	var now []struct {
		ID, Title, About, Advice, Words string
		Value                           float64
		Taken                           *struct{ By, Note string }
	}
	read := func() {
		t.Helper()
		now = nil
		if err := json.Unmarshal(w.ok("GET", "/api/v1/alarms", ""), &now); err != nil {
			t.Fatal(err)
		}
	}
	read()
	if len(now) != 1 || now[0].About != "alarmed" || now[0].Value != 2 || now[0].Advice == "" ||
		now[0].Words != "messages received above 1 within 15m" {
		t.Fatalf("%+v", now)
	}
	w.ok("PUT", "/api/v1/alarms/"+now[0].ID+"/taken", `{"by":"Maud","note":"the vans are late"}`)
	if read(); now[0].Taken == nil || now[0].Taken.By != "Maud" {
		t.Errorf("%+v", now[0].Taken)
	}
	w.ok("DELETE", "/api/v1/alarms/"+now[0].ID+"/taken", "")
	if read(); now[0].Taken != nil {
		t.Errorf("%+v", now[0].Taken)
	}
	w.eventually("/api/v1/alarm-notices", `"state":"taken"`)
	var notices []struct {
		Title string
		To    struct{ Connection string }
	}
	_ = json.Unmarshal(w.ok("GET", "/api/v1/alarm-notices", ""), &notices)
	if len(notices) != 1 || notices[0].Title != "Much comes: alarmed" || notices[0].To.Connection != "to-desk" {
		t.Errorf("%+v", notices)
	}
	var past struct {
		Total int
		Worst *float64
		Rings []struct{ About string }
	}
	if err := json.Unmarshal(w.ok("POST", "/api/v1/alarm-rule-tries", `{"rule":`+rule+`,"days":2}`), &past); err != nil ||
		past.Total != 1 || past.Worst == nil || *past.Worst != 2 ||
		past.Rings[0].About != "alarmed" {
		t.Errorf("%+v %v", past, err)
	}
	var kept []struct {
		Name     string
		Ringing  int
		Revision int
	}
	if err := json.Unmarshal(w.ok("GET", "/api/v1/alarm-rules", ""), &kept); err != nil || len(kept) != 1 ||
		kept[0].Ringing != 1 {
		t.Errorf("%+v %v", kept, err)
	}
	w.problem(412, "", "PUT", "/api/v1/alarm-rules/much", rule, `If-Match: "7"`)
	w.problem(
		422,
		"no connection",
		"PUT",
		"/api/v1/alarm-rules/other",
		`{"title":"x","watch":"age","tell":[{"connection":"none"}]}`,
	)
	w.problem(400, "no span of time", "PUT", "/api/v1/alarm-rules/other", `{"title":"x","watch":"age","for":"soon"}`)
	w.problem(400, "is not known here", "PUT", "/api/v1/alarm-rules/other", `{"title":"x","wach":"age"}`)
	w.ok("DELETE", "/api/v1/alarm-rules/much", "")
	if read(); len(now) != 0 {
		t.Errorf("its rule is gone, and it rings: %+v", now)
	}
	var rang []struct{ Ended *time.Time }
	if err := json.Unmarshal(w.ok("GET", "/api/v1/alarms?state=all&limit=10", ""), &rang); err != nil ||
		len(rang) != 1 ||
		rang[0].Ended == nil {
		t.Errorf("%+v %v", rang, err)
	}
	w.problem(404, "", "DELETE", "/api/v1/alarm-rules/much", "")
	if len(w.ok("GET", "/api/v1/alarm-kinds", "")) < 1000 {
		t.Error("there is little to watch")
	}
}

func TestCalendarsAreKept(t *testing.T) {
	w := start(t)
	w.furnish()
	var c struct {
		Covers bool
		Spans  []struct{ From, To time.Time }
		Events []struct{ Summary string }
		Uses   []string
	}
	if err := json.Unmarshal(w.ok("POST", "/api/v1/calendar-previews", `{"text":"`+openDaily+`"}`), &c); err != nil ||
		!c.Covers || len(c.Spans) != 1 || len(c.Events) < 27 || c.Events[0].Summary != "open" {
		t.Errorf("%+v %v", c, err)
	}
	w.ok("PUT", "/api/v1/calendars/open", `{"title":"Opening hours","zone":"Europe/Dublin","text":"`+openDaily+`"}`)
	w.problem(412, "", "PUT", "/api/v1/calendars/open", `{"text":"`+openDaily+`"}`, "If-None-Match: *")
	w.problem(422, "no time zone", "PUT", "/api/v1/calendars/x", `{"zone":"Nowhere","text":"`+openDaily+`"}`)
	w.problem(422, "no iCalendar file", "PUT", "/api/v1/calendars/x", `{"text":"hello"}`)
	w.problem(422, "no calendar none", "PUT", "/api/v1/calendars/x", `{"text":"`+openDaily+`","except":["none"]}`)
	w.problem(400, "no iCalendar file", "POST", "/api/v1/calendar-previews", `{"text":""}`)
	w.ok("PUT", "/api/v1/alarm-rules/quiet", `{"title":"Quiet","watch":"silence","limit":15,"during":"open"}`)
	w.problem(409, "the rule Quiet", "DELETE", "/api/v1/calendars/open", "")
	if all := w.ok("GET", "/api/v1/calendars", ""); !strings.Contains(string(all), "the rule Quiet") {
		t.Errorf("%s", all)
	}
	w.ok("DELETE", "/api/v1/alarm-rules/quiet", "")
	w.ok("DELETE", "/api/v1/calendars/open", "")
	w.problem(404, "", "DELETE", "/api/v1/calendars/open", "")
}
