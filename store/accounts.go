package store

import "time"

// Account is the stored connection to one provider or registrar.
type Account struct {
	ID        uint64    `json:"-"`
	Name      string    `json:"name"`
	Role      string    `json:"role"` // "provider" or "registrar"
	Kind      string    `json:"kind"` // which driver
	Address   string    `json:"address"`
	Sealed    []byte    `json:"-"`
	CreatedAt time.Time `json:"created_at"`
}

// TableName is the table that accounts are kept in.
func (Account) TableName() string { return "accounts" }

// AddAccount keeps an account.
func (t *Tx) AddAccount(a *Account) error {
	a.CreatedAt = t.now()
	return found(t.db.Create(a).Error, "account %s", a.Name)
}

// Accounts gives all accounts of a role, by name.
func (t *Tx) Accounts(role string) (list []Account, err error) {
	err = t.db.Where("role = ?", role).Order("name").Find(&list).Error
	return list, err
}

// Account finds an account by role and name.
func (t *Tx) Account(role, name string) (a Account, err error) {
	err = t.db.Where("role = ? AND name = ?", role, name).Take(&a).Error
	return a, found(err, "%s account %q", role, name)
}

// AccountByID finds an account.
func (t *Tx) AccountByID(id uint64) (a Account, err error) {
	err = t.db.Where("id = ?", id).Take(&a).Error
	return a, found(err, "account %d", id)
}
