package store

import (
	"strings"
	"time"

	"beacon/core/dynaddr"
	"beacon/core/record"
)

// Acceptance is a report that moves a host, with the host as it is by it.
type Acceptance struct {
	Report Report
	Host   Host
}

// LockLocations keeps others from locations until the transaction ends, and returns which versions of them there are, with the uplinks that each has, which know when
// they were seen.
func (t *Tx) LockLocations(ids []uint64) (map[uint64]uint64, map[uint64]time.Time, error) {
	var rows []struct {
		ID, Version, UplinkID uint64
		SeenAt                *time.Time
	}
	err := t.db.Raw("SELECT l.id, l.version, k.id AS uplink_id, k.seen_at FROM locations l LEFT JOIN uplinks k ON k.location_id = l.id WHERE l.id IN ? ORDER BY l.id, k.id FOR UPDATE", ids).Scan(&rows).Error
	versions, seen := map[uint64]uint64{}, map[uint64]time.Time{}
	for _, r := range rows {
		versions[r.ID] = r.Version
		if r.SeenAt != nil {
			seen[r.UplinkID] = *r.SeenAt
		}
	}
	return versions, seen, err
}

// rowsWritten bounds how many rows one statement changes.
const rowsWritten = 500

// changeAll changes many rows in one statement: change is what is set of each row where its new values are called n; the columns are the names of those values.
func (t *Tx) changeAll(change string, columns []string, values [][]any) error {
	for len(values) > 0 {
		some := values[:min(len(values), rowsWritten)]
		values = values[len(some):]
		var b strings.Builder
		var args []any
		for i, row := range some {
			if i > 0 {
				b.WriteString(" UNION ALL ")
			}
			b.WriteString("SELECT ")
			for k := range row {
				if k > 0 {
					b.WriteString(", ")
				}
				b.WriteString("?")
				if i == 0 {
					b.WriteString(" AS " + columns[k])
				}
			}
			args = append(args, row...)
		}
		if err := t.db.Exec(strings.Replace(change, "NEW", "("+b.String()+")", 1), args...).Error; err != nil {
			return err
		}
	}
	return nil
}

// AcceptReports keeps reports and where their hosts are by them, and sets their ids; of several of one host the last counts. What follows from that is asked for later: Unspread.
func (t *Tx) AcceptReports(list []Acceptance) error {
	if len(list) == 0 {
		return nil
	}
	at := t.now()
	rows := make([]Report, len(list))
	for i, a := range list {
		rows[i] = a.Report
		rows[i].Outcome, rows[i].Times, rows[i].AcceptedAt, rows[i].Reason, rows[i].Actor = dynaddr.Accepted, 1, &at, cut(a.Report.Reason, 255), cut(a.Report.Actor, 100)
	}
	if err := t.db.Create(&rows).Error; err != nil {
		return err
	}
	for i := range list {
		list[i].Report.ID, list[i].Host.ReportID = rows[i].ID, &rows[i].ID
	}
	last := map[uint64]int{}
	for i, a := range list {
		last[a.Host.ID] = i
	}
	var values [][]any
	for i, a := range list {
		if last[a.Host.ID] == i {
			now := a.Host.At()
			values = append(values, []any{a.Host.ID, addrText(now.V4.IsValid(), now.V4.String()), addrText(now.V6.IsValid(), now.V6.String()), rows[i].ID, a.Host.State})
		}
	}
	return t.changeAll("UPDATE hosts h JOIN NEW n ON n.id = h.id SET h.v4 = INET6_ATON(n.v4), h.v6 = INET6_ATON(n.v6), h.report_id = n.report_id, h.state = n.state, h.unspread = TRUE",
		[]string{"id", "v4", "v6", "report_id", "state"}, values)
}

// addrText is an address as INET6_ATON takes it; an empty text is none.
func addrText(is bool, text string) string {
	if !is {
		return ""
	}
	return text
}

// SaveUplinks stores what was reported of uplinks, of each at most once, and counts the versions of their locations on.
func (t *Tx) SaveUplinks(list []Uplink) error {
	now := t.now()
	var values [][]any
	for _, u := range list {
		values = append(values, []any{u.ID, u.State, u.SeenAt, u.ReportedFrom, cut(u.Refused, 255)})
	}
	return t.changeAll("UPDATE uplinks k JOIN locations l ON l.id = k.location_id JOIN NEW n ON n.id = k.id SET k.state = n.state, k.seen_at = n.seen_at, k.reported_at = '"+now.UTC().Format("2006-01-02 15:04:05.000000")+
		"', k.reported_from = n.reported_from, k.refused = n.refused, l.version = l.version + 1",
		[]string{"id", "state", "seen_at", "reported_from", "refused"}, values)
}

