package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/table"
	"readyferry/engine"
	"readyferry/engine/design"
	"readyferry/engine/watch"
)

// tableView is a table without its rows.
type tableView struct {
	Name      string          `json:"name"`
	Title     string          `json:"title"`
	Kind      string          `json:"kind"`
	Document  json.RawMessage `json:"document"`
	Version   int64           `json:"version"`
	Rows      int64           `json:"rows"`
	UpdatedAt time.Time       `json:"updatedAt"`
	UsedBy    []string        `json:"usedBy"` // live flows
	Drafts    []string        `json:"drafts"` // flows of which only the draft uses it
	Loading   *design.Loading `json:"loading"`
}

func (s *Server) viewTable(t watch.Table) tableView {
	v := tableView{
		Name:      t.Name,
		Title:     t.Name,
		Kind:      "reference",
		Document:  t.Document,
		Version:   t.Version,
		Rows:      t.Rows,
		UpdatedAt: t.UpdatedAt,
	}
	if d, _ := table.Read(t.Document); d != nil {
		v.Title = d.Title
		if d.Cross {
			v.Kind = "cross-reference"
		}
	}
	v.UsedBy, v.Drafts = s.engine.Watch.Catalog.TableUses(t.Name)
	if l, ok := s.engine.Design.LoadingOf(t.Name); ok {
		v.Loading = &l
	}
	return v
}

func (s *Server) tables(c *gin.Context) error {
	all, err := s.engine.Watch.Tables()
	if err != nil {
		return err
	}
	all = visible(s, c, all, access.Table, func(t *watch.Table) string { return t.Name })
	out := make([]tableView, len(all))
	for i, t := range all {
		out[i] = s.viewTable(t)
	}
	slices.SortStableFunc(out, func(a, b tableView) int { // they come by name
		return strings.Compare(strings.ToLower(a.Title), strings.ToLower(b.Title))
	})
	return reply(c, out)
}

func (s *Server) table(c *gin.Context) error {
	t, err := s.engine.Watch.TableInfo(c.Param("name"))
	if err != nil {
		return err
	}
	etag(c, t.Version)
	return reply(c, s.viewTable(t))
}

func (s *Server) putTable(c *gin.Context) error {
	document, seen, err := change(c)
	if err != nil {
		return err
	}
	if err := s.mayArea(c, access.Publish, access.Table, c.Param("name"), document); err != nil {
		return err
	}
	if _, err := s.engine.Design.SaveTable(c.Request.Context(), c.Param("name"), document, seen); err != nil {
		return err
	}
	return s.table(c)
}

func (s *Server) deleteTable(c *gin.Context) error {
	if err := s.engine.Design.DeleteTable(c.Request.Context(), c.Param("name")); err != nil {
		return err
	}
	return done(c)
}

// whole reads a number of the query; otherwise where there is none.
func whole(c *gin.Context, name string, otherwise int64) (int64, error) {
	text := c.Query(name)
	if text == "" {
		return otherwise, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return 0, bad("%s must be a whole number, not %q", name, text)
	}
	return n, nil
}

type rowView struct {
	N     int64           `json:"n"`
	Pos   int64           `json:"place"`
	Value json.RawMessage `json:"value"`
}

func rowViews(rows []watch.TableRow) []rowView {
	out := make([]rowView, len(rows))
	for i, r := range rows {
		out[i] = rowView{r.N, r.Pos, r.Body}
	}
	return out
}

// tableRows pages through the rows of a version.
func (s *Server) tableRows(c *gin.Context) error {
	t, err := s.engine.Watch.TableInfo(c.Param("name"))
	if err != nil {
		return err
	}
	n, err := limit(c, 100, 1000)
	if err != nil {
		return err
	}
	after, err := whole(c, "after", 0)
	if err != nil {
		return err
	}
	version, err := whole(c, "version", t.Version)
	if err != nil {
		return err
	}
	rows, err := s.engine.Watch.TableRows(t.Name, min(version, t.Version), after, c.Query("find"), n)
	if err != nil {
		return err
	}
	d, findings := table.Read(t.Document)
	if d == nil {
		return &design.FindingsError{What: "the table cannot be read", Findings: findings}
	}
	c.JSON(
		http.StatusOK,
		gin.H{"version": version, "columns": append([]string{}, d.Columns...), "rows": rowViews(rows)},
	)
	return nil
}

// importTable loads a CSV or JSON file.
func (s *Server) importTable(c *gin.Context) error {
	file, err := body(c, table.MaxFile+1)
	if err != nil {
		return err
	}
	mode := c.DefaultQuery("mode", "replace")
	if mode != "replace" && mode != "merge" {
		return bad("mode must be replace or merge, not %q", mode)
	}
	out, err := s.engine.Design.Import(
		c.Request.Context(),
		c.Param("name"),
		c.Query("format"),
		file,
		mode == "merge",
		c.Query("preview") == "true",
	)
	if err != nil {
		return err
	}
	return reply(c, out)
}

