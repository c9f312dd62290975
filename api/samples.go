package api

import (
	"errors"
	"net/http"
	"path"
	"strings"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"readyferry/core/expr"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/engine"
	"readyferry/engine/catalog"
)

func fileName(c *gin.Context) (string, error) {
	name := strings.TrimPrefix(c.Param("file"), "/")
	if name == "" || path.Clean("/"+name) != "/"+name || len(name) > 200 {
		return "", bad("%q is no name of a file of a flow; write it as schemas/name.json or tables/name.csv", name)
	}
	return name, nil
}

func (s *Server) files(c *gin.Context) error {
	if _, err := s.engine.Watch.Flow(c.Param("name")); err != nil {
		return err
	}
	files, err := s.engine.Watch.Files(c.Param("name"))
	if err != nil {
		return err
	}
	out := map[string]string{}
	for k, v := range files {
		out[k] = string(v)
	}
	return reply(c, out)
}

func (s *Server) file(c *gin.Context) error {
	name, err := fileName(c)
	if err != nil {
		return err
	}
	files, err := s.engine.Watch.Files(c.Param("name"))
	if err != nil {
		return err
	}
	content, ok := files[name]
	if !ok {
		return engine.ErrNotFound
	}
	kind := "application/json"
	if _, is := expr.TableName(name); is {
		kind = "text/csv; charset=utf-8; header=present"
	}
	c.Data(http.StatusOK, kind, content)
	return nil
}

func (s *Server) putFile(c *gin.Context) error {
	name, err := fileName(c)
	if err != nil {
		return err
	}
	content, err := body(c, flow.MaxSize)
	if err != nil {
		return err
	}
	if err := checkFile(name, content); err != nil {
		return bad("the file %s: %w", name, err)
	}
	return s.saveFile(c, name, content)
}

// saveFile saves or removes a file and answers with the draft's new revision.
func (s *Server) saveFile(c *gin.Context, name string, content []byte) error {
	seen, err := revision(c)
	if err != nil {
		return err
	}
	next, err := s.engine.Design.SaveFile(c.Request.Context(), c.Param("name"), name, content, seen)
	if err != nil {
		return err
	}
	etag(c, next)
	return done(c)
}

// checkFile tells whether the files of a flow can hold this one: a table, or a schema: JSON, or
// message types of Protocol Buffers.
func checkFile(name string, content []byte) error {
	if _, is := expr.TableName(name); is {
		return expr.CheckTable(content)
	}
	if strings.HasSuffix(name, ".proto") && !strings.HasPrefix(name, "tables/") {
		if !utf8.Valid(content) {
			return errors.New("it is no text in UTF-8")
		}
		return nil
	}
	if strings.HasPrefix(name, "tables/") || !strings.HasSuffix(name, ".json") && !strings.HasSuffix(name, ".avsc") {
		return errors.New("a table is named tables/name.csv, a schema schemas/name.json, .avsc or .proto")
	}
	_, err := jsonfmt.Decode(content)
	return err
}

func (s *Server) deleteFile(c *gin.Context) error {
	name, err := fileName(c)
	if err != nil {
		return err
	}
	return s.saveFile(c, name, nil)
}

func (s *Server) samples(c *gin.Context) error {
	if _, err := s.engine.Watch.Flow(c.Param("name")); err != nil {
		return err
	}
	out, err := s.engine.Watch.Catalog.Samples(c.Param("name"))
	if err != nil {
		return err
	}
	return reply(c, out)
}

func (s *Server) sample(c *gin.Context) error {
	row, err := s.engine.Watch.Sample(c.Param("name"), c.Param("sample"))
	if err != nil {
		return err
	}
	c.Data(http.StatusOK, "application/json", row.Document)
	return nil
}

func (s *Server) putSample(c *gin.Context) error {
	var in catalog.Sample
	if err := input(c, &in); err != nil {
		return err
	}
	name := c.Param("sample")
	switch {
	case in.Name == "":
		in.Name = name
	case in.Name != name:
		return bad("the sample is named %q, but it stands under %q", in.Name, name)
	}
	if len(name) > 100 {
		return bad("the name of a sample has at most 100 characters")
	}
	for _, m := range []*map[string]string{&in.Headers, &in.Params, &in.Query} {
		if *m == nil {
			*m = map[string]string{}
		}
	}
	if err := s.engine.Design.SaveSample(c.Request.Context(), c.Param("name"), in); err != nil {
		return err
	}
	return s.sample(c)
}

// keepSample keeps the message of a transaction as a sample, with what was answered.
func (s *Server) keepSample(c *gin.Context) error {
	id, err := id(c)
	if err != nil {
		return err
	}
	var in struct {
		Name string `json:"name"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if in.Name == "" {
		in.Name = "transaction " + id.String()
	}
	sample, err := s.engine.Design.KeepTransaction(c.Request.Context(), id, in.Name)
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, sample)
	return nil
}

// takeSample takes one message from the source of the draft as a sample.
func (s *Server) takeSample(c *gin.Context) error {
	sample, err := s.engine.Design.TakeSample(c.Request.Context(), c.Param("name"))
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, sample)
	return nil
}

func (s *Server) deleteSample(c *gin.Context) error {
	if err := s.engine.Design.DeleteSample(c.Request.Context(), c.Param("name"), c.Param("sample")); err != nil {
		return err
	}
	return done(c)
}
