package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
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
		if _, err := t.changeSome(change, columns, some); err != nil {
			return err
		}
	}
	return nil
}

// changeSome does that with one statement, which may have further arguments, and returns how many rows it was about.
func (t *Tx) changeSome(change string, columns []string, values [][]any, more ...any) (int64, error) {
	var b strings.Builder
	var args []any
	for i, row := range values {
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
	res := t.db.Exec(strings.Replace(change, "NEW", "("+b.String()+")", 1), append(args, more...)...)
	return res.RowsAffected, res.Error
}

// AcceptReports keeps reports and where their hosts are by them. What follows from that is asked for later: Unspread.
func (t *Tx) AcceptReports(list []Acceptance) error {
	if len(list) == 0 {
		return nil
	}
	return t.changeAll("UPDATE hosts h JOIN NEW n ON n.id = h.id SET "+acceptance, acceptanceColumns, acceptances(list, t.now()))
}

// acceptance is what is set of a host that was accepted.
const acceptance = "h.v4 = INET6_ATON(n.v4), h.v6 = INET6_ATON(n.v6), h.state = n.state, h.accepted = CONCAT(h.accepted, n.accepted), h.unspread = TRUE"

var acceptanceColumns = []string{"id", "v4", "v6", "state", "accepted"}

// acceptances returns the new values of hosts, of each once.
func acceptances(list []Acceptance, at time.Time) (values [][]any) {
	row := map[uint64]int{}
	for _, a := range list {
		r, now := a.Report, a.Host.At()
		r.Outcome, r.Times, r.AcceptedAt, r.Reason, r.Actor = dynaddr.Accepted, 1, &at, cut(r.Reason, 255), cut(r.Actor, 100)
		line := jsonText(r) + "\n"
		if i, again := row[a.Host.ID]; again {
			line = values[i][4].(string) + line
			values = slices.Delete(values, i, i+1)
			for id, at := range row {
				if at > i {
					row[id]--
				}
			}
		}
		row[a.Host.ID] = len(values)
		values = append(values, []any{a.Host.ID, addrText(now.V4.IsValid(), now.V4.String()), addrText(now.V6.IsValid(), now.V6.String()), a.Host.State, line})
	}
	return values
}

// AcceptAlone does what AcceptReports and SaveUplinks do for one report, in one statement, if the location is at that version. It reports whether it was.
func (s *Store) AcceptAlone(ctx context.Context, version uint64, u Uplink, list []Acceptance) (is bool, err error) {
	now := s.now()
	tx := &Tx{db: s.db.WithContext(ctx), now: s.now, kept: &s.kept}
	values := acceptances(list, now)
	args := []any{u.LocationID, version, u.ID}
	change := "UPDATE locations l JOIN uplinks k ON k.location_id = l.id JOIN hosts h ON h.location_id = l.id JOIN NEW n ON n.id = h.id SET " + acceptance +
		", k.state = ?, k.seen_at = ?, k.reported_at = ?, k.reported_from = ?, k.refused = '', l.version = l.version + 1 WHERE l.id = ? AND l.version = ? AND k.id = ?"
	n, err := tx.changeSome(change, acceptanceColumns, values, append([]any{u.State, u.SeenAt, now, u.ReportedFrom}, args...)...)
	return n > 0, err
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

// Unspread returns hosts of which reports were accepted that are not spread yet, at most limit, and these reports, the oldest of each host first. The transaction is the
// only one that does so until it ends.
func (t *Tx) Unspread(limit int) (list []Acceptance, err error) {
	if err := t.db.Exec("SELECT name FROM turns WHERE name = 'hosts' FOR UPDATE").Error; err != nil {
		return nil, err
	}
	var hosts []Host
	if err := t.db.Where("unspread = TRUE").Limit(limit).Find(&hosts).Error; err != nil {
		return nil, err
	}
	for _, h := range hosts {
		reports, err := h.Ahead()
		if err != nil {
			return nil, err
		}
		for _, r := range reports {
			list = append(list, Acceptance{r, h})
		}
	}
	return list, nil
}

// AnyUnspread reports whether there are reports that were accepted and are not spread yet.
func (t *Tx) AnyUnspread() (any bool, err error) {
	err = t.db.Raw("SELECT EXISTS (SELECT 1 FROM hosts WHERE unspread = TRUE)").Scan(&any).Error
	return any, err
}

// Ahead returns the reports of a host that are accepted and not spread yet, the oldest first. They have no ids yet.
func (h Host) Ahead() (list []Report, err error) {
	for line := range strings.Lines(h.Accepted) {
		var r Report
		if err := json.Unmarshal([]byte(line), &r); err != nil {
			return nil, fmt.Errorf("the accepted reports of host %s: %w", h.Name(), err)
		}
		r.HostID = h.ID
		list = append(list, r)
	}
	return list, nil
}

// Spread keeps accepted reports, sets their ids, and notes that the last one of each host is to be written at the given placements, where its arrival is awaited. The
// rows by which records are found show it.
func (t *Tx) Spread(list []Acceptance, at map[uint64][]Placement) error {
	rows := make([]Report, len(list))
	for i, a := range list {
		rows[i] = a.Report
	}
	if err := t.db.Create(&rows).Error; err != nil {
		return err
	}
	var arrivals, values [][]any
	var last []Acceptance
	for i := range list {
		a := &list[i]
		a.Report.ID = rows[i].ID
		for _, p := range at[a.Host.ZoneID] {
			arrivals = append(arrivals, []any{a.Report.ID, p.ID})
		}
		if i+1 < len(list) && list[i+1].Host.ID == a.Host.ID {
			if len(a.Report.Was) > len(list[i+1].Report.Was) { // a family may have been lost with the earlier one
				list[i+1].Report.Was = a.Report.Was
			}
			continue
		}
		last = append(last, *a)
		values = append(values, []any{a.Host.ID, a.Report.ID, len([]rune(a.Host.Accepted))})
		if a.Report.ID%pruneEvery == 0 {
			if err := t.prune(a.Host.ID); err != nil {
				return err
			}
		}
	}
	if err := t.showReported(last); err != nil {
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
	return t.changeAll("UPDATE hosts h JOIN NEW n ON n.id = h.id SET h.report_id = n.report_id, h.unspread = CHAR_LENGTH(h.accepted) > n.spread, h.accepted = SUBSTRING(h.accepted, n.spread + 1)", []string{"id", "report_id", "spread"}, values)
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
