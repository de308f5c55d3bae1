package apply

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"beacon/clock"
	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/folder"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// WatchSettings say which folder of definition files is followed.
type WatchSettings struct {
	Folder      string        `yaml:"folder"`      // a checkout of definitions; empty for none
	Every       time.Duration `yaml:"every"`       // how often it is looked at, real time
	Prune       string        `yaml:"prune"`       // what becomes of a zone whose file is gone: "" to be decided by a user, or one of Prune...
	Environment []string      `yaml:"environment"` // the variables of the service's environment that its files may use
}

// watchJob is the subject of the work that accepts files of the followed folder: there is one folder, and one instance accepts.
const watchJob = 1

// Follow has the files of a folder accepted whenever they change, until ctx ends. Each instance looks at sizes and times only; what
// changed is read, and accepted, by the one that gets the work.
func (s *Applier) Follow(ctx context.Context) {
	known, trouble := "", ""
	for {
		now, err := folder.Signature(s.watch.Folder)
		switch {
		case err != nil && trouble != err.Error():
			trouble = err.Error()
			s.logbook.Note(ctx, Follower(s.watch.Folder).Name, "files.unreadable", s.watch.Folder, "the folder cannot be read: "+trouble)
		case err == nil && now != known:
			if s.logbook.Tx(ctx, func(tx *store.Tx) error { return jobs.Enqueue(tx, store.JobWatch, watchJob, s.logbook.Now()) }) == nil {
				known, trouble = now, ""
			}
		}
		if clock.Pause(ctx, s.watch.Every) != nil {
			return
		}
	}
}

// Follower returns the caller in whose name the files of a followed folder are accepted.
func Follower(folder string) access.Caller {
	return access.For("folder " + filepath.Base(folder))
}

// RunWatch accepts the files of the followed folder, unless just these were accepted, or tried, last. Guards hold: what they block waits
// for a user. Zones that a user detached are left alone.
func (s *Applier) RunWatch(ctx context.Context, job store.Job) error {
	by := Follower(s.watch.Folder)
	var known store.Watched
	if err := s.logbook.Tx(ctx, func(tx *store.Tx) (err error) { known, err = tx.Watched(); return err }); err != nil {
		return err
	}
	t := take{files: s.eachFile, pieces: definition.NewPieces(), digests: map[string][sha256.Size]byte{}, detached: map[dnsname.Name]bool{}}
	now, err := t.learn()
	if err != nil {
		return err
	}
	if now == known.Taken || len(t.digests) == 0 {
		return nil
	}
	next := store.Watched{Taken: now}
	if err = s.judge(ctx, &t); err == nil {
		err = s.accept(ctx, by, &t)
	}
	var p *wire.Problem
	switch {
	case errors.Is(err, errMoved):
		return jobs.Later{At: s.logbook.Now().Add(s.watch.Every), MadeWay: true}
	case err != nil && !errors.As(err, &p):
		return err
	case err != nil:
		if p.Kind != wire.Invalid { // what is only in the way may go; what is wrong stays so until the files change
			next.Taken = known.Taken
		}
		next.Trouble = problemText(err)
	}
	keepErr := s.logbook.Tx(ctx, func(tx *store.Tx) error {
		if next.Trouble != "" && next.Trouble != known.Trouble {
			if err := logbook.Log(tx, by.Name, "files.refused", s.watch.Folder, next.Trouble); err != nil {
				return err
			}
		}
		if err == nil {
			if err := s.prune(by, tx, t.named); err != nil {
				return err
			}
			for _, name := range t.named {
				if !t.detached[name] {
					continue
				}
				if err := logbook.Log(tx, by.Name, "files.skipped", name.String(), "a user detached the zone; its file is not followed until a user applies it again"); err != nil {
					return err
				}
			}
		}
		if err := jobs.Hold(tx, job); err != nil {
			return err
		}
		return tx.SetWatched(next)
	})
	switch {
	case keepErr != nil:
		return keepErr
	case next.Taken != now:
		return jobs.Later{At: s.logbook.Now().Add(max(s.watch.Every, min(jobs.Backoff(job.Attempts), mostBlocked)))}
	}
	return nil
}

// mostBlocked is the longest pause before files are read again that something was in the way of, real time.
const mostBlocked = time.Minute

