// Package logbook is the ground that the rooms of the service stand on: a room changes rows in a transaction of a Book, and
// what it did becomes a line of the logbook, with the user who did it.
//
// book.go holds transactions, lines and the caller that a context carries; problem.go turns errors of the database and of
// outside requests into problems that people can act on; entries.go returns pages of the logbook. events.go numbers committed lines,
// since the order of commits is not the order of ids, and feeds them to the readers of the event stream: a reader who has read up to
// a number misses nothing that comes later.
package logbook
