// Package profiles holds the profiles of the practice world's providers. They are ordinary profiles: nothing else in the
// product knows these interfaces.
package profiles

import "embed"

// Files are the profiles, NAME.profile.yaml each.
//
//go:embed *.profile.yaml
var Files embed.FS
