package api

import (
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/engine/watch"
)

// idIn reads an id in the query; nil when it is not there.
func idIn(c *gin.Context, name, of string) (*watch.ID, error) {
	text := c.Query(name)
	if text == "" {
		return nil, nil
	}
	id, err := watch.ParseID(text)
	if err != nil {
		return nil, bad("%s must be the id of %s: %w", name, of, err)
	}
	return &id, nil
}

func moment(c *gin.Context, name string) (time.Time, error) {
	text := c.Query(name)
	if text == "" {
		return time.Time{}, nil
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return t, bad("%s must be a time such as 2026-03-17T09:41:00Z, not %q", name, text)
	}
	return t.UTC(), nil
}

// number reads a number from 0 on in the query; 0 when it is not there.
func number(c *gin.Context, name string) (int64, error) {
	text := c.Query(name)
	if text == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return 0, bad("%s must be a number from 0 on, not %q", name, text)
	}
	return n, nil
}
