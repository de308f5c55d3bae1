package store

import (
	"encoding/json"
	"time"

	"gorm.io/gorm/clause"

	"beacon/core/dnsname"
	"beacon/core/layers"
)

// Child is a delegation in a zone that is managed here: a layer of that zone that the child owns.
type Child struct {
	NameKey     string `gorm:"primaryKey"`
	ParentID    uint64
	TTL         uint32 `gorm:"column:ttl"` // of its NS and DS sets, seconds
	Nameservers string // JSON
	Hosts       string // JSON
	DS          string `gorm:"column:ds"` // JSON
	Owned       string // names that ever had glue, JSON
	UpdatedBy   string
	UpdatedAt   time.Time
}

// TableName is the table that delegations in zones of ours are kept in.
func (Child) TableName() string { return "children" }

// Name is the name that is delegated.
func (c Child) Name() dnsname.Name { return dnsname.FromKey(c.NameKey) }

// Delegation returns what the parent should have of the child.
func (c Child) Delegation() (d layers.Delegation, err error) {
	d = layers.Delegation{Name: c.Name(), TTL: c.TTL}
	for text, into := range map[string]any{c.Nameservers: &d.Nameservers, c.Hosts: &d.Hosts, c.DS: &d.DS, c.Owned: &d.Owned} {
		if err := json.Unmarshal([]byte(text), into); err != nil {
			return d, err
		}
	}
	return d, nil
}

// ChildrenOf returns the delegations in a zone, by name.
func (t *Tx) ChildrenOf(parent uint64) (list []layers.Delegation, err error) {
	var rows []Child
	if err := t.db.Where("parent_id = ?", parent).Order("name_key").Find(&rows).Error; err != nil {
		return nil, err
	}
	for _, row := range rows {
		d, err := row.Delegation()
		if err != nil {
			return nil, err
		}
		list = append(list, d)
	}
	return list, nil
}

// ChildNamed finds the delegation of a name in a zone that is managed here.
func (t *Tx) ChildNamed(name dnsname.Name) (c Child, there bool, err error) {
	res := t.db.Where("name_key = ?", octets(name.Key())).Limit(1).Find(&c)
	return c, res.RowsAffected == 1, res.Error
}

// SetChild keeps what a parent should have of a child.
func (t *Tx) SetChild(parent uint64, d layers.Delegation, by string) error {
	row := Child{NameKey: d.Name.Key(), ParentID: parent, TTL: d.TTL, Nameservers: jsonText(d.Nameservers), Hosts: jsonText(d.Hosts), DS: jsonText(d.DS),
		Owned: jsonText(d.Owned), UpdatedBy: cut(by, 100), UpdatedAt: t.now()}
	return t.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error
}
