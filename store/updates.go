package store

import (
	"crypto/sha256"
)

// UpdateAnswer is what an update was answered.
type UpdateAnswer struct {
	Rcode int
	Lease uint32 // seconds; 0 for none
}

// AnswerUpdate keeps what an update is answered, by its key and its signature. It fails where the same one was answered meanwhile, so that nothing else of the
// transaction is kept then.
func (t *Tx) AnswerUpdate(key uint64, signature string, a UpdateAnswer) error {
	mac := sha256.Sum256([]byte(signature))
	return t.db.Exec("INSERT INTO update_answers (key_id, mac, rcode, lease, at) VALUES (?, ?, ?, ?, ?)", key, octets(mac[:]), a.Rcode, a.Lease, t.now()).Error
}

// UpdateAnswered returns what an update was answered, if it was.
func (t *Tx) UpdateAnswered(key uint64, signature string) (a UpdateAnswer, was bool, err error) {
	mac := sha256.Sum256([]byte(signature))
	var list []UpdateAnswer
	err = t.db.Raw("SELECT rcode, lease FROM update_answers WHERE key_id = ? AND mac = ? LIMIT 1", key, octets(mac[:])).Scan(&list).Error
	if len(list) > 0 {
		a = list[0]
	}
	return a, len(list) > 0, err
}
