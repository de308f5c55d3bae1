// Package jobs runs background work. A job is a kind and a subject, and there is at most one of each; it is leased while it is
// worked on, so that several instances share one database and none does the work of another.
//
// queue.go holds what assembly registers: a handler for each kind, and the workers that run kinds. workers.go takes due jobs
// from the database and runs them: so many at a time, and so many in one lane, the account that the work is at, so that a slow account
// holds up itself alone. run.go runs one job under its lease and records what became of it. rows.go is how other rooms ask for
// work, and how work confirms within a transaction that its lease still holds.
package jobs
