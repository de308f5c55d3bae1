package wire

import "time"

// Entry is one line of the logbook: what was done, by which user, to what. Lines are only ever added.
type Entry struct {
	ID      uint64    `json:"id"`
	Seq     *uint64   `json:"seq"` // order of the event stream; missing until it has been given
	At      time.Time `json:"at"`  // real time
	Actor   string    `json:"actor"`
	Action  string    `json:"action"`
	Subject string    `json:"subject"`
	Detail  string    `json:"detail"`
	Text    string    `json:"text"` // what happened, as a sentence
}