// exportTable writes all rows of a version as a file.
func (s *Server) exportTable(c *gin.Context) error {
	t, err := s.engine.Watch.TableInfo(c.Param("name"))
	if err != nil {
		return err
	}
	version, err := whole(c, "version", t.Version)
	if err != nil {
		return err
	}
	format := c.DefaultQuery("format", "csv")
	if format != "csv" && format != "json" {
		return bad("format must be csv or json, not %q", format)
	}
	var rows []*message.Node
	if err := s.engine.Watch.EachTableRow(t.Name, min(version, t.Version), func(r *table.Row) error {
		rows = append(rows,
			r.Value)
		return nil
	}); err != nil {
		return err
	}
	d, findings := table.Read(t.Document)
	if d == nil {
		return &design.FindingsError{What: "the table cannot be read", Findings: findings}
	}
	file, err := table.WriteFile(format, d.Columns, rows)
	if err != nil {
		return err
	}
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", t.Name+"."+format))
	c.Data(
		http.StatusOK,
		map[string]string{"csv": "text/csv; charset=utf-8; header=present", "json": "application/json"}[format],
		file,
	)
	return nil
}

// editTable changes, adds and removes rows, all or none.
func (s *Server) editTable(c *gin.Context) error {
	var in struct {
		Edits []struct {
			Row   int64           `json:"row"`
			Value json.RawMessage `json:"value"`
		} `json:"edits"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if len(in.Edits) == 0 || len(in.Edits) > 1000 {
		return bad("edits must name from 1 to 1000 rows")
	}
	edits := make([]design.RowEdit, len(in.Edits))
	for i, e := range in.Edits {
		edits[i].Row = e.Row
		if len(e.Value) == 0 || string(e.Value) == "null" {
			continue
		}
		f, err := table.ReadFile("json", append(append([]byte{'['}, e.Value...), ']'))
		if err != nil {
			return bad("edit %d: %w", i+1, err)
		}
		edits[i].Value = f.Rows[0]
	}
	seen, err := revision(c)
	if err != nil {
		return err
	}
	version, err := s.engine.Design.EditRows(c.Request.Context(), c.Param("name"), seen, edits)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"version": version})
}

// restoreTable makes the newest version one that is as an older one was.
func (s *Server) restoreTable(c *gin.Context) error {
	n, err := strconv.ParseInt(c.Param("n"), 10, 64)
	if err != nil {
		return engine.ErrNotFound
	}
	version, err := s.engine.Design.RestoreTable(c.Request.Context(), c.Param("name"), n)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"version": version})
}

type tableChange struct {
	Version     int64     `json:"version"`
	At          time.Time `json:"at"`
	What        string    `json:"what"`
	Detail      string    `json:"detail"`
	By          string    `json:"by"`
	Transaction *watch.ID `json:"transaction"`
	Added       int64     `json:"added"`
	Removed     int64     `json:"removed"`
}

// tableVersions lists what has changed a table, the newest first.
func (s *Server) tableVersions(c *gin.Context) error {
	n, err := limit(c, 50, 500)
	if err != nil {
		return err
	}
	before, err := whole(c, "before", 0)
	if err != nil {
		return err
	}
	rows, err := s.engine.Watch.TableChanges(c.Param("name"), before, n)
	if err != nil {
		return err
	}
	out := make([]tableChange, len(rows))
	for i, r := range rows {
		out[i] = tableChange{r.Version, r.At, r.What, r.Detail, r.By, r.Tx, r.Added, r.Removed}
	}
	return reply(c, out)
}

// tableVersion shows which rows a version brought and took away.
func (s *Server) tableVersion(c *gin.Context) error {
	n, err := strconv.ParseInt(c.Param("n"), 10, 64)
	if err != nil {
		return engine.ErrNotFound
	}
	added, removed, err := s.engine.Watch.ChangedRows(c.Param("name"), n, 200)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"added": rowViews(added), "removed": rowViews(removed)})
}

// guessTable proposes a definition for a file.
func (s *Server) guessTable(c *gin.Context) error {
	file, err := body(c, table.MaxFile+1)
	if err != nil {
		return err
	}
	f, err := table.ReadFile(c.Query("format"), file)
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, "The file cannot be loaded", err.Error(), []flow.Finding{})
		return nil
	}
	d := table.Guess(c.Param("name"), f.Columns)
	return reply(c, gin.H{"rows": len(f.Rows), "document": json.RawMessage(jsonfmt.Encode(d.Tree()))})
}
