package bench

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	ftpclient "github.com/jlaffaye/ftp"
	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	sftpclient "github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"readyferry/standin"
)

// bareFiles is a bare client of the library that a system uses: it writes a file under
// another name and renames it, and reads all files of a folder and moves them.
type bareFiles struct {
	write func(name string, body []byte) error
	read  func(name string) error
	move  func(from, to string) error
	list  func(folder string) ([]string, error)
}

// measureFolder measures files at a stand-in: what lies there is laid down on its disk.
func measureFolder(b *testing.B, set *standin.Set, connection string, c bareFiles) {
	b.Helper()
	var heard atomic.Int64
	made := 0
	put := func(folder string, n int) {
		for range n {
			made++
			if err := set.Send("files", standin.Message{Topic: fmt.Sprintf("%s/%d.json", folder, made),
				Body: fmt.Sprintf(`{"n":%d}`, made)}); err != nil {
				b.Fatal(err)
			}
		}
	}
	aside := func(n int) {
		put("aside", n)
		names, err := c.list("aside")
		if err != nil {
			b.Fatal(err)
		}
		for _, name := range names {
			if err := c.read("aside/" + name); err != nil {
				b.Fatal(err)
			}
			if err := c.move("aside/"+name, "seen/"+name); err != nil {
				b.Fatal(err)
			}
			heard.Add(1)
		}
	}
	out := func(n int) {
		for range n {
			made++
			if err := c.write(fmt.Sprintf("bare/%d.json", made), []byte(`{"n":1}`)); err != nil {
				b.Fatal(err)
			}
		}
	}
	kind, _, _ := strings.Cut(strings.TrimPrefix(connection, "kind: "), "\n")
	measure(b, counterpart{connection: connection, intake: "kind: " + kind + ", folder: in, settled: 1ms, every: 1s",
		deliver: "folder: out, name: '${body.n}.json', exists: replace", put: func(n int) { put("in", n) },
		putAside: aside, putOut: out,
		heard: &heard})
}

// shelves makes a stand-in with folders, and gives where it is reached.
func shelves(b *testing.B, kind string) (*standin.Set, string) {
	b.Helper()
	set := standin.NewSet(time.Now, func() {})
	set.Folders = b.TempDir()
	b.Cleanup(func() { _ = set.Close() })
	if err := set.Define(standin.Definition{Name: "files", Kind: kind, Has: []string{"in", "aside", "seen", "out",
		"bare"}}); err != nil {
		b.Fatal(err)
	}
	return set, ported(b, set, kind, "files")
}

func BenchmarkSFTP(b *testing.B) {
	set, at := shelves(b, standin.KindSFTP)
	key := ""
	conn, err := ssh.Dial("tcp", at, &ssh.ClientConfig{HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
		key = ssh.FingerprintSHA256(k)
		return nil
	}})
	if err != nil {
		b.Fatal(err)
	}
	c, err := sftpclient.NewClient(conn)
	if err != nil {
		b.Fatal(err)
	}
	measureFolder(b, set, "kind: sftp\naddress: sftp://"+at+"\nhost-key: "+key, bareFiles{
		write: func(name string, body []byte) error {
			f, err := c.Create(name + ".part")
			if err != nil {
				return err
			}
			if _, err := f.Write(body); err != nil {
				return err
			}
			if err := f.Close(); err != nil {
				return err
			}
			return c.PosixRename(name+".part", name)
		},
		read: func(name string) error {
			f, err := c.Open(name)
			if err != nil {
				return err
			}
			if _, err := io.ReadAll(f); err != nil {
				return err
			}
			return f.Close()
		},
		move: c.Rename,
		list: func(folder string) (out []string, err error) {
			all, err := c.ReadDir(folder)
			for _, f := range all {
				out = append(out, f.Name())
			}
			return out, err
		},
	})
}

