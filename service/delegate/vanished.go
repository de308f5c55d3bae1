package delegate

import (
	"context"
	"errors"
	"time"

	"beacon/core/access"
	"beacon/core/finding"
	"beacon/service/acts"
	"beacon/service/apply"
	"beacon/service/jobs"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// How long the work on a zone without a file waits, real time: for a retirement that runs, and for gates to open.
const (
	whileRetiring = time.Second
	whileBlocked  = 10 * time.Minute
)

// RunVanished retires a zone whose file vanished from the followed folder at each of its providers, and then deletes it, where the settings
// say so. Gates hold as for a user: while one blocks, the zone stays as it is.
func (s *Delegations) RunVanished(ctx context.Context, job store.Job) error {
	by := apply.Follower(s.watch.Folder)
	var z store.Zone
	var placed []string
	retiring := false
	err := s.logbook.Look(ctx, func(tx *store.Tx) (err error) {
		if z, err = zones.ByID(tx, job.Subject); err != nil {
			return err
		}
		if placed, err = zones.PlacedAt(tx, z.ID); err != nil {
			return err
		}
		running, err := acts.Unfinished(tx, z.Name().String(), wire.ActRetire, wire.ActDelegate)
		retiring = running.ID != 0
		return err
	})
	switch {
	case store.IsMissing(err):
		return nil
	case err != nil:
		return err
	case z.VanishedAt == nil || z.ManagedBy == "" || z.Detached: // a file names it again, or a user decided
		return nil
	case retiring:
		return jobs.Later{At: s.logbook.Now().Add(whileRetiring), MadeWay: true}
	case len(placed) > 0:
		return s.retireVanished(ctx, by, job, wire.RetireRequest{Zone: z.Name(), Account: placed[0], Reason: vanishedReason})
	case s.watch.Prune != apply.PruneDelete:
		return nil
	}
	_, err = s.Delete(ctx, by, wire.DeleteRequest{Zone: z.Name(), Reason: vanishedReason})
	var p *wire.Problem
	if errors.As(err, &p) {
		return s.blockedVanished(ctx, by, job, z, p.Message)
	}
	return err
}

const vanishedReason = "its file vanished from the followed folder"

// retireVanished begins a retirement, once no gate blocks it.
func (s *Delegations) retireVanished(ctx context.Context, by access.Caller, job store.Job, r wire.RetireRequest) error {
	preview, err := s.PreviewRetire(ctx, by, r)
	if err == nil && len(preview.Guards) > 0 {
		return s.blockedVanished(ctx, by, job, store.Zone{NameKey: r.Zone.Key()}, gateText(preview.Guards))
	}
	if err == nil {
		_, err = s.Retire(ctx, by, r)
	}
	var p *wire.Problem
	if errors.As(err, &p) {
		return s.blockedVanished(ctx, by, job, store.Zone{NameKey: r.Zone.Key()}, p.Message)
	}
	if err != nil {
		return err
	}
	return jobs.Later{At: s.logbook.Now().Add(whileRetiring), Worked: true}
}

func gateText(guards []finding.Finding) string {
	text := ""
	for _, g := range guards {
		text += g.Code + ": " + g.Message + " "
	}
	return text
}

// blockedVanished waits for what blocks the end of a zone, and logs it the first time.
func (s *Delegations) blockedVanished(ctx context.Context, by access.Caller, job store.Job, z store.Zone, why string) error {
	if job.Attempts <= 1 {
		s.logbook.Note(ctx, by.Name, "files.not-pruned", z.Name().String(), why)
	}
	return jobs.Later{At: s.logbook.Now().Add(whileBlocked)}
}
