package demo

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"strings"
)

// partner is a program outside that takes from a queue with a key.
type partner struct {
	client  *http.Client
	address string
	key     string
}

// vanCompany gives the van company a key of its own, anew at each start.
func vanCompany(ctx context.Context, client *http.Client, address string) *partner {
	p := &partner{client: client, address: address}
	p.call(ctx, http.MethodDelete, "/api/v1/keys/van-company", "")
	text := p.call(ctx, http.MethodPut, "/api/v1/keys/van-company",
		`{"note": "takes what is to be driven to another branch", "rights": [{"may": ["take"], "on": ["queue:pickups"]}]}`)
	var made struct{ Key string }
	if err := json.Unmarshal(text, &made); err != nil {
		slog.Debug("the demo's van company has no key", "error", err)
	}
	p.key = made.Key
	return p
}

// takes takes an order now and then; one in four it gives back.
func (p *partner) takes(ctx context.Context, n int) {
	if n%2 == 0 {
		return
	}
	var got []struct{ Lease string }
	_ = json.Unmarshal(p.call(ctx, http.MethodPost, "/out/queues/pickups/take", `{"max": 2, "lease": "1m"}`), &got)
	for i, one := range got {
		what := "done"
		if (n+i)%4 == 3 {
			what = "back"
		}
		p.call(ctx, http.MethodPost, "/out/queues/pickups/leases/"+one.Lease+"/"+what, "")
	}
}

func (p *partner) call(ctx context.Context, method, path, body string) []byte {
	req, err := http.NewRequestWithContext(ctx, method, p.address+path, strings.NewReader(body))
	if err != nil {
		return nil
	}
	if p.key != "" {
		req.Header.Set("Authorization", "Bearer "+p.key)
	}
	res, err := p.client.Do(req)
	if err != nil {
		return nil
	}
	defer func() { _ = res.Body.Close() }()
	text, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	return text
}
