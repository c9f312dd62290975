package standin

import (
	"encoding/xml"
	"net"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3afero"
	"github.com/spf13/afero"
)

// objectStore is a real server of the S3 interface within the process: one bucket of its own
// name, whose objects are files. It lets everybody in.
type objectStore struct {
	*shelf
	come   *handed
	server *http.Server
}

func newObjects(sys *System, now func() time.Time, changed func()) (speaker, error) {
	files, err := newShelf(sys, now, changed)
	if err != nil {
		return nil, err
	}
	backend, err := s3afero.SingleBucket(sys.def.Name, files.Fs, afero.NewMemMapFs())
	if err != nil {
		return nil, err
	}
	o := &objectStore{shelf: files, come: &handed{next: make(chan *ended), closed: make(chan struct{})}}
	inner := gofakes3.New(backend, gofakes3.WithoutVersioning(), gofakes3.WithLogger(gofakes3.DiscardLog())).Server()
	o.server = &http.Server{ReadHeaderTimeout: time.Minute, Handler: http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		o.complete(w, r)
		if r.Method != http.MethodPut || r.Header.Get("X-Amz-Copy-Source") != "" || o.told(w, r) {
			inner.ServeHTTP(w, r)
			changed()
		}
	})}
	go func() { _ = o.server.Serve(o.come) }()
	return o, nil
}

// complete adds what the library leaves out: the time of a file that was laid down beside
// it, and the length of an object with nothing in it.
func (o *objectStore) complete(w http.ResponseWriter, r *http.Request) {
	if is, err := o.Stat(strings.TrimPrefix(r.URL.Path, "/"+o.sys.def.Name+"/")); err == nil && !is.IsDir() &&
		r.Method != http.MethodPut {
		w.Header().Set("Last-Modified", is.ModTime().UTC().Format(http.TimeFormat))
	}
	if r.Method == http.MethodPut && r.Header.Get("Content-Length") == "" && r.ContentLength <= 0 {
		r.Header.Set("Content-Length", "0")
	}
}

// storageCodes are the words for what stands for a status (the S3 interface, error
// responses).
var storageCodes = map[int]string{403: "AccessDenied", 413: "EntityTooLarge", 503: "SlowDown",
	507: "InsufficientStorage"}

// told does what a person has told it to do with a write, and tells whether it is made.
func (o *objectStore) told(w http.ResponseWriter, r *http.Request) bool {
	name := strings.TrimPrefix(r.URL.Path, "/"+o.sys.def.Name+"/")
	if base := path.Base(name); strings.HasPrefix(base, ".") && strings.HasSuffix(base, ".part") {
		return true // a trial of whether one may write: no file, and nobody's business
	}
	status, _, _, delay := o.sys.decide(o.now(), "PUT", name)
	o.sys.note(Call{At: o.now(), Method: "PUT", Path: name, Status: max(status, 0), Headers: map[string]string{}})
	defer o.changed()
	time.Sleep(delay)
	switch {
	case status == never:
		<-r.Context().Done()
		return false
	case status == 0:
		panic(http.ErrAbortHandler) // breaks the connection off
	case status < 300:
		return true
	}
	code := storageCodes[status]
	if code == "" {
		code = "Refused"
	}
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(status)
	_ = xml.NewEncoder(w).Encode(struct {
		XMLName xml.Name `xml:"Error"`
		Code    string
		Message string
	}{Code: code, Message: "refused by the stand-in"})
	return false
}

// serve implements speaker.
func (o *objectStore) serve(conn net.Conn) { o.come.hand(conn) }

// close implements speaker.
func (o *objectStore) close() error { return o.server.Close() }
