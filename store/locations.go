package store

import (
	"encoding/json"
	"fmt"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/dynaddr"
)

// JobHosts is the work of moving the hosts of a location at a moment that was foreseen: a hold ends, an uplink stopped reporting.
const JobHosts = "hosts"

// Location is a place whose hosts follow the best of its uplinks that reports.
type Location struct {
	ID          uint64
	Name        *string // nil where it belongs to its one host
	Description string
	Policy      string // JSON
	CreatedBy   string
	CreatedAt   time.Time
	Since       *time.Time // simulated time from which silence counts
	Version     uint64     // counts what changes about it, its uplinks and its hosts
}

// TableName is the table that locations are kept in.
func (Location) TableName() string { return "locations" }

// Label returns the name of a location; empty where it belongs to its one host.
func (l Location) Label() string {
	if l.Name == nil {
		return ""
	}
	return *l.Name
}

// Rules returns the policy that its hosts inherit.
func (l Location) Rules() (dynaddr.Policy, error) { return rulesOf(l.Policy) }

func rulesOf(text string) (p dynaddr.Policy, err error) {
	if text != "" && text != "{}" {
		err = json.Unmarshal([]byte(text), &p)
	}
	return p, err
}

// Uplink is a line of a location to the internet.
type Uplink struct {
	ID           uint64
	LocationID   uint64
	Name         string
	Place        uint16     // the lowest one that reports is followed
	State        string     // JSON, without when it was seen
	SeenAt       *time.Time // its last report that was not refused, simulated time
	ReportedAt   *time.Time // its last report, real time
	ReportedFrom string
	Refused      string // why the last report was refused; empty where it was not
	Parameters   string // names that its client has for what it reports, JSON; empty for ours
}

// TableName is the table that uplinks are kept in.
func (Uplink) TableName() string { return "uplinks" }

// Line returns what was reported of an uplink.
func (u Uplink) Line() (l dynaddr.Uplink, err error) {
	err = json.Unmarshal([]byte(u.State), &l)
	l.Seen = time.Time{}
	if u.SeenAt != nil {
		l.Seen = *u.SeenAt
	}
	return l, err
}

// Keep puts what was reported into an uplink.
func (u *Uplink) Keep(l dynaddr.Uplink) {
	if seen := l.Seen; !seen.IsZero() {
		u.SeenAt = &seen
	}
	l.Seen = time.Time{}
	u.State = jsonText(l)
}

// Names returns the names that the client of an uplink has for what it reports.
func (u Uplink) Names() (p dynaddr.Parameters, err error) {
	if u.Parameters != "" {
		err = json.Unmarshal([]byte(u.Parameters), &p)
	}
	return p, err
}

// AddLocation keeps a new location and sets its id.
func (t *Tx) AddLocation(l *Location) error {
	l.CreatedAt, l.CreatedBy = t.now(), cut(l.CreatedBy, 100)
	return found(t.db.Create(l).Error, "location %s", l.Label())
}

// Location finds a location by name.
func (t *Tx) Location(name string) (l Location, err error) {
	err = t.db.Where("name = ?", name).Take(&l).Error
	return l, found(err, "location %s", name)
}

// LocationByID finds a location.
func (t *Tx) LocationByID(id uint64) (l Location, err error) {
	err = t.db.Where("id = ?", id).Take(&l).Error
	return l, found(err, "location %d", id)
}

// LocationsByID returns locations by their ids.
func (t *Tx) LocationsByID(ids []uint64) (map[uint64]Location, error) {
	byID := map[uint64]Location{}
	if len(ids) == 0 {
		return byID, nil
	}
	var list []Location
	err := t.db.Where("id IN ?", ids).Find(&list).Error
	for _, l := range list {
		byID[l.ID] = l
	}
	return byID, err
}

// LockLocation returns a location and keeps others from it until the transaction ends, which changes it.
func (t *Tx) LockLocation(id uint64) (l Location, err error) {
	if err := t.db.Exec("UPDATE locations SET version = version + 1 WHERE id = ?", id).Error; err != nil {
		return l, err
	}
	return t.LocationByID(id)
}

// LocationsAfter returns at most limit locations behind a name, in the order of their names.
func (t *Tx) LocationsAfter(after string, limit int) (list []Location, err error) {
	err = t.db.Where("name > ?", after).Order("name").Limit(limit).Find(&list).Error
	return list, err
}

// SaveLocation stores the description and the policy of a location.
func (t *Tx) SaveLocation(l Location) error {
	return t.db.Exec("UPDATE locations SET description = ?, policy = ? WHERE id = ?", l.Description, l.Policy, l.ID).Error
}

// RemoveLocation forgets a location that has no hosts, with its uplinks and their tokens.
func (t *Tx) RemoveLocation(id uint64) error {
	return t.db.Exec("DELETE FROM locations WHERE id = ?", id).Error
}

// removeLone forgets the locations that belonged to hosts which are gone.
func (t *Tx) removeLone() error {
	return t.db.Exec("DELETE l FROM locations l LEFT JOIN hosts h ON h.location_id = l.id WHERE l.name IS NULL AND h.id IS NULL").Error
}

