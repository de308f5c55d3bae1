package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"io"
	"net"
	"slices"
	"time"

	"github.com/go-sql-driver/mysql"
)

// Away means that the database did not do what was asked, for reasons that pass.
type Away struct {
	Unknown bool // it broke off while a change was committed: the change may have been made
	Err     error
}

func (a *Away) Error() string {
	if a.Unknown {
		return "the database broke off while a change was being stored: " + a.Err.Error()
	}
	return "the database does not answer: " + a.Err.Error()
}

func (a *Away) Unwrap() error { return a.Err }

// IsAway reports whether an error says that the database was away, or could not take a write.
func IsAway(err error) bool {
	var a *Away
	return errors.As(err, &a)
}

// passing are errors of MariaDB that say nothing of what was asked.
var passing = []uint16{
	1021, // the disk is full
	1030, // the engine failed
	1040, // too many connections
	1053, // it is shutting down
	1114, // a table is full
	1180, // the commit failed
	1203, // too many connections of this user
	1290, // it is read-only
	1317, // a query was interrupted
	1836, // it is read-only
	1927, // the connection was killed
	1969, // a query took too long
}

// judge returns an Away for errors of the connection, or of the database itself. committing says that only the commit was left to do.
func judge(err error, committing bool) error {
	var known *mysql.MySQLError
	var network net.Error
	switch {
	case err == nil || IsAway(err):
		return err
	case errors.As(err, &known):
		if !slices.Contains(passing, known.Number) {
			return err
		}
		return &Away{Unknown: committing && (known.Number == 1053 || known.Number == 1180 || known.Number == 1317 || known.Number == 1927), Err: err}
	case errors.Is(err, driver.ErrBadConn), errors.Is(err, mysql.ErrInvalidConn), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, sql.ErrConnDone),
		errors.Is(err, context.DeadlineExceeded), errors.As(err, &network):
		return &Away{Unknown: committing, Err: err}
	}
	return err
}

// Beat tries whether the database takes a write, on a connection of its own, so that no load stands before it.
func (s *Store) Beat(ctx context.Context) error {
	_, err := s.beat.ExecContext(ctx, "INSERT INTO heartbeat (id, at) VALUES (1, UTC_TIMESTAMP(6)) ON DUPLICATE KEY UPDATE at = VALUES(at)")
	if err == nil {
		if at := s.failed.Load(); at != nil && time.Since(*at) < time.Second { // others are refused a connection, say
			return &Away{Err: errors.New("work on the database failed within the last second")}
		}
		return nil
	}
	return judge(err, false)
}

// note remembers when the database last failed, and passes the error on.
func (s *Store) note(err error) error {
	if IsAway(err) && !errors.Is(err, context.DeadlineExceeded) { // a deadline may have been the caller's own
		now := time.Now()
		s.failed.Store(&now)
	}
	return err
}
