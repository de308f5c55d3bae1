package store_test

import (
	"fmt"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"beacon/clock"
	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/core/record"
	"beacon/store"
	"beacon/store/storetest"
)

// BenchmarkReportsOfOneZone lets 32 hosts of one zone at two providers report at once, with the placements locked before
// the report refers to them, and after, which each transaction can then only do by breaking off others.
func BenchmarkReportsOfOneZone(b *testing.B) {
	for _, order := range []string{"placements-first", "report-first"} {
		b.Run(order, func(b *testing.B) {
			s := storetest.Open(b)
			var zone store.Zone
			var places []store.Placement
			var hosts []store.Host
			in(b, s, func(tx *store.Tx) (err error) {
				zone, err = tx.AddZone(name)
				require.NoError(b, err)
				_, _, err = tx.AddRevision(zone, record.Contents{}, store.Accepted{})
				require.NoError(b, err)
				zone, err = tx.ZoneByID(zone.ID)
				require.NoError(b, err)
				for _, at := range []string{"heron-main", "curlew-ops"} {
					account := store.Account{Name: at, Role: "provider", Kind: "heron", Sealed: []byte("sealed")}
					require.NoError(b, tx.AddAccount(&account))
					p, err := tx.Place(zone.ID, account.ID)
					require.NoError(b, err)
					places = append(places, p)
				}
				for i := range 32 {
					l := store.Location{Policy: "{}"}
					require.NoError(b, tx.AddLocation(&l))
					require.NoError(b, tx.AddHost(&store.Host{ZoneID: zone.ID, NameKey: dnsname.MustParse(fmt.Sprintf("h%d.%s", i, name)).Key(), FollowsV4: true, TTL: 60, LocationID: l.ID, Policy: "{}", State: "{}"}))
				}
				rows, err := tx.HostsAfter(dnsname.Name{}, 1000)
				for _, h := range rows {
					hosts = append(hosts, h.Host)
				}
				return err
			})
			var failed atomic.Int64
			reports := 0
			for n := 0; b.Loop(); n++ {
				var all sync.WaitGroup
				for i, h := range hosts {
					all.Go(func() {
						if err := s.Tx(ctx, func(tx *store.Tx) error { return takes(tx, order == "placements-first", zone, h, places, byte(n+i)) }); err != nil {
							failed.Add(1)
						}
					})
				}
				all.Wait()
				reports += len(hosts)
			}
			taken := float64(reports) - float64(failed.Load())
			b.ReportMetric(taken/b.Elapsed().Seconds(), "reports/s")
			b.ReportMetric(100*float64(failed.Load())/float64(reports), "%failed")
		})
	}
}

// takes does what one report does in the database.
func takes(tx *store.Tx, placementsFirst bool, zone store.Zone, h store.Host, places []store.Placement, last byte) error {
	h, err := tx.LockHost(h.ID)
	if err != nil {
		return err
	}
	if placementsFirst {
		if err := tx.LockPlacements(places); err != nil {
			return err
		}
	}
	now := dynaddr.Addresses{V4: netip.AddrFrom4([4]byte{198, 51, 100, last})}
	if err := tx.AcceptReport(store.Report{HostID: h.ID, V4: now.V4.String(), ReportedAt: clock.Wall{}.Now()}, h, now, places); err != nil {
		return err
	}
	for _, p := range places {
		if err := tx.AwaitHosts(zone, p, "host"); err != nil {
			return err
		}
	}
	return nil
}