// AddUplink keeps a new uplink behind the others of its location, and returns the text of the token that may report for it, which is kept nowhere.
func (t *Tx) AddUplink(u *Uplink) (token string, err error) {
	if err := t.db.Raw("SELECT COALESCE(MAX(place) + 1, 0) FROM uplinks WHERE location_id = ?", u.LocationID).Scan(&u.Place).Error; err != nil {
		return "", err
	}
	u.State = "{}"
	if err := found(t.db.Create(u).Error, "uplink %s", u.Name); err != nil {
		return "", err
	}
	return t.addUplinkToken(u.ID)
}

// addUplinkToken makes a token of an uplink.
func (t *Tx) addUplinkToken(id uint64) (text string, err error) {
	text = newToken(access.HostToken)
	row := token{UplinkID: &id, Begins: access.TokenBegins(text), Hash: hashToken(text), CreatedAt: t.now()}
	return text, t.db.Create(&row).Error
}

// Uplinks returns the uplinks of locations, those of each the best one first.
func (t *Tx) Uplinks(locations ...uint64) (list []Uplink, err error) {
	if len(locations) == 0 {
		return nil, nil
	}
	err = t.db.Where("location_id IN ?", locations).Order("location_id, place").Find(&list).Error
	return list, err
}

// UplinkByID finds an uplink.
func (t *Tx) UplinkByID(id uint64) (u Uplink, err error) {
	err = t.db.Where("id = ?", id).Take(&u).Error
	return u, found(err, "uplink %d", id)
}

// NameParameters stores the names that the client of an uplink has for what it reports.
func (t *Tx) NameParameters(u Uplink) error {
	return t.db.Exec("UPDATE uplinks SET parameters = ? WHERE id = ?", u.Parameters, u.ID).Error
}

// PlaceUplink stores which place an uplink has among those of its location.
func (t *Tx) PlaceUplink(u Uplink) error {
	return t.db.Exec("UPDATE uplinks SET place = ? WHERE id = ?", u.Place, u.ID).Error
}

// RemoveUplink forgets an uplink and its token.
func (t *Tx) RemoveUplink(id uint64) error {
	return t.db.Exec("DELETE FROM uplinks WHERE id = ?", id).Error
}

// HostsAt returns the hosts of locations in the order of their names.
func (t *Tx) HostsAt(locations ...uint64) (list []Host, err error) {
	if len(locations) == 0 {
		return nil, nil
	}
	err = t.db.Where("location_id IN ?", locations).Order("name_key").Find(&list).Error
	return list, err
}

// Following returns how a host follows, with what it inherits of its location.
func (h Host) Following(inherited dynaddr.Policy) (f dynaddr.Follows, err error) {
	f.Families = h.Follows()
	if f.Policy, err = h.Rules(); err != nil {
		return f, err
	}
	f.Policy = f.Policy.Over(inherited)
	if h.Place != "" {
		f.Place = new(dynaddr.Place)
		err = json.Unmarshal([]byte(h.Place), f.Place)
	}
	return f, err
}

// Rules returns the policy of a host, without what it inherits.
func (h Host) Rules() (p dynaddr.Policy, err error) {
	if p, err = rulesOf(h.Policy); err != nil {
		err = fmt.Errorf("the policy of host %s: %w", h.Name(), err)
	}
	return p, err
}

// Stands returns where a host is and what it waits for.
func (h Host) Stands() (s dynaddr.Host, err error) {
	err = json.Unmarshal([]byte(h.State), &s)
	return s, err
}

// Gone returns the families of which a host had an address and has none any more.
func (h Host) Gone() (f dynaddr.Families) {
	s, err := h.Stands()
	if err != nil {
		return f
	}
	return dynaddr.Families{V4: h.FollowsV4 && !s.V4.Addr.IsValid() && !s.V4.Since.IsZero(), V6: h.FollowsV6 && !s.V6.Addr.IsValid() && !s.V6.Since.IsZero()}
}

// Keep puts where a host is, and what it waits for, into its row.
func (h *Host) Keep(s dynaddr.Host) { h.State = jsonText(s) }

// SaveHost stores the policy, the TTL and the place of a host.
func (t *Tx) SaveHost(h Host) error {
	err := t.db.Exec("UPDATE hosts SET policy = ?, ttl = ?, place = ?, follows_v4 = ?, follows_v6 = ?, location_id = ? WHERE id = ?", h.Policy, h.TTL, h.Place, h.FollowsV4, h.FollowsV6, h.LocationID, h.ID).Error
	if err != nil || h.ReportID == nil {
		return err
	}
	return t.rowsOfHost(h)
}

// SaveStands stores what a host waits for.
func (t *Tx) SaveStands(h Host) error {
	return t.db.Exec("UPDATE hosts SET state = ? WHERE id = ?", h.State, h.ID).Error
}

// HostTokenName returns the name of the token of an uplink: that of the host which it alone is for, or LOCATION/UPLINK.
func HostTokenName(host dnsname.Name, location, uplink string) string {
	if location == "" {
		return host.String()
	}
	return location + "/" + uplink
}
