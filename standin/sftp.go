package standin

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"io"
	"net"
	"os"
	"time"

	"github.com/pkg/sftp"
	"github.com/spf13/afero"
	"golang.org/x/crypto/ssh"
)

// sftpServer is a real server of the SSH file transfer protocol within the process. It lets
// everybody in.
type sftpServer struct {
	*shelf
	config *ssh.ServerConfig
}

func newSFTP(sys *System, now func() time.Time, changed func()) (speaker, error) {
	files, err := newShelf(sys, now, changed)
	if err != nil {
		return nil, err
	}
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return nil, err
	}
	config := &ssh.ServerConfig{NoClientAuth: true,
		PasswordCallback:  func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) { return nil, nil },
		PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }}
	config.AddHostKey(signer)
	return &sftpServer{files, config}, nil
}

// serve implements speaker.
func (s *sftpServer) serve(conn net.Conn) {
	defer func() { _ = conn.Close() }()
	of, channels, requests, err := ssh.NewServerConn(conn, s.config)
	if err != nil {
		return
	}
	defer func() { _ = of.Close() }()
	go ssh.DiscardRequests(requests)
	for asked := range channels {
		if asked.ChannelType() != "session" {
			_ = asked.Reject(ssh.UnknownChannelType, "files are all there is here")
			continue
		}
		channel, requests, err := asked.Accept()
		if err != nil {
			return
		}
		go s.session(channel, requests)
	}
}

// session serves files where they are asked for.
func (s *sftpServer) session(channel ssh.Channel, requests <-chan *ssh.Request) {
	for r := range requests {
		ok := r.Type == "subsystem" && len(r.Payload) > 4 && string(r.Payload[4:]) == "sftp"
		_ = r.Reply(ok, nil)
		if !ok {
			continue
		}
		h := &sftpFiles{s.shelf}
		server := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h})
		go func() {
			_ = server.Serve()
			_ = channel.Close()
		}()
	}
}

// sftpFiles shows a shelf as the protocol's library wants to see it.
type sftpFiles struct{ *shelf }

// Fileread implements sftp.FileReader.
func (h *sftpFiles) Fileread(r *sftp.Request) (io.ReaderAt, error) { return h.Open(r.Filepath) }

// Filewrite implements sftp.FileWriter.
func (h *sftpFiles) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	flags, how := r.Pflags(), os.O_WRONLY
	if flags.Creat {
		how |= os.O_CREATE
	}
	if flags.Trunc {
		how |= os.O_TRUNC
	}
	f, err := h.OpenFile(r.Filepath, how, 0o600)
	if errors.Is(err, os.ErrPermission) {
		err = sftp.ErrSSHFxPermissionDenied
	}
	if err != nil {
		return nil, err
	}
	return f, nil
}

// Filecmd implements sftp.FileCmder.
func (h *sftpFiles) Filecmd(r *sftp.Request) error {
	switch r.Method {
	case "Rename":
		if _, err := h.Stat(r.Target); err == nil {
			return os.ErrExist
		}
		return h.Rename(r.Filepath, r.Target)
	case "Mkdir":
		return h.Mkdir(r.Filepath, 0o700)
	case "Remove", "Rmdir":
		return h.Remove(r.Filepath)
	case "Setstat":
		return nil
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename implements sftp.PosixRenameFileCmder.
func (h *sftpFiles) PosixRename(r *sftp.Request) error { return h.Rename(r.Filepath, r.Target) }

// Filelist implements sftp.FileLister.
func (h *sftpFiles) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method != "List" {
		is, err := h.Stat(r.Filepath)
		return entries{is}, err
	}
	all, err := afero.ReadDir(h.Fs, r.Filepath)
	return entries(all), err
}

// Lstat implements sftp.LstatFileLister: it tells of a link itself.
func (h *sftpFiles) Lstat(r *sftp.Request) (sftp.ListerAt, error) {
	of, can := h.Fs.(afero.Lstater)
	if !can {
		return h.Filelist(r)
	}
	is, _, err := of.LstatIfPossible(r.Filepath)
	return entries{is}, err
}

// entries are what a list has.
type entries []os.FileInfo

// ListAt implements sftp.ListerAt.
func (e entries) ListAt(into []os.FileInfo, from int64) (int, error) {
	if from >= int64(len(e)) {
		return 0, io.EOF
	}
	n := copy(into, e[from:])
	if n < len(into) {
		return n, io.EOF
	}
	return n, nil
}
