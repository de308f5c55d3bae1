package e2e

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"database/sql"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"math/big"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// places collects what may be seen by others than the holder of a credential, by where it was seen.
type places map[string]string

// search looks for every form of a secret.
func (p places) search(t *testing.T, secrets ...string) {
	t.Helper()
	for _, secret := range secrets {
		for _, form := range []string{secret, url.QueryEscape(secret), base64.StdEncoding.EncodeToString([]byte(secret)),
			base64.URLEncoding.EncodeToString([]byte(secret)), hex.EncodeToString([]byte(secret))} {
			for where, text := range p {
				if i := strings.Index(text, form); i >= 0 {
					t.Errorf("%s holds a secret: ...%s...", where, strings.ReplaceAll(text[max(0, i-80):min(len(text), i+len(form)+20)], "\n", " "))
				}
			}
		}
	}
}

// everyTable returns the whole database as text, as a thief would have it.
func everyTable(t *testing.T, db *sql.DB) string {
	t.Helper()
	rows, err := db.Query("SELECT table_name, column_name FROM information_schema.columns WHERE table_schema = DATABASE()")
	require.NoError(t, err)
	defer rows.Close()
	var b strings.Builder
	columns := 0
	for rows.Next() {
		var table, column string
		require.NoError(t, rows.Scan(&table, &column))
		values, err := db.Query(fmt.Sprintf("SELECT CAST(`%s` AS CHAR CHARACTER SET latin1) FROM `%s`", column, table))
		require.NoError(t, err)
		for values.Next() {
			var v sql.NullString
			require.NoError(t, values.Scan(&v))
			b.WriteString(v.String)
			b.WriteByte('\n')
		}
		require.NoError(t, values.Err())
		values.Close()
		columns++
	}
	require.Greater(t, columns, 100, "columns that were looked at")
	return b.String()
}

