package store

import "time"

// Entry is one line of the logbook: what was done, by whom, to what. Lines are only ever added.
type Entry struct {
	ID      uint64    `json:"id"`
	Seq     *uint64   `json:"seq"` // order of the event stream; missing until it has been given
	At      time.Time `json:"at"`  // real time
	Actor   string    `json:"actor"`
	Action  string    `json:"action"`
	Subject string    `json:"subject"`
	Detail  string    `json:"detail"`
}

// TableName is the table that the logbook is kept in.
func (Entry) TableName() string { return "logbook" }

// Log adds a line.
func (t *Tx) Log(actor, action, subject, detail string) error {
	return t.LogAt(t.now(), actor, action, subject, detail)
}

// LogAt adds a line about what happened earlier.
func (t *Tx) LogAt(at time.Time, actor, action, subject, detail string) error {
	t.lines++
	e := Entry{At: at, Actor: cut(actor, 100), Action: cut(action, 64), Subject: cut(subject, 600), Detail: cut(detail, 60000)}
	return t.db.Create(&e).Error
}

// Line is what is to be written into the logbook.
type Line struct {
	Actor, Action, Subject, Detail string

	At time.Time // real time; zero for now
}

// LogAll adds lines in one statement.
func (t *Tx) LogAll(lines []Line) error {
	if len(lines) == 0 {
		return nil
	}
	now := t.now()
	t.lines += len(lines)
	list := make([]Entry, len(lines))
	for i, l := range lines {
		at := l.At
		if at.IsZero() {
			at = now
		}
		list[i] = Entry{At: at, Actor: cut(l.Actor, 100), Action: cut(l.Action, 64), Subject: cut(l.Subject, 600), Detail: cut(l.Detail, 60000)}
	}
	return t.db.Create(&list).Error
}

// Entries returns at most limit lines before the given id, newest first; 0 begins with the newest. An empty subject
// means all; requests to providers and registrars that went well are left out unless they are asked for.
func (t *Tx) Entries(subject string, requests, users bool, before uint64, limit int) (list []Entry, err error) {
	about, args := t.aboutZones("subject")
	q := t.db.Where(about, args...).Order("id DESC").Limit(limit)
	if !users {
		q = q.Where("action NOT LIKE 'user.%' AND action NOT LIKE 'token.%' AND action NOT LIKE 'access.%'")
	}
	if !requests {
		q = q.Where("action <> 'request'")
	}
	if subject != "" {
		q = q.Where("subject = ?", subject)
	}
	if before > 0 {
		q = q.Where("id < ?", before)
	}
	err = q.Find(&list).Error
	return list, err
}
