package service

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"

	"beacon/reach"
	"beacon/store"
)

// The entries of an archive.
const (
	archivedRows     = "database.jsonl"
	archivedSettings = "beacon.yaml"
	archivedProfiles = "profiles/"
)

// Backup writes the database as it is at one moment, the settings and the profiles into one archive, while the service goes on. The key that
// credentials are sealed with is not in it. far is told how many rows of about how many are written.
func Backup(ctx context.Context, settingsFile string, s Settings, out io.Writer, far func(done, of int64)) (rows int, err error) {
	door, err := reach.New(s.AllowedNetworks)
	if err != nil {
		return 0, err
	}
	db, err := store.Connect(ctx, s.Database, door.Local())
	if err != nil {
		return 0, err
	}
	defer db.Close()
	archive := zip.NewWriter(out)
	text, err := os.ReadFile(settingsFile)
	if err != nil {
		return 0, err
	}
	if err := archived(archive, archivedSettings, text); err != nil {
		return 0, err
	}
	if s.Profiles != "" {
		files, err := filepath.Glob(filepath.Join(s.Profiles, "*.profile.yaml"))
		if err != nil {
			return 0, err
		}
		for _, file := range files {
			text, err := os.ReadFile(file)
			if err != nil {
				return 0, err
			}
			if err := archived(archive, archivedProfiles+filepath.Base(file), text); err != nil {
				return 0, err
			}
		}
	}
	w, err := archive.CreateHeader(&zip.FileHeader{Name: archivedRows, Method: zip.Deflate, Modified: time.Now()})
	if err != nil {
		return 0, err
	}
	if rows, err = db.Dump(ctx, w, far); err != nil {
		return rows, err
	}
	return rows, archive.Close()
}

func archived(archive *zip.Writer, name string, text []byte) error {
	w, err := archive.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: time.Now()})
	if err == nil {
		_, err = w.Write(text)
	}
	return err
}

// Restored returns what was taken out of an archive.
type Restored struct {
	Rows          int
	SettingsMade  bool // from the archive; nothing else was done
	ProfilesMade  int
	KeyMissing    bool
	KeyFile       string
	SettingsFile  string
	ArchiveMadeAt time.Time
}

// Restore reads an archive into an empty database and holds the service. Where there are no settings yet, it writes those of the archive and
// does nothing else: they name the database, which may be another one here. far is told how many octets of how many are read.
func Restore(ctx context.Context, archiveFile, settingsFile string, far func(done, of int64)) (r Restored, err error) {
	r.SettingsFile = settingsFile
	archive, err := zip.OpenReader(archiveFile)
	if err != nil {
		return r, fmt.Errorf("the archive %s cannot be read: %w", archiveFile, err)
	}
	defer archive.Close()
	if _, err := os.Stat(settingsFile); errors.Is(err, fs.ErrNotExist) {
		text, err := entry(&archive.Reader, archivedSettings)
		if err != nil {
			return r, err
		}
		r.SettingsMade = true
		return r, os.WriteFile(settingsFile, text, 0o600)
	}
	s, err := ReadSettings(settingsFile)
	if err != nil {
		return r, err
	}
	door, err := reach.New(s.AllowedNetworks)
	if err != nil {
		return r, err
	}
	rows, err := archive.Open(archivedRows)
	if err != nil {
		return r, fmt.Errorf("the archive %s has no database in it: %w", archiveFile, err)
	}
	defer rows.Close()
	counted := &counting{from: rows, far: far}
	if info, err := rows.Stat(); err == nil {
		r.ArchiveMadeAt, counted.of = info.ModTime(), info.Size()
	}
	db, err := store.Connect(ctx, s.Database, door.Local())
	if err != nil {
		return r, err
	}
	defer db.Close()
	reason := fmt.Sprintf("The database was restored from an archive of %s. What is outside may be newer.", r.ArchiveMadeAt.UTC().Format(time.DateTime))
	if r.Rows, err = store.Restore(ctx, db, counted, reason); err != nil {
		return r, fmt.Errorf("%w. Nothing is restored; the database may have empty tables now: create it again before you repeat", err)
	}
	if r.ProfilesMade, err = restoreProfiles(&archive.Reader, s.Profiles); err != nil {
		return r, err
	}
	r.KeyFile = s.KeyFile
	if _, err := os.Stat(s.KeyFile); errors.Is(err, fs.ErrNotExist) {
		r.KeyMissing = true
	}
	return r, nil
}

// counting is a reader that says how much of it was read.
type counting struct {
	from     io.Reader
	done, of int64
	far      func(done, of int64)
}

func (c *counting) Read(into []byte) (int, error) {
	n, err := c.from.Read(into)
	c.done += int64(n)
	c.far(c.done, c.of)
	return n, err
}

// mostEntry bounds a file of settings or a profile in an archive, octets.
const mostEntry = 4 << 20

func entry(archive *zip.Reader, name string) ([]byte, error) {
	f, err := archive.Open(name)
	if err != nil {
		return nil, fmt.Errorf("the archive has no %s in it: %w", name, err)
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, mostEntry))
}

// restoreProfiles writes the profiles that are not in the folder yet.
func restoreProfiles(archive *zip.Reader, folder string) (made int, err error) {
	if folder == "" {
		return 0, nil
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return 0, err
	}
	for _, f := range archive.File {
		if path.Dir(f.Name)+"/" != archivedProfiles {
			continue
		}
		text, err := entry(archive, f.Name)
		if err != nil {
			return made, err
		}
		out, err := os.OpenFile(filepath.Join(folder, path.Base(f.Name)), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err == nil {
			_, err = out.Write(text)
			if closeErr := out.Close(); err == nil {
				err = closeErr
			}
		}
		if err != nil {
			return made, err
		}
		made++
	}
	return made, nil
}
