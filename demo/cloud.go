package demo

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	random "math/rand/v2"
	"net/http"
	"strings"
	"time"

	"readyferry/engine"
	"readyferry/standin"
)

// cloud is the connection, and the stand-in, that is signed in to by a service account.
const cloud = "county-cloud"

// serviceAccount makes the key of the service account: private, as the line of a
// connection's document, and public as PEM.
func serviceAccount() (line, public string, err error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return "", "", err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return "", "", err
	}
	open, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	if err != nil {
		return "", "", err
	}
	text := string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}))
	return "  secret: |\n    " + strings.ReplaceAll(strings.TrimSpace(text), "\n", "\n    ") + "\n",
		string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: open})), nil
}

// trusts lets the stand-in know the key of the account.
func trusts(ctx context.Context, e *engine.Engine, set *standin.Set, public string) error {
	known, err := set.Get(cloud)
	if err != nil || known.Tokens == nil {
		return nil // a person has made another of it
	}
	d := known.Definition
	tokens := *d.Tokens
	tokens.Key = public
	d.Tokens = &tokens
	if err := set.Define(d); err != nil {
		return err
	}
	return e.Design.SaveStandIn(ctx, d)
}

// kioskSecret is that of demo/connections/kiosks.yaml.
const kioskSecret = "larkfield-kiosks-secret"

// pay sends what was paid at a kiosk, signed as the kiosks do (Standard Webhooks).
func pay(ctx context.Context, client *http.Client, address string, r *random.Rand, n int) {
	body := fmt.Sprintf(`{"payment": "KP-%d", "card": %q, "cents": %d, "kiosk": "%s-%d"}`, n,
		pick(r, "LC4417203", "LC2090118", "LC8821530"), 50+50*r.IntN(20), pick(r, branches...), 1+r.IntN(3))
	id, at := fmt.Sprintf("msg_%d", n), time.Now().Unix()
	mac := hmac.New(sha256.New, []byte(kioskSecret))
	fmt.Fprintf(mac, "%s.%d.%s", id, at, body)
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address+"/in/kiosk-payments", strings.NewReader(body))
	if err != nil {
		return
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Webhook-Id", id)
	req.Header.Set("Webhook-Timestamp", fmt.Sprint(at))
	req.Header.Set("Webhook-Signature", "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)))
	if res, err := client.Do(req); err == nil {
		_ = res.Body.Close()
	}
}
