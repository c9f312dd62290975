package main

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"

	"github.com/gin-gonic/gin"
	_ "github.com/mattn/go-sqlite3" // the driver of the kept pipeline
)

// bare is a handler that reads the body.
func bare() http.Handler {
	gin.SetMode(gin.ReleaseMode)
	g := gin.New()
	g.POST("/bare", func(c *gin.Context) {
		if _, err := io.ReadAll(c.Request.Body); err != nil {
			c.Status(http.StatusBadRequest)
			return
		}
		c.JSON(http.StatusAccepted, gin.H{"stored": true})
	})
	return g
}

// choose decides where a message goes, as the flow does.
func choose(content []byte) (path string, err error) {
	var m struct {
		Kind   string  `json:"kind"`
		Amount float64 `json:"amount"`
	}
	var whole map[string]any // a pipeline that hands on what it has read checks that it is JSON
	if err := json.Unmarshal(content, &whole); err != nil {
		return "", err
	}
	m.Kind, _ = whole["kind"].(string)
	m.Amount, _ = whole["amount"].(float64)
	switch {
	case m.Kind == "a":
		return "/a", nil
	case m.Kind == "b":
		return "/b", nil
	case m.Kind == "c":
		return "/c", nil
	case m.Kind == "d" && m.Amount > 10:
		return "/d", nil
	case m.Kind == "e":
		return "/e", nil
	}
	return "", nil
}

type work struct {
	id   int64
	path string
	body []byte
}

// pipeline takes messages in and hands them over; keep is nil where nothing is kept.
func pipeline(client *http.Client, target string, keep *kept) http.Handler {
	queue := make(chan work, 1<<16)
	for range connections {
		go func() {
			for w := range queue {
				if keep != nil {
					keep.exec("UPDATE messages SET state = 1, tries = tries + 1 WHERE id = ?", w.id)
				}
				req, err := http.NewRequest(http.MethodPost, target+w.path, bytes.NewReader(w.body))
				if err != nil {
					continue
				}
				req.Header.Set("Content-Type", "application/json")
				res, err := client.Do(req)
				if err != nil {
					continue
				}
				_, _ = io.Copy(io.Discard, res.Body)
				_ = res.Body.Close()
				if keep != nil {
					keep.exec("UPDATE messages SET state = 2, status = ? WHERE id = ?", res.StatusCode, w.id)
				}
			}
		}()
	}
	g := gin.New()
	g.POST("/pipeline", func(c *gin.Context) {
		content, err := io.ReadAll(c.Request.Body)
		if err != nil {
			c.Status(http.StatusBadRequest)
			return
		}
		path, err := choose(content)
		if err != nil || path == "" {
			c.Status(http.StatusUnprocessableEntity)
			return
		}
		w := work{path: path, body: content}
		if keep != nil {
			w.id = keep.exec("INSERT INTO messages (body, path, state, tries) VALUES (?, ?, 0, 0)", content, path)
		}
		queue <- w
		c.JSON(http.StatusAccepted, gin.H{"stored": keep != nil})
	})
	return g
}

// kept is the database of a pipeline, as durable as ours: a log, synced with each commit.
type kept struct {
	db  *sql.DB
	dir string
}

func newKept() (*kept, error) {
	dir, err := os.MkdirTemp("", "kept-")
	if err != nil {
		return nil, err
	}
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(dir, "kept.db")+"?_journal_mode=WAL&_synchronous=FULL&_busy_timeout=10000")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	_, err = db.Exec("CREATE TABLE messages (id INTEGER PRIMARY KEY, body BLOB, path TEXT, state INTEGER, tries INTEGER, status INTEGER);" +
		"CREATE INDEX open_messages ON messages (id) WHERE state < 2")
	return &kept{db, dir}, err
}

func (k *kept) exec(query string, args ...any) int64 {
	res, err := k.db.Exec(query, args...)
	if err != nil {
		panic(err)
	}
	id, _ := res.LastInsertId()
	return id
}

func (k *kept) close() error {
	_ = k.db.Close()
	return os.RemoveAll(k.dir)
}
