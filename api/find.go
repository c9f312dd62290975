package api

import (
	"encoding/csv"
	"encoding/json"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/core/find"
)

// filters lists the filters of transactions, with what each can be.
func (s *Server) filters(c *gin.Context) error {
	type view struct {
		Name   string   `json:"name"`
		Takes  string   `json:"takes"`
		Values []string `json:"values"`
	}
	values := s.engine.Watch.FilterValues()
	for name, kind := range map[string]string{"flow": access.Flow, "target": access.Connection} {
		values[name] = visible(s, c, values[name], kind, func(v *string) string { return *v })
	}
	out := make([]view, len(find.Keys))
	for i, k := range find.Keys {
		v := values[k.Name]
		if v == nil {
			v = []string{}
		}
		slices.Sort(v)
		out[i] = view{k.Name, k.Takes, slices.Compact(v)}
	}
	return reply(c, out)
}

// exportedAtOnce is how many transactions an export reads at once.
const exportedAtOnce = 500

// export gives what a list finds as CSV or as JSON lines, a page at a time: whoever reads it
// sees how far it is, and ends it by closing the connection.
func (s *Server) exportTransactions(c *gin.Context) error {
	q, err := s.query(c)
	if err != nil {
		return err
	}
	format := c.DefaultQuery("format", "csv")
	if format != "csv" && format != "jsonl" {
		return bad("format must be csv or jsonl, not %q", format)
	}
	if n, more, err := s.engine.Watch.CountList(q); err != nil {
		return err
	} else if !more {
		c.Header("Total-Count", strconv.FormatInt(n, 10))
	}
	q.Limit = exportedAtOnce
	rows, err := s.engine.Watch.List(q)
	if err != nil {
		return err
	}
	c.Header("Content-Disposition", `attachment; filename="transactions.`+format+`"`)
	c.Header("Content-Type", map[string]string{"csv": "text/csv; charset=utf-8", "jsonl": "application/jsonl"}[format])
	c.Status(http.StatusOK)
	out := csv.NewWriter(c.Writer)
	lines := json.NewEncoder(c.Writer)
	if format == "csv" {
		_ = out.Write(
			[]string{"id", "flow", "version", "state", "reason", "reference", "received", "finished", "tries", "done"},
		)
	}
	for len(rows) > 0 && c.Request.Context().Err() == nil {
		for i := range rows {
			v := viewTransaction(&rows[i])
			v.Done = s.engine.Watch.Done(&rows[i])
			if format == "jsonl" {
				if lines.Encode(v) != nil {
					return nil // whoever read it is gone
				}
				continue
			}
			reason, finished := "", ""
			if v.Reason != nil {
				reason = *v.Reason
			}
			if v.FinishedAt != nil {
				finished = v.FinishedAt.UTC().Format(time.RFC3339Nano)
			}
			_ = out.Write([]string{v.ID.String(), harmless(v.Flow), strconv.Itoa(v.Version), v.State, harmless(reason),
				harmless(
					v.Reference,
				), v.ReceivedAt.UTC().Format(time.RFC3339Nano), finished, strconv.Itoa(v.Tries), harmless(v.Done)})
		}
		if out.Flush(); out.Error() != nil {
			return nil
		}
		c.Writer.Flush()
		if len(rows) < exportedAtOnce {
			break
		}
		q.After = &rows[len(rows)-1].ID
		if rows, err = s.engine.Watch.List(q); err != nil {
			s.log.Error("an export", "error", err)
			return nil
		}
	}
	return nil
}

// harmless keeps a spreadsheet from taking a text that somebody sent for a formula.
func harmless(text string) string {
	if text != "" && slices.Contains([]byte("=+-@\t\r"), text[0]) {
		return "'" + text
	}
	return text
}

// views lists saved views.
func (s *Server) views(c *gin.Context) error {
	rows, err := s.engine.Watch.SavedViews()
	if err != nil {
		return err
	}
	type view struct {
		Name   string `json:"name"`
		Filter string `json:"filter"` // the query of the address
		By     string `json:"by"`
	}
	out := make([]view, len(rows))
	for i, r := range rows {
		out[i] = view{r.Name, r.Query, r.By}
	}
	return reply(c, out)
}

func (s *Server) putView(c *gin.Context) error {
	var in struct {
		Filter string `json:"filter"`
		By     string `json:"by"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if err := s.engine.Watch.SaveView(c.Request.Context(), c.Param("name"), in.Filter, s.by(c, in.By)); err != nil {
		return err
	}
	return done(c)
}

func (s *Server) deleteView(c *gin.Context) error {
	if err := s.engine.Watch.DropView(c.Request.Context(), c.Param("name")); err != nil {
		return err
	}
	return done(c)
}
