package folder

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/core/retry"
)

// ours begins the names of files that are not whole yet. They are never taken in.
const ours = ".ready-ferry-"

// What a delivery says.
type writes struct {
	Folder, Name, Exists, Behind string
	Make                         bool
}

// DeliverSchema is what deliveries to files say.
const DeliverSchema = `{"required": ["name"], "properties": {
	"folder": {"type": "string", "title": "Folder", "format": "template", "offers": true, "description":
		"below the folder of the connection; that itself when empty", "examples": ["in/${body.branch}"]},
	"name": {"type": "string", "title": "Name", "format": "template", "minLength": 1, "description":
		"of the file, without slashes", "examples": ["manifest-${strftime(now(), \"%Y-%m-%d\")}.csv"]},
	"exists": {"enum": ["refuse", "replace", "append", "beside"], "title": "When it is there", "default": "refuse", "titles": {
		"refuse": "a dead letter", "replace": "put in its place", "append": "written at its end",
		"beside": "written beside it, with a number in the name"}},
	"behind": {"enum": ["nothing", "line-end"], "title": "Behind it", "default": "nothing", "titles": {
		"nothing": "nothing", "line-end": "a line end, where the body has none"}},
	"make": {"type": "boolean", "title": "make the folder when it is not there"}}}`

// Send implements connect.Sender: a file is written under another name, and has its own
// when it is whole.
func (l *Link) Send(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	s := writes{Exists: "refuse"}
	if err := json.Unmarshal(r.Settings, &s); err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: the settings of the delivery cannot be read", connect.ErrCannotSend)
	}
	dir, err := Below(s.Folder)
	if err == nil && strings.Contains(s.Name, "/") {
		err = fmt.Errorf("%w: %q has a slash; the folder is said beside the name", errName, s.Name)
	}
	if err == nil && strings.HasPrefix(s.Name, ours) {
		err = fmt.Errorf("%w: names of files that are not whole begin with %s", errName, ours)
	}
	name := ""
	if err == nil && s.Name == "" {
		err = fmt.Errorf("%w: it is empty", errName)
	}
	if err == nil {
		name, err = Below(dir, s.Name)
	}
	if err != nil {
		return connect.Receipt{}, errors.Join(fmt.Errorf("%w: %w", connect.ErrCannotSend, err), connect.ErrBadData)
	}
	body := bodyOf(&r)
	if s.Behind == "line-end" {
		if body, err = body.withLineEnd(); err != nil {
			return connect.Receipt{}, err
		}
	}
	var out connect.Receipt
	err = l.with(ctx, func(t Tree) error {
		if s.Make {
			if err := makeAll(t, dir); err != nil {
				return err
			}
		}
		if s.Exists == "append" {
			out = receipt(name)
			return appendTo(t, name, body)
		}
		out, err = put(t, dir, s.Name, s.Exists, r.ID, body)
		return err
	})
	return answered(out, err)
}

// Streams implements connect.Streamer: whatever a file is to hold is written as it is read.
func (*Link) Streams() bool { return true }

// answered makes a receipt of what a system refuses.
func answered(out connect.Receipt, err error) (connect.Receipt, error) {
	var refused *Refused
	switch {
	case err == nil:
		return out, nil
	case errors.As(err, &refused):
		return connect.Receipt{Outcome: refused.Outcome, Code: refused.Code, Words: refused.Error()}, nil
	case errors.Is(err, fs.ErrNotExist):
		return connect.Receipt{Outcome: retry.Never, Code: CodeNone, Words: "the folder is not there"}, nil
	}
	return connect.Receipt{}, err
}

func receipt(name string) connect.Receipt {
	return connect.Receipt{Outcome: retry.Delivered, Code: CodeWritten, Headers: []message.Header{{Name: HeaderName,
		Value: name}}}
}

// put writes a file that has not been there, or puts it in place of what was.
func put(t Tree, dir, name, exists, id string, body Body) (connect.Receipt, error) {
	sum := sha256.Sum256([]byte(id))
	mark := hex.EncodeToString(sum[:8])
	to := path.Join(dir, name)
	if exists != "replace" {
		there, same, err := holds(t, to, body)
		switch {
		case err != nil:
			return connect.Receipt{}, err
		case same:
			out := receipt(to)
			out.Words = "it was there already, as it should be"
			return out, nil
		case there && exists == "beside":
			ending := path.Ext(name)
			to = path.Join(dir, fmt.Sprintf("%s-%s%s", strings.TrimSuffix(name, ending), mark[:8], ending))
		case there:
			return connect.Receipt{Outcome: retry.Never, Code: CodeExists,
				Words: "a file of this name is there, with something else in it"}, nil
		}
	}
	if p, is := atOnce(t); is {
		return receipt(to), p.Put(to, body)
	}
	part := path.Join(dir, ours+mark+".part")
	f, err := t.Create(part)
	if err != nil {
		return connect.Receipt{}, err
	}
	if err = body.writeTo(f); err == nil {
		err = t.Rename(part, to)
	}
	if err != nil {
		_ = t.Remove(part)
		return connect.Receipt{}, err
	}
	return receipt(to), nil
}

// holds tells whether a file is there, and whether it holds just that.
func holds(t Tree, name string, body Body) (there, same bool, err error) {
	is, err := t.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, false, nil
	}
	if err != nil || is.Dir || is.Size != body.Size() {
		return err == nil, false, err
	}
	f, err := t.Open(name, 0)
	if err != nil {
		return true, false, err
	}
	same, err = body.is(f)
	err = errors.Join(err, f.Close())
	return true, same && err == nil, err
}

func appendTo(t Tree, name string, body Body) error {
	f, err := t.Append(name)
	if err != nil {
		return err
	}
	return body.writeTo(f)
}

// makeAll makes a folder and those around it.
func makeAll(t Tree, dir string) error {
	if dir == "" {
		return nil
	}
	if is, err := t.Stat(dir); err == nil && is.Dir {
		return nil
	}
	if above := path.Dir(dir); above != "." {
		if err := makeAll(t, above); err != nil {
			return err
		}
	}
	return t.MakeDir(dir)
}
