package store

import "context"

// Steps returns the names of the migrations in their order, for tests.
func Steps() (names []string) {
	steps, err := allSteps()
	if err != nil {
		panic(err)
	}
	for _, s := range steps {
		names = append(names, s.name)
	}
	return names
}

// Execute makes the statement of a migration and does not note that it was made, for tests.
func (s *Store) Execute(ctx context.Context, number int) error {
	steps, err := allSteps()
	if err != nil {
		return err
	}
	return s.db.WithContext(ctx).Exec(steps[number-1].statement).Error
}

// MigrateTo brings the tables up to a migration, for tests.
func (s *Store) MigrateTo(ctx context.Context, number int) error {
	steps, err := allSteps()
	if err != nil {
		return err
	}
	return s.apply(ctx, steps[:number])
}

// Schema returns all columns, keys and references of the database, for tests.
func (s *Store) Schema(ctx context.Context) (lines []string, err error) {
	for _, query := range []string{
		"SELECT CONCAT_WS(' ', table_name, column_name, column_type, is_nullable, COALESCE(column_default, 'none'), extra) FROM information_schema.columns WHERE table_schema = DATABASE()",
		"SELECT CONCAT_WS(' ', table_name, index_name, seq_in_index, column_name, non_unique) FROM information_schema.statistics WHERE table_schema = DATABASE()",
		"SELECT CONCAT_WS(' ', table_name, constraint_name, referenced_table_name, delete_rule) FROM information_schema.referential_constraints WHERE constraint_schema = DATABASE()",
	} {
		var some []string
		if err := s.db.WithContext(ctx).Raw(query + " ORDER BY 1").Scan(&some).Error; err != nil {
			return nil, err
		}
		lines = append(lines, some...)
	}
	return lines, nil
}

// LockJobs locks every job until the transaction ends.
func (t *Tx) LockJobs() error { return t.db.Exec("SELECT id FROM jobs FOR UPDATE").Error }

// Secured reports whether the connection to a database would be secured.
func Secured(s Settings) (bool, error) {
	config, err := s.secured()
	return config != nil, err
}

// Statement makes a statement, for tests.
func (s *Store) Statement(ctx context.Context, text string, args ...any) error {
	for i, arg := range args {
		if b, is := arg.([]byte); is {
			args[i] = octets(b)
		}
	}
	return s.db.WithContext(ctx).Exec(text, args...).Error
}
