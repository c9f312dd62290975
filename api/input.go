package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"readyferry/engine"
	"readyferry/engine/watch"
)

// maxDocument is the largest body that the interface reads, in bytes.
const maxDocument = 4 << 20

// readAtOnce is up to what size a body that says how large it is has its room made at once,
// in bytes: whoever says so may not send it.
const readAtOnce = 64 << 10

// body reads a request's body up to a limit.
func body(c *gin.Context, limit int64) ([]byte, error) {
	from := http.MaxBytesReader(c.Writer, c.Request.Body, limit)
	if n := c.Request.ContentLength; n > 0 && n <= min(limit, readAtOnce) {
		out := make([]byte, n)
		_, err := io.ReadFull(from, out) // net/http says where less comes
		return out, err
	}
	return io.ReadAll(from)
}

// input reads a JSON body whose members are all known.
func input(c *gin.Context, into any) error { return largeInput(c, maxDocument, into) }

// largeInput is input for bodies of up to a limit.
func largeInput(c *gin.Context, limit int64, into any) error {
	content, err := body(c, limit)
	if err != nil {
		return err
	}
	d := json.NewDecoder(bytes.NewReader(content))
	d.DisallowUnknownFields()
	if err := d.Decode(into); errors.Is(err, io.EOF) {
		return nil
	} else if err != nil {
		return bad("the JSON body: %s", plainJSON(err))
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return bad("the JSON body: something stands behind its end, at byte %d", d.InputOffset())
	}
	return nil
}

// change reads a document and the revision over which it was made.
func change(c *gin.Context) (document []byte, seen *int64, err error) {
	if document, err = body(c, maxDocument); err != nil {
		return nil, nil, err
	}
	seen, err = revision(c)
	return document, seen, err
}

// revision reads the entity tag that a client saw: nil when it sent none.
func revision(c *gin.Context) (*int64, error) {
	if c.GetHeader("If-None-Match") == "*" {
		zero := int64(0)
		return &zero, nil
	}
	tag := strings.TrimPrefix(c.GetHeader("If-Match"), "W/")
	if tag == "" || tag == "*" {
		return nil, nil
	}
	n, err := strconv.ParseInt(strings.Trim(tag, `"`), 10, 64)
	if err != nil {
		return nil, bad("If-Match holds %s, which is no entity tag of this application", tag)
	}
	return &n, nil
}

func etag(c *gin.Context, revision int64) { c.Header("ETag", fmt.Sprintf(`"%d"`, revision)) }

func id(c *gin.Context) (watch.ID, error) {
	id, err := watch.ParseID(c.Param("id"))
	if err != nil {
		return id, engine.ErrNotFound
	}
	return id, nil
}

func limit(c *gin.Context, otherwise, most int) (int, error) {
	text := c.Query("limit")
	if text == "" {
		return otherwise, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > most {
		return 0, bad("limit must be a number from 1 to %d, not %q", most, text)
	}
	return n, nil
}
