package overview

import (
	"beacon/service/accounts"
	"beacon/service/logbook"
)

// Overview shows what several rooms know. It is safe for concurrent use.
type Overview struct {
	logbook  *logbook.Book
	accounts *accounts.Accounts
}

// New returns the overview of a database.
func New(book *logbook.Book, a *accounts.Accounts) *Overview { return &Overview{book, a} }