// Seen is that an uplink reported what was known.
type Seen struct {
	Uplink     uint64
	At         time.Time // simulated time
	ReportedAt time.Time // real time
	From       string
}

// SawUplinks stores when uplinks reported what was known.
func (t *Tx) SawUplinks(list []Seen) error {
	var values [][]any
	for _, s := range list {
		values = append(values, []any{s.Uplink, s.At, s.ReportedAt, s.From})
	}
	return t.changeAll("UPDATE uplinks k JOIN NEW n ON n.id = k.id SET k.seen_at = GREATEST(COALESCE(k.seen_at, CAST(n.seen_at AS DATETIME(6))), CAST(n.seen_at AS DATETIME(6))), k.reported_at = n.reported_at, k.reported_from = n.reported_from",
		[]string{"id", "seen_at", "reported_at", "reported_from"}, values)
}

// Unspread returns at most limit acceptances that have not been asked to be written yet, the oldest first. The transaction is the only one that does so until it ends.
func (t *Tx) Unspread(limit int) (list []Acceptance, err error) {
	if err := t.db.Exec("SELECT name FROM turns WHERE name = 'hosts' FOR UPDATE").Error; err != nil {
		return nil, err
	}
	var hosts []Host
	if err := t.db.Where("unspread = TRUE AND report_id IS NOT NULL").Order("report_id").Limit(limit).Find(&hosts).Error; err != nil {
		return nil, err
	}
	ids := make([]uint64, len(hosts))
	for i, h := range hosts {
		ids[i] = *h.ReportID
	}
	reports, err := t.ReportsByID(ids)
	for _, h := range hosts {
		list = append(list, Acceptance{reports[*h.ReportID], h})
	}
	return list, err
}

// Spread notes that acceptances have been asked to be written at the given placements, where their arrivals are awaited. The rows by which records are found show them.
func (t *Tx) Spread(list []Acceptance, at map[uint64][]Placement) error {
	var arrivals, values [][]any
	for _, a := range list {
		for _, p := range at[a.Host.ZoneID] {
			arrivals = append(arrivals, []any{a.Report.ID, p.ID})
		}
		values = append(values, []any{a.Host.ID, a.Report.ID})
		if a.Report.ID%pruneEvery == 0 {
			if err := t.prune(a.Host.ID); err != nil {
				return err
			}
		}
	}
	if err := t.showReported(list); err != nil {
		return err
	}
	for len(arrivals) > 0 {
		some := arrivals[:min(len(arrivals), rowsWritten)]
		arrivals = arrivals[len(some):]
		var args []any
		for _, row := range some {
			args = append(args, row...)
		}
		if err := t.db.Exec("INSERT IGNORE INTO arrivals (report_id, placement_id) VALUES (?, ?)"+strings.Repeat(", (?, ?)", len(some)-1), args...).Error; err != nil {
			return err
		}
	}
	return t.changeAll("UPDATE hosts h JOIN NEW n ON n.id = h.id AND n.report_id = h.report_id SET h.unspread = FALSE", []string{"id", "report_id"}, values)
}

// pruneEvery is how many reports go by until it is looked whether there are too many.
const pruneEvery = 16

// showReported puts what was reported into the rows by which records are found.
func (t *Tx) showReported(list []Acceptance) error {
	var places []string
	var args []any
	var rows []map[string]any
	for _, a := range list {
		h := a.Host
		addresses := 0
		for _, is := range []bool{len(h.V4) > 0, len(h.V6) > 0} {
			if is {
				addresses++
			}
		}
		if len(strings.Fields(a.Report.Was)) > addresses { // what the revision says of a family that is lost shows once more
			if err := t.rowsWithoutHost(h); err != nil {
				return err
			}
		}
		gone := h.Gone()
		for typ, is := range map[record.Type]bool{record.A: gone.V4 || len(h.V4) > 0, record.AAAA: gone.V6 || len(h.V6) > 0} {
			if is {
				places = append(places, "zone_id = ? AND name_key = ? AND type = ?")
				args = append(args, h.ZoneID, octets(h.NameKey), uint16(typ))
			}
		}
		for _, set := range dynaddr.Sets(h.Name(), h.TTL, h.At()) {
			for _, r := range set.Records() {
				rows = append(rows, rowOf(h.ZoneID, r))
			}
		}
	}
	if len(places) > 0 {
		if err := t.db.Exec("DELETE FROM records WHERE "+strings.Join(places, " OR "), args...).Error; err != nil {
			return err
		}
	}
	return t.addRows(rows)
}