// Credentials show up nowhere: not while they work, not when they are refused, and not when the other side repeats them.
func TestNoSecretShows(t *testing.T) {
	t.Parallel()
	opt := options(t, 1, "lease: 4s\nrequest_timeout: 1s\ndrift: {every: 1s}\n")
	s := stage(t, opt)
	a := signedIn(t, s)
	seen := places{}
	keep := func(where string, text []byte) { seen[where] += string(text) + "\n" }
	command := func(stdin string, args ...string) {
		c := exec.Command(program, append([]string{"--address", s.Address()}, args...)...)
		c.Stdin = strings.NewReader(stdin + "\n")
		c.Env = append(os.Environ(), "HOME="+t.TempDir(), "BEACON_SESSIONS="+filepath.Join(opt.Dir, "sessions"), "BEACON_PASSWORD="+s.Password, "BEACON_SECRET="+stdin)
		out, _ := c.CombinedOutput() // some of them fail, as they should
		keep("command "+strings.Join(args, " "), out)
	}
	secrets := []string{"heron-practice-key", "plover-practice-key", "curlew-practice-key", "gannet-practice-key", "refused-secret-5417", "heron-second-key", "query+secret/5417=="}

	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	private := string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	der, err = x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	certificate := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	examples := map[string]map[string]string{"sanderling": {"user": "sanderling-user-4407", "password": "sanderling&pass\"4407"}, "turnstone": {"client_id": "turnstone-id-4407", "client_secret": "turnstone/secret+4407"},
		"avocet":   {"customer": "avocet-customer-4407", "certificate": certificate, "key": private, "authority": certificate},
		"redshank": {"key_id": "redshank-id-4407", "secret": "redshank-secret-4407"}, "godwit": {"account": "godwit-account-4407", "private_key": private}}
	hosts := map[string]map[string]string{"turnstone": {"login": s.Site("heron")}}
	for _, parts := range examples {
		for _, value := range parts {
			secrets = append(secrets, strings.TrimSpace(value))
		}
	}
	secrets = append(secrets, strings.Split(private, "\n")[1])

	command("", "sign-in", "--as", "admin")
	definition := "zones:\n  tides.example:\n    providers: [heron-main, curlew-ops, plover-old]\n    registrar: gannet-main\n    records: |\n      @ A 192.0.2.1\n"
	a.define(definition)
	for _, account := range []string{"heron-main", "curlew-ops", "plover-old"} {
		a.synced(a.syncAt("tides.example", account))
	}
	for kind, secret := range map[string]string{"heron": "refused-secret-5417", "curlew": "desk:refused-secret-5417", "plover": "refused-secret-5417"} {
		_, text := a.try("POST", "/accounts", map[string]string{"name": "wrong-" + kind, "role": "provider", "kind": kind, "address": s.Site(kind), "secret": secret})
		keep("API answer", text)
		command(secret, "provider", "try", filepath.Join(opt.Dir, "profiles", kind+".profile.yaml"), "--url", s.Site(kind))
	}
	stray := filepath.Join(opt.Dir, "profiles", "stray.profile.yaml")
	require.NoError(t, os.WriteFile(stray, []byte("profile: stray\ncredential: {send: query, name: token}\ncan: {write: records}\nzones: {request: GET /zones, each: \".[]\"}\n"+
		"read: {request: \"GET /z/{id}\", each: \".[]\"}\nwrite: {request: \"POST /z/{id}\", body: .}\n"), 0o600))
	require.NoError(t, s.Control(context.Background(), "/faults", map[string]any{"site": "4.1", "echo": true}))
	for _, secret := range []string{"query+secret/5417=="} {
		_, text := a.try("POST", "/accounts", map[string]string{"name": "stray", "role": "provider", "kind": "stray", "address": s.Site("heron"), "secret": secret})
		keep("API answer", text)
		require.Contains(t, string(text), "you_said", "the other side repeats what it was told, and the message shows that")
		command(secret, "provider", "try", stray, "--url", s.Site("heron"))
	}
	for kind, parts := range examples { // credentials of several parts, tokens, signatures and assertions
		text, err := os.ReadFile("../profile/testdata/examples/" + kind + ".profile.yaml")
		require.NoError(t, err)
		file := filepath.Join(opt.Dir, "profiles", kind+".profile.yaml")
		require.NoError(t, os.WriteFile(file, text, 0o600))
		var answer []byte
		require.Eventually(t, func() bool { // the first expressions start their workers, which may take longer than a request has
			_, answer = a.try("POST", "/accounts", map[string]any{"name": kind, "role": "provider", "kind": kind, "address": s.Site("heron"), "parts": parts, "hosts": hosts[kind]})
			keep("API answer", answer)
			return !strings.Contains(string(answer), "no answer in time")
		}, 2*time.Minute, 100*time.Millisecond, kind)
		require.Contains(t, string(answer), "you_said", kind)
		args := []string{"provider", "try", file, "--url", s.Site("heron")}
		for name, address := range hosts[kind] {
			args = append(args, "--host", name+"="+address)
		}
		for name, value := range parts {
			part := filepath.Join(t.TempDir(), name)
			require.NoError(t, os.WriteFile(part, []byte(value), 0o600))
			args = append(args, "--part-file", name+"="+part)
		}
		command("", args...)
	}
	for kind, site := range map[string]string{"heron": "4.1", "curlew": "6.1", "plover": "5.1", "gannet": "3.1"} {
		require.NoError(t, s.Control(context.Background(), "/faults", map[string]any{"site": site, "echo": true}))
		for _, path := range []string{"/accounts/" + map[string]string{"heron": "heron-main", "curlew": "curlew-ops", "plover": "plover-old", "gannet": "gannet-main"}[kind] + "/zones",
			"/accounts/gannet-main/registrations", "/zones/tides.example/differences"} {
			_, text := a.try("GET", path, nil)
			keep("API answer", text)
		}
		command("heron-second-key", "provider", "rotate", "heron-main")
	}
	command(s.Password, "provider", "verify", "heron-main", "--zone", "scratch.example", "--yes")
	time.Sleep(1500 * time.Millisecond) // the service looks for drift, and fails
	for _, site := range []string{"4.1", "6.1", "5.1", "3.1"} {
		require.NoError(t, s.Control(context.Background(), "/faults", map[string]any{"site": site}))
	}
	command("heron-second-key", "provider", "rotate", "heron-main")
	command("", "provider", "show", "heron-main")
	command("", "diff", "tides.example")

	for _, path := range []string{"/accounts", "/accounts?role=registrar", "/kinds", "/placements", "/logbook?requests=true&limit=200", "/zones/tides.example/syncs", "/syncs/1/requests", "/zones/tides.example"} {
		status, text := a.try("GET", path, nil)
		require.Equal(t, 200, status, path)
		keep("API answer", text)
	}
	keep("database", []byte(everyTable(t, database(t, s))))
	for _, name := range []string{"service.log", "beacon.yaml"} {
		text, err := os.ReadFile(filepath.Join(opt.Dir, name))
		require.NoError(t, err)
		keep(name, text)
	}
	require.Contains(t, seen["database"], "request.failed", "failures are in the logbook")
	require.Contains(t, seen["database"], "you_said")
	assert.Contains(t, seen["command provider rotate heron-main"], "has the new credential")
	seen.search(t, secrets...)
	delete(seen, "beacon.yaml")
	seen.search(t, s.Password)
}