// eachFile calls do for each file of the followed folder, with its name in there.
func (s *Applier) eachFile(do func(definition.File) error) error {
	lookup := func(name string) (string, bool) {
		if !slices.Contains(s.watch.Environment, name) {
			return "", false
		}
		return os.LookupEnv(name)
	}
	return folder.Each(s.watch.Folder, lookup, func(f definition.File) error {
		if name, err := filepath.Rel(s.watch.Folder, f.Name); err == nil {
			f.Name = name
		}
		return do(f)
	})
}

func problemText(err error) string {
	var p *wire.Problem
	if !errors.As(err, &p) || len(p.Faults) == 0 {
		return err.Error()
	}
	text := p.Message
	for i, f := range p.Faults {
		if i == 3 {
			return text + " …"
		}
		text += " " + f.Error()
	}
	return text
}

// prune does what the settings say about zones that the files named and do not any more.
func (s *Applier) prune(by access.Caller, tx *store.Tx, named []dnsname.Name) error {
	vanished, err := tx.Follow(named)
	if err != nil {
		return err
	}
	prune := s.watch.Prune
	if len(vanished) > mostVanished && len(vanished) > len(named) { // a checkout that failed looks like this
		prune = ""
	}
	for _, z := range vanished {
		what := fmt.Sprintf("its file %s is gone, or no longer names it; its records stay. Detach it (beacon zone detach), retire it, or delete it", z.ManagedBy)
		if prune == PruneDetach {
			if err := zones.Detach(tx, z); err != nil {
				return err
			}
			what = fmt.Sprintf("its file %s is gone, or no longer names it; it is detached, and its records stay", z.ManagedBy)
		} else if prune != "" {
			if err := jobs.Enqueue(tx, store.JobVanished, z.ID, s.logbook.Now()); err != nil {
				return err
			}
			what = fmt.Sprintf("its file %s is gone, or no longer names it; it will be retired at its providers as soon as no gate blocks that", z.ManagedBy)
			if prune == PruneDelete {
				what += ", and then deleted"
			}
		}
		if err := logbook.Log(tx, by.Name, "files.vanished", z.Name().String(), what); err != nil {
			return err
		}
	}
	return nil
}

// mostVanished is how many zones may vanish at once, though more than are left, and still be pruned.
const mostVanished = 10

// What the settings may have become of zones whose file is gone. Retirement and deletion wait for their gates.
const (
	PruneDetach = "detach" // it is managed here from then on
	PruneRetire = "retire" // it is removed from its providers
	PruneDelete = "delete" // it is removed from its providers, and then here
)

// putOut has a zone synced in which files changed something, whatever becomes of this instance and of other zones: the work is stored
// with the revision.
func (s *Applier) putOut(by access.Caller, tx *store.Tx, zoneID uint64, d wire.Applied) error {
	if len(d.Added)+len(d.Removed)+len(d.NewProviders) == 0 || len(d.Providers) == 0 {
		return nil
	}
	if err := logbook.Log(tx, by.Name, "files.applied", d.Zone.String(), fmt.Sprintf("revision %d, %d records added, %d removed", d.Revision.Number, len(d.Added), len(d.Removed))); err != nil {
		return err
	}
	return jobs.Enqueue(tx, store.JobFollow, zoneID, s.logbook.Now())
}

// behind is how long to wait for what is in the way of a sync, real time.
const behind = time.Second

// RunFollow starts the syncs of a zone that the followed folder, or a change of one record set, changed while others were running.
func (s *Applier) RunFollow(ctx context.Context, job store.Job) error {
	by := access.Service
	if s.watch.Folder != "" {
		by = Follower(s.watch.Folder)
	}
	var name dnsname.Name
	var stuck *wire.Problem
	err := s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := zones.ByID(tx, job.Subject)
		name = z.Name()
		return err
	})
	if store.IsMissing(err) {
		return nil
	}
	if err == nil {
		_, err = s.syncs.StartSync(ctx, by, wire.SyncRequest{Zone: name})
	}
	if !errors.As(err, &stuck) || stuck.Kind != wire.Blocked {
		return err
	}
	if job.Attempts == 1 { // later turns are not counted, and not told again
		s.logbook.Note(ctx, by.Name, "files.not-synced", name.String(), stuck.Message)
	}
	return jobs.Later{At: s.logbook.Now().Add(behind), MadeWay: job.Attempts > 1}
}