func BenchmarkFTP(b *testing.B) {
	set, at := shelves(b, standin.KindFTP)
	c, err := ftpclient.Dial(at)
	if err != nil {
		b.Fatal(err)
	}
	if err := c.Login("anonymous", "x"); err != nil {
		b.Fatal(err)
	}
	measureFolder(b, set, "kind: ftp\naddress: ftp://"+at, bareFiles{
		write: func(name string, body []byte) error {
			if err := c.Stor(name+".part", bytes.NewReader(body)); err != nil {
				return err
			}
			return c.Rename(name+".part", name)
		},
		read: func(name string) error {
			f, err := c.Retr(name)
			if err != nil {
				return err
			}
			if _, err := io.ReadAll(f); err != nil {
				return err
			}
			return f.Close()
		},
		move: c.Rename,
		list: func(folder string) ([]string, error) {
			all, err := c.NameList(folder)
			for i := range all {
				all[i] = filepath.Base(all[i])
			}
			return all, err
		},
	})
}

func BenchmarkObjects(b *testing.B) {
	set, at := shelves(b, standin.KindObjects)
	c, err := minio.New(at, &minio.Options{Creds: credentials.NewStaticV4("a", "b", ""), Region: "us-east-1",
		BucketLookup: minio.BucketLookupPath})
	if err != nil {
		b.Fatal(err)
	}
	ctx := context.Background()
	measureFolder(b, set, "kind: objects\naddress: http://"+at+"/files", bareFiles{
		write: func(name string, body []byte) error {
			_, err := c.PutObject(ctx, "files", name, bytes.NewReader(body), int64(len(body)),
				minio.PutObjectOptions{DisableMultipart: true})
			return err
		},
		read: func(name string) error {
			core := minio.Core{Client: c}
			f, _, _, err := core.GetObject(ctx, "files", name, minio.GetObjectOptions{})
			if err != nil {
				return err
			}
			if _, err := io.ReadAll(f); err != nil {
				return err
			}
			return f.Close()
		},
		move: func(from, to string) error {
			if _, err := c.CopyObject(ctx, minio.CopyDestOptions{Bucket: "files", Object: to},
				minio.CopySrcOptions{Bucket: "files", Object: from}); err != nil {
				return err
			}
			return c.RemoveObject(ctx, "files", from, minio.RemoveObjectOptions{})
		},
		list: func(folder string) (out []string, err error) {
			for o := range c.ListObjects(ctx, "files", minio.ListObjectsOptions{Prefix: folder + "/"}) {
				if o.Err != nil {
					return nil, o.Err
				}
				out = append(out, strings.TrimPrefix(o.Key, folder+"/"))
			}
			return out, nil
		},
	})
}

// Rows that are polled from a table and inserted into one, beside database/sql that reads
// behind the last row, and that inserts each in a transaction of its own.
func BenchmarkSQL(b *testing.B) {
	file := filepath.Join(b.TempDir(), "rows.db")
	db, err := sql.Open("sqlite3", file+"?_busy_timeout=10000&_journal_mode=WAL")
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	for _, table := range []string{"in_rows", "aside", "out_rows", "bare"} {
		if _, err := db.Exec("CREATE TABLE " + table + " (id INTEGER PRIMARY KEY, n INTEGER)"); err != nil {
			b.Fatal(err)
		}
	}
	put := func(table string, n int) {
		for range n {
			if _, err := db.Exec("INSERT INTO " + table + " (n) VALUES (1)"); err != nil {
				b.Fatal(err)
			}
		}
	}
	var heard atomic.Int64
	last := 0
	measure(b, counterpart{connection: "kind: sql\ndriver: sqlite\nwrite: true\nlimits: {in-flight: 8}\naddress: file://" + file,
		intake: "kind: table, table: in_rows, key: id, every: 1s, late: 0s", deliver: "table: out_rows, columns: {n: body.n}",
		put: func(n int) { put("in_rows", n) }, putAside: func(n int) {
			put("aside", n)
			rows, err := db.Query("SELECT id, n FROM aside WHERE id > ? ORDER BY id", last)
			if err != nil {
				b.Fatal(err)
			}
			for rows.Next() {
				var n int
				if err := rows.Scan(&last, &n); err != nil {
					b.Fatal(err)
				}
				heard.Add(1)
			}
			if err := rows.Close(); err != nil {
				b.Fatal(err)
			}
		}, putOut: func(n int) { put("bare", n) }, heard: &heard})
}
