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
	"beacon/folder"
	"beacon/service/logbook"
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
	ctx = logbook.WithCaller(ctx, access.Caller{Name: "folder " + filepath.Base(s.watch.Folder)})
	for {
		w.look(ctx)
		if clock.Pause(ctx, s.watch.Every) != nil {
			return
		}
	}
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
	done, err := w.define(ctx, wire.DefineRequest{Files: files, Lead: true, Why: "the files changed"}, func(z definition.Zone) bool { return !taken[z.Name.String()] })
	if err != nil {
		return err
	}
	for _, d := range done {
		if len(d.Added)+len(d.Removed)+len(d.NewAt) == 0 || len(d.At) == 0 {
			continue
		}
		w.logbook.Note(ctx, "watch.taken", d.Zone.String(), fmt.Sprintf("revision %d, %d records added, %d removed", d.Revision.Number, len(d.Added), len(d.Removed)))
		if _, err := w.syncs.StartSync(ctx, wire.SyncRequest{Zone: d.Zone}); err != nil {
			w.tell(ctx, "watch.unsynced", fmt.Sprintf("%s: %s", d.Zone.Unicode(), err))
			if err := w.syncLater(ctx, d); err != nil {
				return err
			}
		}
	}
	return nil
}

// syncLater waits for a sync that is in the way, and starts another one behind it.
func (w *watcher) syncLater(ctx context.Context, d wire.Defined) error {
	for range 60 {
		if err := clock.Pause(ctx, time.Second); err != nil {
			return nil
		}
		_, err := w.syncs.StartSync(ctx, wire.SyncRequest{Zone: d.Zone})
		var p *wire.Problem
		if err == nil || !errors.As(err, &p) || p.Kind != wire.InTheWay {
			return err
		}
	}
	return nil
}
