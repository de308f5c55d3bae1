package cli

import (
	"fmt"
	"runtime/debug"
)

// version is that of the next release.
const version = "0.1.0-dev"

// versionText returns the version with the commit that the program was built from, where that is known.
func versionText() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return version
	}
	settings := map[string]string{}
	for _, s := range info.Settings {
		settings[s.Key] = s.Value
	}
	if settings["vcs.revision"] == "" {
		return version
	}
	changed := ""
	if settings["vcs.modified"] == "true" {
		changed = ", changed since"
	}
	return fmt.Sprintf("%s (commit %.12s of %s%s)", version, settings["vcs.revision"], settings["vcs.time"], changed)
}
