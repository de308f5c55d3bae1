// Package mariadbd runs a private MariaDB server for the demo and the tests: its own data, a socket, no network, no
// contact with a system database. The programs come from Debian's mariadb-server-core and mariadb-client-core.
package mariadbd

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"syscall"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver that the first connection uses
)

// Server is a running MariaDB server.
type Server struct {
	Socket string // path of the socket that it answers on
	cmd    *exec.Cmd
	ended  chan struct{} // closed when the process has ended; err is set before
	err    error
}

// Options say how to run a server.
type Options struct {
	Dir  string   // holds data, socket and log; made if missing
	Fast bool     // give up durability for speed, as tests may: where eatmydata is installed, nothing waits for the disk
	Args []string // further arguments
	Attr *syscall.SysProcAttr
}

// Start makes the data directory at the first start, runs the server, and returns when it answers.
func Start(ctx context.Context, opt Options) (*Server, error) {
	for _, program := range []string{"mariadbd", "mariadb-install-db"} {
		if _, err := exec.LookPath(program); err != nil {
			return nil, fmt.Errorf("%s is not installed; run as root: apt-get install --no-install-recommends mariadb-server-core mariadb-client-core", program)
		}
	}
	dir, err := filepath.Abs(opt.Dir)
	if err != nil {
		return nil, err
	}
	s := &Server{Socket: filepath.Join(dir, "socket"), ended: make(chan struct{})}
	if len(s.Socket) > 107 { // more does not fit a socket's address
		digest := sha256.Sum256([]byte(dir))
		s.Socket = filepath.Join(os.TempDir(), fmt.Sprintf("beacon-%x.sock", digest[:8]))
	}
	data, scratch := filepath.Join(dir, "data"), filepath.Join(dir, "tmp")
	if err := os.MkdirAll(scratch, 0o700); err != nil {
		return nil, err
	}
	if err := install(ctx, data, scratch, opt.Fast); err != nil {
		return nil, err
	}
	args := []string{"--no-defaults", "--datadir=" + data, "--tmpdir=" + scratch, "--socket=" + s.Socket, "--pid-file=" + filepath.Join(dir, "pid"),
		"--log-error=" + filepath.Join(dir, "log"), "--skip-networking", "--skip-name-resolve", "--skip-log-bin",
		"--character-set-server=utf8mb4", "--collation-server=utf8mb4_bin", "--transaction-isolation=READ-COMMITTED",
		"--max-allowed-packet=64M", "--innodb-buffer-pool-size=256M", "--default-time-zone=+00:00"}
	if opt.Fast {
		args = append(args, "--innodb-flush-log-at-trx-commit=0", "--innodb-buffer-pool-size=96M", "--innodb-doublewrite=0")
	}
	line := commandLine("mariadbd", opt.Fast, append(append(args, asRoot()...), opt.Args...))
	s.cmd = exec.Command(line[0], line[1:]...)
	s.cmd.SysProcAttr = opt.Attr
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting mariadbd: %w", err)
	}
	go func() {
		s.err = s.cmd.Wait()
		close(s.ended)
	}()
	if err := s.waitReady(ctx); err != nil {
		s.Stop()
		return nil, fmt.Errorf("%w; its log is %s", err, filepath.Join(dir, "log"))
	}
	return s, nil
}

// commandLine is what runs a program, fast or not.
func commandLine(name string, fast bool, args []string) []string {
	line := append([]string{name}, args...)
	if _, err := exec.LookPath("eatmydata"); fast && err == nil {
		return append([]string{"eatmydata"}, line...)
	}
	return line
}

func asRoot() []string {
	if os.Geteuid() == 0 {
		return []string{"--user=root"}
	}
	return nil
}

// install makes the data directory beside its place and moves it there when it is whole. Temporary tables go to a directory of its own: a
// server that starts takes those away that it finds where it has its own.
func install(ctx context.Context, data, scratch string, fast bool) error {
	if _, err := os.Stat(data); err == nil {
		return nil
	}
	half := data + ".new"
	if err := os.RemoveAll(half); err != nil {
		return err
	}
	line := commandLine("mariadb-install-db", fast, append([]string{"--no-defaults", "--force", "--skip-name-resolve", "--skip-test-db",
		"--auth-root-authentication-method=normal", "--datadir=" + half}, asRoot()...))
	making := exec.CommandContext(ctx, line[0], line[1:]...)
	making.Env = append(os.Environ(), "TMPDIR="+scratch)
	if out, err := making.CombinedOutput(); err != nil {
		return fmt.Errorf("making a database in %s: %w\n%s", data, err, bytes.TrimSpace(out))
	}
	return os.Rename(half, data)
}

func (s *Server) waitReady(ctx context.Context) error {
	db, err := sql.Open("mysql", s.rootDSN())
	if err != nil {
		return err
	}
	defer db.Close()
	for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(25 * time.Millisecond) {
		select {
		case <-s.ended:
			return fmt.Errorf("mariadbd ended: %w", s.err)
		default:
		}
		if err = db.PingContext(ctx); err == nil {
			return nil
		}
		if ctx.Err() != nil || time.Now().After(deadline) {
			return fmt.Errorf("mariadbd does not answer: %w", errors.Join(err, ctx.Err()))
		}
	}
}

func (s *Server) rootDSN() string { return "root@unix(" + s.Socket + ")/" }

var safeWord = regexp.MustCompile(`^[A-Za-z0-9_]{1,64}$`)

// Provide makes a database, and an account that can do everything in it and nothing elsewhere. Both may be there
// already; the account then gets this password. Names and password consist of letters, digits and underscores.
func (s *Server) Provide(ctx context.Context, database, user, password string) error {
	for _, word := range []string{database, user, password} {
		if !safeWord.MatchString(word) {
			return errors.New("names and passwords for the private database are letters, digits and underscores")
		}
	}
	db, err := sql.Open("mysql", s.rootDSN())
	if err != nil {
		return err
	}
	defer db.Close()
	for _, statement := range []string{
		"CREATE DATABASE IF NOT EXISTS " + database + " CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
		"CREATE OR REPLACE USER " + user + "@localhost IDENTIFIED BY '" + password + "'",
		"GRANT ALL ON " + database + ".* TO " + user + "@localhost",
	} {
		if _, err := db.ExecContext(ctx, statement); err != nil {
			return fmt.Errorf("preparing the private database: %w", err)
		}
	}
	return nil
}

// Stop ends the server and waits for it; a server that does not end in time is killed.
func (s *Server) Stop() {
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.ended:
	case <-time.After(20 * time.Second):
		_ = s.cmd.Process.Kill()
		<-s.ended
	}
}

// Pid is the server's process.
func (s *Server) Pid() int { return s.cmd.Process.Pid }

// Ended returns a channel that is closed when the server has ended.
func (s *Server) Ended() <-chan struct{} { return s.ended }
