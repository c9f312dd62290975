package objects

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"github.com/minio/minio-go/v7"

	"readyferry/connect"
	"readyferry/connect/folder"
	"readyferry/core/message"
	"readyferry/core/retry"
)

// key is the name of an object in the bucket.
func (t *tree) key(name string) string { return path.Join(t.prefix, name) }

// within is what the names of a folder's objects begin with.
func (t *tree) within(dir string) string {
	if k := t.key(dir); k != "" {
		return k + "/"
	}
	return ""
}

// codes are what the storage's own words mean (the S3 interface, error responses); others
// follow their status.
var codes = map[string]struct {
	code    string
	outcome retry.Outcome
}{
	"AccessDenied": {folder.CodeDenied, retry.Never}, "InvalidAccessKeyId": {folder.CodeDenied, retry.Never},
	"SignatureDoesNotMatch": {folder.CodeDenied, retry.Never}, "SlowDown": {"SlowDown", retry.Again},
	"QuotaExceeded": {folder.CodeFull, retry.Again}, "InsufficientStorage": {folder.CodeFull, retry.Again},
	"XMinioStorageFull": {folder.CodeFull, retry.Again}, "EntityTooLarge": {"EntityTooLarge", retry.Never},
}

// plainly says what an error of the library means.
func plainly(err error) error {
	var said minio.ErrorResponse
	if err == nil || !errors.As(err, &said) || said.StatusCode == 0 {
		return err
	}
	words := fmt.Errorf("the storage answers %s: %s", said.Code, connect.ShortText(said.Message))
	switch of, known := codes[said.Code]; {
	case known:
		return &folder.Refused{Code: of.code, Outcome: of.outcome, Err: words}
	case said.StatusCode == 404:
		return fmt.Errorf("%w: %w", fs.ErrNotExist, words)
	case said.StatusCode == 403:
		return &folder.Refused{Code: folder.CodeDenied, Outcome: retry.Never, Err: words}
	case said.StatusCode == 507:
		return &folder.Refused{Code: folder.CodeFull, Outcome: retry.Again, Err: words}
	case said.StatusCode >= 500 || said.StatusCode == 429 || said.StatusCode == 408:
		return &folder.Refused{Code: said.Code, Outcome: retry.Again, Err: words}
	case said.StatusCode >= 400:
		return &folder.Refused{Code: said.Code, Outcome: retry.Never, Err: words}
	}
	return err
}

// List implements folder.Tree.
func (t *tree) List(dir string, most int) (out []folder.Info, err error) {
	ctx, stop := context.WithCancel(t.ctx)
	defer stop()
	begin := t.within(dir)
	for o := range t.client.ListObjects(ctx, t.bucket, minio.ListObjectsOptions{Prefix: begin}) {
		if o.Err != nil {
			return nil, plainly(o.Err)
		}
		name, isDir := strings.CutSuffix(strings.TrimPrefix(o.Key, begin), "/")
		if name == "" || strings.Contains(name, "/") {
			continue
		}
		out = append(out, folder.Info{Name: name, Dir: isDir, Size: o.Size, Modified: o.LastModified})
		if len(out) == most {
			break
		}
	}
	return out, nil
}

// Stat implements folder.Tree.
func (t *tree) Stat(name string) (folder.Info, error) {
	o, err := t.client.StatObject(t.ctx, t.bucket, t.key(name), minio.StatObjectOptions{})
	if err != nil {
		return folder.Info{}, plainly(err)
	}
	return folder.Info{Name: path.Base(name), Size: o.Size, Modified: o.LastModified}, nil
}

// Open implements folder.Tree.
func (t *tree) Open(name string, offset int64) (io.ReadCloser, error) {
	var opts minio.GetObjectOptions
	if offset > 0 {
		is, err := t.Stat(name)
		if err != nil {
			return nil, err
		}
		if offset >= is.Size {
			return io.NopCloser(bytes.NewReader(nil)), nil
		}
		if err := opts.SetRange(offset, 0); err != nil {
			return nil, err
		}
	}
	core := minio.Core{Client: t.client}
	in, _, _, err := core.GetObject(t.ctx, t.bucket, t.key(name), opts)
	if err != nil {
		return nil, plainly(err)
	}
	return in, nil
}

// Put implements folder.Putter: an object is there whole, or not at all.
func (t *tree) Put(name string, body folder.Body) error {
	in := body.Open()
	_, err := t.client.PutObject(t.ctx, t.bucket, t.key(name), in, body.Size(),
		minio.PutObjectOptions{DisableMultipart: true, SendContentMd5: true})
	return plainly(errors.Join(err, in.Close()))
}

// Create implements folder.Tree.
func (t *tree) Create(name string) (io.WriteCloser, error) { return &writing{t: t, name: name}, nil }

// writing keeps what is written until it is closed, and puts it then.
type writing struct {
	t    *tree
	name string
	bytes.Buffer
}

// Close implements io.Closer.
func (w *writing) Close() error { return w.t.Put(w.name, folder.Holding(w.Bytes())) }

// Append implements folder.Tree.
func (t *tree) Append(string) (io.WriteCloser, error) {
	return nil, &folder.Refused{Code: "append", Outcome: retry.Never,
		Err: errors.New("nothing can be written at the end of an object")}
}

// Rename implements folder.Tree.
func (t *tree) Rename(from, to string) error {
	_, err := t.client.CopyObject(t.ctx, minio.CopyDestOptions{Bucket: t.bucket, Object: t.key(to)},
		minio.CopySrcOptions{Bucket: t.bucket, Object: t.key(from)})
	if err != nil {
		return plainly(err)
	}
	return t.Remove(from)
}

// Remove implements folder.Tree.
func (t *tree) Remove(name string) error {
	return plainly(t.client.RemoveObject(t.ctx, t.bucket, t.key(name), minio.RemoveObjectOptions{}))
}

// MakeDir implements folder.Tree: folders are there when something is in them.
func (t *tree) MakeDir(string) error { return nil }

// Close implements folder.Tree.
func (t *tree) Close() error {
	t.end()
	return nil
}

// Ask implements connect.Asker: what is in an object is the answer.
func (l *link) Ask(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	var s struct{ Object string }
	if err := json.Unmarshal(r.Settings, &s); err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: the settings of the question cannot be read", connect.ErrCannotSend)
	}
	body, err := l.Read(ctx, s.Object)
	var refused *folder.Refused
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return connect.Receipt{Outcome: retry.Never, Code: folder.CodeNone, Words: "there is no such object"}, nil
	case errors.As(err, &refused):
		return connect.Receipt{Outcome: refused.Outcome, Code: refused.Code, Words: refused.Error()}, nil
	case err != nil:
		return connect.Receipt{}, err
	}
	return connect.Receipt{Outcome: retry.Delivered, Code: "200", Answer: bytes.NewReader(body),
		Headers: []message.Header{{Name: "Content-Type", Value: folder.ContentType(s.Object)}}}, nil
}
