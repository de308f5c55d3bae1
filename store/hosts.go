package store

import (
	"net/netip"
	"slices"
	"time"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
)

// Host is a name whose address is reported.
type Host struct {
	ID        uint64
	ZoneID    uint64
	NameKey   string
	FollowsV4 bool    `gorm:"column:follows_v4"`
	FollowsV6 bool    `gorm:"column:follows_v6"`
	TTL       uint32  `gorm:"column:ttl"` // seconds
	V4        []byte  `gorm:"column:v4"`
	V6        []byte  `gorm:"column:v6"`
	ReportID  *uint64 // the last accepted one that was spread
	CreatedBy string
	CreatedAt time.Time

	LocationID uint64
	Policy     string // what it does not inherit, JSON
	Place      string // subnet and interface below the prefix of its uplink, JSON; empty for the address of the uplink
	State      string // dynaddr.Host, JSON
	Unspread   bool   // some reports are accepted and not spread yet:
	Accepted   string // these, a line of JSON each
}

// TableName is the table that hosts are kept in.
func (Host) TableName() string { return "hosts" }

// Name is the name that follows.
func (h Host) Name() dnsname.Name { return dnsname.FromKey(h.NameKey) }

// Follows returns which families it follows.
func (h Host) Follows() dynaddr.Families { return dynaddr.Families{V4: h.FollowsV4, V6: h.FollowsV6} }

// At is where the host stands, after the last accepted report.
func (h Host) At() dynaddr.Addresses {
	v4, _ := netip.AddrFromSlice(h.V4)
	v6, _ := netip.AddrFromSlice(h.V6)
	return dynaddr.Addresses{V4: v4, V6: v6}
}

// AddHost keeps a new host and sets its id.
func (t *Tx) AddHost(h *Host) error {
	h.CreatedAt, h.CreatedBy = t.now(), cut(h.CreatedBy, 100)
	return found(t.db.Create(h).Error, "host %s", h.Name())
}

// HostRow is a host in a list.
type HostRow struct {
	Host
	ZoneKey      string
	LastReportID uint64 // the newest, accepted or refused; 0 for none
}

// HostsAfter returns at most limit hosts behind a name, in canonical order; the zero name begins with the first.
func (t *Tx) HostsAfter(after dnsname.Name, limit int) (list []HostRow, err error) {
	in, args := t.inZones("z.name_key")
	err = t.db.Raw(`SELECT h.*, z.name_key AS zone_key, COALESCE((SELECT MAX(r.id) FROM reports r WHERE r.host_id = h.id), 0) AS last_report_id
		FROM hosts h JOIN zones z ON z.id = h.zone_id WHERE h.name_key > ? AND `+in+` ORDER BY h.name_key LIMIT ?`, slices.Concat([]any{octets(after.Key())}, args, []any{limit})...).Scan(&list).Error
	return list, err
}

// ReportsByID returns reports by their ids.
func (t *Tx) ReportsByID(ids []uint64) (map[uint64]Report, error) {
	byID := map[uint64]Report{}
	if len(ids) == 0 {
		return byID, nil
	}
	var list []Report
	err := t.db.Where("id IN ?", ids).Find(&list).Error
	for _, r := range list {
		byID[r.ID] = r
	}
	return byID, err
}

// Host finds a host by name.
func (t *Tx) Host(name dnsname.Name) (h Host, err error) {
	err = t.db.Where("name_key = ?", octets(name.Key())).Take(&h).Error
	return h, found(err, "host %s", name)
}

// HostByID finds a host.
func (t *Tx) HostByID(id uint64) (h Host, err error) {
	err = t.db.Where("id = ?", id).Take(&h).Error
	return h, found(err, "host %d", id)
}

// LockHost returns a host and keeps others from it until the transaction ends.
func (t *Tx) LockHost(id uint64) (h Host, err error) {
	err = t.locking().Where("id = ?", id).Take(&h).Error
	return h, found(err, "host %d", id)
}

// RemoveHost forgets a host and its reports, and its location where that is its own.
func (t *Tx) RemoveHost(h Host) error {
	if _, err := t.LockLocation(h.LocationID); err != nil {
		return err
	}
	if err := t.db.Exec("DELETE FROM hosts WHERE id = ?", h.ID).Error; err != nil {
		return err
	}
	if err := t.removeLone(); err != nil {
		return err
	}
	return t.rowsWithoutHost(h)
}

// Report is what a host reported, unless nothing was new in it.
type Report struct {
	ID         uint64
	HostID     uint64
	Outcome    dynaddr.Outcome
	Reason     string
	V4         string `gorm:"column:v4"`
	V6         string `gorm:"column:v6"`
	Peer       string
	Uplink     string // that it was of; empty where time alone moved the host
	Actor      string // who reported, or changed what the host follows
	Was        string // addresses that the host had before, separated by blanks
	Times      int
	ReportedAt time.Time
	AcceptedAt *time.Time
}

// TableName is the table that reports are kept in.
func (Report) TableName() string { return "reports" }

// keepReports is how many reports of a host are kept.
const keepReports = 500

