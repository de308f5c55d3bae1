package folder

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// Signature returns a text that changes when a definition file in a folder or below it does, by the names, sizes and times of the files. It
// reads none of them.
func Signature(folder string) (string, error) {
	h := sha256.New()
	err := each(folder, func(at string, entry fs.DirEntry) error {
		info, err := os.Stat(at)
		if err != nil {
			return err
		}
		_, _ = fmt.Fprintf(h, "%q %d %d", at, info.Size(), info.ModTime().UnixNano())
		if stat, ok := info.Sys().(*syscall.Stat_t); ok { // a file that was put in the place of another may have its size and time
			_, _ = fmt.Fprintf(h, " %d %d.%d", stat.Ino, stat.Ctim.Sec, stat.Ctim.Nsec)
		}
		_, _ = fmt.Fprintln(h)
		return nil
	})
	return hex.EncodeToString(h.Sum(nil)), err
}

// each calls do for the definition files in a folder and those below it, in the order of their names.
func each(folder string, do func(at string, entry fs.DirEntry) error) error {
	return filepath.WalkDir(folder, func(at string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && at != folder && strings.HasPrefix(entry.Name(), "."):
			return filepath.SkipDir
		case entry.IsDir() || !strings.HasSuffix(at, ".beacon.yaml"):
			return nil
		}
		return do(at, entry)
	})
}
