package store

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"beacon/reach"
)

// errNotEmpty says that a database already holds something.
var errNotEmpty = errors.New("the database already has tables in it; restore into an empty one")

// Dump writes all rows of all tables as they are at one moment, while others go on writing. The first line names the newest migration; then
// each table has a line with its name and columns, and a line for each row: a JSON list of octets in base64, or null. far is told how many rows of
// about how many are written.
func (s *Store) Dump(ctx context.Context, w io.Writer, far func(done, of int64)) (rows int, err error) {
	conn, err := s.plain.Conn(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, "SET TRANSACTION ISOLATION LEVEL REPEATABLE READ"); err != nil {
		return 0, err
	}
	if _, err := conn.ExecContext(ctx, "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"); err != nil {
		return 0, err
	}
	defer func() { _, _ = conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK") }()
	var migration int
	if err := conn.QueryRowContext(ctx, "SELECT MAX(number) FROM migrations").Scan(&migration); err != nil {
		return 0, err
	}
	tables, err := tablesOf(ctx, conn)
	if err != nil {
		return 0, err
	}
	about, err := rowsAbout(ctx, conn)
	if err != nil {
		return 0, err
	}
	out := bufio.NewWriterSize(w, 1<<16)
	lines := json.NewEncoder(out)
	if err := lines.Encode(dumpHead{Migration: migration, Tables: len(tables)}); err != nil {
		return 0, err
	}
	for _, table := range tables {
		n, err := dumpTable(ctx, conn, lines, table, func(n int) { far(int64(rows+n), max(about, int64(rows+n))) })
		if err != nil {
			return rows, fmt.Errorf("table %s: %w", table, err)
		}
		rows += n
	}
	return rows, out.Flush()
}

// dumpHead is the first line of a dump.
type dumpHead struct {
	Migration int `json:"migration"`
	Tables    int `json:"tables"`
}

// dumpedTable begins the rows of a table in a dump.
type dumpedTable struct {
	Table   string   `json:"table"`
	Columns []string `json:"columns"`
}

func tablesOf(ctx context.Context, conn *sql.Conn) (names []string, err error) {
	list, err := conn.QueryContext(ctx, "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_type = 'BASE TABLE' ORDER BY table_name")
	if err != nil {
		return nil, err
	}
	defer list.Close()
	for list.Next() {
		var name string
		if err := list.Scan(&name); err != nil {
			return nil, err
		}
		if name != "migrations" && name != "turns" { // migrations fill these
			names = append(names, name)
		}
	}
	return names, list.Err()
}

// rowsAbout returns how many rows all tables have, as the database estimates it.
func rowsAbout(ctx context.Context, conn *sql.Conn) (n int64, err error) {
	err = conn.QueryRowContext(ctx, "SELECT COALESCE(SUM(table_rows), 0) FROM information_schema.tables WHERE table_schema = DATABASE()").Scan(&n)
	return n, err
}

func dumpTable(ctx context.Context, conn *sql.Conn, lines *json.Encoder, table string, far func(rows int)) (rows int, err error) {
	list, err := conn.QueryContext(ctx, "SELECT * FROM `"+table+"`")
	if err != nil {
		return 0, err
	}
	defer list.Close()
	columns, err := list.Columns()
	if err != nil {
		return 0, err
	}
	if err := lines.Encode(dumpedTable{table, columns}); err != nil {
		return 0, err
	}
	cells := make([]sql.RawBytes, len(columns))
	into := make([]any, len(columns))
	for i := range cells {
		into[i] = &cells[i]
	}
	row := make([][]byte, len(columns))
	for ; list.Next(); rows++ {
		if rows%1000 == 0 {
			far(rows)
		}
		if err := list.Scan(into...); err != nil {
			return rows, err
		}
		for i, c := range cells {
			row[i] = c
		}
		if err := lines.Encode(row); err != nil {
			return rows, err
		}
	}
	return rows, list.Err()
}

// Restore reads a dump into an empty database and holds the service: what is outside may be newer. The tables are made as they were when the
// dump was made, and brought up to date after.
func Restore(ctx context.Context, s *Store, r io.Reader, reason string) (rows int, err error) {
	lines := json.NewDecoder(bufio.NewReaderSize(r, 1<<16))
	var head dumpHead
	if err := lines.Decode(&head); err != nil {
		return 0, fmt.Errorf("this is no archive of a database: %w", err)
	}
	steps, err := allSteps()
	if err != nil {
		return 0, err
	}
	if head.Migration < 1 || head.Migration > len(steps) {
		return 0, fmt.Errorf("the archive was made by another version of this program (migration %d); this version has %d", head.Migration, len(steps))
	}
	var tables int
	if err := s.db.WithContext(ctx).Raw("SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = DATABASE()").Scan(&tables).Error; err != nil {
		return 0, err
	}
	if tables > 0 {
		return 0, errNotEmpty
	}
	if err := s.apply(ctx, steps[:head.Migration]); err != nil {
		return 0, err
	}
	if rows, err = s.load(ctx, lines, head.Tables); err != nil {
		return rows, err
	}
	if err := s.apply(ctx, steps); err != nil {
		return rows, err
	}
	return rows, s.Tx(ctx, func(tx *Tx) error {
		if _, err := tx.SetHold(reason, "beacon restore"); err != nil {
			return err
		}
		return tx.Log("beacon restore", "hold.began", "service", reason)
	})
}

// mostLoaded is how much is sent to the database in one statement, octets.
const mostLoaded = 1 << 20

// load puts the rows of a dump into their tables, in one transaction.
func (s *Store) load(ctx context.Context, lines *json.Decoder, tables int) (rows int, err error) {
	conn, err := s.plain.Conn(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	for _, statement := range []string{"SET FOREIGN_KEY_CHECKS = 0", "START TRANSACTION"} {
		if _, err := conn.ExecContext(ctx, statement); err != nil {
			return 0, err
		}
	}
	defer func() {
		for _, statement := range []string{"ROLLBACK", "SET FOREIGN_KEY_CHECKS = 1"} {
			_, _ = conn.ExecContext(context.WithoutCancel(ctx), statement)
		}
	}()
	seen := 0
	var table dumpedTable
	var values []string
	var args []any
	size := 0
	flush := func() error {
		if len(values) == 0 {
			return nil
		}
		_, err := conn.ExecContext(ctx, "INSERT INTO `"+table.Table+"` (`"+strings.Join(table.Columns, "`, `")+"`) VALUES "+strings.Join(values, ", "), args...)
		values, args, size = values[:0], args[:0], 0
		return err
	}
	for {
		var line json.RawMessage
		if err := lines.Decode(&line); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return rows, fmt.Errorf("the archive breaks off: %w", err)
		}
		if line[0] == '{' {
			if err := flush(); err != nil {
				return rows, fmt.Errorf("table %s: %w", table.Table, err)
			}
			table = dumpedTable{}
			if err := json.Unmarshal(line, &table); err != nil {
				return rows, err
			}
			if err := table.check(); err != nil {
				return rows, err
			}
			seen++
			continue
		}
		var row [][]byte
		if err := json.Unmarshal(line, &row); err != nil || len(row) != len(table.Columns) {
			return rows, fmt.Errorf("table %s: row %d of the archive has another form than its columns", table.Table, rows+1)
		}
		values = append(values, "("+strings.TrimSuffix(strings.Repeat("?, ", len(row)), ", ")+")")
		for _, cell := range row {
			if cell == nil {
				args = append(args, nil)
			} else {
				args = append(args, cell)
			}
			size += len(cell)
		}
		if rows++; size > mostLoaded || len(args) > 20_000 {
			if err := flush(); err != nil {
				return rows, fmt.Errorf("table %s: %w", table.Table, err)
			}
		}
	}
	if err := flush(); err != nil {
		return rows, fmt.Errorf("table %s: %w", table.Table, err)
	}
	if seen != tables {
		return rows, fmt.Errorf("the archive breaks off: it has %d of %d tables", seen, tables)
	}
	_, err = conn.ExecContext(ctx, "COMMIT")
	return rows, err
}

// check returns an error where names in a dump are not those of tables and columns.
func (d dumpedTable) check() error {
	for _, name := range append([]string{d.Table}, d.Columns...) {
		if name == "" || strings.Trim(name, "abcdefghijklmnopqrstuvwxyz_0123456789") != "" {
			return fmt.Errorf("the archive names a table or column %q", name)
		}
	}
	return nil
}

// Connect opens a database as it is, without bringing its tables up to date.
func Connect(ctx context.Context, settings Settings, door *reach.Door) (*Store, error) {
	return connect(ctx, settings, door, nil)
}
