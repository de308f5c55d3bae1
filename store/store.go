// Package store keeps everything that lasts, in MariaDB through GORM. All SQL of the product lives here.
//
// Whoever uses it works in transactions (Store.Tx): a use case is done wholly or not at all. There are no hooks, no
// associations and no automatic migrations; numbered files in migrations say what the tables are. Contents of zones are
// kept as content-addressed chunks (revisions.go), background work as leased jobs (jobs.go), credentials sealed
// (seal.go), passwords and tokens as hashes only (users.go).
package store

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"
	gormmysql "gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/logger"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/special"
	"beacon/looking"
	"beacon/reach"
)

// ErrNotFound means that what was asked for is not kept here.
var ErrNotFound = errors.New("not found")

// IsMissing reports whether an error says that something is not kept here.
func IsMissing(err error) bool { return errors.Is(err, ErrNotFound) }

// ErrTaken means that something of this name is there already.
var ErrTaken = errors.New("there is one already")

// Settings say where the database is.
type Settings struct {
	Socket   string `yaml:"socket"`  // path of a unix socket; or
	Address  string `yaml:"address"` // host and port
	User     string `yaml:"user"`
	Password string `yaml:"password"`
	Database string `yaml:"database"`
	TLS      struct {
		CAFile string `yaml:"ca_file"` // certificates (PEM) that the server's is signed by, besides those of the system
	} `yaml:"tls"`
	PlainText bool `yaml:"plain_text"` // the connection to another machine may stay unsecured
}

// secured returns how the connection to a database on the network is secured; nil where it is not: on this machine, unless a certificate is named, and
// where the settings allow it.
func (s Settings) secured() (*tls.Config, error) {
	host, _, err := net.SplitHostPort(s.Address)
	if err != nil || s.PlainText || s.TLS.CAFile == "" && special.ThisMachine(host) {
		return nil, err
	}
	config := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if s.TLS.CAFile == "" {
		return config, nil
	}
	text, err := os.ReadFile(s.TLS.CAFile)
	if err != nil {
		return nil, fmt.Errorf("the setting database.tls.ca_file: %w", err)
	}
	if config.RootCAs, err = x509.SystemCertPool(); err != nil {
		config.RootCAs = x509.NewCertPool()
	}
	if !config.RootCAs.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("the setting database.tls.ca_file: there is no certificate in %s", s.TLS.CAFile)
	}
	return config, nil
}

// Store is the open database. It is safe for concurrent use.
type Store struct {
	db    *gorm.DB
	clock *dbClock // nil where tests bring a time of their own
	now   func() time.Time

	plain  *sql.DB                   // for whole tables: values come as the database writes them
	beat   *sql.DB                   // one connection, to try whether the database takes writes
	failed atomic.Pointer[time.Time] // when work on it failed last because it was away

	kept revisionMemory // what revisions say

	enqueued func(kinds []string) // told after each transaction in which work was stored
	logged   func()               // told after each transaction in which a line of the logbook was added
}

// OnLog has told called after each transaction that added lines to the logbook. It is to be called before the store is shared.
func (s *Store) OnLog(told func()) { s.logged = told }

// OnEnqueue has told called after each transaction in which jobs were stored, with their kinds. It is to be called before the store is
// shared.
func (s *Store) OnEnqueue(told func(kinds []string)) { s.enqueued = told }

// Open connects, and brings the tables up to date. A database on the network is reached through door. now is the time that is kept with
// rows; nil for the database's own, which every instance but those of tests takes.
func Open(ctx context.Context, settings Settings, door *reach.Door, now func() time.Time) (*Store, error) {
	s, err := connect(ctx, settings, door, now)
	if err != nil {
		return nil, err
	}
	if err := s.migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// connect opens the database as it is.
func connect(ctx context.Context, settings Settings, door *reach.Door, now func() time.Time) (*Store, error) {
	cfg := mysql.NewConfig()
	cfg.User, cfg.Passwd, cfg.DBName = settings.User, settings.Password, settings.Database
	cfg.Net, cfg.Addr = "unix", settings.Socket
	if settings.Socket == "" {
		cfg.Net, cfg.Addr = "beacon", settings.Address
		var err error
		if cfg.TLS, err = settings.secured(); err != nil {
			return nil, err
		}
		mysql.RegisterDialContext("beacon", func(ctx context.Context, address string) (net.Conn, error) {
			return door.DialContext(ctx, "tcp", address)
		})
	}
	cfg.Collation, cfg.Loc, cfg.ParseTime = "utf8mb4_bin", time.UTC, true
	cfg.InterpolateParams, cfg.ClientFoundRows = true, true
	cfg.Timeout, cfg.ReadTimeout, cfg.WriteTimeout = 5*time.Second, time.Minute, time.Minute
	cfg.Params = map[string]string{"tx_isolation": "'READ-COMMITTED'", "sql_mode": "'STRICT_ALL_TABLES'"}
	connector, err := mysql.NewConnector(cfg)
	if err != nil {
		return nil, fmt.Errorf("the database settings cannot be used: %w", err)
	}
	plain := cfg.Clone()
	plain.ParseTime = false
	plainConnector, err := mysql.NewConnector(plain)
	if err != nil {
		return nil, fmt.Errorf("the database settings cannot be used: %w", err)
	}
	db, err := gorm.Open(gormmysql.New(gormmysql.Config{Conn: openPool(connector), SkipInitializeWithVersion: true}),
		&gorm.Config{SkipDefaultTransaction: true, Logger: logger.Discard, TranslateError: true})
	if err != nil {
		return nil, fmt.Errorf("the database at %s%s does not answer: %w", settings.Socket, settings.Address, err)
	}
	s := &Store{db: db, now: now, plain: sql.OpenDB(plainConnector), beat: sql.OpenDB(connector)}
	s.beat.SetMaxOpenConns(1)
	if now == nil {
		s.clock = &dbClock{}
		s.now = s.clock.now
	}
	if err := s.Ping(ctx); err != nil {
		return nil, fmt.Errorf("the database at %s%s does not answer: %w", settings.Socket, settings.Address, err)
	}
	return s, s.tune(ctx)
}

// Close returns the connections back.
func (s *Store) Close() {
	if pool, err := s.db.DB(); err == nil {
		_ = pool.Close()
	}
	_ = s.plain.Close()
	_ = s.beat.Close()
}

// Ping asks whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.PingContext(ctx)
}