// NoteReport keeps a report that moved nothing: one that was refused, or that waits. The same one again is counted and makes no further row; one that waits
// gives its row to a newer one. first says that it was none of these.
func (t *Tx) NoteReport(r Report) (first bool, err error) {
	var last []Report
	if err := t.db.Where("host_id = ?", r.HostID).Order("id DESC").Limit(1).Find(&last).Error; err != nil {
		return false, err
	}
	r.Times, r.Reason = 1, cut(r.Reason, 255)
	if len(last) == 1 && last[0].Outcome == r.Outcome && last[0].Reason == r.Reason && last[0].Peer == r.Peer && last[0].Uplink == r.Uplink {
		return false, t.db.Exec("UPDATE reports SET times = times + 1, reported_at = ?, v4 = ?, v6 = ? WHERE id = ?", r.ReportedAt, r.V4, r.V6, last[0].ID).Error
	}
	return true, t.addReport(&r)
}

func (t *Tx) addReport(r *Report) error {
	if err := t.db.Create(r).Error; err != nil {
		return err
	}
	return t.prune(r.HostID)
}

// prune forgets the oldest reports of a host where there are too many.
func (t *Tx) prune(hostID uint64) error {
	return t.db.Exec(`DELETE FROM reports WHERE host_id = ? AND id <= (SELECT id FROM
		(SELECT id FROM reports WHERE host_id = ? ORDER BY id DESC LIMIT 1 OFFSET ?) AS beyond)`, hostID, hostID, keepReports).Error
}

// Reports returns a host's reports, newest first.
func (t *Tx) Reports(hostID uint64, limit int) (list []Report, err error) {
	err = t.db.Where("host_id = ?", hostID).Order("id DESC").Limit(limit).Find(&list).Error
	return list, err
}

// Arrival is how far an accepted report has come at one placement.
type Arrival struct {
	ReportID    uint64
	PlacementID uint64
	Account     string
	WrittenAt   *time.Time
	VisibleAt   *time.Time
	SettlesBy   *time.Time // simulated time
}

// Arrivals returns those of some reports.
func (t *Tx) Arrivals(reports []uint64) (list []Arrival, err error) {
	if len(reports) == 0 {
		return nil, nil
	}
	err = t.db.Raw(`SELECT v.report_id, v.placement_id, a.name AS account, v.written_at, v.visible_at, v.settles_by FROM arrivals v
		JOIN placements p ON p.id = v.placement_id JOIN accounts a ON a.id = p.account_id
		WHERE v.report_id IN ? ORDER BY v.report_id, v.placement_id`, reports).Scan(&list).Error
	return list, err
}

// ReportWritten notes that a placement has the report. Written again, by a second request, it is written later.
func (t *Tx) ReportWritten(reportID, placementID uint64) error {
	return t.db.Exec("UPDATE arrivals SET written_at = ? WHERE report_id = ? AND placement_id = ? AND visible_at IS NULL", t.now(), reportID, placementID).Error
}

// ReportVisible notes that all nameservers of a placement serve the report, and the simulated time by which caches must
// have let go of what was before.
func (t *Tx) ReportVisible(reportID, placementID uint64, settlesBy time.Time) error {
	return t.db.Exec(`UPDATE arrivals SET written_at = COALESCE(written_at, ?), visible_at = ?, settles_by = ?
		WHERE report_id = ? AND placement_id = ? AND visible_at IS NULL`, t.now(), t.now(), settlesBy, reportID, placementID).Error
}

// Invisible returns the reports that are not known to be served by every nameserver of a placement.
func (t *Tx) Invisible(placementID uint64) (map[uint64]bool, error) {
	var ids []uint64
	err := t.db.Raw("SELECT v.report_id FROM arrivals v JOIN hosts h ON h.report_id = v.report_id WHERE v.placement_id = ? AND v.visible_at IS NULL", placementID).Scan(&ids).Error
	reports := make(map[uint64]bool, len(ids))
	for _, id := range ids {
		reports[id] = true
	}
	return reports, err
}

// AcceptedSince returns when the oldest report was accepted that is not known to be served by every nameserver of a placement; nil for none.
func (t *Tx) AcceptedSince(placementID uint64) (at *time.Time, err error) {
	err = t.db.Raw("SELECT MIN(r.accepted_at) FROM arrivals v JOIN hosts h ON h.report_id = v.report_id JOIN reports r ON r.id = v.report_id WHERE v.placement_id = ? AND v.visible_at IS NULL", placementID).Scan(&at).Error
	return at, err
}

// Unarrived returns at how many placements a report is not visible, and those of them to which no sync of hosts is on its way.
func (t *Tx) Unarrived(reportID uint64) (away int, stuck []uint64, err error) {
	var rows []struct {
		PlacementID uint64
		Under       bool
	}
	err = t.db.Raw(`SELECT v.placement_id, EXISTS (SELECT 1 FROM syncs s WHERE s.placement_id = v.placement_id AND s.scope = ? AND s.state IN ('pending', 'running', 'retrying')) AS under
		FROM arrivals v WHERE v.report_id = ? AND v.visible_at IS NULL`, ScopeHosts, reportID).Scan(&rows).Error
	for _, r := range rows {
		if !r.Under {
			stuck = append(stuck, r.PlacementID)
		}
	}
	return len(rows), stuck, err
}
