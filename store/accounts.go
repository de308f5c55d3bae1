package store

import (
	"cmp"
	"encoding/json"
	"time"

	"beacon/core/dnsname"
)

// Account is the stored connection to one provider or registrar.
type Account struct {
	ID        uint64     `json:"-"`
	Name      string     `json:"name"`
	Role      string     `json:"role"` // "provider" or "registrar"
	Kind      string     `json:"kind"` // which driver
	Address   string     `json:"address"`
	Sealed    []byte     `json:"-"`
	CreatedAt time.Time  `json:"created_at"`
	Private   bool       `json:"private"`    // of a version before 0.1.0: its address could be one of an inner network
	Rights    string     `json:"-"`          // JSON
	UsedAt    *time.Time `json:"used_at"`    // last request, real time
	RotatedAt *time.Time `json:"rotated_at"` // when it got another credential
	Hosts     string     `json:"-"`          // further addresses that its kind asks for, by name, JSON
	BaseID    *uint64    `json:"-"`          // of a further set of zones at an account: that account, whose credential it has
}

// HostList returns the further addresses of the account, by name.
func (a Account) HostList() (list map[string]string) {
	_ = json.Unmarshal([]byte(a.Hosts), &list) // written by AddAccount
	return list
}

// RightList returns what the credential may do; empty where the provider does not tell.
func (a Account) RightList() (list []string) {
	_ = json.Unmarshal([]byte(a.Rights), &list)
	return list
}

// SealedCredentials returns how many credentials are stored.
func (t *Tx) SealedCredentials() (n int, err error) {
	err = t.db.Raw("SELECT (SELECT COUNT(*) FROM accounts WHERE sealed <> '') + (SELECT COUNT(*) FROM tsig_keys)").Scan(&n).Error
	return n, err
}

// SetCredential returns an account another credential.
func (t *Tx) SetCredential(id uint64, sealed []byte, rights []string) error {
	return t.db.Exec("UPDATE accounts SET sealed = ?, rights = ?, rotated_at = ? WHERE id = ?", sealed, jsonText(rights), t.now(), id).Error
}

// Reseal puts the same credential under another key.
func (t *Tx) Reseal(id uint64, sealed []byte) error {
	return t.db.Exec("UPDATE accounts SET sealed = ? WHERE id = ?", sealed, id).Error
}

// Used notes when accounts were last used.
func (t *Tx) Used(name string, at time.Time) error {
	return t.db.Exec("UPDATE accounts SET used_at = ? WHERE name = ?", at, name).Error
}

// TableName is the table that accounts are kept in.
func (Account) TableName() string { return "accounts" }

// AddAccount keeps an account.
func (t *Tx) AddAccount(a *Account) error {
	a.CreatedAt = t.now()
	if a.Rights == "" {
		a.Rights = "[]"
	}
	if a.Hosts == "" {
		a.Hosts = "{}"
	}
	return found(t.db.Create(a).Error, "account %s", a.Name)
}

// Accounts returns all accounts of a role, by name.
func (t *Tx) Accounts(role string) (list []Account, err error) {
	err = t.db.Where("role = ?", role).Order("name").Find(&list).Error
	return list, err
}

// Bound returns what the credential of an account is sealed for.
func (a Account) Bound() Bound {
	return Bound{Role: a.Role, Account: a.Name, Kind: a.Kind, Address: a.Address, Hosts: cmp.Or(a.Hosts, "{}")}
}

// PrivateAccounts returns the accounts that a former version was told to reach at a private address.
func (t *Tx) PrivateAccounts() (list []Account, err error) {
	err = t.db.Where("private").Order("name").Find(&list).Error
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

// LockAccount finds an account and keeps others from it until the transaction ends.
func (t *Tx) LockAccount(role, name string) (a Account, err error) {
	err = t.locking().Where("role = ? AND name = ?", role, name).Take(&a).Error
	return a, found(err, "account %s", name)
}

// UsesOf returns how many zones are placed at an account, how many name it as their registrar or as where to delegate to, and one of them.
func (t *Tx) UsesOf(id uint64) (placed, registered int, example dnsname.Name, err error) {
	var row struct {
		Placed, Registered int
		Example            string
	}
	err = t.db.Raw(`SELECT (SELECT COUNT(*) FROM placements WHERE account_id = @id) AS placed, (SELECT COUNT(*) FROM zones WHERE registrar_id = @id OR delegate_to_id = @id) AS registered,
		COALESCE((SELECT z.name_key FROM placements p JOIN zones z ON z.id = p.zone_id WHERE p.account_id = @id LIMIT 1),
			(SELECT name_key FROM zones WHERE registrar_id = @id OR delegate_to_id = @id LIMIT 1), '') AS example`, map[string]any{"id": id}).Scan(&row).Error
	return row.Placed, row.Registered, dnsname.FromKey(row.Example), err
}

// AccountFamily returns an account and its further sets of zones, in order of their IDs; base is the account itself.
func (t *Tx) AccountFamily(base uint64) (list []Account, err error) {
	err = t.db.Where("id = ? OR base_id = ?", base, base).Order("id").Find(&list).Error
	return list, err
}

// DeleteAccount forgets an account.
func (t *Tx) DeleteAccount(id uint64) error {
	return t.db.Exec("DELETE FROM accounts WHERE id = ?", id).Error
}