// Tx is one transaction; its methods are in the files of this package. It is not safe for concurrent use.
type Tx struct {
	db      *gorm.DB
	now     func() time.Time
	reading bool     // nothing can be written, so rows are read and not locked
	kinds   []string // of the jobs that it stored
	lines   int      // of the logbook that it added
	kept    *revisionMemory
	scope   access.Scope // of lists
}

// locking reads rows and keeps others from them until the transaction ends, where it may write at all.
func (t *Tx) locking() *gorm.DB {
	if t.reading {
		return t.db
	}
	return t.db.Clauses(clause.Locking{Strength: "UPDATE"})
}

// Tx runs do in a transaction, which can only read where the context only looks, and again where the database broke it off over a deadlock. What do does outside the
// database must therefore bear repetition.
func (s *Store) Tx(ctx context.Context, do func(*Tx) error) error {
	if err := s.tune(ctx); err != nil {
		return s.note(judge(err, false))
	}
	for attempt := 0; ; attempt++ {
		var kinds []string
		lines, committing := 0, false
		err := s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
			tx := &Tx{db: db, now: s.now, kept: &s.kept, reading: looking.Is(ctx)}
			err := do(tx)
			kinds, lines, committing = tx.kinds, tx.lines, err == nil
			return err
		}, &sql.TxOptions{ReadOnly: looking.Is(ctx)})
		if err == nil && len(kinds) > 0 && s.enqueued != nil {
			s.enqueued(kinds)
		}
		if err == nil && lines > 0 && s.logged != nil {
			s.logged()
		}
		var known *mysql.MySQLError
		deadlock := errors.As(err, &known) && (known.Number == 1213 || known.Number == 1205)
		if !deadlock || attempt == 4 {
			return s.note(judge(err, committing && !looking.Is(ctx)))
		}
	}
}

// Look runs do in a transaction that can only read: the database refuses whatever is written in it (READ ONLY).
func (s *Store) Look(ctx context.Context, do func(*Tx) error) error {
	if err := s.tune(ctx); err != nil {
		return s.note(judge(err, false))
	}
	err := s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error { return do(&Tx{db: db, now: s.now, kept: &s.kept, reading: true}) }, &sql.TxOptions{ReadOnly: true})
	return s.note(judge(err, false))
}

// found turns the two ways in which a row can be missing, and a double name, into our errors.
func found(err error, what string, args ...any) error {
	if err == nil {
		return nil
	}
	for i, arg := range args {
		if name, ok := arg.(dnsname.Name); ok {
			args[i] = name.Unicode()
		}
	}
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound):
		return fmt.Errorf("%s: %w", fmt.Sprintf(what, args...), ErrNotFound)
	case errors.Is(err, gorm.ErrDuplicatedKey):
		return fmt.Errorf("%s: %w", fmt.Sprintf(what, args...), ErrTaken)
	}
	return fmt.Errorf("%s: %w", fmt.Sprintf(what, args...), err)
}

// cut shortens a text to what its column holds, in octets.
func cut(text string, most int) string {
	return strings.ToValidUTF8(text[:min(len(text), most)], "")
}

// octets is a binary value in a statement: GORM would spread a plain slice out into a list.
type octets string

// Value returns the octets to the driver.
func (o octets) Value() (driver.Value, error) { return []byte(o), nil }

func jsonText(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // our own types only
	}
	return string(text)
}
