package service

import (
	"crypto/sha256"
	"encoding/base64"
	"strings"

	"beacon/provider"
	"beacon/provider/update"
	"beacon/service/accounts"
)

// UpdateKind is the kind of accounts that are standard nameservers.
func UpdateKind() accounts.Kind {
	return accounts.Kind{
		Parallel: update.Parallel,
		About:    "Standard nameservers: dynamic update and zone transfer (RFC 2136, RFC 5936), signed with a key (RFC 8945)",
		Driver:   func(c accounts.Connection) (provider.Driver, error) { return update.New(c.Client), nil },
		Address:  func(address string) error { _, err := update.Server(address); return err },
		Wrong: func(secret string) string {
			parts := strings.SplitN(secret, ":", 3)
			sum := sha256.Sum256([]byte(secret))
			return strings.Join(append(parts[:min(2, len(parts))], base64.StdEncoding.EncodeToString(sum[:])), ":")
		},
		Unlisted: true,
	}
}
