package secondaries

import (
	"context"
	"fmt"
	"strings"
	"time"

	"beacon/core/wording"
	"beacon/primary"
	"beacon/service/accounts"
	"beacon/service/jobs"
	"beacon/store"
)

// mostNotices is how often secondaries are told before it is left to their own asking.
const mostNotices = 20

// RunNotify notifies an account's secondaries of a zone until all of them serve its serial.
func (s *Secondaries) RunNotify(ctx context.Context, job store.Job) error {
	var zone primary.Zone
	var v store.PublishedVersion
	var a store.Account
	err := s.store.Tx(ctx, func(tx *store.Tx) error {
		list, err := tx.PublishedZones(job.Lane)
		if err != nil {
			return err
		}
		for _, z := range list {
			if z.ID == job.Subject {
				zone = primary.Zone{Name: z.Name(), Serial: z.Serial}
				if v, err = tx.Version(z.ID, z.Serial); err != nil {
					return err
				}
			}
		}
		a, err = accounts.ByID(tx, job.Lane)
		return err
	})
	if err != nil || zone.Serial == 0 {
		return err
	}
	driver, err := s.publisherWith(a)
	if err != nil {
		return err
	}
	zone.Nameservers = driver.names()
	if _, zone.SOA, err = published(v); err != nil {
		return err
	}
	var behind []string
	for _, sec := range driver.list {
		if serial, ok, err := driver.key.Serial(ctx, sec.at, zone.Name); err == nil && ok && !primary.Newer(zone.Serial, serial) {
			continue
		}
		if err := driver.key.Notify(ctx, sec.at, zone); err != nil {
			behind = append(behind, err.Error())
			continue
		}
		behind = append(behind, sec.at.String()+" was notified and does not serve it yet")
	}
	if len(behind) == 0 {
		return nil
	}
	if job.Attempts < mostNotices {
		return jobs.Later{At: s.store.Now().Add(min(time.Duration(job.Attempts*job.Attempts)*100*time.Millisecond, 30*time.Second))}
	}
	s.logbook.Note(ctx, "service", "secondary.behind", zone.Name.String(), fmt.Sprintf("serial %d at %s: %s; it expires there after %s without us", zone.Serial, a.Name, strings.Join(behind, "; "), wording.Seconds(driver.parameters(zone.Name, zone.SOA).Expire)))
	return nil
}
