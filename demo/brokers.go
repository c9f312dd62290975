package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"strings"
)

// says lets a stand-in say something by itself.
func says(ctx context.Context, client *http.Client, address, message string) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, strings.NewReader(message))
	if err != nil {
		return
	}
	if res, err := client.Do(req); err == nil {
		_ = res.Body.Close()
	} else if ctx.Err() == nil {
		slog.Debug("the demo's trickle could not let a stand-in speak", "error", err)
	}
}

// reading is what a sensor in the stacks says; some harm old paper.
func reading(r *rand.Rand) string {
	return fmt.Sprintf(`{"celsius": %.1f, "humidity": %d}`, 17+float64(r.IntN(80))/10, 38+r.IntN(26))
}

// returned is what a desk says of an item that is handed back: how it is stands in a
// header. Some belong to other libraries.
func returned(r *rand.Rand, n int) string {
	home := pick(r, branches...)
	body := fmt.Sprintf(`{"scan": "RS-%d", "item": "LK-%04d-%d", "home": %q}`, n, r.IntN(2000), 1+r.IntN(3), home)
	text, err := json.Marshal(map[string]any{"exchange": "desk", "topic": "returned." + home, "body": body,
		"headers": map[string]string{
			"Content-Type": "application/json", "Message-Id": fmt.Sprintf("return-%d", n),
			"x-condition": pick(r, "good", "good", "good", "good", "good", "good", "good", "damaged", "damaged", "foreign"),
		}})
	if err != nil {
		return ""
	}
	return string(text)
}

// loan is a record of the loans log, by the card of the member.
func loan(r *rand.Rand, n int) string {
	card := pick(r, "LC4417203", "LC2090118", "LC8821530", "LC1177042")
	body := fmt.Sprintf(`{"loan": "L-%d", "card": %q, "branch": %q, "state": %q, "days": %d}`,
		n, card, pick(r, branches...), pick(r, "out", "out", "extended", "back", "overdue"), r.IntN(20))
	text, err := json.Marshal(map[string]any{"topic": "loans", "key": card, "body": body, "headers": map[string]string{
		"Content-Type": "application/json",
	}})
	if err != nil {
		return ""
	}
	return string(text)
}

// bound is how a new title is bound; something always comes in loose sheets.
func bound(r *rand.Rand, i int) string {
	if i == 0 {
		return "sheets"
	}
	return pick(r, "cloth", "cloth", "paper", "sheets")
}

// titles is a file with new titles, as the agency lays it down.
func titles(r *rand.Rand, n int) string {
	var body strings.Builder
	body.WriteString("number;title;binding\r\n")
	for i := range 4 + r.IntN(5) {
		fmt.Fprintf(&body, "T-%d;%s;%s\r\n", n*10+i, pick(r, "Songs of the Lark valley", "The tide mills", "Herons",
			"A walk to Stow", "Bridges, and who built them"),
			bound(r, i))
	}
	text, err := json.Marshal(map[string]any{"topic": fmt.Sprintf("outgoing/catalogue-%d.csv", n), "body": body.String()})
	if err != nil {
		return ""
	}
	return string(text)
}

// brokers lets the stand-ins for brokers say what sensors and desks do.
func brokers(ctx context.Context, client *http.Client, address string, r *rand.Rand, n int) {
	standIns := address + "/api/v1/stand-ins/"
	if n%3 == 0 {
		says(ctx, client, standIns+"shelf-sensors/send", fmt.Sprintf(
			`{"topic": "branches/%s/shelves/%s", "qos": 1, "headers": {"Content-Type": "application/json"}, "body": %q}`,
			pick(r, branches...), pick(r, "maps", "newspapers", "local-history"), reading(r)))
	}
	if n%4 == 1 {
		says(ctx, client, standIns+"returns-desk/send", returned(r, 60000+n))
	}
	says(ctx, client, standIns+"loans-log/send", loan(r, 90000+n))
	if n%60 == 2 {
		says(ctx, client, standIns+"catalogue-agency/send", titles(r, 7000+n))
	}
	if n%6 == 2 {
		says(ctx, client, standIns+"closed-stacks/send", fmt.Sprintf(
			`{"topic": "stacks.asked.%s", "headers": {"Content-Type": "application/json"}, "body": %q}`, pick(r, "north",
				"south"),
			fmt.Sprintf(`{"request": "SR-%d", "volume": %q}`, 800+n, pick(r, "Atlas of the Lark valley, 1904",
				"Parish registers, 1711", "Tide tables, 1888"))))
	}
}
