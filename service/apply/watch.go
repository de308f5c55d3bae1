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
	Every       time.Duration `yaml:"every"`       // how often it is looked at, wall time
	Environment []string      `yaml:"environment"` // the variables of the service's environment that its files may use
}

// watcher follows a folder of definitions.
type watcher struct {
	*Applier
	taken   [32]byte // what was taken, or tried, last
	trouble string   // what was told last
}

// Follow takes the definitions of a folder whenever they change, and puts them out, until ctx ends. Guards hold: what they
// stop waits for a person. Zones that a person took over are left alone.
func (s *Applier) Follow(ctx context.Context) {
	w := &watcher{Applier: s}
	ctx = logbook.WithCaller(ctx, s.follower())
	for {
		w.look(ctx)
		if clock.Pause(ctx, s.watch.Every) != nil {
			return
		}
	}
}

// follower is in whose name files are taken.
func (s *Applier) follower() access.Caller {
	return access.Caller{Name: "folder " + filepath.Base(s.watch.Folder)}
}

func (w *watcher) look(ctx context.Context) {
	files, err := folder.Definitions(w.watch.Folder, func(name string) (string, bool) {
		if !slices.Contains(w.watch.Environment, name) {
			return "", false
		}
		return os.LookupEnv(name)
	})
	if err != nil {
		w.tell(ctx, "watch.failed", fmt.Sprintf("the folder cannot be read: %s", err))
		return
	}
	h := sha256.New()
	for i, f := range files {
		if files[i].Name, err = filepath.Rel(w.watch.Folder, f.Name); err != nil {
			files[i].Name = f.Name
		}
		_, _ = fmt.Fprintf(h, "%q %q %q\n", files[i].Name, f.Text, f.Environment)
	}
	now := [32]byte(h.Sum(nil))
	if now == w.taken || len(files) == 0 {
		return
	}
	if err := w.take(ctx, files); err != nil {
		var p *wire.Problem
		if errors.As(err, &p) && p.Kind == wire.Invalid { // it stays wrong until the files change; what is only in the way may go
			w.taken = now
		}
		w.tell(ctx, "watch.refused", problemText(err))
		return
	}
	w.taken, w.trouble = now, ""
}

// tell notes trouble once, not every time that it is still there.
func (w *watcher) tell(ctx context.Context, action, text string) {
	if text == w.trouble || ctx.Err() != nil {
		return
	}
	w.trouble = text
	w.logbook.Note(ctx, action, w.watch.Folder, text)
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

// take defines what the files say, and syncs the zones in which something changed.
func (w *watcher) take(ctx context.Context, files []definition.File) error {
	planned, err := w.Define(ctx, wire.DefineRequest{Files: files, DryRun: true, Lead: true})
	if err != nil {
		return err
	}
	taken := map[string]bool{}
	for _, d := range planned {
		if d.TakenOver {
			taken[d.Zone.String()] = true
			w.tell(ctx, "watch.left", fmt.Sprintf("%s was taken over by a person; its file is not followed until somebody defines it again", d.Zone.Unicode()))
		}
	}
	_, err = w.define(ctx, wire.DefineRequest{Files: files, Lead: true, Why: "the files changed"}, func(z definition.Zone) bool { return !taken[z.Name.String()] }, w.putOut)
	if err == nil {
		w.jobs.Wake(store.JobFollow)
	}
	return err
}

// putOut has a zone synced in which files changed something, whatever becomes of this instance and of other zones: the work is stored
// with the revision.
func (w *watcher) putOut(ctx context.Context, tx *store.Tx, zoneID uint64, d wire.Defined) error {
	if len(d.Added)+len(d.Removed)+len(d.NewAt) == 0 || len(d.At) == 0 {
		return nil
	}
	if err := logbook.Log(tx, logbook.Actor(ctx), "watch.taken", d.Zone.String(), fmt.Sprintf("revision %d, %d records added, %d removed", d.Revision.Number, len(d.Added), len(d.Removed))); err != nil {
		return err
	}
	return jobs.Enqueue(tx, store.JobFollow, zoneID, w.logbook.Now())
}

// behind is how long to wait for what is in the way of a sync, real time.
const behind = time.Second

// RunFollow starts the syncs of a zone that a followed folder changed, behind those that run.
func (s *Applier) RunFollow(ctx context.Context, job store.Job) error {
	ctx = logbook.WithCaller(ctx, s.follower())
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
		_, err = s.syncs.StartSync(ctx, wire.SyncRequest{Zone: name})
	}
	if !errors.As(err, &stuck) || stuck.Kind != wire.InTheWay {
		return err
	}
	if job.Attempts == 1 { // later turns are not counted, and not told again
		s.logbook.Note(ctx, "watch.unsynced", name.String(), stuck.Message)
	}
	return jobs.Later{At: s.logbook.Now().Add(behind), MadeWay: job.Attempts > 1}
}
