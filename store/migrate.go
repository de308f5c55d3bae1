package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"github.com/go-sql-driver/mysql"
)

//go:embed migrations/*.sql
var migrations embed.FS

func openPool(connector driver.Connector) *sql.DB {
	pool := sql.OpenDB(connector)
	pool.SetMaxOpenConns(24)
	pool.SetMaxIdleConns(24)
	return pool
}

// migrate applies the numbered files that this database has not seen. Each is one DDL statement, which MariaDB commits
// by itself; should the process end between a statement and its entry, the statement fails as already done, and counts.
func (s *Store) migrate(ctx context.Context) error {
	steps, err := allSteps()
	if err != nil {
		return err
	}
	return s.apply(ctx, steps)
}

// apply makes those of the steps that this database has not seen.
func (s *Store) apply(ctx context.Context, steps []step) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	conn, err := pool.Conn(ctx)
	if err != nil {
		return fmt.Errorf("preparing the tables: %w", err)
	}
	defer conn.Close()
	var locked int // several instances may start at once
	if err := conn.QueryRowContext(ctx, "SELECT GET_LOCK('beacon-migrations', 60)").Scan(&locked); err != nil || locked != 1 {
		return fmt.Errorf("preparing the tables: another instance is at it and does not finish (%v)", err)
	}
	defer func() {
		_, _ = conn.ExecContext(context.WithoutCancel(ctx), "SELECT RELEASE_LOCK('beacon-migrations')")
	}()
	if _, err := conn.ExecContext(ctx, "CREATE TABLE IF NOT EXISTS migrations (number INT UNSIGNED NOT NULL PRIMARY KEY, name VARCHAR(100) NOT NULL, applied_at DATETIME(6) NOT NULL)"); err != nil {
		return fmt.Errorf("preparing the tables: %w", err)
	}
	var last int
	if err := conn.QueryRowContext(ctx, "SELECT COALESCE(MAX(number), 0) FROM migrations").Scan(&last); err != nil {
		return fmt.Errorf("preparing the tables: %w", err)
	}
	if last > len(steps) {
		return fmt.Errorf("the database has tables of a newer version of this program (migration %d); start that version", last)
	}
	for _, step := range steps {
		if step.number <= last {
			continue
		}
		if _, err := conn.ExecContext(ctx, step.statement); err != nil && !doneAlready(err) {
			return fmt.Errorf("preparing the tables, step %s: %w", step.name, err)
		}
		if _, err := conn.ExecContext(ctx, "INSERT INTO migrations VALUES (?, ?, ?)", step.number, step.name, s.now()); err != nil {
			return fmt.Errorf("preparing the tables, step %s: %w", step.name, err)
		}
	}
	return nil
}

// step is one numbered file.
type step struct {
	number    int
	name      string
	statement string
}

// allSteps returns the numbered files in their order.
func allSteps() (list []step, err error) {
	files, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		s := step{name: strings.TrimSuffix(strings.TrimPrefix(file, "migrations/"), ".sql")}
		if s.number, err = strconv.Atoi(s.name[:4]); err != nil {
			return nil, err
		}
		text, err := migrations.ReadFile(file)
		if err != nil {
			return nil, err
		}
		s.statement = string(text)
		list = append(list, s)
	}
	return list, nil
}

// doneAlready recognises what a statement says that was executed before: a table, column or key exists, or what it drops does not. Each
// step is one statement, which MariaDB makes wholly or not at all; steps that change rows must bear being made twice.
func doneAlready(err error) bool {
	known, ok := err.(*mysql.MySQLError)
	return ok && slices.Contains([]uint16{
		1050, // the table exists
		1051, // the table to drop does not
		1060, // the column exists
		1061, // the key exists
		1091, // the column or key to drop does not
	}, known.Number)
}
